"""Measuring the package: making what a plan ships, one texture after the other, only to weigh it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.pictures import MAX_PIXELS, pack_texture
from oaktrim.core.plan.packing import PackedShares
from oaktrim.core.plan.resolve import Plan, recipe_key
from oaktrim.core.progress import Progress, Task
from oaktrim.core.ship.make import make_texture
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.sample import pack_bytes

_KEEP_EVERY = 8


def measure_packages(
    plan: Plan,
    shares: PackedShares,
    cache: SurveyCache,
    max_pixels: int = MAX_PIXELS,
    among: NDArray[np.int64] | None = None,
) -> Task[int]:
    """Replace a plan's estimates by measured sizes, the largest first, on one thread; return how many were measured.

    Sizes go into `shares` and into the cache as they become known, so closing the generator loses little. What cannot
    be made stays an estimate; shipping will say why.

    Parameters
    ----------
    among : rows to measure, all by default
    """
    wanted = np.ones(len(plan.package), np.bool_) if among is None else np.isin(np.arange(len(plan.package)), among)
    rows = [int(row) for row in np.argsort(-plan.package, kind="stable") if wanted[row] and not plan.measured[row]]
    fresh: dict[str, int] = {}
    store = MadeStore.beside(cache)
    done = 0
    try:
        for place, row in enumerate(rows):
            texture = plan.inventory.textures[row]
            yield Progress(place, len(rows), texture.path)
            try:
                made = yield from make_texture(
                    plan.inventory, row, plan.recipe(row), max_pixels, threads=1, store=store
                )
                data = pack_texture(made.encoded, plan.target.container)
            except (OakTrimError, MemoryError):
                continue
            fresh[recipe_key(plan, row)] = min(len(data), pack_bytes(data, plan.target.packing))
            done += 1
            if len(fresh) >= _KEEP_EVERY:
                _keep(fresh, shares, cache)
    finally:
        _keep(fresh, shares, cache)
        if done:
            store.trim()
    return done


def _keep(fresh: dict[str, int], shares: PackedShares, cache: SurveyCache) -> None:
    if fresh:
        shares.take_measured(fresh)
        cache.keep_measured(fresh)
        fresh.clear()
