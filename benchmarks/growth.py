"""How time and memory grow with a tree: survey, check, fit and ship of thousands of textures, by the commands themselves.

    python -m benchmarks.growth FOLDER 5000 15000 50000

A tenth of the textures is real; the others are links to these, in folders of their own. It takes an hour and 10 GB. Memory is the
proportional set size of the command and all processes that it starts, the largest of samples that are a fifth of a second apart.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import psutil
from PIL import Image as PillowImage

from oaktrim.core.progress import map_unordered

_SIDES = (256, 512, 768, 960)
_PROGRAM = Path(sys.executable).parent / "oak-trim"
_FOLDER = 50


def _picture(place: int, file: Path) -> None:
    rng = np.random.default_rng(place)
    side = _SIDES[place % 4]
    coarse = PillowImage.fromarray(rng.integers(0, 256, (side // 16, side // 16, 3), dtype=np.uint8))
    picture = np.asarray(coarse.resize((side, side), PillowImage.Resampling.BICUBIC))
    noise = rng.integers(0, 16, (side, side, 1), dtype=np.uint8)
    PillowImage.fromarray(np.bitwise_xor(picture, noise)).save(file, compress_level=1)


def make_tree(root: Path, real: list[Path], count: int) -> None:
    """Link real pictures into folders of a tree, each as often as it takes."""
    for place in range(count):
        folder = root / f"{place // _FOLDER:04d}"
        folder.mkdir(parents=True, exist_ok=True)
        os.link(real[place % len(real)], folder / f"{place:05d}_{('base', 'n', 'orm')[place % 3]}.png")


def peak_of(command: list[str], there: dict[str, str]) -> tuple[float, int, int]:
    """Return seconds, the most bytes of memory and the exit status of a command."""
    started, peak = time.monotonic(), 0
    with subprocess.Popen(command, env=there, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        while process.poll() is None:
            peak = max(peak, _memory(process.pid))
            time.sleep(0.2)
    return time.monotonic() - started, peak, process.returncode


def _memory(number: int) -> int:
    found = 0
    try:
        first = psutil.Process(number)
        for process in (first, *first.children(recursive=True)):
            found += process.memory_full_info().pss
    except psutil.Error:
        pass
    return found


def main(folder: Path, counts: list[int]) -> None:
    """Measure, and print a row for each command and count."""
    real = [folder / "real" / f"{place:05d}.png" for place in range(max(counts) // 10)]
    (folder / "real").mkdir(parents=True, exist_ok=True)
    due = [(place, file) for place, file in enumerate(real) if not file.exists()]
    for _ in map_unordered(lambda row: _picture(*row), due):
        pass
    for count in counts:
        here = folder / str(count)
        make_tree(here / "art", real[: count // 10], count)
        pixels = sum(3 * _SIDES[place % (count // 10) % 4] ** 2 for place in range(count))
        print(f"{count} textures, {pixels / 2**30:.0f} GiB of pixels", flush=True)
        there = {**os.environ, "XDG_CACHE_HOME": str(here / "cache"), "XDG_STATE_HOME": str(here / "state")}
        job, out = str(here / "a.oak"), str(here / "out")
        for what in (
            ["job", "new", str(here / "art"), "--out", job, "--target", "pocket"],
            ["survey", job],
            ["survey", job],
            ["format-rules", job, "--common"],
            ["fit", job, "--target", "pocket", "--within", "120"],
            ["cut", job, "--where", "path:*", "--cap", "64", "--effort", "draft"],
            ["ship", job, "--target", "pocket", "--out", out],
            ["ship", job, "--target", "pocket", "--out", out],
            ["check", job],
            ["check", job],
        ):
            seconds, peak, status = peak_of([str(_PROGRAM), *what], there)
            print(f"  {what[0]:<14}{seconds:8.1f} s  {peak / 2**20:8.0f} MiB  status {status}", flush=True)


if __name__ == "__main__":
    main(Path(sys.argv[1]), [int(text) for text in sys.argv[2:]])
