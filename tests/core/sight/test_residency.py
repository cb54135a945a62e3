"""What a streaming budget keeps along a path: it never holds more than fits, and drops what is least seen first."""

import msgspec
import numpy as np
import pytest

from oaktrim.core.plan.cuts import Cut, SetLevels
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.sight.demand import stage_of
from oaktrim.core.sight.residency import residency, walk
from oaktrim.core.sight.sightlines import Path, Sightlines, Station, Step
from oaktrim.core.survey.drawables import TextureCache
from oaktrim.core.targets.target import target_named
from tests.kit.models import SQUARE, add_mesh, material
from tests.kit.sights import wall
from tests.kit.trees import put, surveyed

TARGET = msgspec.structs.replace(target_named("lounge"), screen=(480, 270))
LINES = Sightlines(
    stations=(Station("far", (0.0, 0.0, 60.0), (0.0, 0.0, 0.0)), Station("near", (0.0, 0.0, 3.0), (0.0, 0.0, 0.0))),
    paths=(Path("walk", (Step("far", 0), Step("near", 6), Step("far", 12))),),
)


@pytest.fixture
def tree(tmp_path):
    put(tmp_path, "small_base.png", size=(256, 256))

    def beside(writer, nodes):
        paint = material(writer, "small", baseColorTexture=writer.image("small_base.png"))
        mesh = add_mesh(writer, paint, points=SQUARE * 0.3 + np.float32([0, 0, 0.1]))
        nodes.append(writer.add("nodes", name="small", mesh=mesh))

    wall(tmp_path, half=1.0, side=1024, edit=beside)
    return tmp_path


def walked(tree, limit=None, cuts=()):
    inventory = surveyed(tree)
    plan = resolve(inventory, TARGET, cuts)
    stage = finish(stage_of(inventory, 0, inventory.sources(1 << 24), TextureCache()))
    return residency(plan, stage, finish(walk(stage, LINES, "walk", TARGET, steps=13)), limit), plan


def test_without_a_tight_budget_all_that_is_wanted_is_kept(tree):
    found, plan = walked(tree, limit=1 << 30)
    np.testing.assert_array_equal(found.kept, found.wanted)
    assert found.blurred == () and (found.blurred_pixels == 0).all()
    assert found.times[0] == 0 and found.times[-1] == 12
    assert int(np.argmax(found.wanted)) == 6, "most is wanted where it is nearest"
    assert found.wanted[6] > 4 * found.wanted[0] and found.wanted[6] <= plan.total("memory")
    assert found.enough == found.wanted.max() and found.loads.sum() > 0 and found.loads_a_second > 0
    np.testing.assert_array_equal(found.kept_by_family.sum(axis=1), found.kept)
    np.testing.assert_allclose(found.wanted, found.wanted[::-1])


def test_a_tight_budget_is_never_exceeded_and_says_what_blurs(tree):
    whole, _ = walked(tree, limit=1 << 30)
    found, _ = walked(tree, limit=whole.enough // 3)
    np.testing.assert_array_equal(found.wanted, whole.wanted)
    assert (found.kept <= whole.enough // 3).all() and (found.kept <= found.wanted).all()
    assert found.blurred[0].path == "wall_base.png" and found.blurred[0].levels >= 1
    assert found.blurred[0].pixels > 1000 and 0 < found.blurred[0].seconds <= 12
    assert found.worst == 6
    enough, _ = walked(tree, limit=whole.enough)
    assert enough.blurred == ()
    less, _ = walked(tree, limit=whole.enough - 1)
    assert less.blurred != ()


def test_what_has_no_levels_is_fixed_and_not_in_the_pool(tree):
    whole, _ = walked(tree, limit=1 << 30)
    found, after = walked(tree, limit=1 << 30, cuts=(Cut(SetLevels(False), ("small_base.png",)),))
    row = after.inventory.row_of["small_base.png"]
    assert whole.fixed == 0 and found.fixed == int(after.footprint.memory[row])
    assert (found.wanted < whole.wanted).all()


def test_a_slow_disk_is_late_and_makes_up_for_it(tree):
    stated = msgspec.structs.replace(TARGET, disk_rate="40 kB")
    inventory = surveyed(tree)
    stage = finish(stage_of(inventory, 0, inventory.sources(1 << 24), TextureCache()))
    seen = finish(walk(stage, LINES, "walk", stated, steps=13))
    found = residency(resolve(inventory, stated), stage, seen, 1 << 30)
    assert found.rate == 40_000 and found.loads[0] == found.kept[0]
    # A disk that is never idle between the first load and the step where it is most behind has brought rate times time.
    most = int(np.argmax(found.late))
    first = int(np.flatnonzero(found.late > 0)[0])
    brought = found.rate * (found.times[most] - found.times[first - 1])
    assert found.late[most] * found.rate == pytest.approx(found.loads[first : most + 1].sum() - brought, abs=1)
    # On the way back nothing new comes in.
    assert found.late[most] - found.late[-1] == pytest.approx(
        min(found.late[most], found.times[-1] - found.times[most])
    )
    fast = residency(resolve(inventory, TARGET), stage, seen, 1 << 30)
    assert not fast.late.any()
    with pytest.raises(ValueError, match="disk_rate"):
        msgspec.structs.replace(TARGET, disk_rate="0 MB").__post_init__()
    with pytest.raises(KeyError):
        finish(walk(stage, LINES, "nowhere", stated))
