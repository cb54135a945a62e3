"""A scene ready to be drawn: its triangles, its materials as tables of numbers, and its textures in one array."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from math import cos, sin

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.uvtransform import SAME_UV, UvTransform
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.render import shading
from oaktrim.core.render.drawlist import DrawList
from oaktrim.core.render.textures import TextureSet, hatched, mip_chain, texture_set
from oaktrim.core.scene.model import AlphaMode, Material, TextureUse, Wrap
from oaktrim.core.scene.slots import Slot

Chain = Sequence[NDArray[np.uint16]]
# In the order in which shading has them.
SLOTS = (Slot.BASE_COLOUR, Slot.METALLIC_ROUGHNESS, Slot.NORMAL, Slot.OCCLUSION, Slot.EMISSIVE)
COLOURS = (Slot.BASE_COLOUR, Slot.EMISSIVE)
_MODES = {AlphaMode.OPAQUE: shading.OPAQUE, AlphaMode.MASK: shading.MASK, AlphaMode.BLEND: shading.BLEND}


@dataclass(frozen=True, eq=False)
class BoundTexture:
    """A texture as a material reads it: its levels, the largest first, (H, W, 4) uint16 linear, and what lies beyond it.

    Parameters
    ----------
    where : of the UVs after the material's own transform
    """

    chain: Chain
    wrap: tuple[Wrap, Wrap] = (Wrap.REPEAT, Wrap.REPEAT)
    where: UvTransform = SAME_UV


# What a slot of a material reads: None where there is no texture to be read.
Binding = Callable[[int, Slot, TextureUse], BoundTexture | None]


@dataclass(frozen=True, eq=False)
class Drawable:
    """All that a picture is made of but the camera and the light.

    Parameters
    ----------
    numbers, choices : (K, ...) tables of the materials, see `shading`
    """

    draws: DrawList
    numbers: NDArray[np.float32]
    choices: NDArray[np.int32]
    textures: TextureSet

    @property
    def two_sided(self) -> NDArray[np.bool_]:
        """Which triangles show their backs."""
        materials = self.draws.materials
        both = self.choices[:, shading.BOTH] != 0 if len(self.choices) else np.zeros(1, np.bool_)
        # What has no material might be seen from anywhere.
        found: NDArray[np.bool_] = np.where(materials < 0, True, both[np.maximum(materials, 0)])
        return found


def drawable(draws: DrawList, materials: Sequence[Material], bind: Binding) -> Drawable:
    """Return a scene ready to be drawn.

    Parameters
    ----------
    materials : those that `draws.materials` counts
    bind : returns what each slot of a material reads; one that should have a texture and gets none is drawn hatched
    """
    numbers = np.zeros((max(1, len(materials)), shading.NUMBERS), np.float32)
    choices = np.zeros((max(1, len(materials)), shading.CHOICES), np.int32)
    chains: list[Chain] = []
    wraps: list[tuple[Wrap, Wrap]] = []
    places: dict[tuple[int, tuple[Wrap, Wrap]], int] = {}

    def place_of(bound: BoundTexture) -> int:
        key = (id(bound.chain), bound.wrap)
        if key not in places:
            places[key] = len(chains)
            chains.append(bound.chain)
            wraps.append(bound.wrap)
        return places[key]

    missing: BoundTexture | None = None
    for number, material in enumerate(materials):
        _fill_numbers(material, numbers[number], choices[number])
        for slot_place, slot in enumerate(SLOTS):
            use = next((use for use in material.uses if use.slot is slot), None)
            bound = bind(number, slot, use) if use is not None else None
            if use is not None and bound is None and slot is Slot.BASE_COLOUR:
                missing = missing or BoundTexture(hatched())
                bound = missing
            at = shading.TEXTURE + 2 * slot_place
            choices[number, at] = -1 if bound is None else place_of(bound)
            choices[number, at + 1] = min(1, use.uv_set) if use is not None else 0
            column = shading.MATRIX + 6 * slot_place
            numbers[number, column : column + 6] = _matrix(use, bound)
    return Drawable(draws, numbers, choices, texture_set(chains, wraps))


def _fill_numbers(material: Material, numbers: NDArray[np.float32], choices: NDArray[np.int32]) -> None:
    surface = material.surface
    numbers[shading.BASE : shading.BASE + 4] = surface.base_colour
    numbers[shading.METAL], numbers[shading.ROUGH] = surface.metallic, surface.roughness
    numbers[shading.GLOW : shading.GLOW + 3] = surface.emissive
    numbers[shading.BUMP], numbers[shading.SHADE] = surface.normal_scale, surface.occlusion_strength
    numbers[shading.CUTOFF] = surface.cutoff
    choices[shading.MODE] = _MODES[surface.alpha]
    choices[shading.BOTH], choices[shading.UNLIT] = surface.two_sided, surface.unlit


def _matrix(use: TextureUse | None, bound: BoundTexture | None) -> list[float]:
    """Return the rows of the matrix that UVs go through (KHR_texture_transform), and then the texture's own."""
    if use is None:
        return [1, 0, 0, 0, 1, 0]
    c, s = cos(use.rotation), sin(use.rotation)
    rows = np.array(
        [
            [c * use.scale[0], s * use.scale[1], use.offset[0]],
            [-s * use.scale[0], c * use.scale[1], use.offset[1]],
            [0, 0, 1],
        ]
    )
    if bound is not None:
        rows = bound.where.matrix() @ rows
    return [float(value) for value in rows[:2].reshape(-1)]


def chain_of(image: Image, slot: Slot) -> Chain:
    """Return the levels of a picture as a slot reads it: colours as sRGB, everything else as plain numbers."""
    plain = image if image.is_float else image.read_as(Transfer.SRGB if slot in COLOURS else Transfer.LINEAR)
    return mip_chain(plain)


def chain_of_levels(levels: Sequence[Image], slot: Slot) -> Chain:
    """Return levels that are there, as those that ship, as a slot reads them."""
    found: list[NDArray[np.uint16]] = []
    for level in levels:
        plain = level if level.is_float else level.read_as(Transfer.SRGB if slot in COLOURS else Transfer.LINEAR)
        found.append(mip_chain(plain)[0])
    return found


def surface_chain(maps: Mapping[Slot, Image], factors: tuple[float, float]) -> Chain:
    """Return roughness and metalness of their own as one texture, G and B; `factors` stand for one that is not there.

    Raises
    ------
    ValueError : there is neither
    """
    sizes = [image.size for image in maps.values()]
    if not sizes:
        raise ValueError("there is no map of roughness or metalness")
    width, height = max(sizes)
    out = np.full((height, width, 4), 255, np.uint8)
    for channel, slot, factor in ((1, Slot.ROUGHNESS, factors[0]), (2, Slot.METALNESS, factors[1])):
        image = maps.get(slot)
        if image is None:
            out[..., channel] = round(255 * min(1.0, max(0.0, factor)))
        else:
            codes = to_rgba(image)
            rows = np.arange(height) * codes.shape[0] // height
            columns = np.arange(width) * codes.shape[1] // width
            out[..., channel] = codes[rows[:, None], columns, 0]
    return mip_chain(Image.of(out, Transfer.LINEAR))
