"""Sightlines against their reach: what 16 views of a large scene take."""

from __future__ import annotations

import time
from math import cos, pi, sin
from pathlib import Path

import numpy as np
import pytest
from tests.kit.models import add_mesh, material, scene
from tests.kit.pictures import noise
from tests.kit.trees import put, surveyed, write_model

from benchmarks.conftest import report
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.progress import finish
from oaktrim.core.scene.shapes import sphere
from oaktrim.core.sight.demand import demand_of
from oaktrim.core.sight.sightlines import Sightlines, Station
from oaktrim.core.targets.target import target_named

_BALLS, _TEXTURES, _VIEWS = 84, 60, 16


def balls(root: Path) -> None:
    """84 balls of 2,400 triangles, that share 60 textures of 512²."""
    writer, ball = GltfWriter(), sphere(50, 25)
    paints = []
    for number in range(_TEXTURES):
        put(root, f"{number}.png", noise(512, 512, 3, seed=number).pixels)
        paints.append(material(writer, f"paint {number}", baseColorTexture=writer.image(f"{number}.png")))
    nodes = []
    for number in range(_BALLS):
        mesh = add_mesh(
            writer,
            paints[number % _TEXTURES],
            ball.uvs[0],
            ball.positions,
            ball.triangles.astype(np.uint32).reshape(-1),
        )
        place = [2.5 * (number % 10), 0.0, 2.5 * (number // 10)]
        nodes.append(writer.add("nodes", name=f"ball {number}", mesh=mesh, translation=place))
    scene(writer, *nodes)
    write_model(root, "balls.glb", writer)


def test_sixteen_views(benchmark: pytest.FixtureRequest, tmp_path: Path) -> None:
    balls(tmp_path)
    inventory = surveyed(tmp_path)
    stations = tuple(
        Station(
            f"view {n}",
            (11 + 16 * cos(2 * pi * n / _VIEWS), 1.7, 10 + 16 * sin(2 * pi * n / _VIEWS)),
            (11.0, 0.0, 10.0),
            screen=(1920, 1080),
            scene="balls.glb",
        )
        for n in range(_VIEWS)
    )
    start = time.perf_counter()
    found = finish(
        demand_of(inventory, target_named("lounge"), Sightlines(stations), lambda _: np.zeros(_TEXTURES, bool))
    )
    took = time.perf_counter() - start
    triangles = sum(row.triangles for row in inventory.models[0].objects)
    assert found.seen.all()
    report(f"sightlines: {_VIEWS} views of {triangles:,} triangles, {_TEXTURES} textures", "", f"{took:.1f} s", "12 s")
    benchmark.pedantic(lambda: None, rounds=1)
