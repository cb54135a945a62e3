"""Scenes made up for the renderer: cards, triangles at random, and what they are drawn as."""

import numpy as np

from oaktrim.core.progress import finish
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import BoundTexture, Drawable, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.lighting import FURNACE
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.model import Material, Mesh, Model, Node, Primitive, Surface, TextureUse, Wrap
from oaktrim.core.scene.slots import Slot

UNLIT = Surface(unlit=True)


def card(z=0.0, material=0, half=1.0):
    """A square that faces the viewer; V from its top."""
    points = np.array([[-half, -half, z], [half, -half, z], [half, half, z], [-half, half, z]], np.float32)
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
    return Primitive(points, (uv,), np.array([[0, 1, 2], [0, 2, 3]]), material, 2)


def triangles(points, uvs=None, material=0):
    """Triangles (M, 3, 3) with UVs (M, 3, 2)."""
    corners = np.asarray(points, np.float32).reshape(-1, 3)
    flat = np.zeros((len(corners), 2), np.float32) if uvs is None else np.asarray(uvs, np.float32).reshape(-1, 2)
    return Primitive(corners, (flat,), np.arange(len(corners)).reshape(-1, 3), material, len(corners) // 3)


def material(name="paint", surface=UNLIT, *slots):
    return Material(name, tuple(TextureUse(slot, slot.value, 0) for slot in slots), "", surface=surface)


def model_of(primitives, materials=(material(),), matrix=None, nodes=None):
    place = Node("thing", 0, (), np.eye(4) if matrix is None else matrix)
    return Model("gltf", "s", (0,), nodes or (place,), (Mesh("m", tuple(primitives), 0),), tuple(materials), ())


def scene_of(primitives, materials=(material(),), textures=None, wrap=Wrap.REPEAT, matrix=None) -> Drawable:
    """A scene whose materials read textures by (material, slot)."""
    model = model_of(primitives, materials, matrix)

    def bind(number: int, slot: Slot, _: TextureUse) -> BoundTexture | None:
        chain = (textures or {}).get((number, slot))
        return None if chain is None else BoundTexture(chain, (wrap, wrap))

    return drawable(draw_list(model), model.materials, bind)


def drawn(scene, camera=Camera((0.0, 0.0, 3.0), (0.0, 0.0, 0.0)), size=(64, 64), threads=None, **settings):
    settings.setdefault("lighting", FURNACE)
    settings.setdefault("buffers", ("ids", "depth", "normals"))
    return finish(draw(scene, camera, size, Settings(**settings), threads))
