"""Atlases against their reach: how full sheets get and how fast, what baking keeps, and a whole run."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from tests.core.makers.test_atlas_packing import stars
from tests.kit.atlases import Coat, likeness, make

from benchmarks.conftest import report, seconds
from oaktrim.core.files.pictures import write_png
from oaktrim.core.makers.atlas.layout import ChartSet, Layout, OneFactor, Wanted, arranged
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.demo.brush import noise


@pytest.mark.parametrize(
    ("count", "size", "reach"), [(185, 1024, ".80 in 1 s"), (1103, 2048, ".79 in 20 s"), (20_000, 4096, "")]
)
def test_packing(benchmark: pytest.FixtureRequest, count: int, size: int, reach: str) -> None:
    charts = stars(count, seed=3)
    charts = ChartSet(charts.corners * 8, charts.chart, charts.count)
    found: list[Layout] = []

    def pack() -> None:
        found.append(finish(arranged(charts, OneFactor(charts.count), Wanted(size, gutter=4, square=True))))

    took = seconds(pack, 1 if count > 5000 else 2)
    report(f"{count:,} star-shaped islands on {size}", "", f"{found[-1].occupancy:.3f} covered, {took:.1f} s", reach)
    benchmark.pedantic(lambda: None, rounds=1)


def tubes(root: Path, side: int = 2048) -> str:
    """A model of 20,000 triangles with four materials, each with a base colour, normals and surface values of a side."""
    made = Coat()
    rng = np.random.default_rng(3)
    across, down = 51, 51
    v, u = np.meshgrid(np.linspace(0, 1, down), np.linspace(0, 1, across), indexing="ij")
    corner = np.arange(across * down, dtype=np.uint32).reshape(down, across)
    a, b, c, d = corner[:-1, :-1], corner[:-1, 1:], corner[1:, 1:], corner[1:, :-1]
    triangles = np.stack([a, d, c, a, c, b], axis=-1).reshape(-1, 3)
    for number in range(4):
        plane = noise(rng, side, side, 12 + 9 * number, 5)
        colour = np.stack([plane, np.roll(plane, 97, 0), np.roll(plane, 211, 1)], axis=2)
        write_png(root / f"{number}.png", Image.of((colour * 255).astype(np.uint8)))
        angle = u * 2 * np.pi
        points = (
            np.stack([np.sin(angle) * 0.4 + number, v, np.cos(angle) * 0.4], axis=2).reshape(-1, 3).astype(np.float32)
        )
        paint = made.paint(f"m{number}", baseColorTexture=made.writer.image(f"{number}.png"))
        made.add(paint, points, np.stack([u, v], axis=2).reshape(-1, 2), triangles)
    made.save(root / "tubes.glb")
    return "tubes.glb"


def test_a_whole_run(benchmark: pytest.FixtureRequest, tmp_path: Path) -> None:
    name = tubes(tmp_path)
    start = time.perf_counter()
    code = [
        str(Path(sys.executable).parent / "oak-trim"),
        "atlas",
        str(tmp_path / name),
        "--out",
        str(tmp_path / "out"),
    ]
    subprocess.run(code, check=True, capture_output=True)
    report(
        "oak-trim atlas, 20,000 triangles, four base colours of 2048² onto one of 4096²",
        "",
        f"{time.perf_counter() - start:.1f} s",
        "8 s",
    )
    benchmark.pedantic(lambda: None, rounds=1)


@pytest.mark.parametrize(("size", "what"), [(4096, "same density"), (1024, "two levels fewer")])
def test_baking(benchmark: pytest.FixtureRequest, tmp_path: Path, size: int, what: str) -> None:
    name = tubes(tmp_path, 1000)
    result = make(tmp_path, name, size=size)
    found = likeness(tmp_path, result, name)
    report(f"baked, {what}, 12 views with levels", "", f"{found.psnr:.1f} dB, outline off by {found.outline}", "48 dB")
    benchmark.pedantic(lambda: None, rounds=1)
