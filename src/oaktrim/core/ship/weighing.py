"""Measuring the package: making and packing what a plan ships, one thing after the other, only to weigh it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.files.pictures import MAX_PIXELS, pack_texture
from oaktrim.core.plan.packing import PackedShares, carried_key
from oaktrim.core.plan.resolve import Plan, recipe_key
from oaktrim.core.progress import Progress, Task
from oaktrim.core.ship.make import make_texture
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.read import carried_bytes
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

    What is carried beside the textures is packed whole, too. Sizes go into `shares` and into the cache as they become
    known, so closing the generator loses little. What cannot be made stays an estimate; shipping will say why.

    Parameters
    ----------
    among : rows of textures to measure, all by default
    """
    done = yield from measure_carried(plan, shares, cache)
    wanted = np.ones(len(plan.package), np.bool_) if among is None else np.isin(np.arange(len(plan.package)), among)
    rows = [int(row) for row in np.argsort(-plan.package, kind="stable") if wanted[row] and not plan.measured[row]]
    fresh: dict[str, int] = {}
    store = MadeStore.beside(cache)
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


def measure_carried(plan: Plan, shares: PackedShares, cache: SurveyCache) -> Task[int]:
    """Pack sounds and the geometry of models whole, on one thread; return how many were packed.

    What cannot be read, or is not as it was surveyed, stays an estimate.
    """
    packing, root = plan.target.packing, plan.inventory.root
    missing, fresh, done = shares.carried_missing(packing), dict[str, int](), 0
    try:
        for place, row in enumerate(missing):
            yield Progress(place, len(missing), row.file)
            try:
                data = carried_bytes(root, row.file)
            except (OakTrimError, MemoryError):
                continue
            if content_hash(data) == row.content:
                fresh[carried_key(row.content, packing)] = min(len(data), pack_bytes(data, packing))
                done += 1
            if len(fresh) >= _KEEP_EVERY:
                _keep(fresh, shares, cache)
    finally:
        _keep(fresh, shares, cache)
    return done


def _keep(fresh: dict[str, int], shares: PackedShares, cache: SurveyCache) -> None:
    if fresh:
        shares.take_measured(fresh)
        cache.keep_measured(fresh)
        fresh.clear()
