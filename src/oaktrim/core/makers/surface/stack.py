"""The steps of a surface done after another: light flattened, contrast calmed or matched, and the picture made to repeat."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.makers.surface.cut import Cut, best_cut, joined
from oaktrim.core.makers.surface.light import Shading, gain_of, shading_of
from oaktrim.core.makers.surface.settings import Stroke, Surface, Tile
from oaktrim.core.makers.surface.tone import Change, calmed, matched, tone_of
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import Edge, Resampling, from_light, resample_linear
from oaktrim.core.pixels.transfer import decode_table, srgb_to_linear
from oaktrim.core.progress import Progress, Task, each_chunk
from oaktrim.core.survey.roles import Role

Floats = NDArray[np.float32]
Flags = NDArray[np.bool_]
_BAND = 64
_SMALLEST = 16


@dataclass(frozen=True, eq=False)
class MapOf:
    """A map of a material: its path, its picture, and what it is used as."""

    path: str
    image: Image
    role: Role

    @property
    def transfer(self) -> Transfer:
        """How its codes stand for what is mixed: vectors and values as they are."""
        return Transfer.LINEAR if self.role is Role.NORMAL else self.role.transfer


@dataclass(frozen=True, eq=False)
class SurfaceMade:
    """What comes of a surface.

    Parameters
    ----------
    images : by the paths of the maps
    shading : that was found in the source, whether it is taken out or not
    clipped : share of the source's texels whose light went over or under what it holds, which are left alone
    across, down : the cuts, where there are any
    """

    images: Mapping[str, Image]
    shading: Shading
    clipped: float
    across: Cut | None
    down: Cut | None


def light_of(image: Image) -> Floats:
    """Return the light of a picture (H, W, C), alpha as it is; negative light and what is no number as 0."""
    alpha = len(image.channels) - 1 if image.has_alpha else len(image.channels)
    if image.is_float:
        light = np.maximum(np.nan_to_num(image.pixels.astype(np.float32), posinf=65504.0), 0)
        if image.transfer is Transfer.SRGB:
            light[..., :alpha] = srgb_to_linear(light[..., :alpha])
        return light
    table = decode_table(image.transfer, image.bit_depth)
    light = table[image.pixels]
    if image.has_alpha:
        light[..., alpha] = decode_table(Transfer.LINEAR, image.bit_depth)[image.pixels[..., alpha]]
    return light


def surface_of(
    source: MapOf, followers: Sequence[MapOf], settings: Surface, other: Image | None = None
) -> Task[SurfaceMade]:
    """Make a surface.

    Parameters
    ----------
    other : the picture that is matched, of the same role as the source

    Raises
    ------
    Unsupported : the source is too small to be cut
    """
    image = source.image.read_as(source.transfer)
    yield Progress(0, 3, "reading the light")
    light = light_of(image)
    seen = light[..., -1] > 0 if image.has_alpha else None
    radius = settings.flatten.radius if settings.flatten is not None else 0.18
    shading = shading_of(light, seen, radius)
    clipped = _clipped(image)
    if settings.flatten is not None:
        gain = gain_of(shading, settings.flatten, image.size)
        gain[clipped] = 1
        _scaled(light, gain, seen, image)
    yield Progress(1, 3, "bringing contrast and colour together")
    change = _change(light, seen, settings, other, source)
    if not change.is_nothing:
        _changed(light, change, seen, image)
    tile = settings.tile
    if tile is None:
        images = {source.path: from_light(light, image).read_as(source.image.transfer)}
        images |= {row.path: row.image for row in followers}
        return SurfaceMade(images, shading, float(clipped.mean()), None, None)
    yield Progress(2, 3, "finding the cut")
    if min(image.size) < _SMALLEST:
        raise Unsupported(
            f"{source.path}: {image.width}x{image.height} is too small to be cut; {_SMALLEST} is the least"
        )
    light, across, down = _tiled(light, tile)
    images = {source.path: _at_size(light, image, image.size, source)}
    for place, row in enumerate(followers):
        yield Progress(2 + place, 3 + len(followers), f"the same cut through {row.path}")
        images[row.path] = _follow(row, tile, across, down, source.image.size)
    return SurfaceMade(images, shading, float(clipped.mean()), across, down)


def _clipped(image: Image) -> Flags:
    """Say which texels hold no light that can be told: at the end of the range in some channel, or black in all."""
    colours = image.pixels[..., : len(image.channels) - int(image.has_alpha)]
    if image.is_float:
        return np.zeros(colours.shape[:2], np.bool_)
    most = np.iinfo(colours.dtype).max
    found: Flags = (colours == most).any(axis=-1) | (colours == 0).all(axis=-1)
    return found


def _scaled(light: Floats, gain: Floats, seen: Flags | None, image: Image) -> None:
    """Multiply colours by factors, all channels of a texel by the same, which keeps hue and saturation."""
    colours = light[..., : light.shape[2] - int(image.has_alpha)]
    if not image.is_float:
        np.minimum(gain, 1 / np.maximum(colours.max(axis=-1), 1e-6), out=gain, where=gain > 1)
    if seen is not None:
        gain = np.where(seen, gain, np.float32(1))
    colours *= gain[..., None]


def _change(light: Floats, seen: Flags | None, settings: Surface, other: Image | None, source: MapOf) -> Change:
    tone = tone_of(light[..., : light.shape[2] - int(source.image.has_alpha)], seen)
    change = Change()
    if settings.match is not None and other is not None:
        there = light_of(other.read_as(source.transfer))
        shown = there[..., -1] > 0 if other.has_alpha else None
        change = matched(
            tone, tone_of(there[..., : there.shape[2] - int(other.has_alpha)], shown), settings.match.strength
        )
    if settings.calm is not None:
        scale, shift = change.scale[0], change.shift[0]
        low, middle, high = (value * scale + shift for value in (tone.low, tone.middle, tone.high))
        now = type(tone)(tone.mean, tone.deviation, low, middle, high)
        change = change.then(calmed(now, settings.calm))
    return change


def _changed(light: Floats, change: Change, seen: Flags | None, image: Image) -> None:
    count = light.shape[2] - int(image.has_alpha)

    def band(start: int, stop: int) -> None:
        part = light[start:stop, :, :count]
        colour = part if count == len("RGB") else np.repeat(part, 3, axis=2)
        found = change.apply(colour)
        if not image.is_float:
            np.clip(found, 0, 1, out=found)
        else:
            np.maximum(found, 0, out=found)
        if count != len("RGB"):
            found = found.mean(axis=-1, keepdims=True)
        if seen is None:
            light[start:stop, :, :count] = found
        else:
            light[start:stop, :, :count] = np.where(seen[start:stop, :, None], found, part)

    each_chunk(band, light.shape[0], _BAND)


def _tiled(light: Floats, tile: Tile) -> tuple[Floats, Cut | None, Cut | None]:
    """Return a picture joined at its ends, along one axis or both, and the cuts."""
    across = down = None
    if tile.axes.across:
        across = best_cut(light, tile, False, tile.keep, tile.across)
        light = joined(light, across, tile.blend)
    if tile.axes.down:
        turned = light.transpose(1, 0, 2)
        down = best_cut(turned, tile, tile.axes.across, _turned(tile.keep), tile.down)
        light = joined(turned, down, tile.blend).transpose(1, 0, 2)
    return light, across, down


def _turned(strokes: Sequence[Stroke]) -> tuple[Stroke, ...]:
    return tuple(Stroke(stroke.y, stroke.x, stroke.radius) for stroke in strokes)


def _follow(row: MapOf, tile: Tile, across: Cut | None, down: Cut | None, size: tuple[int, int]) -> Image:
    """Return another map joined along the same cuts; vectors are mixed as vectors."""
    image = row.image.read_as(row.transfer)
    values = light_of(image)
    normals = row.role is Role.NORMAL and len(image.channels) >= len("RGB")
    if normals:
        values[..., :3] = values[..., :3] * 2 - 1
    scale = max(image.size) / max(size)
    if across is not None:
        values = joined(values, across, tile.blend * scale)
    if down is not None:
        values = joined(values.transpose(1, 0, 2), down, tile.blend * scale).transpose(1, 0, 2)
    if normals:
        vectors = values[..., :3]
        vectors /= np.maximum(np.linalg.norm(vectors, axis=-1, keepdims=True), 1e-6)
        values[..., :3] = vectors * 0.5 + 0.5
    return _at_size(values, image, image.size, row, normals)


def _at_size(light: Floats, like: Image, size: tuple[int, int], row: MapOf, normals: bool = False) -> Image:
    """Return light that repeats as a picture of a size, in the kind of codes that it came in."""
    if (light.shape[1], light.shape[0]) != size:
        held = Image(light, like.channels, Transfer.LINEAR)
        how = Resampling(edge=Edge.WRAP, normals=normals)
        light = resample_linear(held, *size, how)
        if not like.is_float:
            np.clip(light, 0, 1, out=light)
    return from_light(light, like, normals).read_as(row.image.transfer)
