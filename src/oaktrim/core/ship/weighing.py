"""Measuring the package: making and packing what a plan ships, one thing after the other, only to weigh it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import OakTrimError
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.files.pictures import pack_texture
from oaktrim.core.plan.modelsizes import measure_models, untried_models
from oaktrim.core.plan.others import file_key, packed_key
from oaktrim.core.plan.packing import CompressionRatios, Measured, other_key
from oaktrim.core.plan.resolve import Plan, recipe_key
from oaktrim.core.progress import Progress, Task
from oaktrim.core.ship.make import make_texture
from oaktrim.core.ship.sounds import made_sound
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import OtherAsset
from oaktrim.core.survey.packed import pack_bytes

_KEEP_EVERY = 8


def measure_packages(
    plan: Plan,
    ratios: CompressionRatios,
    cache: SurveyCache,
    max_pixels: int = MAX_PIXELS,
    among: NDArray[np.int64] | None = None,
) -> Task[Measured]:
    """Measure what a plan estimates, the largest first, on one thread; return all sizes, each step those that became known.

    Meshes, clips and sounds are made and packed whole, too. Sizes go into the cache as well, so closing the generator
    loses little. What cannot be made stays an estimate; shipping will say why.

    Parameters
    ----------
    among : rows of textures to measure, all by default
    """
    found = yield from measure_models(plan.inventory, untried_models([plan], ratios), cache)
    found |= yield from measure_others(plan, ratios, cache, max_pixels)
    wanted = np.ones(len(plan.package), np.bool_) if among is None else np.isin(np.arange(len(plan.package)), among)
    rows = [int(row) for row in np.argsort(-plan.package, kind="stable") if wanted[row] and not plan.measured[row]]
    keeper = _Keeper(cache)
    store = MadeStore.beside(cache)
    try:
        for place, row in enumerate(rows):
            texture = plan.inventory.textures[row]
            yield Progress(place, len(rows), texture.path, keeper.newest())
            try:
                made = yield from make_texture(
                    plan.inventory, row, plan.encode_settings(row), max_pixels, threads=1, store=store
                )
                data = pack_texture(made.encoded, plan.target.container)
            except (OakTrimError, MemoryError):
                continue
            keeper.take(recipe_key(plan, row), min(len(data), pack_bytes(data, plan.target.packing)))
    finally:
        keeper.keep()
        if keeper.sizes:
            store.trim()
    return found | Measured(keeper.sizes)


def measure_others(
    plan: Plan, ratios: CompressionRatios, cache: SurveyCache, max_pixels: int = MAX_PIXELS
) -> Task[Measured]:
    """Pack the geometry of models whole, make and pack sounds, on one thread; return sizes, each step those that became known.

    What cannot be read, or is not as it was surveyed, stays an estimate.
    """
    packing, sources = plan.target.packing, plan.inventory.sources(max_pixels)
    store = MadeStore.beside(cache)
    sounds = {facts.path: facts for facts in plan.inventory.audio}
    missing, keeper = _unweighed(plan, ratios), _Keeper(cache)
    try:
        for place, row in enumerate(missing):
            yield Progress(place, len(missing), row.file, keeper.newest())
            recipe = plan.others.recipes.get(row.path)
            try:
                if recipe is not None and recipe.settings is not None:
                    made = made_sound(plan.inventory.root, sounds[row.path], recipe, store)
                    keeper.take(file_key(row.content, recipe), len(made))
                    keeper.take(packed_key(row.content, recipe, packing), min(len(made), pack_bytes(made, packing)))
                    continue
                data = sources.other(row.file)
            except (OakTrimError, MemoryError):
                continue
            if content_hash(data) == row.content:
                keeper.take(other_key(row.content, packing), min(len(data), pack_bytes(data, packing)))
    finally:
        keeper.keep()
    return Measured(keeper.sizes)


def _unweighed(plan: Plan, ratios: CompressionRatios) -> list[OtherAsset]:
    """Return meshes, clips and sounds of files that were not made and packed whole yet, one for each."""
    packing, found = plan.target.packing, dict[str, OtherAsset]()
    for row in plan.inventory.others:
        recipe, models = plan.others.recipes.get(row.path), plan.others.models
        if row.path in models.left or row.file in models.settings:
            continue
        made = recipe is not None and recipe.settings is not None
        key = packed_key(row.content, recipe, packing) if made and recipe else other_key(row.content, packing)
        if ratios.size_of(key) is None:
            found[key] = row
    return list(found.values())


class _Keeper:
    """Sizes by recipe as they become known; some at a time go into the cache."""

    def __init__(self, cache: SurveyCache) -> None:
        self._cache = cache
        self.sizes: dict[str, int] = {}
        self._fresh: dict[str, int] = {}
        self._newest: dict[str, int] = {}

    def take(self, recipe: str, size: int) -> None:
        for rows in (self.sizes, self._fresh, self._newest):
            rows[recipe] = size
        if len(self._fresh) >= _KEEP_EVERY:
            self.keep()

    def newest(self) -> Measured:
        """Return what became known since this was asked last."""
        found, self._newest = Measured(self._newest), {}
        return found

    def keep(self) -> None:
        if self._fresh:
            self._cache.keep_measured(self._fresh)
            self._fresh = {}
