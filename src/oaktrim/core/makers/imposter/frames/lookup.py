"""Frames drawn: what the shader that ships does for each pixel, done by the processor, and lit as everything else is.

Of the three frames around the eye each is read where the ray of a pixel meets its surface: first the plane through the centre, then
as often as asked the depth that is found there (M. Oliveira, G. Bishop and D. McAllister, "Relief texture mapping", 2000), or
by a march through the depth with a thin shell (F. Policarpo, M. Oliveira and J. Comba, 2005). Frames whose depth does not agree
with where they were read weigh less.
"""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass
from math import log2, tan

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.imposter.frames.bake import FrameSheet
from oaktrim.core.makers.imposter.frames.kernel import draw_rows
from oaktrim.core.makers.imposter.frames.mapping import axes
from oaktrim.core.makers.imposter.settings import SheetMap, Steps
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import build_mip_chain, preserve_alpha_coverage
from oaktrim.core.pixels.resample import Filter, Resampling
from oaktrim.core.pixels.transfer import decode_table
from oaktrim.core.progress import Progress, Task, map_unordered, threads_here
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.picture import Picture, Settings, sample_offsets
from oaktrim.core.render.rasterize import ONE

Floats = NDArray[np.float64]
# Columns of a texel: base colour and alpha, normal, depth, occlusion, roughness and metalness, emission.
_BASE, _NORMAL, _DEPTH, _ORM, _GLOW, _WIDTH = 0, 4, 7, 8, 11, 14
_BAND = 8
_STEPS = {Steps.NONE: 0, Steps.ONE: 1, Steps.TWO: 2, Steps.MARCH: -1}


@dataclass(frozen=True, eq=False)
class FrameTexels:
    """The texels of frames on all levels.

    Parameters
    ----------
    codes : (N, 14) uint8, rows of texels level after level; starts : (L,) int64, the row at which each level begins
    sheet : that they are of
    """

    codes: NDArray[np.uint8]
    starts: NDArray[np.int64]
    sheet: FrameSheet


def frame_levels(sheet: FrameSheet, kind: SheetMap) -> list[Image]:
    """Return the levels of a map, down to frames of four texels: halved by boxes, so that no frame bleeds into another."""
    count = max(1, int(log2(sheet.side)) - 1)
    image = sheet.maps[kind]
    if kind in (SheetMap.NORMAL, SheetMap.ORM, SheetMap.DEPTH):
        image = image.read_as(Transfer.LINEAR)
    levels = build_mip_chain(image, count, Resampling(Filter.BOX))
    return preserve_alpha_coverage(levels, 128) if kind is SheetMap.BASE else levels


def texels_of(sheet: FrameSheet) -> FrameTexels:
    """Return the texels of all maps beside each other; what was not baked has the values of a rough surface that does not glow."""
    chains = {kind: frame_levels(sheet, kind) for kind in sheet.maps}
    parts, starts, total = [], [], 0
    for level, base in enumerate(chains[SheetMap.BASE]):
        texels = np.zeros((base.height, base.width, _WIDTH), np.uint8)
        texels[..., _ORM : _ORM + 2], texels[..., _NORMAL : _NORMAL + 3] = 255, 128
        columns = {
            SheetMap.BASE: _BASE, SheetMap.NORMAL: _NORMAL, SheetMap.DEPTH: _DEPTH, SheetMap.ORM: _ORM,
            SheetMap.EMISSIVE: _GLOW,
        }  # fmt: skip
        for kind, levels in chains.items():
            pixels = levels[level].pixels
            texels[..., columns[kind] : columns[kind] + pixels.shape[2]] = pixels
        starts.append(total)
        total += base.width * base.height
        parts.append(texels.reshape(-1, _WIDTH))
    return FrameTexels(np.concatenate(parts), np.array(starts, np.int64), sheet)


def level_for(sheet: FrameSheet, camera: Camera, lines: int) -> float:
    """Return the level of frames that a camera sees, on a picture of so many lines."""
    if camera.yfov > 0:
        away = float(np.linalg.norm(np.subtract(camera.eye, sheet.centre)))
        seen = 2 * tan(camera.yfov / 2) * max(away, 1e-9)
    else:
        seen = camera.height
    pixels = 2 * sheet.extent / seen * lines
    most = max(0, int(log2(sheet.side)) - 2)
    return float(min(most, max(0.0, log2(sheet.side / max(pixels, 1e-6)))))


def towards(sheet: FrameSheet, camera: Camera) -> Floats:
    """Return the direction from the centre to the eye."""
    if camera.yfov <= 0:
        return camera.axes()[2]
    way = np.subtract(camera.eye, sheet.centre)
    found: Floats = way / max(float(np.linalg.norm(way)), 1e-30)
    return found


def _rays(sheet: FrameSheet, camera: Camera, aspect: float) -> Floats:
    """Return the rays of a camera, (6, 3), from the centre in halves of a frame; see `draw_rows`."""
    right, up, back = camera.axes()
    eye = (np.array(camera.eye, np.float64) - sheet.centre) / sheet.extent
    shift = np.array(camera.shift)
    found = np.zeros((6, 3))
    if camera.yfov > 0:
        tall = tan(camera.yfov / 2)
        across, above = right * tall * aspect, up * tall
        found[0], found[3] = eye, -back + across * shift[0] + above * shift[1]
        found[4], found[5] = across, above
    else:
        across, above = right * camera.height / 2 * aspect / sheet.extent, up * camera.height / 2 / sheet.extent
        found[0], found[1], found[2] = eye + across * shift[0] + above * shift[1], across, above
        found[3] = -back
    return found


def draw_frames(
    texels: FrameTexels,
    camera: Camera,
    size: tuple[int, int],
    settings: Settings = Settings(),
    steps: Steps = Steps.TWO,
    nearest: bool = False,
    lit: bool = True,
) -> Task[Picture]:
    """Draw frames as the shader that ships does; see `render.picture.draw`.

    Parameters
    ----------
    nearest : only the frame that is nearest to the eye is read
    lit : by the settings' light; else the base colour
    """
    width, height = size
    sheet = texels.sheet
    cells, weights = sheet.grid.around(towards(sheet, camera))
    if nearest:
        weights = np.where(np.arange(3) == int(weights.argmax()), 1.0, 0.0)
    bases = np.zeros((3, 3, 3))
    for k, (column, row) in enumerate(cells.tolist()):
        direction = sheet.grid.direction(column, row)
        bases[k, 0], bases[k, 1] = axes(direction)
        bases[k, 2] = direction
    tables = np.stack([decode_table(Transfer.SRGB, 8), decode_table(Transfer.LINEAR, 8)]).astype(np.float64)
    lighting = settings.lighting
    rows, sky = lighting.rows(), lighting.hemispheres()
    colour, ids = np.zeros((height, width, 4), np.float32), np.full((height, width), -1, np.int32)
    offsets = sample_offsets(settings.samples) / ONE
    rays, lod = _rays(sheet, camera, width / height), level_for(sheet, camera, height)
    yield Progress(0, 1, "drawing")

    def work(top: int) -> None:
        draw_rows(
            top, min(height, top + _BAND), offsets, rays, cells, bases, weights, _STEPS[steps], texels.codes, texels.starts,
            tables, sheet.grid.columns, sheet.side, lod, lit, rows, sky, sheet.centre.astype(np.float64), sheet.extent, colour,
            ids,
        )  # fmt: skip

    with closing(map_unordered(work, range(0, height, _BAND), threads_here())) as done:  # type: ignore[type-var]
        for count, _ in enumerate(done, 1):
            yield Progress(count, -(-height // _BAND), "drawing")
    background = np.array(settings.background, np.float32)
    if background[3] > 0:
        colour += background * (1 - colour[..., 3:])
    return Picture(colour, ids, np.ones((0, 0)), np.zeros((0, 0, 3), np.float32), lighting.exposure)
