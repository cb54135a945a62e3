"""How large textures need to be, asked of pictures: texels of the source that a pixel of the screen takes in, over every view.

What a target's filter shows decides the measure (P. Heckbert, "Fundamentals of texture mapping and image warping", 1989):
trilinear filtering goes by the longer axis of a pixel's footprint, and shows exactly what lies at that level. Anisotropic
filtering goes by the area, and shows about one level more than that says (`MARGIN`, from trials against 64 samples a pixel).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import OakTrimError
from oaktrim.core.kernels import njit
from oaktrim.core.progress import Progress, Task, map_unordered, threads_here
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.picture import Footprints, footprints
from oaktrim.core.scene.model import AlphaMode, TextureUse
from oaktrim.core.scene.slots import Slot
from oaktrim.core.sight.estimate import estimate
from oaktrim.core.sight.reads import Reads, reads_of
from oaktrim.core.sight.sightlines import Screen, Sightlines, Zone
from oaktrim.core.sight.views import View, cameras_of, has_cameras, scene_of, views_of, zone_places, zone_views
from oaktrim.core.survey.demand import Demand, no_demand
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.drawables import Loaded, TextureCache, load, ready
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Filtering, Target

MARGIN: Mapping[Filtering, float] = {Filtering.TRILINEAR: 0.0, Filtering.ANISOTROPIC: 1.0}
# Levels are counted in 64ths from -8 to 16.
_PARTS, _LOWEST, _BINS = 64, -8, 24 * 64
_FEWEST_PIXELS = 4
_ZONE_BATCH, _ZONE_MOST, _ZONE_STABLE = 8, 64, 0.1
_MASK_SIDE = 512
_NOWHERE = np.int64(1 << 62)
# Pixels of the largest screen are counted in so many bits.
_PIXEL_BITS = 28
_KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}


@njit(**_KERNEL)
def _level(uv, a, b, c, d, width, height, area):
    """Return log2 of a pixel's footprint in texels, along its longer axis or by its area; uv (6,) is of `footprints`."""
    ux, vx = (a * uv[2] + b * uv[3]) * width, (c * uv[2] + d * uv[3]) * height
    uy, vy = (a * uv[4] + b * uv[5]) * width, (c * uv[4] + d * uv[5]) * height
    square = abs(ux * vy - vx * uy) if area else max(ux * ux + vx * vx, uy * uy + vy * vy)
    return 0.5 * np.log2(square)


@njit(**_KERNEL)
def _count(
    ids, uvs, first, last, width, materials, starts, textures, sets, matrices, sizes, area, mine, counts, places, seen
):
    """Count the levels of rows [first, last) of pixels, and keep the middlemost pixel of each level.

    Parameters
    ----------
    materials : of triangles; starts : (K + 1,) where the uses of each begin
    textures, sets, matrices, sizes : (U,), (U,), (U, 4), (T, 2) of the uses and of the textures
    mine : (K,) materials that count
    counts, places, seen : (T, BINS), (T, BINS) and (T,) pixels, filled
    """
    for y in range(first, last):
        for x in range(ids.shape[1]):
            t = ids[y, x]
            if t < 0:
                continue
            material = materials[t]
            if material < 0 or not mine[material]:
                continue
            for use in range(starts[material], starts[material + 1]):
                k = textures[use]
                seen[k] += 1
                level = _level(
                    uvs[y, x, sets[use]], matrices[use, 0], matrices[use, 1], matrices[use, 2], matrices[use, 3], sizes[k, 0],
                    sizes[k, 1], area,
                )  # fmt: skip
                if not level > _LOWEST:
                    # One that reads a single point asks for nothing; one that is no number says nothing.
                    continue
                place = min(int((level - _LOWEST) * _PARTS), _BINS - 1)
                counts[k, place] += 1
                # Of pixels alike the one nearest to the middle of the picture.
                away = (2 * x + 1 - width) ** 2 + (2 * y + 1 - ids.shape[0]) ** 2
                places[k, place] = min(places[k, place], np.int64(away) << _PIXEL_BITS | (y * width + x))


@njit(**_KERNEL)
def _least_levels(ids, uvs, materials, starts, textures, sets, matrices, sizes, area, out):
    """Fill out (H, W) with the least level over a pixel's textures; NaN where there is none."""
    for y in range(ids.shape[0]):
        for x in range(ids.shape[1]):
            least = np.nan
            t = ids[y, x]
            material = materials[t] if t >= 0 else -1
            if material >= 0:
                for use in range(starts[material], starts[material + 1]):
                    k = textures[use]
                    level = _level(
                        uvs[y, x, sets[use]], matrices[use, 0], matrices[use, 1], matrices[use, 2], matrices[use, 3],
                        sizes[k, 0], sizes[k, 1], area,
                    )  # fmt: skip
                    if not least <= level:
                        least = level
            out[y, x] = least


def least_levels(
    seen: Footprints, loaded: Loaded, reads: Reads, filtering: Filtering, shipped: NDArray[np.float64] | None = None
) -> NDArray[np.float32]:
    """Return of each pixel (H, W) the least levels to spare among the textures there; NaN where there are none.

    Parameters
    ----------
    shipped : (T, 2) sides to go by instead of the sources' own
    """
    out = np.empty(seen.ids.shape, np.float32)
    starts, textures, sets, matrices, sizes = reads.tables()
    sizes = sizes if shipped is None else np.ascontiguousarray(shipped, np.float64)
    _least_levels(
        seen.ids, seen.uvs, loaded.draws.materials, starts, textures, sets, matrices, sizes,
        filtering is Filtering.ANISOTROPIC, out,
    )  # fmt: skip
    return out


# One view's pictures


@dataclass(frozen=True, eq=False)
class Stage:
    """A model as demand is asked of it.

    Parameters
    ----------
    scene : without what lets light through; clear : that alone, cut out where it is wholly clear; None without any
    """

    loaded: Loaded
    reads: Reads
    scene: Drawable
    clear: Drawable | None
    opaque: NDArray[np.bool_]


def stage_of(inventory: Inventory, place: int, sources: Sources, cache: TextureCache) -> Task[Stage]:
    """Make a model ready to be asked; of its textures only those that cut holes are read.

    Raises
    ------
    OakTrimError : it cannot be read; names the file
    """
    loaded = yield from load(inventory, place, sources)
    bare = replace(loaded, materials=tuple(replace(m, uses=_holes(m.uses, m.surface.alpha)) for m in loaded.materials))
    scene, _ = yield from ready(inventory, bare, sources, cache, side=_MASK_SIDE)
    blended = [m.surface.alpha is AlphaMode.BLEND for m in loaded.materials]
    clear = None
    if any(blended):
        cut = [
            replace(m, surface=replace(m.surface, alpha=AlphaMode.MASK, cutoff=1 / 512)) if is_clear else m
            for m, is_clear in zip(bare.materials, blended, strict=True)
        ]
        clear, _ = yield from ready(inventory, replace(bare, materials=tuple(cut)), sources, cache, side=_MASK_SIDE)
    opaque = np.array([not is_clear for is_clear in blended], np.bool_)
    return Stage(loaded, reads_of(inventory, loaded), scene, clear, opaque)


def _holes(uses: tuple[TextureUse, ...], alpha: AlphaMode) -> tuple[TextureUse, ...]:
    return () if alpha is AlphaMode.OPAQUE else tuple(use for use in uses if use.slot is Slot.BASE_COLOUR)


def looks(stage: Stage, view: View) -> Iterator[tuple[Drawable, NDArray[np.bool_]]]:
    """Yield what is drawn for a view, and which materials count in it."""
    for scene, mine in ((stage.scene, stage.opaque), (stage.clear, ~stage.opaque)):
        if scene is not None and (mine.any() or not len(mine)):
            if view.only is None:
                yield scene, mine
            else:
                yield replace(scene, draws=scene.draws.without(~view.only)), mine


@dataclass(eq=False)
class Tally:
    """What views of one model have asked for so far, a row each of its textures."""

    levels: NDArray[np.float64]
    pixels: NDArray[np.int64]
    view: list[str]
    distance: NDArray[np.float64]
    object: list[str]

    @classmethod
    def empty(cls, count: int) -> Tally:
        return cls(
            np.full(count, np.nan), np.zeros(count, np.int64), [""] * count, np.full(count, np.nan), [""] * count
        )


def ask(stage: Stage, view: View, filtering: Filtering, percentile: float, tally: Tally) -> Task[None]:
    """Draw where textures are read in a view, and note what it asks for."""
    threads, count = threads_here(), len(stage.reads.rows)
    counts, kept = np.zeros((count, _BINS), np.int64), list[_Look]()
    for scene, mine in looks(stage, view):
        seen = yield from footprints(scene, view.camera, view.screen, threads)
        width, height = view.screen

        def work(
            band: tuple[int, int],
            scene: Drawable = scene,
            seen: Footprints = seen,
            mine: Any = mine,
            width: int = width,
        ) -> Any:
            found, where = np.zeros((count, _BINS), np.int64), np.full((count, _BINS), _NOWHERE)
            many = np.zeros(count, np.int64)
            _count(
                seen.ids, seen.uvs, *band, width, scene.draws.materials, *stage.reads.tables(),
                filtering is Filtering.ANISOTROPIC, mine, found, where, many,
            )  # fmt: skip
            return found, where, many

        places = np.full((count, _BINS), _NOWHERE)
        step = -(-height // threads)
        bands = [(top, min(height, top + step)) for top in range(0, height, step)]
        with closing(map_unordered(work, bands, threads)) as done:  # type: ignore[type-var]
            for _, (found, where, many) in done:
                counts += found
                tally.pixels += many
                np.minimum(places, where, out=places)
        kept.append(_Look(scene, seen.ids, places))
    _note(view, kept, counts, percentile, tally)


@dataclass(frozen=True, eq=False)
class _Look:
    """What of a view was drawn at once.

    Parameters
    ----------
    places : (T, BINS) the middlemost pixel at each level, below how far it is from the middle
    """

    scene: Drawable
    ids: NDArray[np.int32]
    places: NDArray[np.int64]


def _note(view: View, kept: Sequence[_Look], counts: NDArray[np.int64], percentile: float, tally: Tally) -> None:
    totals = counts.sum(axis=1)
    for k in np.flatnonzero(totals >= _FEWEST_PIXELS):
        # Of so many pixels in a hundred that may want more.
        at = int(np.searchsorted(np.cumsum(counts[k]), max(1, totals[k] * (100 - percentile) / 100)))
        level = _LOWEST + (at + 0.5) / _PARTS
        if tally.levels[k] <= level:
            continue
        look = next(look for look in kept if look.places[k, at] < _NOWHERE)
        pixel = int(look.places[k, at]) & (1 << _PIXEL_BITS) - 1
        triangle = int(look.ids.reshape(-1)[pixel])
        tally.levels[k], tally.view[k] = level, view.name
        tally.distance[k] = _distance(look.scene, view, triangle, pixel)
        tally.object[k] = look.scene.draws.names[int(look.scene.draws.objects[triangle])]


def _distance(scene: Drawable, view: View, triangle: int, pixel: int) -> float:
    """Return how far the eye is from the plane of a triangle, along the ray through a pixel."""
    width, height = view.screen
    x, y = (pixel % width + 0.5) / width * 2 - 1, 1 - (pixel // width + 0.5) / height * 2
    point = np.linalg.inv(view.camera.to_clip(width / height)) @ (x, y, -0.5, 1.0)
    eye = np.array(view.camera.eye)
    way = point[:3] / point[3] - eye
    way /= np.linalg.norm(way)
    a, b, c = scene.draws.positions[scene.draws.triangles[triangle]].astype(np.float64)
    normal = np.cross(b - a, c - a)
    along = float(way @ normal)
    return abs(float((a - eye) @ normal) / along) if abs(along) > 1e-30 else float(np.linalg.norm(a - eye))


# All models


def places_looked_at(sightlines: Sightlines, inventory: Inventory) -> list[int]:
    """Return the places of the models that some sightline could see, those with cameras where there are no sightlines."""
    if not sightlines:
        return [place for place in range(len(inventory.models)) if has_cameras(inventory, place)]
    return list(range(len(inventory.models)))


def with_cameras(sightlines: Sightlines, inventory: Inventory, loaded: Loaded) -> Sightlines:
    """Return the sightlines, or where there are none the cameras that stand in a model."""
    if sightlines:
        return sightlines
    return Sightlines(
        stations=tuple(cameras_of(loaded, inventory.models[loaded.place].path)), percentile=sightlines.percentile
    )


def demand_of(
    inventory: Inventory,
    target: Target,
    sightlines: Sightlines,
    selected: Callable[[str], NDArray[np.bool_]],
    cache: TextureCache | None = None,
    max_pixels: int = 1 << 28,
    kept: dict[int, Stage] | None = None,
) -> Task[Demand]:
    """Return what every texture needs on a target; the closed form of it is brought first (`Demand`).

    Parameters
    ----------
    selected : returns which textures a filter keeps
    kept : models that were made ready before, by their places; filled

    Raises
    ------
    OakTrimError : a model cannot be read, or a filter not be understood
    """
    cache, sources = cache or TextureCache(), inventory.sources(max_pixels)
    screen, margin = target.screen, MARGIN[target.filtering]
    stages: list[tuple[Stage, Sightlines, list[View]]] = []
    for place in places_looked_at(sightlines, inventory):
        stage = None if kept is None else kept.get(place)
        if stage is None:
            stage = yield from stage_of(inventory, place, sources, cache)
            if kept is not None:
                kept[place] = stage
        lines = with_cameras(sightlines, inventory, stage.loaded)
        views = list(views_of(lines, inventory, stage.loaded, screen, selected))
        zones = [zone for zone in lines.zones if _stands_in(zone.scene, inventory, place)]
        if views or zones:
            stages.append((stage, lines, views))
    guesses = []
    for stage, _, views in stages:
        tally = Tally.empty(len(stage.reads.rows))
        for view in views:
            levels, weights = estimate(stage.scene.draws, stage.reads, view, target.filtering, sightlines.percentile)
            better = np.isfinite(levels) & ~(tally.levels <= levels)
            tally.levels[better] = levels[better]
            tally.pixels += weights
            for k in np.flatnonzero(better):
                tally.view[k] = view.name
        guesses.append((stage, tally))
    yield Progress(0, 1, "estimated", _merged(inventory, guesses, margin, True))
    asked, total = [], sum(len(views) for _, _, views in stages)
    done = 0
    for stage, lines, views in stages:
        tally = Tally.empty(len(stage.reads.rows))
        for view in views:
            yield Progress(done, total, f"looking from {view.name}")
            yield from _inner(ask(stage, view, target.filtering, lines.percentile, tally), done, total, view.name)
            done += 1
        for zone in lines.zones:
            if _stands_in(zone.scene, inventory, stage.loaded.place):
                yield from _ask_zone(stage, zone, screen, target.filtering, lines.percentile, tally)
        asked.append((stage, tally))
    return _merged(inventory, asked, margin, False)


def _inner(task: Task[None], done: int, total: int, name: str) -> Task[None]:
    """Run one view's task with the progress of the whole."""
    with closing(task):
        for _ in task:
            yield Progress(done, total, f"looking from {name}")


def _stands_in(scene: str, inventory: Inventory, place: int) -> bool:
    return scene_of(inventory, scene) == place


def _ask_zone(
    stage: Stage, zone: Zone, screen: Screen, filtering: Filtering, percentile: float, tally: Tally
) -> Task[None]:
    """Look from more and more places of a zone until what is asked for no longer changes."""
    places = zone_places(zone, stage.loaded, _ZONE_MOST)
    for first in range(0, len(places), _ZONE_BATCH):
        before = tally.levels.copy()
        for view in zone_views(zone, places[first : first + _ZONE_BATCH], screen):
            yield from ask(stage, view, filtering, percentile, tally)
        yield Progress(first, len(places), f"looking around in {zone.name}")
        gained = np.isnan(before) & np.isfinite(tally.levels)
        if first and not gained.any() and not (before - tally.levels > _ZONE_STABLE).any():
            return


def _merged(inventory: Inventory, asked: Iterable[tuple[Stage, Tally]], margin: float, estimated: bool) -> Demand:
    """Return what all models ask for, of a texture that several use what asks for most."""
    found = no_demand(len(inventory.textures), margin)
    objects, names = list(found.object), dict[str, int]()
    for stage, tally in asked:
        for k, row in enumerate(stage.reads.rows):
            found.looked[row] = True
            found.pixels[row] += tally.pixels[k]
            if np.isnan(tally.levels[k]) or found.levels[row] <= tally.levels[k]:
                continue
            found.levels[row], found.distance[row] = tally.levels[k], tally.distance[k]
            found.view[row] = names.setdefault(tally.view[k], len(names))
            found.model[row], objects[row] = stage.loaded.place, tally.object[k]
            found.estimated[row] = estimated
    return replace(found, object=tuple(objects), views=tuple(names))


class NothingToLookFrom(OakTrimError):
    """There are neither sightlines nor cameras."""

    def __init__(self) -> None:
        super().__init__(
            "no camera stands in any model and the job has no sightlines: add a station with 'oak-trim station JOB add NAME "
            "--eye X,Y,Z --target X,Y,Z', or say how near things are seen with --nearest or --portrait"
        )
