"""Format rules: by role and by what pixels hold, under a cut by hand; and the common rules, which bring limits within reach."""

import msgspec
import numpy as np
import pytest

from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.format import Hardware
from oaktrim.core.job.document import new_job
from oaktrim.core.plan.advice import format_options
from oaktrim.core.plan.commonrules import common_formats, common_rules, reach, why_of
from oaktrim.core.plan.cuts import Cut, SetFormat
from oaktrim.core.plan.formatrules import FormatRule, Rules
from oaktrim.core.plan.ladder import ladder_of
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import Limits, shipped_targets, target_named
from tests.kit.pictures import smooth
from tests.kit.trees import put, surveyed


@pytest.fixture
def inventory(tmp_path):
    alpha = smooth(64, 64, 4, seed=3).pixels.copy()
    put(tmp_path, "soft_base.png", alpha)
    alpha[..., 3] = np.where(alpha[..., 3] > 128, 255, 0)
    put(tmp_path, "leaf_base.png", alpha)
    put(tmp_path, "wall_base.png", size=(256, 128))
    put(tmp_path, "wall_n.png", size=(256, 128))
    put(tmp_path, "wall_mask.png", size=(64, 64), channels=1)
    put(tmp_path, "tint_mask.png", size=(64, 64))
    put(tmp_path, "tiny_base.png", size=(8, 8))
    put(tmp_path, "grade_lut.png", size=(64, 64))
    return surveyed(tmp_path)


def shipped(inventory, target, rules, *cuts):
    plan = resolve(inventory, target_named(target), cuts, rules=Rules((), tuple(rules)))
    return {t.path: ORDER[f] for t, f in zip(inventory.textures, plan.formats, strict=True)}, plan


def test_what_pixels_hold_decides_and_the_narrowest_rule_wins(inventory):
    rules = [
        FormatRule(Role.BASE_COLOUR, "bc7"),
        FormatRule(Role.BASE_COLOUR, "bc1", PixelKind.OPAQUE, least=16),
        FormatRule(Role.BASE_COLOUR, "bc1-a1", PixelKind.CUT_OUT, Effort.FINE, ErrorMetric.COLOUR),
        FormatRule(Role.BASE_COLOUR, "bc3", PixelKind.SOFT, targets=("pocket",)),
    ]
    got, plan = shipped(inventory, "lounge", rules)
    assert got["wall_base.png"] == "bc1" and got["leaf_base.png"] == "bc1-a1" and got["soft_base.png"] == "bc7"
    assert got["tiny_base.png"] == "bc7", "under its least side a rule does not count, the wider one does"
    assert got["wall_n.png"] == "rgba8"
    row = inventory.row_of["leaf_base.png"]
    how = plan.encode_settings(row)
    assert (how.effort, how.error_metric) == (Effort.FINE, ErrorMetric.COLOUR) and plan.touched[row]
    step = ladder_of(plan, row).steps[-1]
    assert step.cause.startswith("Format rule: ") and step.format_rule == 2 and step.cut is None


def test_a_cut_by_hand_wins_and_is_marked(inventory):
    cut = Cut(SetFormat("bc7"), ("wall_base.png",))
    got, plan = shipped(inventory, "lounge", [FormatRule(Role.BASE_COLOUR, "bc1")], cut)
    row = inventory.row_of["wall_base.png"]
    assert got["wall_base.png"] == "bc7" and plan.format_overruled[row] and plan.format_rule[row] == -1
    assert any("format rule" in warning for warning in ladder_of(plan, row).warnings)


def test_no_rule_robs_a_texture_of_channels_that_are_read(inventory):
    got, _ = shipped(inventory, "lounge", [FormatRule(Role.MASK, "bc4"), FormatRule(Role.NORMAL, "bc5")])
    assert got["wall_mask.png"] == "bc4" and got["tint_mask.png"] == "rgba8" and got["wall_n.png"] == "bc5"
    got, _ = shipped(inventory, "lounge", [FormatRule(Role.BASE_COLOUR, "bc5"), FormatRule(Role.LOOKUP, "")])
    assert got["wall_base.png"] == "rgba8" and got["grade_lut.png"] == "rgba8"


def test_what_a_rule_may_say():
    with pytest.raises(ValueError, match="no format 'bc2'"):
        FormatRule(Role.NORMAL, "bc2")
    with pytest.raises(ValueError, match="least side"):
        FormatRule(Role.NORMAL, "bc5", least=-1)


WEB = msgspec.structs.replace(
    target_named("pocket"), id="web", hardware=(Hardware.PLAIN, Hardware.UNIVERSAL), audience={}
)  # fmt: skip


def test_a_loader_that_makes_blocks_is_given_universal_ones():
    """Where the hardware is not known; of light it can make none, and what must be exact stays plain."""
    rules = common_formats(WEB)
    assert {rule.format for rule in rules if not rule.floating} == {"uastc", ""}
    assert {rule.role for rule in rules if not rule.format} == {Role.GLYPHS, Role.LOOKUP}
    assert "its loader makes blocks" in why_of(next(rule for rule in rules if rule.format))
    both = msgspec.structs.replace(WEB, hardware=(*WEB.hardware, Hardware.ASTC))
    assert not any(rule.format == "uastc" for rule in common_formats(both)), "what is known is smaller"


@pytest.mark.parametrize("target", [*shipped_targets().values(), WEB], ids=lambda target: target.id)
def test_common_formats_are_those_that_the_cut_bar_would_offer(target):
    rules = common_formats(target)
    assert len({rule.key for rule in rules}) == len(rules)
    for rule in rules:
        assert why_of(rule)
        if not rule.format:
            continue
        alpha = rule.pixels in (PixelKind.CUT_OUT, PixelKind.SOFT)
        offered = {o.format.name: o.against for o in format_options(target, rule.role, alpha, rule.floating)}
        # What is not grey keeps all its channels, in blocks that would be too many for one.
        if rule.role in (Role.ROUGHNESS, Role.METALNESS, Role.OCCLUSION, Role.HEIGHT, Role.MASK) and not alpha:
            assert offered[rule.format] in ("", "spends bits on channels that are not used")
        else:
            assert offered[rule.format] == "", (rule, offered[rule.format])
        assert FORMATS[rule.format].hardware in target.hardware


@pytest.mark.slow
def test_the_common_rules_bring_textures_within_every_limit(tmp_path):
    for number in range(14):
        put(tmp_path, f"t{number}_base.png", size=(1024, 1024))
        put(tmp_path, f"t{number}_n.png", size=(1024, 1024))
    inventory = surveyed(tmp_path)
    target = msgspec.structs.replace(target_named("pocket"), limits=Limits(memory="4 MiB", package="3 MiB"))
    bare = resolve(inventory, target)
    assert reach(bare) > 2
    hand = Cut(SetFormat("astc-4x4"), ("t0_base.png",))

    def planned(rules):
        return resolve(inventory, target, (hand,), rules=rules)

    rules = common_rules(target, inventory, planned)
    after = planned(rules)
    assert 0.4 < reach(after) <= 1
    assert ORDER[after.formats[inventory.row_of["t0_base.png"]]] == "astc-4x4"
    job = new_job(tmp_path).with_rules(rules)
    assert job.rules == rules and job.with_rules(rules) == job
    # The largest that will do: with twice as much for all it would not.
    assert any(rule.ceiling is not None for rule in rules.sizes)
    wider = tuple(msgspec.structs.replace(rule, ceiling=(rule.ceiling or 0) * 2 or None) for rule in rules.sizes)
    assert reach(planned(Rules(wider, rules.formats))) > 1
