"""Frames baked: the thing drawn from each direction, all maps of one frame at the same place of their sheets."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import closing
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import binary_dilation, distance_transform_edt

from oaktrim.core.makers.imposter.frames.mapping import Grid, axes, grid_of
from oaktrim.core.makers.imposter.outline import outline
from oaktrim.core.makers.imposter.settings import Imposter, SheetMap
from oaktrim.core.makers.imposter.subject import Subject
from oaktrim.core.pixels.image import Image, held
from oaktrim.core.pixels.transfer import linear_to_srgb
from oaktrim.core.progress import Progress, Task, finish, map_unordered
from oaktrim.core.render.camera import Camera, Triple
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.picture import Picture, Settings, draw

Floats = NDArray[np.float64]
Codes = NDArray[np.uint8]
# Pixels of a texel along each side, and samples of each: with fewer, a source's own levels would eat what is thin.
_FINER, _SAMPLES = 2, 4
_CHANNELS = {SheetMap.BASE: 4, SheetMap.DEPTH: 1}
# Of the radius, that a frame is larger than the thing, so that its border stays clear.
_MARGIN = 0.04
# Of a side, that the outline stands off what frames show.
_BETWEEN = 24


@dataclass(frozen=True, eq=False)
class FrameSheet:
    """Maps of one size, by kind, and what their frames are.

    Parameters
    ----------
    side : of a frame, texels; extent : of half a frame, in the units of the thing
    centre : of all frames, (3,)
    outline : (K, 2) corners of the polygon that holds all frames, -1 to 1 to the right and up
    """

    maps: Mapping[SheetMap, Image]
    grid: Grid
    side: int
    centre: Floats
    extent: float
    outline: Floats
    # As a sheet of cards has them.
    cards: tuple[()] = ()

    def with_maps(self, maps: Mapping[SheetMap, Image]) -> FrameSheet:
        """Return it with other pictures of its maps."""
        return replace(self, maps={**self.maps, **maps})


def baked_frames(subject: Subject, settings: Imposter) -> Task[FrameSheet]:
    """Draw all frames of a thing."""
    grid, side = grid_of(settings), settings.frame_size
    extent = subject.radius * (1 + _MARGIN)
    kinds = settings.sheet_maps
    maps: dict[SheetMap, Codes] = {
        kind: np.zeros((grid.rows * side, grid.columns * side, _CHANNELS.get(kind, 3)), np.uint8) for kind in kinds
    }
    # Depth and normals come with the base colour.
    scenes: dict[SheetMap, Drawable] = {
        kind: subject.scene_of(kind) for kind in kinds if kind not in (SheetMap.DEPTH, SheetMap.NORMAL)
    }
    whole = np.zeros((side, side), np.bool_)

    def bake(number: int) -> dict[SheetMap, Codes]:
        direction = grid.direction(number % grid.columns, number // grid.columns)
        return _bake_one(scenes, _camera(subject, direction, extent), side, kinds)

    with closing(map_unordered(bake, range(grid.count))) as done:  # type: ignore[type-var]
        for count, (number, frame) in enumerate(done):
            yield Progress(count, grid.count, "baking frames")
            row, column = divmod(number, grid.columns)
            area = slice(row * side, (row + 1) * side), slice(column * side, (column + 1) * side)
            for kind, codes in frame.items():
                maps[kind][area] = codes
            whole |= frame[SheetMap.BASE][..., 3] > 0
    # Between two frames a corner may stand out a little beyond both.
    whole = binary_dilation(whole, iterations=max(1, side // _BETWEEN))
    corners = (
        outline(whole, settings.outline or 4) if whole.any() else np.array([[0, 0], [side, 0], [side, side], [0, side]])
    )
    shape = np.stack([corners[:, 0] / side * 2 - 1, 1 - corners[:, 1] / side * 2], axis=1)
    images = {kind: Image.of(held(pixels)) for kind, pixels in maps.items()}
    return FrameSheet(images, grid, side, subject.centre, extent, shape)


def _camera(subject: Subject, direction: Floats, extent: float) -> Camera:
    _, up = axes(direction)
    pad = max(extent * 1e-3, 1e-12)
    eye = subject.centre + direction * (extent + pad)
    return Camera(_triple(eye), _triple(subject.centre), 0.0, 2 * extent, pad, pad + 2 * extent, _triple(up))


def _bake_one(
    scenes: Mapping[SheetMap, Drawable], camera: Camera, side: int, kinds: tuple[SheetMap, ...]
) -> dict[SheetMap, Codes]:
    """Return all maps of one frame, with what is clear filled from the nearest texel that is not."""
    how, large = Settings(_SAMPLES, buffers=("ids", "depth", "normals")), (side * _FINER, side * _FINER)
    base = finish(draw(scenes[SheetMap.BASE], camera, large, how, threads=1))
    cover = _mean(np.clip(base.colour[..., 3], 0, 1))
    solid = (base.ids >= 0).astype(np.float32)
    found: dict[SheetMap, Codes] = {SheetMap.BASE: np.zeros((side, side, 4), np.uint8)}
    found[SheetMap.BASE][..., :3] = _colours(base, linear_to_srgb)
    for kind in kinds:
        if kind is SheetMap.DEPTH:
            # 1 at the extent towards the eye, 0 as far behind the centre.
            found[kind] = np.rint((1 - _middling(base.depth, solid)) * 255).astype(np.uint8)[..., None]
        elif kind is SheetMap.NORMAL:
            mean = _weighed(base.normals, solid)
            mean = mean / np.maximum(np.linalg.norm(mean, axis=-1, keepdims=True), 1e-6)
            found[kind] = np.rint((mean + 1) / 2 * 255).astype(np.uint8)
        elif kind is not SheetMap.BASE:
            picture = finish(draw(scenes[kind], camera, large, Settings(1, buffers=("ids",)), threads=1))
            found[kind] = _colours(picture, linear_to_srgb if kind is SheetMap.EMISSIVE else lambda light: light)
    here = {True: _mean(solid) > 0, False: cover > 0}
    for of_solid, known in here.items():
        if known.any() and not known.all():
            rows, columns = distance_transform_edt(~known, return_distances=False, return_indices=True)
            for kind in found:
                if (kind in (SheetMap.DEPTH, SheetMap.NORMAL)) == of_solid:
                    found[kind] = found[kind][rows, columns]
    found[SheetMap.BASE][..., 3] = np.rint(cover * 255)
    return found


def _mean(values: NDArray[np.floating]) -> NDArray[np.floating]:
    """Return the means of squares of samples, (H, W, ...) from (FINER H, FINER W, ...)."""
    height, width = values.shape[0] // _FINER, values.shape[1] // _FINER
    found: NDArray[np.floating] = values.reshape(height, _FINER, width, _FINER, *values.shape[2:]).mean(axis=(1, 3))
    return found


def _weighed(values: NDArray[np.floating], weights: NDArray[np.floating]) -> NDArray[np.floating]:
    """Return the means of samples (H, W, C), each with a weight (H, W)."""
    found: NDArray[np.floating] = _mean(values * weights[..., None]) / np.maximum(_mean(weights)[..., None], 1e-6)
    return found


def _middling(depth: Floats, solid: NDArray[np.float32]) -> Floats:
    """Return the median depth of what is there of each texel, the nearer of two: between two surfaces lies none."""
    height, width = depth.shape[0] // _FINER, depth.shape[1] // _FINER
    rows = np.where(solid > 0, depth, np.inf).reshape(height, _FINER, width, _FINER)
    rows = np.sort(rows.transpose(0, 2, 1, 3).reshape(height, width, -1), axis=-1)
    place = np.maximum(np.isfinite(rows).sum(axis=-1) - 1, 0) // 2
    found: Floats = np.take_along_axis(rows, place[..., None], axis=-1)[..., 0]
    return np.where(np.isfinite(found), found, 1.0)


def _colours(picture: Picture, curve: Callable[[NDArray[np.float32]], NDArray[np.float32]]) -> Codes:
    """Return what a picture shows as codes, straight."""
    cover = _mean(np.clip(picture.colour[..., 3:], 0, 1))
    light = _mean(picture.colour[..., :3]) / np.maximum(cover, 1e-6)
    codes: Codes = np.rint(curve(np.clip(light, 0, 1).astype(np.float32)) * 255).astype(np.uint8)
    return codes


def _triple(values: Floats) -> Triple:
    a, b, c = (float(v) for v in values)
    return a, b, c
