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


def whole_model() -> GltfWriter:
    """A model with all that a renderer reads and a survey does not."""
    writer = rich_model()
    square = writer.json["meshes"][0]["primitives"][0]
    up = np.tile(np.array([0, 0, 1], np.float32), (4, 1))
    square["attributes"] |= {
        "NORMAL": writer.accessor(up, indices=False),
        "TANGENT": writer.accessor(np.tile(np.array([1, 0, 0, 1], np.float32), (4, 1)), indices=False),
        "COLOR_0": writer.accessor(np.array([[255, 0, 0, 255]] * 4, np.uint8), indices=False),
        "JOINTS_0": writer.accessor(np.zeros((4, 4), np.uint8), indices=False),
        "WEIGHTS_0": writer.accessor(np.array([[65535, 0, 0, 0]] * 4, np.uint16), indices=False),
    }
    for name in ("COLOR_0", "WEIGHTS_0"):
        writer.json["accessors"][square["attributes"][name]]["normalized"] = True
    # Positions in whole steps, as KHR_mesh_quantization has them.
    steps = (SQUARE * 127).astype(np.int8)
    padded = np.concatenate([steps, np.zeros((4, 1), np.int8)], axis=1)
    place = writer.accessor(padded, indices=False)
    writer.json["accessors"][place] |= {"type": "VEC3", "normalized": True, "min": [0, 0, 0], "max": [1, 1, 0]}
    writer.json["bufferViews"][-1]["byteStride"] = 4
    small = {"attributes": {"POSITION": place}, "indices": writer.accessor(SQUARE_TRIANGLES, indices=True)}
    pebble = writer.add("meshes", name="pebble", primitives=[small])
    glass = writer.add(
        "materials", name="glass", alphaMode="MASK", alphaCutoff=0.25, doubleSided=True, emissiveFactor=[0.5, 0, 0],
        pbrMetallicRoughness={"baseColorFactor": [0.1, 0.2, 0.3, 0.4], "metallicFactor": 0.5, "roughnessFactor": 0.25},
        extensions={"KHR_materials_emissive_strength": {"emissiveStrength": 4}, "KHR_materials_unlit": {}},
    )  # fmt: skip
    small["material"] = glass
    moves = np.array([[0, 0, 0], [2, 0, 0], [4, 0, 0]], np.float32)
    far = writer.add("nodes", name="pebbles far", mesh=pebble)
    near = writer.add("nodes", name="pebbles", mesh=pebble, extras={"MSFT_screencoverage": [0.5, 0.1]})
    writer.json["nodes"][near]["extensions"] = {
        "EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": writer.accessor(moves)}},
        "MSFT_lod": {"ids": [far]},
    }
    writer.json["extensions"] = {
        "KHR_lights_punctual": {"lights": [{"type": "point", "intensity": 20, "color": [1, 0.5, 0]}]}
    }
    lamp = writer.add("nodes", name="lamp", translation=[0, 5, 0], extensions={"KHR_lights_punctual": {"light": 0}})
    camera = writer.add("cameras", type="perspective", perspective={"yfov": 0.8, "znear": 0.1, "aspectRatio": 1.5})
    eye = writer.add("nodes", name="eye", camera=camera, translation=[0, 0, 10])
    writer.json["scenes"][0]["nodes"] += [near, lamp, eye]
    writer.json["extensionsUsed"] += [
        "EXT_mesh_gpu_instancing", "MSFT_lod", "KHR_lights_punctual", "KHR_materials_unlit", "KHR_mesh_quantization",
        "KHR_materials_emissive_strength",
    ]  # fmt: skip
    return writer
