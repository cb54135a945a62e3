"""A small atlas of every kind of picture that there is, so that all kernels are compiled before anybody waits for them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.makers.atlas.making import Links, lay_out, made
from oaktrim.core.makers.atlas.opened import Pictures, gathered_of
from oaktrim.core.makers.atlas.settings import Atlas, Pin, Shrink
from oaktrim.core.makers.sourcemodel import open_model
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish

_PLACE = ReferenceFolder(Path("/"), "rehearsal.glb")


def rehearse() -> None:
    """Make an atlas of two materials, once moved by whole texels and once scaled, of 8 and of 16 bits."""
    for dtype in (np.uint8, np.uint16):
        pixels = np.zeros((32, 32, 4), dtype)
        pixels[8:24, 8:24] = np.iinfo(dtype).max // 2
        pictures = Pictures(lambda _, pixels=pixels: Image.of(pixels))  # type: ignore[misc]
        model = open_model(_PLACE.path, _model(), _PLACE)
        settings = Atlas("rehearsal", (model.path,), pins=(Pin(0, sheet=0),))
        for row in (settings, msgspec.structs.replace(settings, size=32, shrink=Shrink.FREE, pins=())):
            plan = finish(lay_out(gathered_of((model,), row, pictures.about), row))
            finish(made(plan, pictures, Links(lambda _, name, __: {"uri": name.path})))


def _model() -> bytes:
    """Return a model of two squares, one with all maps and an island over another."""
    writer = GltfWriter()
    for name in ("one", "two"):
        writer.image(name)
    maps = {"baseColorTexture": {"index": 0}, "metallicRoughnessTexture": {"index": 0}}
    rows: list[dict[str, Any]] = [
        {"pbrMetallicRoughness": maps, "normalTexture": {"index": 0}},
        {"pbrMetallicRoughness": {"baseColorTexture": {"index": 1}}},
    ]
    square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
    triangles = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)
    primitives = []
    for number, row in enumerate(rows):
        writer.add("materials", alphaMode="MASK", **row)
        points = np.concatenate([square, square + 2])
        primitives.append(
            {
                "attributes": {
                    "POSITION": writer.accessor(points, bounds=True, indices=False),
                    "TEXCOORD_0": writer.accessor(np.concatenate([square[:, :2]] * 2), indices=False),
                },
                "indices": writer.accessor(np.concatenate([triangles, triangles + 4]).reshape(-1, 1), indices=True),
                "material": number,
            }
        )
    writer.add("meshes", primitives=primitives)
    writer.add("nodes", mesh=0)
    writer.add("scenes", nodes=[0])
    writer.json["scene"] = 0
    return writer.glb()
