"""Imposters against their reach: how long a cloud takes, and what it shows."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import pytest
from tests.core.makers.test_imposter import make, model_of
from tests.kit.atlases import Coat
from tests.kit.pictures import busy

from benchmarks.conftest import report
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.settings import Family
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.core.proof.imposteradvice import variants
from oaktrim.core.proof.imposterlikeness import likeness, stand_in


def tree(root: Path, leaves: int = 10_000) -> str:
    """A tree of leaf cards, two triangles each, around a trunk."""
    rng = np.random.default_rng(5)
    made = Coat()
    pixels = busy(64, 64, 4, seed=1).pixels.copy()
    y, x = np.mgrid[0:64, 0:64]
    pixels[..., 3] = np.where((x - 32) ** 2 / 200 + (y - 32) ** 2 / 900 < 1, 255, 0)
    picture = made.picture(root, "leaf.png", Image.of(pixels))
    leaf = made.paint("leaf", extra={"alphaMode": "MASK", "doubleSided": True}, baseColorTexture=picture)
    turn = rng.uniform(0, 2 * np.pi, leaves)
    height = rng.uniform(1, 5, leaves)
    out = np.sqrt(rng.uniform(0, 1, leaves)) * (2.2 - 0.35 * height)
    middle = np.stack([out * np.cos(turn), height, out * np.sin(turn)], axis=1)
    right = rng.normal(0, 1, (leaves, 3))
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    up = np.cross(right, rng.normal(0, 1, (leaves, 3)))
    up /= np.linalg.norm(up, axis=1, keepdims=True)
    corners = [middle + 0.12 * (a * right + b * up) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
    points = np.stack(corners, axis=1).reshape(-1, 3).astype(np.float32)
    uv = np.tile(np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32), (leaves, 1))
    triangles = (np.array([[0, 1, 2], [0, 2, 3]]) + 4 * np.arange(leaves)[:, None, None]).reshape(-1).astype(np.uint32)
    made.add(leaf, points, uv, triangles)
    made.save(root / "tree.glb")
    return "tree.glb"


@pytest.mark.parametrize("cards", [12, 32, 50])
def test_a_cloud_of_a_tree(benchmark: pytest.FixtureRequest, tmp_path: Path, cards: int) -> None:
    name = tree(tmp_path)
    start = time.perf_counter()
    made = make(tmp_path, name, family=Family.CLOUD, cards=cards, size=1024)
    took = time.perf_counter() - start
    (row,) = finish(likeness(made.subject, stand_in(made, model_of(made, tmp_path)[1]), (128,))).rows
    report(
        f"a cloud of {cards} cards of a leafy tree of 20,000 triangles", "", f"{took:.1f} s, overlap {row.overlap:.3f} at 128 px",
        f"10 s; the tree itself half a pixel off {row.ceiling:.3f}",
    )  # fmt: skip
    benchmark.pedantic(lambda: None, rounds=1)


@pytest.mark.parametrize(("family", "frames"), [(Family.DOME, 12), (Family.RING, 16)])
def test_frames_of_a_tree(benchmark: pytest.FixtureRequest, tmp_path: Path, family: Family, frames: int) -> None:
    name = tree(tmp_path)
    start = time.perf_counter()
    made = make(tmp_path, name, family=family, frames=frames, frame_size=128, outline=8)
    took = time.perf_counter() - start
    assert isinstance(made, FramesMade)
    ways = finish(variants(made, stand_in(made, model_of(made, tmp_path)[1])))
    words = ", ".join(f"{way.frames} at {way.steps.value}: {way.likeness.overlap:.3f}" for way in ways)
    report(
        f"{family.value} of {frames} of a leafy tree of 20,000 triangles, overlap at 128 px by frames and depth steps", "",
        f"{took:.1f} s; {words}", f"10 s; .89 for the dome; itself half a pixel off {ways[0].likeness.ceiling:.3f}",
    )  # fmt: skip
    benchmark.pedantic(lambda: None, rounds=1)
