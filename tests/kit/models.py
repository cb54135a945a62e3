"""Small models, made with the product's own writer."""

from __future__ import annotations

import numpy as np

from oaktrim.core.files.gltfwriter import GltfWriter

SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
SQUARE_UV = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
SQUARE_TRIANGLES = np.array([0, 1, 2, 0, 2, 3], np.uint16)


def add_mesh(writer: GltfWriter, material=None, uv=SQUARE_UV, points=SQUARE, triangles=SQUARE_TRIANGLES, name="square"):
    attributes = {
        "POSITION": writer.accessor(points, bounds=True, indices=False),
        "TEXCOORD_0": writer.accessor(np.asarray(uv, np.float32), indices=False),
    }
    primitive = {"attributes": attributes, "indices": writer.accessor(triangles, indices=True)}
    if material is not None:
        primitive["material"] = material
    return writer.add("meshes", name=name, primitives=[primitive])


def material(writer: GltfWriter, name="paint", **slots):
    """Add a material; slots by glTF's names, texture places as values."""
    inner = ("baseColorTexture", "metallicRoughnessTexture")
    pbr = {slot: {"index": texture} for slot, texture in slots.items() if slot in inner}
    outer = {slot: {"index": texture} for slot, texture in slots.items() if slot not in inner}
    return writer.add("materials", name=name, pbrMetallicRoughness=pbr, **outer)


def scene(writer: GltfWriter, *nodes, name="yard"):
    writer.json["scenes"] = [{"name": name, "nodes": list(nodes)}]
    writer.json["scene"] = 0


def rich_model() -> GltfWriter:
    """A model that uses every part of the format that is read."""
    writer = GltfWriter()
    image = writer.image("wood_base.png")
    held = writer.image("held", data=b"\x89PNG not really")
    paint = material(writer, baseColorTexture=image, normalTexture=held)
    writer.json["materials"][paint]["normalTexture"]["extensions"] = {
        "KHR_texture_transform": {"offset": [0.5, 0.25], "scale": [2, 2], "rotation": 0.5}
    }
    writer.json["materials"][paint]["extensions"] = {"ACME_paint": {"gloss": [1, 2]}}
    mesh = add_mesh(writer, paint)
    times = np.linspace(0, 2, 5, dtype=np.float32)
    turns = np.tile(np.array([0, 0, 0, 1], np.float32), (5, 1))
    child = writer.add("nodes", name="sail", mesh=mesh, translation=[0, 1, 0], rotation=[0, 0, 0, 1], scale=[1, 2, 1])
    root = writer.add("nodes", name="boat", children=[child], mesh=mesh, skin=0)
    writer.add("skins", joints=[child], inverseBindMatrices=writer.accessor(np.eye(4, dtype=np.float32).reshape(1, 16)))
    writer.add(
        "animations",
        name="sway",
        samplers=[{"input": writer.accessor(times, bounds=True), "output": writer.accessor(turns)}],
        channels=[{"sampler": 0, "target": {"node": child, "path": "rotation"}}],
    )
    writer.json["extensionsUsed"] = ["KHR_texture_transform", "ACME_paint"]
    scene(writer, root)
    return writer
