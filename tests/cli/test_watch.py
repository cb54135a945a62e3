"""An output folder that is kept up to date while artists save, by the command as a process of its own."""

import json
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.files.pictures import parse_texture
from oaktrim.core.job.document import load_job, new_job, save_job
from oaktrim.core.plan.cuts import Cap, Cut
from oaktrim.core.settings import Settings
from tests.kit.pictures import busy
from tests.kit.trees import put

PROGRAM = Path(sys.executable).parent / "oak-trim"
WAIT = 60


@pytest.fixture
def yard(tmp_path):
    for name in ("oak", "elm", "fir"):
        put(tmp_path, f"art/{name}_base.png", busy(128, 128, 3, seed=len(name)).pixels)
    save_job(new_job(tmp_path / "art", Settings(targets=("pocket",))), tmp_path / "game.oak", tmp_path / "art")
    return tmp_path


class Watching:
    """The command at work; its lines as they come."""

    def __init__(self, yard):
        command = [PROGRAM, "ship", yard / "game.oak", "--target", "pocket", "--out", yard / "out", "--watch"]
        self.process = subprocess.Popen(
            list(map(str, command)), stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        self.lines = []
        self.hearing = threading.Thread(target=self.hear)
        self.hearing.start()

    def hear(self):
        for line in self.process.stdout:
            self.lines.append(line)

    def stop(self):
        """Stop it as a person does, and return its exit status."""
        os.kill(self.process.pid, signal.SIGINT)
        status = self.process.wait(WAIT)
        self.hearing.join()
        self.process.stdout.close()
        return status

    def until(self, words, after=0):
        """Wait for a line with these words, and return its place."""
        end = time.monotonic() + WAIT
        while time.monotonic() < end:
            found = [place for place, line in enumerate(self.lines) if words in line and place >= after]
            if found:
                return found[0]
            time.sleep(0.02)
        raise AssertionError(f"{words!r} is not in {self.lines}")


@pytest.mark.slow
def test_saves_are_shipped_and_every_file_is_whole_at_any_time(yard):
    watching, torn = Watching(yard), []
    oak, done = yard / "out/oak_base.ktx2", threading.Event()

    def look():
        while not done.is_set():
            try:
                parse_texture(oak.read_bytes(), oak)
            except FileNotFoundError:
                continue
            except OakTrimError as error:
                torn.append(error)

    try:
        at = watching.until("3 written")
        reader = threading.Thread(target=look)
        reader.start()
        widths = []
        for side in (64, 32, 256):
            put(yard, "art/oak_base.png", busy(side, side, 3, seed=side).pixels)
            at = watching.until("1 written, 2 unchanged", at + 1)
            widths.append(parse_texture(oak.read_bytes(), oak).width)
        assert widths == [64, 32, 256]
        # Saved in two steps, as slow tools do: what was built stays until the file is whole.
        whole = (yard / "art/elm_base.png").read_bytes()
        with (yard / "art/elm_base.png").open("wb") as file:
            file.write(whole[:4000])
            file.flush()
            at = watching.until("what was made of it before stays", at + 1)
            assert (yard / "out/elm_base.ktx2").exists()
            file.write(whole[4000:])
        at = watching.until("0 written, 3 unchanged, 0 removed", at + 1)
        # A cut in the job is a change, too, and so is a file that is no more.
        job = load_job(yard / "game.oak").with_cut(Cut(Cap(16), ("fir_base.png",)))
        save_job(job, yard / "game.oak", yard / "art")
        at = watching.until("1 written", at + 1)
        (yard / "art/elm_base.png").unlink()
        at = watching.until("1 removed", at + 1)
        # What is wrong with a save is said, and the watch goes on.
        text = (yard / "game.oak").read_bytes()
        (yard / "game.oak").write_text("{")
        at = watching.until("waiting for the next change", at + 1)
        (yard / "game.oak").write_bytes(text)
        watching.until("0 written, 2 unchanged", at + 1)
        done.set()
        reader.join()
        assert not torn
        manifest = json.loads((yard / "out/manifest.json").read_text())
        assert {row["output"] for row in manifest["textures"]} == {"oak_base.ktx2", "fir_base.ktx2"}
        for row in manifest["textures"]:
            assert content_hash((yard / "out" / row["output"]).read_bytes()) == row["output_hash"]
    finally:
        done.set()
        assert watching.stop() == 130
