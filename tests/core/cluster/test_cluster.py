"""Work on several machines: the same bytes as on one, whatever dies in between."""

import os
import signal
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path
from threading import Thread

import numpy as np
import pytest
from distributed import Client

from oaktrim.core.cluster import client as client_module
from oaktrim.core.cluster.client import Cluster
from oaktrim.core.codecs.effort import Effort
from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.codecs.texture import encode_texture
from oaktrim.core.errors import ShipError
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.pictures import pack_texture, png_bytes
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.job.document import load_job
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.plan.resolve import content_key
from oaktrim.core.progress import finish
from oaktrim.core.ship.make import make_texture
from oaktrim.core.ship.store import MadeStore
from tests.kit.clusters import LocalCluster
from tests.kit.models import add_mesh, material, scene
from tests.kit.pictures import busy
from tests.kit.trees import put, surveyed, write_model

PROGRAM = Path(sys.executable).parent / "oak-trim"
pytestmark = [pytest.mark.slow, pytest.mark.timeout(600)]


@pytest.fixture(scope="module")
def cluster(tmp_path_factory):
    """Two workers that live as long as these tests."""
    found = LocalCluster(tmp_path_factory.mktemp("cluster"))
    found.add_worker()
    found.add_worker()
    yield found
    found.stop()


def run(*arguments, status=0, cache=None):
    there = {**os.environ, **({} if cache is None else {"XDG_CACHE_HOME": str(cache)})}
    done = subprocess.run(
        [PROGRAM, *map(str, arguments)], capture_output=True, text=True, check=False, env=there, timeout=300
    )
    assert done.returncode == status, done.stdout + done.stderr
    return done.stdout + done.stderr


def files_of(folder):
    return {path.relative_to(folder): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


@pytest.fixture
def yard(tmp_path):
    """Enough work that something can happen in between, and a texture that is made in parts."""
    for number in range(12):
        put(tmp_path, f"art/wall{number:02}_base.png", busy(256, 256, 3, seed=number).pixels)
    put(tmp_path, "art/large_base.png", busy(2048, 2048, 3, seed=99).pixels)
    run("job", "new", tmp_path / "art", "--out", tmp_path / "a.oak", "--target", "pocket")
    run("cut", tmp_path / "a.oak", "--where", "path:*", "--format", "astc-6x6", "--effort", "standard")
    return tmp_path


@pytest.mark.parametrize("shared", [True, False])
def test_every_kind_of_source_comes_out_as_it_does_here(cluster, tmp_path, monkeypatch, shared):
    """Files, images that a model holds, containers, what another channel order holds; seen by the workers or sent to them."""
    root = tmp_path / "art"
    put(root, "wall_base.png", busy(96, 64, 3).pixels)
    put(root, "leaf_base.tga", busy(64, 64, 4, seed=2).pixels)
    put(root, "large_n.png", busy(2048, 2048, 3, seed=5).pixels)
    writer = GltfWriter()
    image = writer.image("held_base", data=png_bytes(busy(64, 64, 3, seed=7).pixels))
    writer.add("nodes", name="boat", mesh=add_mesh(writer, material(writer, baseColorTexture=image)))
    scene(writer, 0)
    write_model(root, "boat.glb", writer)
    levels = build_mip_chain(busy(64, 64, 4, seed=8), 7)
    packed = finish(encode_texture(levels, FORMATS["bc7"]))
    (root / "old_base.dds").write_bytes(pack_texture(packed, "dds"))
    inventory = surveyed(root)
    if not shared:
        monkeypatch.setattr(client_module.worker, "sees", lambda *_: False)
    wanted = []
    for row, texture in enumerate(inventory.textures):
        size = {"width": texture.width, "height": texture.height, "levels": 5}
        loss = 0.0 if texture.width > 1000 else 1.0
        wanted.append((row, EncodeSettings(**size, format="etc2-rgba", effort=Effort.DRAFT, loss=loss)))
        wanted.append((row, EncodeSettings(**size, format="rgba8")))
    # The same twice is made once.
    wanted.append(wanted[0])
    store = MadeStore(tmp_path / "store")
    far = Cluster(cluster.address)
    try:
        with closing(far.ahead(inventory, wanted, store)) as places:
            assert sorted(places) == list(range(len(wanted)))
        assert sum(store.holds(content_key(inventory, *row)) for row in wanted[:-1]) == len(inventory.textures)
        for row, settings in wanted:
            if settings.format == "rgba8":
                continue
            kept, seconds = store.get(content_key(inventory, row, settings))
            assert kept == finish(make_texture(inventory, row, settings, threads=1)).encoded, inventory.textures[
                row
            ].path
            assert seconds > 0
        # What is in the store is not made again.
        with closing(far.ahead(inventory, wanted, store)) as places:
            assert list(places) == list(range(len(wanted)))
        (root / "wall_base.png").write_bytes(b"torn")
        unread = [(row, EncodeSettings(64, 64, 1, "bc1")) for row in range(len(inventory.textures))]
        with closing(far.ahead(inventory, unread, store)) as places:
            assert sorted(places) == list(range(len(unread))), "what no worker could make comes too"
    finally:
        far.close()


def test_a_build_and_a_fit_are_those_of_one_machine(cluster, yard):
    there, here = yard / "there", yard / "here"
    said = run(
        "ship", yard / "a.oak", "--target", "pocket", "--out", there, "--scheduler", cluster.address, cache=yard / "c1"
    )
    assert "13 written, 0 unchanged" in said
    run("ship", yard / "a.oak", "--target", "pocket", "--out", here, cache=yard / "c2")
    assert files_of(there) == files_of(here)
    for file in (yard / "art").glob("wall[01][2-9]*"):
        file.unlink()
    (yard / "art/large_base.png").unlink()
    shapes = ("--line", "memory=100KiB", "--by-rules")
    text = (yard / "a.oak").read_bytes()
    run("fit", yard / "a.oak", "--target", "pocket", *shapes, "--scheduler", cluster.address, cache=yard / "c1")
    fitted = load_job(yard / "a.oak").cuts
    (yard / "a.oak").write_bytes(text)
    run("fit", yard / "a.oak", "--target", "pocket", *shapes, cache=yard / "c2")
    assert load_job(yard / "a.oak").cuts == fitted and len(fitted) > 1


def begin(yard, address):
    """Start a build, and return its process once the first texture is there."""
    command = [PROGRAM, "ship", yard / "a.oak", "--target", "pocket", "--out", yard / "out", "--scheduler", address]
    process = subprocess.Popen(
        list(map(str, command)), stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        env={**os.environ, "XDG_CACHE_HOME": str(yard / "c1")},
    )  # fmt: skip
    end = time.monotonic() + 120
    while not list((yard / "out").glob("*.ktx2")):
        assert process.poll() is None and time.monotonic() < end, process.communicate()[0]
        time.sleep(0.02)
    return process


def test_a_cancel_reaches_the_workers(cluster, yard):
    process = begin(yard, cluster.address)
    process.send_signal(signal.SIGINT)
    said, _ = process.communicate(timeout=60)
    assert process.returncode == 130, said
    with Client(cluster.address, set_as_default=False) as client:
        end = time.monotonic() + 20
        while any(client.processing().values()) and time.monotonic() < end:
            time.sleep(0.1)
        assert not any(client.processing().values())


def test_a_worker_that_dies_loses_nothing(tmp_path, yard):
    (tmp_path / "logs").mkdir()
    cluster = LocalCluster(tmp_path / "logs")
    try:
        cluster.add_worker()
        cluster.add_worker()
        process = begin(yard, cluster.address)
        cluster.workers[0].kill()
        said, _ = process.communicate(timeout=240)
        assert process.returncode == 0 and "13 written" in said, said
        run("ship", yard / "a.oak", "--target", "pocket", "--out", yard / "here", cache=yard / "c2")
        assert files_of(yard / "out") == files_of(yard / "here")
    finally:
        cluster.stop()


def test_a_scheduler_that_goes_is_said_and_the_work_is_kept(tmp_path, yard):
    (tmp_path / "logs").mkdir()
    cluster = LocalCluster(tmp_path / "logs")
    try:
        cluster.add_worker()
        process = begin(yard, cluster.address)
        cluster.scheduler.kill()
        said, _ = process.communicate(timeout=120)
        assert process.returncode == 2 and "the scheduler is gone" in said, said
        again = run("ship", yard / "a.oak", "--target", "pocket", "--out", yard / "out", cache=yard / "c1")
        assert "13 written" not in again and "0 unchanged" not in again
        gone = run(
            "ship", yard / "a.oak", "--target", "pocket", "--out", yard / "b", "--scheduler", cluster.address, status=2
        )
        assert "no scheduler can be reached there" in gone
    finally:
        cluster.stop()


def test_without_any_worker_the_run_waits_a_while_and_ends(tmp_path, monkeypatch):
    """One that comes in time goes on with the work; else the run says so and keeps what was made."""
    monkeypatch.setattr(client_module, "_PATIENCE", 4.0)
    monkeypatch.setattr(client_module, "_LOOK_EVERY", 0.5)
    (tmp_path / "logs").mkdir()
    for number in range(3):
        put(tmp_path, f"art/wall{number}_base.png", busy(64, 64, 3, seed=number).pixels)
    inventory = surveyed(tmp_path / "art")
    wanted = [(row, EncodeSettings(64, 64, 1, "bc1")) for row in range(3)]
    cluster = LocalCluster(tmp_path / "logs")
    try:
        worker = cluster.add_worker()
        with closing(Cluster(cluster.address)) as there:
            worker.kill()
            worker.wait()
            with closing(there.ahead(inventory, wanted, MadeStore(tmp_path / "kept"))) as places:
                started = time.monotonic()
                with pytest.raises(ShipError, match=r"all workers are gone; what was made is kept"):
                    list(places)
                assert 3.0 < time.monotonic() - started < 30
            monkeypatch.setattr(client_module, "_PATIENCE", 60.0)
            with closing(there.ahead(inventory, wanted, MadeStore(tmp_path / "kept"))) as places:
                late = Thread(target=lambda: (time.sleep(2), cluster.add_worker()))
                late.start()
                assert sorted(places) == [0, 1, 2]
                late.join()
    finally:
        cluster.stop()


def test_other_versions_do_no_work(tmp_path):
    (tmp_path / "logs").mkdir()
    cluster = LocalCluster(tmp_path / "logs")
    try:
        with pytest.raises(ShipError, match="has no workers"):
            Cluster(cluster.address)
        first = cluster.add_worker("import oaktrim; oaktrim.__version__ = '9.9'")
        with pytest.raises(ShipError, match=r"has Oak Trim 9\.9, and this is"):
            Cluster(cluster.address)
        first.kill()
        first.wait()
        cluster.add_worker("import oaktrim.core.codecs.state as s; s.encoding_state = lambda: 'other'")
        with pytest.raises(ShipError, match="has other encoders than this Oak Trim"):
            Cluster(cluster.address)
    finally:
        cluster.stop()


def test_a_worker_of_another_version_that_comes_later_does_none(tmp_path):
    """It is told by each task."""
    worker = client_module.worker
    root = tmp_path / "art"
    put(root, "wall_base.png")
    inventory = surveyed(root)
    ask = worker.Ask(
        "none", inventory.textures[0], inventory.roles[0].role, EncodeSettings(64, 64, 1, "bc1"), 1 << 20, str(root)
    )
    told = worker.msgspec.msgpack.decode(
        worker.make(worker.msgspec.msgpack.encode(ask), "another", None), type=worker.Answer
    )
    assert told.state == worker.version() and not told.made
    told = worker.msgspec.msgpack.decode(
        worker.make(worker.msgspec.msgpack.encode(ask), worker.version(), None), type=worker.Answer
    )
    assert not told.state and len(told.made) == 1 and np.isfinite(told.seconds)
