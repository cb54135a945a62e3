"""From cuts to what ships: sizes, ladders, costs, and totals that are the sum of their parts."""

from types import SimpleNamespace

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oaktrim.core.codecs.effort import Effort, EncodeOptions, ErrorMetric
from oaktrim.core.codecs.texture import encode_level
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.pixels.resample import Filter
from oaktrim.core.plan.cuts import Cap, Cut, Drop, SetEffort, SetErrorMetric, SetFilter, SetFormat, SetLevels
from oaktrim.core.plan.forecast import kinds
from oaktrim.core.plan.ladder import ladder_of
from oaktrim.core.plan.packing import CompressionRatios, measure_ratios, measured_before
from oaktrim.core.plan.resolve import missing_of, resolve
from oaktrim.core.plan.status import limits_of
from oaktrim.core.progress import finish
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.ownership import link
from oaktrim.core.survey.packed import PACKINGS, pack_bytes
from oaktrim.core.survey.roles import DEFAULT_PATTERNS
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import shipped_targets, target_named
from tests.kit.pictures import busy
from tests.kit.trees import planned, put, surveyed


def facts(path, width, height, channels=4, name="", levels=1):
    return TextureFacts(
        path, 1, 1, path, "ktx2" if name else "png", width, height, channels, 8, False, levels, name, "", pixels="x",
    )  # fmt: skip


def made_up(root, *rows):
    return Inventory(root, rows, (), (), len(rows), (), link(root, (), {}, {})).with_roles(DEFAULT_PATTERNS, ())


def recipe(tmp_path, target, width, height, *changes, name="", levels=1):
    cuts = [Cut(change, ("a.png",)) for change in changes]
    inventory = made_up(tmp_path, facts("a.png", width, height, name=name, levels=levels))
    return explained(resolve(inventory, target_named(target), cuts), 0)


def explained(plan, row):
    """A recipe with its ladder."""
    ladder = ladder_of(plan, row)
    return SimpleNamespace(
        **msgspec.structs.asdict(plan.encode_settings(row)),
        touched=bool(plan.touched[row]),
        ladder=ladder.steps,
        warnings=ladder.warnings,
    )


def test_nothing_cut_ships_as_it_is(tmp_path):
    got = recipe(tmp_path, "lounge", 1024, 512)
    assert (got.width, got.height, got.levels, got.format) == (1024, 512, 11, "rgba8")
    assert (got.touched, got.warnings) == (False, ())
    assert [rung.cause for rung in got.ladder] == ["Source, RGBA8"]


def test_cap_and_drop_add_up_and_say_so(tmp_path):
    got = recipe(tmp_path, "pocket", 4096, 2048, Cap(1024), Drop(1))
    assert (got.width, got.height, got.levels) == (512, 256, 10)
    assert [(r.cause, r.width, r.cut) for r in got.ladder] == [
        ("Source, RGBA8", 4096, None), ("Cap 1024", 1024, 0), ("Drop 1 level", 512, 1),
    ]  # fmt: skip
    assert got.warnings == ("Cap 1024 and drop 1 level both apply: this ships at 512, not 1024.",)
    assert recipe(tmp_path, "pocket", 512, 512, Cap(1024), Drop(1)).warnings == ()


def test_proportions_are_kept(tmp_path):
    got = recipe(tmp_path, "lounge", 3000, 2000, Cap(1024))
    assert (got.width, got.height) == (1024, 683)
    assert recipe(tmp_path, "lounge", 4096, 1, Cap(4)).height == 1


def test_targets_have_their_own_rules(tmp_path):
    assert recipe(tmp_path, "pocket", 8192, 4096).width == 2048
    assert recipe(tmp_path, "visor", 5000, 1000).width == 2048
    resampled = recipe(tmp_path, "visor", 1000, 700)
    assert (resampled.width, resampled.height) == (1024, 512)
    lost = recipe(tmp_path, "pocket", 1000, 1000)
    assert lost.levels == 1
    assert "no mip levels" in lost.warnings[0]
    assert recipe(tmp_path, "pocket", 1000, 1000, Cap(512)).levels == 10
    assert "refuses" in recipe(tmp_path, "lounge", 8192, 64).warnings[0]


def test_a_format_that_is_lacking_costs_raw_pixels(tmp_path):
    got = recipe(tmp_path, "pocket", 1024, 1024, SetFormat("bc1"))
    assert got.ladder[-1].memory == FORMATS["rgba8"].mip_chain_bytes(1024, 1024, 11)
    assert "no hardware for BC1" in got.warnings[0]
    assert recipe(tmp_path, "lounge", 1024, 1024, SetFormat("bc1")).ladder[-1].memory == 699064


def test_levels_efforts_and_filters(tmp_path):
    got = recipe(tmp_path, "lounge", 256, 256, SetLevels(False), SetEffort(Effort.FINE), SetFilter(Filter.BOX))
    assert (got.levels, got.effort, got.filter) == (1, Effort.FINE, Filter.BOX)
    assert got.ladder[-1].memory == 256 * 256 * 4


def test_stored_levels_are_kept_until_something_asks_for_others(tmp_path):
    assert recipe(tmp_path, "lounge", 256, 256, name="bc1", levels=3).levels == 3
    assert recipe(tmp_path, "lounge", 256, 256, Drop(1), name="bc1", levels=3).levels == 2
    assert recipe(tmp_path, "lounge", 256, 256, Cap(64), name="bc1", levels=3).levels == 7


def test_later_cuts_win_and_cuts_for_others_do_not_count(tmp_path):
    inventory = made_up(tmp_path, facts("a.png", 1024, 1024), facts("b.png", 1024, 1024))
    cuts = [
        Cut(Cap(512), ("a.png", "b.png")),
        Cut(Cap(256), ("b.png",), ("pocket",)),
        Cut(Cap(64), ("a.png",), ("visor",)),
        Cut(Cap(16), ("gone.png",)),
    ]
    assert resolve(inventory, target_named("pocket"), cuts).footprint.width.tolist() == [512, 256]
    assert resolve(inventory, target_named("lounge"), cuts).footprint.width.tolist() == [512, 512]


CHANGES = st.one_of(
    st.integers(1, 5000).map(Cap), st.integers(0, 5).map(Drop), st.sampled_from(ORDER).map(SetFormat),
    st.booleans().map(SetLevels),
)  # fmt: skip


@given(
    st.lists(st.tuples(st.integers(1, 9000), st.integers(1, 9000), st.integers(1, 4)), min_size=1, max_size=6),
    st.lists(st.tuples(CHANGES, st.sets(st.integers(0, 5))), max_size=6),
    st.sampled_from(sorted(shipped_targets())),
)
@settings(max_examples=120, deadline=None)
def test_totals_are_the_sum_of_their_parts(sizes, changes, target):
    inventory = made_up(None, *(facts(f"{i}", *size) for i, size in enumerate(sizes)))
    cuts = [Cut(change, tuple(str(i) for i in sorted(rows))) for change, rows in changes]
    plan = resolve(inventory, target_named(target), cuts)
    memory = 0
    for row in range(len(sizes)):
        got = explained(plan, row)
        held = FORMATS[got.format]
        held = held if plan.target.decodes(held) else FORMATS[held.expands_to]
        memory += held.mip_chain_bytes(got.width, got.height, got.levels)
        assert got.ladder[-1].memory == int(plan.footprint.memory[row])
        assert (got.ladder[-1].width, got.ladder[-1].height) == (got.width, got.height)
        limit = plan.target.longest_side
        assert max(got.width, got.height) <= limit or plan.footprint.refused[row]
    assert plan.total("memory") == memory == sum(plan.by_family("memory").values())
    assert plan.total("package") <= plan.total("unpacked") + len(sizes)
    (status,) = [s for s in limits_of(plan) if s.line.name == "memory"]
    assert (status.value, status.over) == (memory, memory > plan.target.limits.of("memory"))


def test_package_estimates_are_really_packed(tmp_path, cache):
    root = tmp_path / "art"
    put(root, "a.png", np.kron(busy(8, 8, 4).pixels, np.ones((8, 8, 1), np.uint8)))
    inventory = finish(scan(root, cache=cache))
    cut = Cut(SetFormat("bc3"), ("a.png",))
    ratios, target = CompressionRatios(inventory), target_named("lounge")
    guessed = resolve(inventory, target, (cut,), ratios)
    missing = missing_of(guessed, ratios)
    assert missing == [(0, ORDER.index("bc3"), scale, "zstd") for scale in (0, 1)]
    measured = finish(measure_ratios(inventory, missing, cache))
    assert len(measured.ratios) == len(missing)
    ratios = ratios.merged(measured)
    assert missing_of(guessed, ratios) == []
    assert missing_of(guessed, CompressionRatios(inventory).merged(measured_before(cache))) == [], (
        "kept for the next time"
    )
    plan = resolve(inventory, target, (cut,), ratios)
    pieces = cache.sample(inventory.textures[0].content)  # 64 pixels fit in the sample whole
    packed = [encode_level(piece, FORMATS["bc3"], EncodeOptions(Effort.DRAFT)) for piece in pieces[:2]]
    first, below = (pack_bytes(data, PACKINGS["zstd"]) / len(data) for data in packed)
    share = 0.75 * first + 0.25 * below
    assert share < 0.6
    told = plan.footprint.stored[:1] * share
    # Drafts of small textures pack a little better than what ships, which is known beforehand.
    factor = plan.forecast.factors[kinds(told, plan.formats, np.ones(1, np.bool_))]
    assert plan.package[0] == pytest.approx(told * factor, abs=2) and 1 <= factor < 1.1


def test_a_surveyed_tree_is_planned_like_a_made_up_one(tmp_path):
    put(tmp_path, "a.png", size=(64, 32), channels=4)
    plan = planned(tmp_path, "lounge", Cut(Cap(16), ("a.png",)))
    assert plan.footprint.width.tolist() == [16]
    assert np.array_equal(plan.inventory.width, surveyed(tmp_path).width)


def test_errors_count_as_the_role_or_a_cut_says(tmp_path):
    names = ("wall_base.png", "wall_n.png", "wall_orm.png", "odd.png")
    inventory = made_up(tmp_path, *(facts(name, 64, 64) for name in names))
    by_role = resolve(inventory, target_named("lounge"))
    wanted = (ErrorMetric.COLOUR, ErrorMetric.NORMALS, ErrorMetric.DATA, ErrorMetric.COLOUR)
    assert tuple(by_role.encode_settings(row).error_metric for row in range(4)) == wanted
    cut = resolve(inventory, target_named("lounge"), (Cut(SetErrorMetric(ErrorMetric.PERCEPTUAL), names[:1]),))
    assert (
        cut.encode_settings(0).error_metric is ErrorMetric.PERCEPTUAL
        and cut.encode_settings(1).error_metric is ErrorMetric.NORMALS
    )
    assert cut.total("memory") == by_role.total("memory")
