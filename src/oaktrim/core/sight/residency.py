"""What a streaming budget keeps along a path, what it blurs, and what comes in late.

At each step every texture wants the levels that are seen, and its small ones always. Where they do not all fit, levels are
dropped whose loss changes the fewest pixels for the bytes it frees: an engine that is as clever as that does no worse.
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.sight.demand import Stage, Tally, ask
from oaktrim.core.sight.sightlines import Sightlines
from oaktrim.core.sight.views import View, on_path, path_scene
from oaktrim.core.targets.target import Target

_STEPS = 48
# Pictures of a path are so many times smaller along each side than the screen.
_SMALLER = 3
# Levels of this side and below never leave memory.
_TAIL_SIDE = 32


@dataclass(frozen=True, eq=False)
class Walk:
    """What is seen along a path at each of its steps, whatever ships.

    Parameters
    ----------
    times : (S,) seconds
    levels : (S, T) of the sources of the model's textures that are to spare, NaN where they are not seen
    pixels : (S, T) of the screen that show each
    """

    name: str
    times: NDArray[np.float64]
    levels: NDArray[np.float64]
    pixels: NDArray[np.int64]


@dataclass(frozen=True)
class Blurred:
    """A texture that is shown blurred on a path.

    Parameters
    ----------
    levels : at most; pixels : of the screen, at most at once; seconds : for how long in all
    """

    path: str
    levels: int
    pixels: int
    seconds: float


@dataclass(frozen=True, eq=False)
class Residency:
    """What is resident along a path, at each of its steps (S,).

    Parameters
    ----------
    times : seconds
    wanted, kept : bytes of levels that are streamed; limit : of the pool, None where nothing says
    loads : bytes that come in since the step before; at the first step, all that is kept there
    rate : bytes a second that the disk brings, None where nothing says
    late : seconds that the disk is behind with what has come into sight, zeros without a rate; what is kept at the first step
        is there before the walk begins
    blurred_pixels : of the screen
    kept_by_family : (S, F) bytes by the family of the roles, `families` in order
    fixed : bytes of what cannot stream, beside the pool
    blurred : the worst first
    """

    name: str
    times: NDArray[np.float64]
    wanted: NDArray[np.int64]
    kept: NDArray[np.int64]
    limit: int | None
    loads: NDArray[np.int64]
    rate: int | None
    late: NDArray[np.float64]
    blurred_pixels: NDArray[np.int64]
    families: tuple[str, ...]
    kept_by_family: NDArray[np.int64]
    fixed: int
    blurred: tuple[Blurred, ...]

    @property
    def worst(self) -> int:
        """The step at which most is missing."""
        return (
            int(np.argmax(self.wanted - self.kept)) if (self.wanted > self.kept).any() else int(np.argmax(self.wanted))
        )

    @property
    def enough(self) -> int:
        """The smallest budget in bytes that blurs nothing."""
        return int(self.wanted.max(initial=0))

    @property
    def loads_a_second(self) -> float:
        """The most bytes a second that come in between two steps."""
        apart = np.diff(self.times)
        return float((self.loads[1:] / apart).max()) if len(apart) else 0.0


@dataclass(frozen=True, eq=False)
class _Pool:
    """Textures of a model that stream: bytes with so many of the upper levels left out, (T, L)."""

    rows: NDArray[np.int64]
    local: NDArray[np.int64]
    bytes: NDArray[np.int64]
    tail: NDArray[np.int64]
    shrunk: NDArray[np.float64]


def walk(stage: Stage, sightlines: Sightlines, name: str, target: Target, steps: int = _STEPS) -> Task[Walk]:
    """Walk a path and note what is seen.

    Parameters
    ----------
    stage : the model that the path stands in

    Raises
    ------
    KeyError : there is no such path
    """
    path = next((row for row in sightlines.paths if row.name == name), None)
    if path is None:
        raise KeyError(name)
    screen = path_scene(sightlines, name)[1] or target.screen
    small = max(1, screen[0] // _SMALLER), max(1, screen[1] // _SMALLER)
    scale = np.log2(screen[1] / small[1])
    times = np.linspace(path.steps[0].time, path.steps[-1].time, steps)
    levels, pixels = np.full((steps, len(stage.reads.rows)), np.nan), np.zeros((steps, len(stage.reads.rows)), np.int64)
    for step, seconds in enumerate(times):
        yield Progress(step, steps, f"walking {name}")
        tally = Tally.empty(len(stage.reads.rows))
        view = View(name, on_path(sightlines, name, float(seconds)), small)
        for _ in ask(stage, view, target.filtering, sightlines.percentile, tally):
            pass
        levels[step], pixels[step] = tally.levels - scale, tally.pixels * _SMALLER * _SMALLER
    return Walk(name, times, levels, pixels)


def residency(plan: Plan, stage: Stage, walked: Walk, limit: int | None = None) -> Residency:
    """Return what fits at each step of a path, of what a plan ships.

    Parameters
    ----------
    walked : `walk` in the same model
    limit : bytes of the pool; the target's streaming limit, or its texture memory less what is fixed, without
    """
    pool, fixed = _pool(plan, stage)
    if limit is None:
        stated, memory = plan.target.limits.of("streaming"), plan.target.limits.of("memory")
        limit = stated if stated is not None else None if memory is None else max(0, memory - fixed)
    times, steps, pixels = walked.times, len(walked.times), walked.pixels[:, pool.local]
    families, places = plan.inventory.family_places
    held, lacking = np.zeros((steps, len(pool.rows)), np.int64), np.zeros((steps, len(pool.rows)), np.int64)
    wanted_bytes = np.zeros(steps, np.int64)
    for step in range(steps):
        levels = walked.levels[step, pool.local] - pool.shrunk
        seen = np.isfinite(levels)
        wanted = np.where(seen, np.clip(np.floor(np.where(seen, levels, 0) + 0.02), 0, pool.tail), pool.tail).astype(
            np.int64
        )
        held[step] = _fitting(pool, wanted, pixels[step], limit)
        lacking[step] = np.where(seen, held[step] - wanted, 0)
        wanted_bytes[step] = pool.bytes[np.arange(len(wanted)), wanted].sum()
    each = pool.bytes[np.arange(len(pool.rows)), held] if len(pool.rows) else np.zeros((steps, 0), np.int64)
    loads = each.sum(axis=1)
    loads[1:] = np.maximum(np.diff(each, axis=0), 0).sum(axis=1)
    rate = plan.target.disk_bytes
    by_family = np.zeros((steps, len(families)), np.int64)
    for column, row in enumerate(pool.rows):
        by_family[:, places[row]] += each[:, column]
    seconds_each = (times[-1] - times[0]) / max(1, steps - 1)
    blurred = [
        Blurred(
            plan.inventory.textures[row].path, int(lacking[:, k].max()), int(np.where(lacking[:, k] > 0, pixels[:, k], 0).max()),
            float((lacking[:, k] > 0).sum() * seconds_each),
        )
        for k, row in enumerate(pool.rows)
        if (lacking[:, k] > 0).any()
    ]  # fmt: skip
    return Residency(
        walked.name, times, wanted_bytes, each.sum(axis=1), limit, loads, rate, _late(times, loads, rate),
        np.where(lacking > 0, pixels, 0).sum(axis=1), tuple(str(family) for family in families), by_family, fixed,
        tuple(sorted(blurred, key=lambda row: (-row.levels * row.pixels * row.seconds, row.path))),
    )  # fmt: skip


def _late(times: NDArray[np.float64], loads: NDArray[np.int64], rate: int | None) -> NDArray[np.float64]:
    """Return how many seconds a disk is behind at each step: what it could not bring in time waits for the next."""
    late = np.zeros(len(times))
    if rate is not None:
        for step in range(1, len(times)):
            late[step] = max(0.0, late[step - 1] + loads[step] / rate - (times[step] - times[step - 1]))
    return late


def _pool(plan: Plan, stage: Stage) -> tuple[_Pool, int]:
    """Return what of a model's textures streams, and the bytes of what does not."""
    rows, local, table, tails, shrunk, fixed = [], [], [], [], [], 0
    footprint = plan.footprint
    for k, row in enumerate(stage.reads.rows.tolist()):
        if footprint.levels[row] <= 1:
            fixed += int(footprint.memory[row])
            continue
        held = plan.recipe(row).settings
        texture_format = FORMATS[held.format]
        if footprint.expanded[row]:
            texture_format = FORMATS[texture_format.expands_to]
        width, height, levels = int(footprint.width[row]), int(footprint.height[row]), int(footprint.levels[row])
        slices = plan.inventory.textures[row].slices
        table.append([
            texture_format.mip_chain_bytes(max(1, width >> n), max(1, height >> n), max(1, levels - n), layers=slices)
            for n in range(17)
        ])  # fmt: skip
        tails.append(min(levels - 1, max(0, int(np.ceil(np.log2(max(width, height) / _TAIL_SIDE))))))
        shrunk.append(np.log2(max(stage.reads.sizes[k]) / max(width, height)))
        rows.append(row)
        local.append(k)
    pool = _Pool(
        np.array(rows, np.int64), np.array(local, np.int64), np.array(table, np.int64).reshape(-1, 17), np.array(tails, np.int64),
        np.array(shrunk, np.float64),
    )  # fmt: skip
    return pool, fixed


def _fitting(pool: _Pool, wanted: NDArray[np.int64], pixels: NDArray[np.int64], limit: int | None) -> NDArray[np.int64]:
    """Return the upper levels that are left out of each texture, so that all fit; more only where there are no more levels."""
    held = wanted.copy()
    total = int(pool.bytes[np.arange(len(held)), held].sum())
    if limit is None or total <= limit:
        return held

    def cost(k: int) -> tuple[float, int]:
        freed = int(pool.bytes[k, held[k]] - pool.bytes[k, held[k] + 1])
        # Each level more is seen at twice the width.
        return float(pixels[k]) * 2.0 ** int(held[k] - wanted[k]) / max(1, freed), k

    heap = [cost(k) for k in range(len(held)) if held[k] < pool.tail[k]]
    heapq.heapify(heap)
    while heap and total > limit:
        _, k = heapq.heappop(heap)
        total -= int(pool.bytes[k, held[k]] - pool.bytes[k, held[k] + 1])
        held[k] += 1
        if held[k] < pool.tail[k]:
            heapq.heappush(heap, cost(k))
    return held
