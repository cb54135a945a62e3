"""Pictures of scenes: tiles over threads, quickly small and then whole, the same bytes however many threads there are."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.transfer import linear_to_srgb
from oaktrim.core.progress import Progress, Task, map_unordered, threads_here
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.lighting import Lighting, toned
from oaktrim.core.render.rasterize import ONE, Projected, project
from oaktrim.core.render.shading import footprints_of_tiles, shade_tiles

_COUNTS = (1, 2, 4, 8, 16)
_QUICK = 4


@dataclass(frozen=True)
class Settings:
    """How a picture is drawn.

    Parameters
    ----------
    samples : a pixel, one of 1, 2, 4, 8 and 16
    anisotropy : probes that a texture read may take along its footprint; 1 for trilinear
    background : premultiplied linear light and alpha behind everything
    buffers : what is wanted beside colour: "ids", "depth", "normals"
    """

    samples: int = 1
    anisotropy: int = 8
    background: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    buffers: tuple[str, ...] = ()
    lighting: Lighting = field(default_factory=Lighting)

    def __post_init__(self) -> None:
        if self.samples not in _COUNTS:
            raise ValueError(f"samples a pixel are one of {', '.join(map(str, _COUNTS))}, not {self.samples}")


@dataclass(frozen=True, eq=False)
class Picture:
    """What was drawn.

    Parameters
    ----------
    colour : (H, W, 4) float32, premultiplied linear light and alpha
    ids : (H, W) int32, triangles of the draw list, -1 for none; depth : (H, W) float64, 0 near to 1 far, 1 for none
    normals : (H, W, 3) float32 in the world; what was not asked for has no size
    """

    colour: NDArray[np.float32]
    ids: NDArray[np.int32]
    depth: NDArray[np.float64]
    normals: NDArray[np.float32]
    exposure: float = 0.0

    def codes(self) -> NDArray[np.uint8]:
        """Return it as it is shown, sRGB codes (H, W, 4) with straight alpha."""
        alpha = np.clip(self.colour[..., 3:], 0, 1)
        light = (self.colour[..., :3] / np.maximum(alpha, 1e-6)).astype(np.float32)
        out = np.empty(self.colour.shape, np.uint8)
        out[..., :3] = np.rint(linear_to_srgb(toned(light, self.exposure)) * 255)
        out[..., 3:] = np.rint(alpha * 255)
        return out


def sample_offsets(count: int) -> NDArray[np.int64]:
    """Return where samples lie in a pixel, (count, 2) in 256ths: one in each of so many columns and rows."""
    if count == 1:
        return np.full((1, 2), ONE // 2, np.int64)
    places = np.arange(count)
    bits = count.bit_length() - 1
    turned = np.zeros(count, np.int64)
    for bit in range(bits):
        turned |= (places >> bit & 1) << (bits - 1 - bit)
    step = ONE // count
    return np.stack([places * step + step // 2, turned * step + step // 2], axis=1).astype(np.int64)


def _bands(tiles: int, threads: int) -> list[tuple[int, int]]:
    """Return ranges of tiles: several for each thread, so that none ends long before another."""
    step = max(1, -(-tiles // (threads * 8)))
    return [(first, min(tiles, first + step)) for first in range(0, tiles, step)]


def draw(
    scene: Drawable,
    camera: Camera,
    size: tuple[int, int],
    settings: Settings = Settings(),
    threads: int | None = None,
) -> Task[Picture]:
    """Draw a scene; closing the generator stops it between two bands of tiles.

    Parameters
    ----------
    size : width and height in pixels
    threads : the picture does not depend on it
    """
    width, height = size
    threads = threads or threads_here()
    yield Progress(0, 1, "drawing")
    projected = _projected(scene, camera, size)
    colour = np.empty((height, width, 4), np.float32)
    shape = {name: (height, width) if name in settings.buffers else (0, 0) for name in ("ids", "depth", "normals")}
    ids, depth = np.full(shape["ids"], -1, np.int32), np.ones(shape["depth"])
    normals = np.zeros((*shape["normals"], 3), np.float32)
    back = camera.axes()[2]
    eye = np.array([*camera.eye, *back], np.float32)
    lighting = settings.lighting
    rows, sky = lighting.rows(), lighting.hemispheres()
    offsets = sample_offsets(settings.samples)
    background = np.array(settings.background, np.float32)
    draws, textures = scene.draws, scene.textures
    across, down = projected.tiles

    def work(band: tuple[int, int]) -> None:
        shade_tiles(
            *band, across, projected.bins, projected.starts, projected.corners, projected.owners, projected.clip,
            draws.positions, draws.triangles, draws.materials, draws.attributes, scene.numbers, scene.choices,
            textures.words, textures.rows, width, height, offsets, settings.anisotropy, eye, camera.yfov <= 0, rows, sky,
            background, colour, ids, depth, normals,
        )  # fmt: skip

    yield from _over_tiles(work, across * down, threads)
    return Picture(colour, ids, depth, normals, lighting.exposure)


def _projected(scene: Drawable, camera: Camera, size: tuple[int, int]) -> Projected:
    draws = scene.draws
    return project(draws.positions, draws.triangles, scene.two_sided, camera.to_clip(size[0] / size[1]), size)


def _over_tiles(work: Callable[[tuple[int, int]], None], tiles: int, threads: int) -> Task[None]:
    bands = _bands(tiles, threads)
    with closing(map_unordered(work, bands, threads)) as done:  # type: ignore[type-var]
        for count, _ in enumerate(done, 1):
            yield Progress(count, len(bands), "drawing")


def draw_refining(
    scene: Drawable, camera: Camera, size: tuple[int, int], settings: Settings = Settings(), threads: int | None = None
) -> Task[Picture]:
    """As `draw`; a step early on brings the picture at a quarter of its sides (`Picture`)."""
    small = max(1, size[0] // _QUICK), max(1, size[1] // _QUICK)
    quick = Settings(1, 1, settings.background, (), settings.lighting)
    first = yield from draw(scene, camera, small, quick, threads)
    yield Progress(0, 1, "drawing", first)
    return (yield from draw(scene, camera, size, settings, threads))


@dataclass(frozen=True, eq=False)
class Footprints:
    """Where textures are read on a picture, and how much of them a pixel takes.

    Parameters
    ----------
    ids : (H, W) int32, triangles of the draw list, -1 for none
    uvs : (H, W, 2, 6) float32, of both sets of UVs: u, v, du/dx, dv/dx, du/dy, dv/dy, pixels
    """

    ids: NDArray[np.int32]
    uvs: NDArray[np.float32]


def footprints(
    scene: Drawable,
    camera: Camera,
    size: tuple[int, int],
    threads: int | None = None,
    offset: tuple[int, int] = (ONE // 2, ONE // 2),
) -> Task[Footprints]:
    """Return where textures are read on a picture, without a look at any but those that cut holes.

    Parameters
    ----------
    offset : of the sample in its pixel, in 256ths
    """
    width, height = size
    threads = threads or threads_here()
    yield Progress(0, 1, "looking")
    projected = _projected(scene, camera, size)
    ids, uvs = np.full((height, width), -1, np.int32), np.zeros((height, width, 2, 6), np.float32)
    draws, textures = scene.draws, scene.textures
    across, down = projected.tiles
    offsets = np.array([offset], np.int64)

    def work(band: tuple[int, int]) -> None:
        footprints_of_tiles(
            *band, across, projected.bins, projected.starts, projected.corners, projected.owners, projected.clip,
            draws.triangles, draws.materials, draws.attributes, scene.numbers, scene.choices, textures.words, textures.rows,
            width, height, offsets, ids, uvs,
        )  # fmt: skip

    yield from _over_tiles(work, across * down, threads)
    return Footprints(ids, uvs)
