"""A surface as it would come out, for who decides: before and after, what is measured, and where it is looked at."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from functools import partial

import msgspec
import numpy as np

from oaktrim.core.makers.surface.cut import Cut
from oaktrim.core.makers.surface.measures import SurfaceMeasures, measures_of
from oaktrim.core.makers.surface.settings import Axes, Surface
from oaktrim.core.makers.surface.stack import MapOf, SurfaceMade, surface_of
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.pixels.resample import Filter, Resampling, resample
from oaktrim.core.progress import Progress, Task
from oaktrim.core.render.camera import Camera, framing
from oaktrim.core.render.drawable import BoundTexture, Drawable, chain_of, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.scene.model import Material, Mesh, Model, Node, TextureUse
from oaktrim.core.scene.model import Surface as Look
from oaktrim.core.scene.shapes import plane, post, sphere
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.drawables import TextureCache, load, ready
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role

# Larger pictures are looked at at this longest side.
SIDE = 1024


class Where(Enum):
    """What a surface is looked at on."""

    FIELD = "field"
    PLANE = "plane"
    POST = "post"
    SPHERE = "sphere"
    WORN = "worn"
    SHARED = "shared"


@dataclass(frozen=True, eq=False)
class SurfaceDraft:
    """A surface made at the size that it is looked at.

    Parameters
    ----------
    before, after : the source's picture; maps : all after, by path
    measured : of both
    """

    settings: Surface
    before: Image
    after: Image
    made: SurfaceMade
    measured: tuple[SurfaceMeasures, SurfaceMeasures]


def draft(found: Inventory, settings: Surface, max_pixels: int, side: int = SIDE) -> Task[SurfaceDraft]:
    """Make a surface without keeping it, at most so large.

    Raises
    ------
    OakTrimError : a picture cannot be read, or is too small
    """
    yield Progress(0, 2, "reading the pictures")
    sources = found.sources(max_pixels)

    def map_of(path: str) -> MapOf:
        image = sources.picture(path)
        row = found.row_of.get(path, -1)
        role = found.roles[row].role if row >= 0 else Role.BASE_COLOUR
        scale = min(1.0, side / max(image.size))
        if scale < 1:
            size = tuple(max(1, round(value * scale)) for value in image.size)
            image = resample(image, size[0], size[1], Resampling(Filter.BOX, normals=role is Role.NORMAL))
        return MapOf(path, image, role)

    source = map_of(settings.source)
    row = found.row_of.get(settings.source, -1)
    whole = max(found.textures[row].size) if row >= 0 else max(source.image.size)
    wanted = settings
    if settings.tile is not None:
        blend = round(settings.tile.blend * max(source.image.size) / whole)
        wanted = msgspec.structs.replace(settings, tile=msgspec.structs.replace(settings.tile, blend=blend))
    other = None if settings.match is None else map_of(settings.match.path).image
    made = yield from surface_of(source, [map_of(path) for path in settings.followers], wanted, other)
    yield Progress(1, 2, "measuring")
    after = made.images[settings.source]
    axes = Axes.BOTH if settings.tile is None else settings.tile.axes
    both = measures_of(source.image, source.transfer, axes), measures_of(after, source.transfer, axes)
    return SurfaceDraft(settings, source.image, after, made, both)


def with_cut_shown(image: Image, made: SurfaceMade) -> Image:
    """Return a picture with its cuts as thin lines."""
    codes = to_rgba(image).copy()
    for cut, turned in ((made.across, False), (made.down, True)):
        if cut is not None:
            _draw_cut(codes.transpose(1, 0, 2) if turned else codes, cut)
    return Image.of(codes)


def _draw_cut(codes: np.ndarray, cut: Cut) -> None:
    height, width = codes.shape[:2]
    # What is laid over each other lies at the beginning, in a picture that was brought back to its size.
    share = cut.share / (1 - cut.share)
    rows = np.interp(np.linspace(0, 1, height), np.linspace(0, 1, len(cut.path)), cut.path) * share * width
    thick = max(1, width // 256)
    for offset in range(-thick, thick + 1):
        columns = np.clip(np.round(rows).astype(int) + offset, 0, width - 1)
        codes[np.arange(height), columns] = (255, 255, 255, 255) if abs(offset) < thick else (20, 20, 20, 255)


def stage(
    now: SurfaceDraft, where: Where, tiles: int, show_cut: bool = False
) -> tuple[tuple[Drawable, Drawable], Camera]:
    """Return a shape with the picture before and after, so many tiles across, and the camera that sees it whole."""
    after = with_cut_shown(now.after, now.made) if show_cut else now.after
    shapes = {
        Where.PLANE: plane(2.0 * tiles), Where.POST: post(repeats=(float(max(1, tiles // 2)), float(tiles))),
        Where.SPHERE: sphere(repeats=2.0 * max(1, tiles // 2)),
    }  # fmt: skip
    mesh = Mesh("shape", (shapes.get(where, plane(float(tiles))),), 0)
    draws = draw_list(Model("made", "", (0,), (Node("shape", 0, ()),), (mesh,), (), ()))
    look = Look(unlit=where is Where.FIELD, two_sided=True, roughness=0.9, metallic=0.0)
    material = Material("surface", (TextureUse(Slot.BASE_COLOUR, "", 0),), "", surface=look)
    scenes = []
    for image in (now.before, after):
        chain = chain_of(image, Slot.BASE_COLOUR)
        scenes.append(drawable(draws, (material,), lambda *_, c=chain: BoundTexture(c)))
    if where is Where.FIELD:
        camera = Camera((0.0, 3.0, 0.0), (0.0, 0.0, 0.0), 0.0, 2.0, up=(0.0, 0.0, -1.0))
    elif where is Where.PLANE:
        camera = Camera((0.0, 0.55, 1.5), (0.0, 0.0, 0.1), 0.8)
    else:
        camera = framing(*draws.box(), (0.2, 0.15, 1.0))
    return (scenes[0], scenes[1]), camera


def worn(
    found: Inventory, path: str, images: Mapping[str, Image], place: int, cache: TextureCache, max_pixels: int
) -> Task[tuple[tuple[Drawable, Drawable], Camera]]:
    """Return a model that wears a texture, as it is and with pictures in the place of textures, and the camera that sees what does.

    Parameters
    ----------
    images : by path; place : of the model in the inventory

    Raises
    ------
    OakTrimError : the model cannot be read
    """
    sources = found.sources(max_pixels)
    loaded = yield from load(found, place, sources)
    before, _ = yield from ready(found, loaded, sources, cache, side=SIDE)
    instead = {found.row_of[name]: partial(chain_of, image) for name, image in images.items() if name in found.row_of}
    after, _ = yield from ready(found, loaded, sources, cache, instead, SIDE)
    mine = loaded.reading(found.row_of[path])
    camera = framing(*loaded.draws.box(mine if mine.any() else None), (0.35, 0.3, 1.0))
    return (before, after), camera
