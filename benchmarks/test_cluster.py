"""Two workers of one thread against two threads of one process, the sources warm."""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.kit.clusters import LocalCluster
from tests.kit.pictures import busy
from tests.kit.trees import put, surveyed

from benchmarks.conftest import report, seconds
from oaktrim.core.cluster.client import Cluster
from oaktrim.core.codecs.effort import Effort
from oaktrim.core.plan.cuts import Cut, SetEffort, SetFormat
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.ship.run import ship
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.targets.target import target_named


@pytest.mark.timeout(0)
def test_shipping_on_a_cluster(tmp_path, benchmark):
    root = tmp_path / "art"
    for number in range(12):
        put(root, f"wall{number:02}_base.png", busy(512, 512, 4, seed=number).pixels)
    put(root, "large_base.png", busy(2048, 2048, 4, seed=99).pixels)
    inventory = surveyed(root)
    paths = tuple(texture.path for texture in inventory.textures)
    cuts = (Cut(SetFormat("bc7"), paths), Cut(SetEffort(Effort.STANDARD), paths))
    plan = resolve(inventory, target_named("lounge"), cuts)
    (tmp_path / "logs").mkdir()
    local = LocalCluster(tmp_path / "logs")
    try:
        local.add_worker()
        local.add_worker()
        far = Cluster(local.address)
        turns = iter(range(100))

        def here(threads: int = 2) -> None:
            place = tmp_path / f"here{next(turns)}"
            finish(ship(plan, place, threads=threads, store=MadeStore(place / "made")))

        def there() -> None:
            place: Path = tmp_path / f"there{next(turns)}"
            finish(ship(plan, place, threads=2, store=MadeStore(place / "made"), ahead=far.ahead))

        # Kernels are loaded on both sides before anything is timed.
        here(), there()
        one, many = [], []
        for _ in range(2):
            one.append(seconds(here, 1))
            many.append(seconds(there, 1))
        far.close()
    finally:
        local.stop()
    report(
        "ship on two workers of one thread",
        "two threads of one process",
        f"{min(many) / min(one):.2f}x ({min(many):.1f} s)",
        "1.15x",
    )
    benchmark.pedantic(here, rounds=1)
