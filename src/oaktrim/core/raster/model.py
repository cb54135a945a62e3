"""A model as it is seen from in front of one of its materials, under one lamp, with textures laid on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.image import Image, Transfer, to_rgba
from oaktrim.core.pixels.resample import Filter, Resampling, resample
from oaktrim.core.pixels.transfer import linear_to_srgb, srgb_to_linear
from oaktrim.core.raster.mesh import Points, Seen, see
from oaktrim.core.scene.model import Model

_ANGLE = 0.7
_FINER = 2
_BACK = 0.19
# Of the eye, in radiuses of what is looked at.
_FAR = 1.25 / np.tan(_ANGLE / 2)


@dataclass(frozen=True, eq=False)
class Skin:
    """A texture as a material wears it.

    Parameters
    ----------
    image : sRGB codes; where it has alpha, what lies behind shows through
    scale, offset : of the UVs, V from the top; clamped : its border goes on for ever, else it repeats
    """

    image: Image
    scale: tuple[float, float] = (1.0, 1.0)
    offset: tuple[float, float] = (0.0, 0.0)
    clamped: bool = False


@dataclass(frozen=True)
class _Soup:
    """All triangles of a model in its world, with the material of each."""

    points: Points
    uv: Points
    triangles: NDArray[np.int64]
    materials: NDArray[np.int64]


def _soup(model: Model) -> _Soup:
    points, uvs, triangles, materials = [], [], [], []
    count = 0
    for number, matrix in model.world_matrices().items():
        node = model.nodes[number]
        if node.mesh is None:
            continue
        for primitive in model.meshes[node.mesh].primitives:
            if not len(primitive.triangles):
                continue
            here = primitive.positions @ matrix[:3, :3].T + matrix[:3, 3]
            points.append(here.astype(np.float32))
            flat = np.zeros((len(here), 2), np.float32)
            uvs.append(primitive.uvs[0] if primitive.uvs else flat)
            triangles.append(primitive.triangles + count)
            worn = -1 if primitive.material is None else primitive.material
            materials.append(np.full(len(primitive.triangles), worn, np.int64))
            count += len(here)
    if not points:
        none = np.zeros((0, 3), np.float32)
        return _Soup(none, none[:, :2], np.zeros((0, 3), np.int64), np.zeros(0, np.int64))
    return _Soup(np.concatenate(points), np.concatenate(uvs), np.concatenate(triangles), np.concatenate(materials))


def _view(soup: _Soup, mine: NDArray[np.bool_], side: int) -> Points:
    """Return where all points stand on a picture taken from in front of some triangles."""
    corners = soup.points[soup.triangles[mine]]
    faces = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    way = faces.sum(axis=0)
    length = np.linalg.norm(way)
    # What faces every way is seen from the front and a little above.
    towards = way / length if length > 0.2 * np.linalg.norm(faces, axis=1).sum() else np.array([0.35, 0.3, 1.0])
    towards = towards + np.array([0.12, 0.1, 0])
    towards /= np.linalg.norm(towards)
    low, high = corners.reshape(-1, 3).min(axis=0), corners.reshape(-1, 3).max(axis=0)
    centre, radius = (low + high) / 2, float(np.linalg.norm(high - low)) / 2 or 1.0
    eye = centre + towards * radius * _FAR
    up = np.array([0.0, 1.0, 0.0]) if abs(towards[1]) < 0.95 else np.array([0.0, 0.0, -1.0])
    right = np.cross(up, towards)
    right /= np.linalg.norm(right)
    above = np.cross(towards, right)
    gone = soup.points - eye
    distance = -(gone @ towards)
    # What stands between the eye and the material is left out: it is the material that is looked at.
    ahead = distance > radius * (_FAR - 1.1)
    scale = side / 2 / np.tan(_ANGLE / 2)
    inverse = np.where(ahead, 1 / np.where(ahead, distance, 1), 0)
    x = side / 2 + gone @ right * inverse * scale
    y = side / 2 - gone @ above * inverse * scale
    return np.stack([x, y, inverse], axis=1).astype(np.float32)


def _read(skin: Skin, uv: Points, pixels: Points) -> Points:
    """Return light and alpha (..., 4) of a skin at UVs, bilinear."""
    height, width = pixels.shape[:2]
    place = uv * np.array(skin.scale, np.float32) + np.array(skin.offset, np.float32)
    x, y = place[..., 0] * width - 0.5, place[..., 1] * height - 0.5
    left, top = np.floor(x), np.floor(y)
    fx, fy = (x - left)[..., None], (y - top)[..., None]

    def at(across: NDArray[np.float32], down: NDArray[np.float32]) -> Points:
        if skin.clamped:
            i, j = np.clip(across, 0, width - 1), np.clip(down, 0, height - 1)
        else:
            i, j = across % width, down % height
        found: Points = pixels[j.astype(np.int64), i.astype(np.int64)]
        return found

    upper = at(left, top) * (1 - fx) + at(left + 1, top) * fx
    lower = at(left, top + 1) * (1 - fx) + at(left + 1, top + 1) * fx
    read: Points = upper * (1 - fy) + lower * fy
    return read


def _prepared(skin: Skin, uv_a_pixel: float) -> Points:
    """Return the light of a skin, premultiplied, at the level that suits how large it is seen."""
    image = skin.image
    texels = max(1.0, uv_a_pixel * max(skin.scale[0] * image.width, skin.scale[1] * image.height))
    if texels > 1.5:
        share = 1 / 2 ** np.floor(np.log2(texels))
        width, height = (max(1, round(length * share)) for length in image.size)
        image = resample(image.read_as(Transfer.SRGB), width, height, Resampling(Filter.BOX))
    codes = to_rgba(image, np.float32)
    light = srgb_to_linear(np.clip(codes[..., :3], 0, 1)).astype(np.float32)
    return np.concatenate([light * codes[..., 3:], codes[..., 3:]], axis=2)


def model_picture(
    model: Model, skins: Mapping[int, Skin], wanted: int, side: int = 240, over: frozenset[int] = frozenset()
) -> NDArray[np.uint8]:
    """Return a model seen from in front of one of its materials, as sRGB codes (side, side, 4).

    Parameters
    ----------
    skins : by material; one without is a light grey
    wanted : the material that is looked at
    over : materials that let what lies behind show through
    """
    soup, fine = _soup(model), side * _FINER
    mine = soup.materials == wanted
    if not mine.any():
        return np.zeros((side, side, 4), np.uint8)
    spots = _view(soup, mine, fine)
    clear = np.isin(soup.materials, list(over))
    light = np.full((fine, fine, 3), _BACK, np.float32)
    first = soup.triangles[~clear]
    seen = see(spots, first, (fine, fine))
    colour, _ = _shaded(soup, first, soup.materials[~clear], seen, skins, spots)
    light = np.where((seen.owner >= 0)[..., None], colour, light)
    if clear.any():
        upper = soup.triangles[clear]
        # What lies on a surface is a hair nearer than it, so that it is not lost in it.
        lifted = spots * np.array([1, 1, 1.0005], np.float32)
        above = see(lifted, upper, (fine, fine), seen.depth)
        colour, alpha = _shaded(soup, upper, soup.materials[clear], above, skins, spots)
        there = (above.owner >= 0)[..., None]
        light = np.where(there, colour + light * (1 - alpha), light)
    small = light.reshape(side, _FINER, side, _FINER, 3).mean(axis=(1, 3))
    out = np.full((side, side, 4), 255, np.uint8)
    out[..., :3] = linear_to_srgb(np.clip(small, 0, 1)) * 255 + 0.5
    return out


def _shaded(
    soup: _Soup,
    triangles: NDArray[np.int64],
    materials: NDArray[np.int64],
    seen: Seen,
    skins: Mapping[int, Skin],
    spots: Points,
) -> tuple[Points, Points]:
    """Return light, premultiplied, and alpha (H, W, 1) of what is seen."""
    shape = seen.owner.shape
    if not len(triangles):
        return np.zeros((*shape, 3), np.float32), np.zeros((*shape, 1), np.float32)
    corners = soup.points[triangles]
    faces = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    faces /= np.maximum(np.linalg.norm(faces, axis=1, keepdims=True), 1e-12)
    lamp = np.array([0.45, 0.75, 0.5]) / np.linalg.norm([0.45, 0.75, 0.5])
    shade = (0.35 + 0.65 * np.abs(faces @ lamp)).astype(np.float32)[np.maximum(seen.owner, 0)][..., None]
    uv = seen.blended(soup.uv, triangles)
    worn = np.where(seen.owner >= 0, materials[np.maximum(seen.owner, 0)], -2)
    light = np.full((*shape, 3), 0.5, np.float32)
    alpha = np.ones((*shape, 1), np.float32)
    for material, skin in skins.items():
        here = worn == material
        if here.any():
            read = _read(skin, uv[here], _prepared(skin, _uv_a_pixel(soup, triangles[materials == material], spots)))
            light[here], alpha[here] = read[:, :3], read[:, 3:]
    return light * shade, alpha


def _uv_a_pixel(soup: _Soup, triangles: NDArray[np.int64], spots: Points) -> float:
    """Return how far UVs go from pixel to pixel, the median over triangles."""
    uv, at = soup.uv[triangles], spots[triangles][..., :2]

    def area(corners: Points) -> Points:
        a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        found: Points = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
        return found

    pixels = area(at)
    shown = pixels > 0.5
    if not shown.any():
        return 0.0
    return float(np.sqrt(np.median(area(uv)[shown] / pixels[shown])))
