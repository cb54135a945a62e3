"""What may go wrong while shipping: a kill at any moment, a full disk, a source that changes, two runs into one folder."""

import errno
import json
import subprocess
import sys
import threading

import numpy as np
import pytest

from oaktrim.core.codecs.texture import decode_level
from oaktrim.core.errors import FileError, ShipError
from oaktrim.core.files.pictures import parse_texture
from oaktrim.core.pixels.levels import coverage
from oaktrim.core.plan.cuts import Cut, KeepCoverage, SetFormat, SetLoss
from oaktrim.core.progress import finish
from oaktrim.core.ship import run
from oaktrim.core.ship.result import forecast_missed
from oaktrim.core.ship.run import ship
from tests.kit.pictures import busy
from tests.kit.trees import planned, put

_KILLER = """
import os, random, signal, sys, time
from pathlib import Path
from oaktrim.core.progress import finish
from oaktrim.core.ship.run import ship
from tests.core.ship.test_faults import check_folder
from tests.kit.trees import planned
root, out = map(Path, sys.argv[1:])
plans = [planned(root, "lounge"), planned(root, "pocket")]
chance = random.Random(7)
killed = 0
for turn in range(50):
    child = os.fork()
    if child == 0:
        try:
            finish(ship(plans[turn % 2], out, threads=2))
        finally:
            os._exit(0)
    time.sleep(chance.uniform(0, 0.12))
    os.kill(child, signal.SIGKILL)
    killed += os.WIFSIGNALED(os.waitpid(child, 0)[1])
    check_folder(out)
print(killed)
"""


def check_folder(out):
    """Everything that stands in a folder under its own name is whole."""
    for path in out.rglob("*"):
        if path.is_file() and not path.name.startswith(".oak-trim-"):
            data = path.read_bytes()
            if path.suffix in (".dds", ".ktx2"):
                parse_texture(data, path)
            elif path.suffix == ".json":
                json.loads(data)


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    for number in range(12):
        put(root, f"wall{number}_base.png", busy(128, 128, 3, seed=number).pixels)
    return root


def test_fifty_kills_at_random_moments(art, tmp_path):
    out = tmp_path / "out"
    done = subprocess.run(
        [sys.executable, "-c", _KILLER, str(art), str(out)], capture_output=True, text=True, check=False, timeout=280
    )
    assert done.returncode == 0, done.stderr
    assert int(done.stdout) >= 20, "most runs were killed at work"
    plan = planned(art, "lounge")
    shipped = finish(ship(plan, out))
    assert not shipped.manifest.failed
    assert not list(out.rglob(".oak-trim-*")), "what was half written is gone"
    finish(ship(plan, tmp_path / "fresh"))
    for path in (tmp_path / "fresh").rglob("*.dds"):
        assert (out / path.name).read_bytes() == path.read_bytes()


def test_a_full_disk_stops_the_run_and_keeps_what_is_done(art, tmp_path, monkeypatch):
    out, plan = tmp_path / "out", planned(art, "lounge")
    real, written = run.write_atomic, []

    def full(path, data):
        if path.suffix == ".dds" and len(written) >= 5:
            raise FileError(path, "cannot be written: no space left on device") from OSError(errno.ENOSPC, "full")
        written.append(path)
        real(path, data)

    monkeypatch.setattr(run, "write_atomic", full)
    with pytest.raises(FileError, match="no space left"):
        finish(ship(plan, out, threads=1))
    monkeypatch.setattr(run, "write_atomic", real)
    check_folder(out)
    kept = json.loads((out / "manifest.json").read_bytes())["textures"]
    again = finish(ship(plan, out))
    assert len(kept) >= 4
    assert (again.unchanged, again.written) == (len(kept), 12 - len(kept))


def test_the_system_itself_refuses_to_write(art, tmp_path):
    """A limit on the size of files stands for a full disk: the write fails half way."""
    code = (
        "import resource, signal, sys; from pathlib import Path\n"
        "from oaktrim.core.files.atomic import write_atomic\n"
        "from oaktrim.core.errors import FileError\n"
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (1000, 1000))\n"
        "try: write_atomic(Path(sys.argv[1]), bytes(5000))\n"
        "except FileError as error: print(error)\n"
    )
    place = tmp_path / "whole.dds"
    place.write_bytes(b"old")
    done = subprocess.run([sys.executable, "-c", code, str(place)], capture_output=True, text=True, check=True)
    assert "cannot be written" in done.stdout
    assert place.read_bytes() == b"old"
    assert [p.name for p in tmp_path.iterdir() if p.is_file()] == ["whole.dds"], "nothing half is left behind"


def test_a_folder_that_cannot_be_written(art, tmp_path):
    (tmp_path / "file").write_text("in the way")
    with pytest.raises((ShipError, FileError), match="file"):
        finish(ship(planned(art, "lounge"), tmp_path / "file" / "out"))


def test_a_source_that_changed_since_the_survey_is_told(art, tmp_path):
    plan = planned(art, "lounge")
    put(art, "wall3_base.png", busy(128, 128, 3, seed=99).pixels)
    shipped = finish(ship(plan, tmp_path / "out"))
    assert [failure.source for failure in shipped.manifest.failed] == ["wall3_base.png"]
    assert "has changed since it was surveyed" in shipped.manifest.failed[0].error
    again = finish(ship(planned(art, "lounge"), tmp_path / "out"))
    assert (again.written, again.unchanged, again.manifest.failed) == (1, 11, ())


def test_two_runs_into_one_folder(art, tmp_path):
    plan, out = planned(art, "lounge"), tmp_path / "out"
    first = ship(plan, out, threads=1)
    for _ in range(3):
        next(first)
    with pytest.raises(ShipError, match="another run"):
        finish(ship(plan, out))
    assert finish(first).written == 12
    assert finish(ship(plan, out)).unchanged == 12, "the folder is free again"
    held = []
    thread = threading.Thread(target=lambda: held.append(finish(ship(plan, tmp_path / "other"))))
    thread.start()
    thread.join()
    assert held[0].written == 12


def test_what_is_given_up_for_the_download_is_part_of_the_recipe(art, tmp_path):
    names = tuple(f"wall{n}_base.png" for n in range(12))
    cut = Cut(SetFormat("bc1"), names)
    finish(ship(planned(art, "lounge", cut), tmp_path / "out"))
    lossy = finish(ship(planned(art, "lounge", cut, Cut(SetLoss(1.0), names[:1])), tmp_path / "out"))
    assert (lossy.written, lossy.unchanged) == (1, 11), "one cut changes one texture"


def test_a_forecast_that_was_wrong_is_told(art, tmp_path):
    plan = planned(art, "lounge")
    shipped = finish(ship(plan, tmp_path / "out"))
    truth = next(s for s in shipped.statuses if s.line.name == "package")
    plan.package[:] = 1
    said = forecast_missed(plan, shipped.statuses)
    assert "more than forecast" in said
    plan.package[:] = [entry.package for entry in shipped.manifest.textures]
    plan._totals.clear()
    assert plan.total("package") == truth.value
    assert forecast_missed(plan, shipped.statuses) == ""


def test_levels_keep_a_cut_out_when_they_are_asked_to(tmp_path):
    codes = np.zeros((64, 64, 4), np.uint8)
    codes[::8, :, 3] = codes[:, ::8, 3] = 255
    put(tmp_path / "art", "net_base.png", codes)
    found = []
    for cuts in ((), (Cut(KeepCoverage(128), ("net_base.png",)),)):
        finish(ship(planned(tmp_path / "art", "lounge", *cuts), tmp_path / "out"))
        texture = parse_texture((tmp_path / "out/net_base.dds").read_bytes(), tmp_path)
        found.append([coverage(decode_level(texture, level), 128) for level in range(4)])
    plain, kept = found
    assert plain[0] == kept[0]
    assert sum(abs(share - kept[0]) for share in kept) < sum(abs(share - plain[0]) for share in plain) / 2
