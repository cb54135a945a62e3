"""What sightlines ask for on each of several targets, and which textures their filters keep."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.plan.query import Assets, select
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import Task
from oaktrim.core.sight.demand import Stage, demand_of
from oaktrim.core.sight.sightlines import Screen, Sightlines
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.drawables import TextureCache
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Filtering, Target


def selecting(inventory: Inventory, target: Target) -> Callable[[str], NDArray[np.bool_]]:
    """Return what says which textures of an inventory a filter keeps, before anything is cut."""

    def selected(where: str) -> NDArray[np.bool_]:
        plan = resolve(inventory, target)
        return select(where, Assets(plan, plan, ()))[: len(inventory.textures)]

    return selected


def demands_of(
    inventory: Inventory, targets: Sequence[Target], sightlines: Sightlines, max_pixels: int = 1 << 28
) -> Task[dict[str, Demand]]:
    """Return what every texture needs on each target, by its id; targets of one screen and filtering are asked once.

    Raises
    ------
    OakTrimError : a model cannot be read, or a filter not be understood
    """
    cache, stages = TextureCache(), dict[int, Stage]()
    asked: dict[tuple[Filtering, Screen], Demand] = {}
    for target in targets:
        key = target.filtering, target.screen
        if key not in asked:
            chosen = selecting(inventory, target)
            asked[key] = yield from demand_of(inventory, target, sightlines, chosen, cache, max_pixels, stages)
    return {target.id: asked[target.filtering, target.screen] for target in targets}
