"""Surveying and planning thousands of textures, against reading and hashing the same bytes."""

from __future__ import annotations

import hashlib
import os
import platform
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as PillowImage

from benchmarks.conftest import report, seconds
from oaktrim.core.job.document import load_job, root_of, targets_of
from oaktrim.core.plan.cuts import Cap, Cut
from oaktrim.core.plan.packing import PackedShares
from oaktrim.core.plan.report import survey
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.ship.run import ship
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory, TextureFacts
from oaktrim.core.survey.roles import Role, RoleGuess
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import target_named

COUNT = 2000


@pytest.fixture(scope="module")
def tree(tmp_path_factory) -> Path:
    """2,000 pictures of 64 to 512 pixels, some smooth and some busy, made for this."""
    root = tmp_path_factory.mktemp("tree")
    rng = np.random.default_rng(7)
    for place in range(COUNT):
        side = (64, 128, 256, 512)[place % 4]
        coarse = rng.integers(0, 256, (side // 8, side // 8, 3), dtype=np.uint8)
        picture = PillowImage.fromarray(coarse).resize((side, side), PillowImage.Resampling.BICUBIC)
        pixels = np.asarray(picture).astype(np.int16) + rng.integers(-12, 13, (side, side, 3))
        folder = root / f"{place % 40:02d}"
        folder.mkdir(exist_ok=True)
        PillowImage.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)).save(
            folder / f"{place:04d}_base.png", compress_level=3
        )
    return root


def read_and_hash(root: Path) -> None:
    for folder, _, names in os.walk(root):
        for name in names:
            hashlib.blake2b(Path(folder, name).read_bytes()).digest()


def test_survey(tree, tmp_path, benchmark):
    yardstick = seconds(lambda: read_and_hash(tree), 3)
    cache = SurveyCache(tmp_path / "survey.sqlite")
    first = seconds(lambda: finish(scan(tree, cache=cache)), 1)
    again = seconds(lambda: finish(scan(tree, cache=cache)), 3)

    def decode() -> None:
        for path in sorted(tree.rglob("*.png"))[: COUNT // 4]:
            with PillowImage.open(path) as picture:
                picture.load()

    decoding = seconds(decode, 1) * 4
    report(
        f"survey {COUNT} pictures, first time, 2 threads", "reading and hashing", f"{first / yardstick:.1f}x time", "3x"
    )
    report("  the same", "decoding them with Pillow, 1 thread", f"{first / decoding:.2f}x time", "")
    report("  again, nothing changed", "reading and hashing", f"{again / yardstick:.2f}x time", "0.1x")
    benchmark.pedantic(lambda: finish(scan(tree, cache=cache)), rounds=1)


def test_editing_one_cut(benchmark):
    count = 10_000
    rng = np.random.default_rng(3)
    rows = tuple(
        TextureFacts(
            f"{i:05d}.png",
            1,
            1,
            str(i),
            "png",
            int(w),
            int(h),
            4,
            8,
            False,
            1,
            "",
            False,
            "x",
            False,
            False,
            False,
            {"zstd": 0.5},
        )
        for i, (w, h) in enumerate(1 << rng.integers(4, 13, (count, 2)))
    )
    inventory = Inventory(Path(), rows, (RoleGuess(Role.UNKNOWN, ""),) * count, (), count)
    shares, target = PackedShares(inventory), target_named("lounge")
    paths = tuple(row.path for row in rows)
    sides = iter([2048, 1024, 512, 256, 128, 64, 32] * 50)

    def edit() -> None:
        plan = resolve(inventory, target, (Cut(Cap(next(sides)), paths),), shares)
        for line in target.limit_bytes:
            plan.total(line)

    edit()
    took = seconds(edit, 20)
    report(
        f"edit a cut on {count} textures and total",
        platform.processor() or platform.machine(),
        f"{took * 1000:.1f} ms",
        "20 ms",
    )
    benchmark.pedantic(edit, rounds=5)


def test_forecast(demo, tmp_path, benchmark):
    """How far the estimated package is from what is really packed, over the demonstration."""
    job, cache = load_job(demo), SurveyCache(tmp_path / "survey.sqlite")
    inventory = finish(scan(root_of(job, demo), job.scan_settings, cache))
    told = finish(survey(inventory, targets_of(job), job.cuts, cache))
    for plan in told.plans:
        shipped = finish(ship(plan, tmp_path / plan.target.id))
        real = {s.line: s.value for s in shipped.standings}
        report(
            f"forecast of the package, {plan.target.name}",
            "the package shipped",
            f"{plan.total('package') / real['package']:.3f}x",
            "",
        )
    benchmark.pedantic(lambda: None, rounds=1)
