"""Role rules: measured against what the base colour ships at, between floor and ceiling, and under a cut by hand."""

import numpy as np
import pytest

from oaktrim.core.job.document import Job
from oaktrim.core.plan.cuts import Cap, Cut, Drop
from oaktrim.core.plan.formatrules import Rules
from oaktrim.core.plan.ladder import ladder_of
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.rolerules import RoleRule, ShareOf, needs_demand
from oaktrim.core.survey.demand import no_demand
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import target_named
from tests.kit.trees import put, surveyed


@pytest.fixture
def inventory(tmp_path):
    put(tmp_path, "wall_base.png", size=(256, 128))
    put(tmp_path, "wall_n.png", size=(256, 128))
    put(tmp_path, "wall_rough.png", size=(128, 64), channels=1)
    put(tmp_path, "lone_n.png", size=(64, 64))
    return surveyed(tmp_path)


def widths(inventory, target, rules, *cuts):
    plan = resolve(inventory, target_named(target), cuts, rules=Rules(tuple(rules)))
    return {t.path: int(w) for t, w in zip(inventory.textures, plan.footprint.width, strict=True)}, plan


def test_a_share_of_what_the_base_colour_ships_at(inventory):
    rules = (RoleRule(Role.NORMAL, 0.5), RoleRule(Role.ROUGHNESS, 0.25))
    got, plan = widths(inventory, "pocket", rules)
    assert got == {"wall_base.png": 256, "wall_n.png": 128, "wall_rough.png": 64, "lone_n.png": 32}
    assert ladder_of(plan, inventory.row_of["wall_n.png"]).steps[-1].cause == "Role: half of base colour"
    # A cut on the base colour is followed by its maps.
    got, _ = widths(inventory, "pocket", rules, Cut(Cap(128), ("wall_base.png",)))
    assert (got["wall_n.png"], got["wall_rough.png"]) == (64, 32)
    # So is a ceiling on base colours.
    got, _ = widths(inventory, "pocket", (*rules, RoleRule(Role.BASE_COLOUR, ceiling=64)))
    assert (got["wall_base.png"], got["wall_n.png"]) == (64, 32)


def test_floor_ceiling_and_targets(inventory):
    rules = (RoleRule(Role.NORMAL, 0.25, floor=96), RoleRule(Role.NORMAL, 1.0, ceiling=100, targets=("lounge",)))
    assert widths(inventory, "pocket", rules)[0]["wall_n.png"] == 96
    assert widths(inventory, "lounge", rules)[0]["wall_n.png"] == 100
    for wrong in ({"share": 2.0}, {"share": 0.0}, {"floor": 0}, {"floor": 64, "ceiling": 32}):
        with pytest.raises(ValueError, match=r"role|floor"):
            RoleRule(Role.NORMAL, **wrong)


def test_a_share_of_what_sightlines_want(inventory):
    base, normal = inventory.row_of["wall_base.png"], inventory.row_of["wall_n.png"]
    demand = no_demand(len(inventory.textures))
    demand.looked[[base, normal]] = True
    demand.levels[base], demand.levels[normal] = 1.5, np.nan
    rules = (
        RoleRule(Role.BASE_COLOUR, 0.5, of=ShareOf.WANTED),
        RoleRule(Role.NORMAL, 1.0, ceiling=200, of=ShareOf.WANTED),
    )

    def ships(*rules, seen=demand):
        plan = resolve(inventory, target_named("pocket"), (), rules=Rules(rules), demand=seen)
        return int(plan.footprint.width[base]), int(plan.footprint.width[normal]), plan

    # 256 texels with a level and a half to spare want 128; half of it is 64. What is never seen has only its ceiling.
    assert ships(*rules)[:2] == (64, 200)
    assert ships(RoleRule(Role.BASE_COLOUR, 2.0, of=ShareOf.WANTED))[0] == 256
    assert ships(*rules, seen=None)[:2] == (256, 200), "nothing is known"
    causes = [step.cause for step in ladder_of(ships(*rules)[2], base).steps]
    assert causes[-1] == "Role: half of what is wanted"
    assert needs_demand(rules, "pocket") and not needs_demand((RoleRule(Role.NORMAL, 0.5),), "pocket")
    # Normals follow what their base colour really ships at.
    assert ships(rules[0], RoleRule(Role.NORMAL, 0.5))[:2] == (64, 32)
    with pytest.raises(ValueError, match="share"):
        RoleRule(Role.NORMAL, 4.1, of=ShareOf.WANTED)


def test_a_cut_by_hand_wins_and_is_marked(inventory):
    rules = (RoleRule(Role.NORMAL, 0.25),)
    for change, width in ((Cap(200), 200), (Drop(0), 256)):
        got, plan = widths(inventory, "pocket", rules, Cut(change, ("wall_n.png",)))
        row = inventory.row_of["wall_n.png"]
        assert got["wall_n.png"] == width and plan.overruled[row] and plan.rule[row] == -1
        assert "Cut by hand" in ladder_of(plan, row).warnings[0]
        assert got["lone_n.png"] == 16


def test_the_job_keeps_one_rule_a_role(inventory):
    job = Job(1, "a", ".", ("pocket",)).with_rule(RoleRule(Role.NORMAL, 0.5)).with_rule(RoleRule(Role.NORMAL, 0.25))
    assert [rule.share for rule in job.role_rules] == [0.25]
    assert job.without_rule(Role.NORMAL, ()).role_rules == ()
    job = job.with_role(Role.MASK, ("a.png", "b.png")).with_role(Role.NORMAL, ("b.png",))
    assert {row.role: row.assets for row in job.roles} == {Role.MASK: ("a.png",), Role.NORMAL: ("b.png",)}
    assert job.with_role(None, ("a.png",)).roles[0].role is Role.NORMAL
