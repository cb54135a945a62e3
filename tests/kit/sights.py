"""Scenes whose demand is known: a wall with a texture, and cameras before it."""

import numpy as np

from oaktrim.core.files.gltfwriter import GltfWriter
from tests.kit.models import add_mesh, material, scene
from tests.kit.trees import put, write_model

WALL = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], np.float32)


def wall(
    root, name="wall.glb", texture="wall_base.png", side=256, half=4.0, lean=0.0, repeats=1.0, camera=None, edit=None
):
    """Write a square wall around the origin, `half` to each side, leaning back by degrees, with its texture."""
    if texture and not (root / texture).exists():
        random = np.random.default_rng(1)
        put(root, texture, random.integers(0, 256, (side, side, 3)).astype(np.uint8))
    writer = GltfWriter()
    paint = material(writer, "paint", baseColorTexture=writer.image(texture)) if texture else None
    angle = np.radians(lean)
    turn = np.array([[1, 0, 0], [0, np.cos(angle), np.sin(angle)], [0, -np.sin(angle), np.cos(angle)]])
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]]) * repeats
    mesh = add_mesh(writer, paint, uv, (WALL * half @ turn.T).astype(np.float32))
    nodes = [writer.add("nodes", name="wall", mesh=mesh)]
    if camera is not None:
        row = writer.add("cameras", type="perspective", perspective={"yfov": 0.8, "znear": 0.01})
        nodes.append(writer.add("nodes", name="eye", camera=row, translation=[0, 0, camera]))
    if edit is not None:
        edit(writer, nodes)
    scene(writer, *nodes)
    write_model(root, name, writer)
