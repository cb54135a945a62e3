"""The command as a process of its own: signals, closed and full outputs, devices, and what nobody foresaw."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.kit.pictures import busy
from tests.kit.trees import put

PROGRAM = Path(sys.executable).parent / "oak-trim"


def run(*arguments, **how):
    how = {"capture_output": True, "text": True, **how}
    return subprocess.run([PROGRAM, *map(str, arguments)], check=False, timeout=120, **how)


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    for number in range(24):
        put(root, f"wall{number:02}_base.png", busy(512, 512, 3, seed=number).pixels)
    return root


@pytest.mark.slow
@pytest.mark.parametrize(("number", "status"), [(signal.SIGINT, 130), (signal.SIGTERM, 143)])
def test_a_run_that_is_stopped_keeps_what_it_finished(art, tmp_path, number, status):
    job, out = tmp_path / "a.oak", tmp_path / "out"
    assert run("job", "new", art, "--out", job, "--target", "lounge").returncode == 0
    assert run("cut", job, "--where", "path:*", "--format", "bc7", "--effort", "fine").returncode == 0
    command = [PROGRAM, "ship", job, "--target", "lounge", "--out", out]
    process = subprocess.Popen(list(map(str, command)), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    until = time.monotonic() + 60
    while len(list(out.glob("*.dds"))) < 3 and time.monotonic() < until:
        time.sleep(0.02)
    process.send_signal(number)
    _, said = process.communicate(timeout=60)
    assert process.returncode == status
    assert said.strip() == "oak-trim: stopped; what was finished is kept"
    written = {path.name for path in out.glob("*.dds")}
    kept = {row["output"] for row in json.loads((out / "manifest.json").read_bytes())["textures"]}
    assert kept == written and 3 <= len(written) < 24
    (art / sorted(written)[0].replace(".dds", ".png")).unlink()
    again = run("ship", job, "--target", "lounge", "--out", out)
    assert f"{24 - len(written)} written, {len(written) - 1} unchanged, 1 removed" in again.stdout
    assert len(list(out.glob("*.dds"))) == 23


def test_a_kill_loses_no_more_than_seconds(art, tmp_path, monkeypatch):
    """The manifest is written while a run goes on, so that what was finished is not an orphan."""
    out = tmp_path / "out"
    code = (
        "import sys, time; from pathlib import Path\n"
        "from oaktrim.core.ship import run\n"
        "from tests.kit.trees import planned\n"
        "run._KEEP_SECONDS = run._KEEP_SHARE = 0.0\n"
        "for step in run.ship(planned(Path(sys.argv[1]), 'lounge'), Path(sys.argv[2]), threads=1):\n"
        "    if step.done >= 9 and step.total == 24: print('nine', flush=True); time.sleep(60)\n"
    )
    process = subprocess.Popen([sys.executable, "-c", code, str(art), str(out)], stdout=subprocess.PIPE)
    assert process.stdout.readline() == b"nine\n"
    process.kill()
    process.communicate()
    kept = json.loads((out / "manifest.json").read_bytes())["textures"]
    assert len(kept) >= 9


def test_outputs_that_are_closed_or_full(art):
    whole = run("targets")
    assert whole.returncode == 0 and "pocket" in whole.stdout
    closed = subprocess.run(
        ["/bin/sh", "-c", f'"{PROGRAM}" survey "{art}" >&-'], check=False, capture_output=True, text=True, timeout=120
    )
    assert "Traceback" not in closed.stderr and closed.returncode in (0, 1)
    for command in ("targets", "formats", f'survey "{art}" --as json'):
        full = subprocess.run(
            ["/bin/sh", "-c", f'"{PROGRAM}" {command} >/dev/full'],
            check=False,
            capture_output=True,
            text=True,
            timeout=120,
        )
        assert full.stderr == "oak-trim: the results cannot be written: no space left on device\n"
        assert full.returncode == 2


@pytest.mark.parametrize(
    "arguments",
    [
        ("decode", "/dev/zero", "--out", "x.png"),
        ("measure", "/dev/zero", "/dev/zero"),
        ("encode", "/dev/zero", "--format", "bc1", "--out", "out"),
        ("glyphs", "/dev/zero", "--characters", "a", "--out", "out"),
        ("patch", "/dev/zero", "--out", "out"),
        ("survey", ".", "--baseline", "/dev/zero"),
    ],
)
def test_devices_are_never_read(tmp_path, arguments):
    done = run(*arguments, cwd=tmp_path)
    assert done.returncode == 2 and "/dev/zero: is not a regular file" in done.stderr
    assert "Traceback" not in done.stderr


def test_what_nobody_foresaw_exits_with_3_and_says_where_it_is_logged(tmp_path):
    code = (
        "import click\n"
        "from oaktrim.cli import main\n"
        "@click.command()\n"
        "def broken(): raise KeyError('lost')\n"
        "main.commands.add_command(broken)\n"
        "main.main()\n"
    )
    state = {**os.environ, "XDG_STATE_HOME": str(tmp_path)}
    done = subprocess.run(
        [sys.executable, "-c", code, "broken"], check=False, capture_output=True, text=True, timeout=120, env=state
    )
    assert done.returncode == 3
    assert "Traceback" not in done.stderr and "KeyError: 'lost'" in done.stderr
    log = Path(done.stderr.strip().rpartition(" in ")[2])
    assert log.is_relative_to(tmp_path) and "KeyError: 'lost'" in log.read_text()
