"""What was made once is taken from the store: the same bytes, without encoding again; damage costs time and nothing else."""

import os

import pytest

from oaktrim.core.codecs import texture as codecs
from oaktrim.core.codecs.effort import Effort
from oaktrim.core.plan.cuts import Cut, SetEffort, SetFormat
from oaktrim.core.progress import finish
from oaktrim.core.proof.trial import reference_for, try_recipe
from oaktrim.core.ship.run import ship
from oaktrim.core.ship.store import MadeStore
from tests.kit.trees import planned, put

NAMES = ("brick_base.png", "brick_n.png")
BLOCKS = Cut(SetFormat("bc7"), NAMES)


@pytest.fixture
def root(tmp_path):
    for name in NAMES:
        put(tmp_path / "art", name, size=(64, 64))
    return tmp_path / "art"


@pytest.fixture
def store(tmp_path):
    return MadeStore(tmp_path / "made")


@pytest.fixture
def encoded(monkeypatch):
    """The sizes that are really encoded."""
    sizes: list[int] = []
    encode, decode = codecs.CODECS["bc7"]

    def error_metric(image, options):
        sizes.append(image.width)
        return encode(image, options)

    monkeypatch.setitem(codecs.CODECS, "bc7", (error_metric, decode))
    return sizes


def files(folder):
    return {path.name: path.read_bytes() for path in folder.rglob("*.dds")}


def test_another_folder_takes_what_was_made(root, store, encoded, tmp_path):
    plan = planned(root, "lounge", BLOCKS)
    first = finish(ship(plan, tmp_path / "a", store=store))
    once = len(encoded)
    assert sum(size == 64 for size in encoded) == 2
    again = finish(ship(plan, tmp_path / "b", store=store))
    assert len(encoded) == once
    assert files(tmp_path / "a") == files(tmp_path / "b") and len(files(tmp_path / "a")) == 2
    assert again.manifest == first.manifest, "also how near each is to its source"
    finish(ship(planned(root, "lounge", BLOCKS, Cut(SetEffort(Effort.DRAFT), NAMES[:1])), tmp_path / "b", store=store))
    assert sum(size == 64 for size in encoded) == 3, "one cut changed, one texture encoded"


def test_what_a_proof_made_is_shipped(root, store, encoded, tmp_path):
    plan = planned(root, "lounge", BLOCKS)
    for row in range(2):
        trial = finish(try_recipe(plan, row, plan.recipe(row), reference_for(plan, row), store=store))
        again = finish(try_recipe(plan, row, plan.recipe(row), reference_for(plan, row), store=store))
        assert (again.package, again.seconds, again.quality.jnd) == (
            trial.package,
            trial.seconds,
            trial.quality.jnd,
        )
    once = len(encoded)
    finish(ship(plan, tmp_path / "out", store=store))
    assert len(encoded) == once


def test_damage_and_limits(root, store, encoded, tmp_path):
    plan = planned(root, "lounge", BLOCKS)
    finish(ship(plan, tmp_path / "a", store=store))
    kept = sorted(store.folder.glob("*/*"))
    assert len(kept) == 2
    once = len(encoded)
    kept[0].write_bytes(kept[0].read_bytes()[:-20])
    kept[1].write_bytes(b"nothing of ours")
    finish(ship(plan, tmp_path / "b", store=store))
    assert len(encoded) == 2 * once and files(tmp_path / "a") == files(tmp_path / "b")
    os.utime(kept[0], (1, 1))
    small = MadeStore(store.folder, limit=kept[1].stat().st_size)
    assert small.trim() == 1 and not kept[0].exists() and kept[1].exists()
    # Where nothing can be kept, all is made all the same.
    (tmp_path / "file").write_bytes(b"")
    finish(ship(plan, tmp_path / "c", store=MadeStore(tmp_path / "file" / "made")))
    assert files(tmp_path / "c") == files(tmp_path / "a")
