"""What is known of how textures pack: values that never change, so that plans are made while others measure."""

import threading

import numpy as np

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.plan.cuts import Cap, Cut, SetEffort, SetFormat, SetLoss
from oaktrim.core.plan.packing import CompressionRatios, Measured
from oaktrim.core.plan.resolve import recipe_key, resolve, reweighed
from oaktrim.core.targets.target import target_named
from tests.kit.trees import put, surveyed


def test_plans_are_made_while_measurements_are_merged(tmp_path):
    """Merging on one thread and resolving and moving on another, as the window and its workers do."""
    root, target = tmp_path / "art", target_named("lounge")
    for place in range(60):
        put(root, f"{place}.png", size=(8, 8))
    inventory = surveyed(root)
    keys = [recipe_key(resolve(inventory, target), row) for row in range(60)]
    newest, faults, stop = [CompressionRatios(inventory)], [], threading.Event()

    def read():
        try:
            while not stop.is_set():
                resolve(inventory, target, (), newest[0])
                newest[0].moved(inventory)
                newest[0].size_of("a")
        except Exception as error:
            faults.append(error)

    thread = threading.Thread(target=read)
    thread.start()
    before = newest[0]
    for turn in range(40):
        for row, key in enumerate(keys):
            ratios = {(inventory.textures[row].content, turn % 7, 0, "zstd"): 0.5}
            newest[0] = newest[0].merged(Measured({key: 10 + turn}, ratios))
    stop.set()
    thread.join()
    assert faults == []
    plan = resolve(inventory, target, (), newest[0])
    assert plan.measured.all() and (plan.package == 49).all()
    assert before.measured == {}, "what was there before has not changed"
    assert not resolve(inventory, target, (), before).measured.any()


def test_a_plan_weighed_anew_is_the_plan_resolved_anew(tmp_path):
    """Whatever is measured: of textures made in many ways, some with a measured size of another recipe, and of sounds."""
    root = tmp_path / "art"
    for number in range(12):
        put(
            root,
            f"{('wall', 'rock')[number % 2]}{number}_{('base', 'n', 'orm')[number % 3]}.png",
            size=(8 << number % 3, 8),
        )
    inventory, target = surveyed(root), target_named("pocket")
    paths = [texture.path for texture in inventory.textures]
    cuts = (
        Cut(Cap(8), tuple(paths[:5])), Cut(SetFormat("astc-8x8"), tuple(paths[3:9])),
        Cut(SetEffort(Effort.FINE), tuple(paths[7:])), Cut(SetLoss(1.0), tuple(paths[::4])),
    )  # fmt: skip
    before = resolve(inventory, target, cuts)
    keys = [recipe_key(before, row) for row in range(12)]
    plain = resolve(inventory, target)
    found = Measured(
        {recipe_key(plain, row): 5 + row for row in range(12)} | {keys[row]: 1000 + row for row in range(0, 12, 2)},
        {(inventory.textures[1].content, 3, 0, "deflate"): 0.25},
    )
    ratios = CompressionRatios(inventory).merged(found)
    for cut, made in ((cuts, before), ((), plain)):
        fresh, weighed = resolve(inventory, target, cut, ratios), reweighed(made, ratios)
        assert made.total("package") != fresh.total("package"), "the totals of what was there stay with it"
        assert weighed.total("package") == fresh.total("package")
        for name in ("package", "measured", "files"):
            np.testing.assert_array_equal(getattr(weighed, name), getattr(fresh, name))
        assert weighed.uncertainty == fresh.uncertainty
    fresh = resolve(inventory, target, cuts, ratios)
    assert [int(fresh.package[row]) for row in range(0, 12, 2)] == [1000 + row for row in range(0, 12, 2)]
    assert fresh.measured.sum() == 6 + sum(keys[row] == recipe_key(plain, row) for row in range(1, 12, 2))


def test_what_is_measured_holds_for_equal_contents_and_for_other_inventories(tmp_path):
    root, target = tmp_path / "art", target_named("lounge")
    pixels = np.arange(192, dtype=np.uint8).reshape(8, 8, 3)
    for name in ("a.png", "b.png", "c.png"):
        put(root, name, pixels if name != "c.png" else None, size=(8, 8))
    inventory = surveyed(root)
    key = recipe_key(resolve(inventory, target), 0)
    ratios = CompressionRatios(inventory).merged(Measured({key: 77}))
    assert resolve(inventory, target, (), ratios).measured.tolist() == [True, True, False]
    (root / "a.png").unlink()
    later = surveyed(root)
    plan = resolve(later, target, (), ratios.moved(later))
    assert (plan.measured.tolist(), int(plan.package[0])) == ([True, False], 77)
    cut = resolve(later, target, (Cut(Cap(4), ("b.png",)),), ratios.moved(later))
    assert not cut.measured.any(), "another recipe is not measured yet"
