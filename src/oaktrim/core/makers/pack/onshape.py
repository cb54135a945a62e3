"""A pack on a sphere or on a plane, lit by the roughness, metalness and occlusion that it holds."""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum
from functools import cache

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.core.render.camera import Camera, framing
from oaktrim.core.render.drawable import BoundTexture, chain_of, drawable
from oaktrim.core.render.drawlist import DrawList, draw_list
from oaktrim.core.render.lighting import Lighting, Sun
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.model import Material, Mesh, Model, Node, Surface, TextureUse
from oaktrim.core.scene.shapes import plane, sphere
from oaktrim.core.scene.slots import Slot

Plane = NDArray[np.float32]
_COLOUR = (0.34, 0.285, 0.214, 1.0)
_LANES = ("occlusion", "roughness", "metalness")
_OTHERWISE = (1.0, 0.5, 0.0)


class Shape(Enum):
    """What is shaded."""

    SPHERE = "sphere"
    PLANE = "plane"


# On the plane the lamp stands behind it, where what is smooth mirrors it.
_LIGHTING = {Shape.SPHERE: Lighting(), Shape.PLANE: Lighting(suns=(Sun((-0.15, 0.75, -0.65)),))}


@cache
def _draws(shape: Shape) -> DrawList:
    mesh = Mesh(shape.value, (sphere() if shape is Shape.SPHERE else plane(),), 0)
    return draw_list(Model("made", "", (0,), (Node(shape.value, 0, ()),), (mesh,), (), ()))


def lit_picture(shape: Shape, maps: Mapping[str, Plane], side: int = 220) -> NDArray[np.uint8]:
    """Return a shape under a lamp as sRGB codes (side, side, 4), clear around it.

    Parameters
    ----------
    maps : occlusion, roughness and metalness, (H, W) 0..1, all of one size; one that is not there is 1, a half, and 0
    """
    height, width = next((values.shape for values in maps.values()), (1, 1))
    lanes = [
        maps.get(name, np.full((height, width), otherwise)) for name, otherwise in zip(_LANES, _OTHERWISE, strict=True)
    ]
    codes = np.rint(np.clip(np.stack(lanes, axis=2), 0, 1) * 255).astype(np.uint8)
    chain = chain_of(Image.of(codes, Transfer.LINEAR), Slot.METALLIC_ROUGHNESS)
    slots = (Slot.METALLIC_ROUGHNESS, Slot.OCCLUSION)
    surface = Surface(base_colour=_COLOUR, two_sided=shape is Shape.PLANE)
    material = Material(shape.value, tuple(TextureUse(slot, slot.value, 0) for slot in slots), "", surface=surface)
    scene = drawable(_draws(shape), (material,), lambda *_: BoundTexture(chain))
    settings = Settings(samples=4, lighting=_LIGHTING[shape])
    return finish(draw(scene, _camera(shape), (side, side), settings)).codes()


def _camera(shape: Shape) -> Camera:
    if shape is Shape.SPHERE:
        return Camera((0.0, 0.0, 4.0), (0.0, 0.0, 0.0), yfov=0.0, height=2.08)
    return framing(np.array([-1.0, 0, -1]), np.array([1.0, 0, 1]), (0.0, 1.0, 1.0))
