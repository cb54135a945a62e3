"""What to do about what sightlines say: caps for what has levels to spare."""

from __future__ import annotations

import numpy as np

from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.demand import Demand


def caps_to_spare(plan: Plan, demand: Demand, least: int = 2) -> dict[int, tuple[str, ...]]:
    """Return the paths of what ships with so many levels to spare or more, by the side that is all that is ever shown."""
    inventory, footprint = plan.inventory, plan.footprint
    longest = np.maximum(footprint.width, footprint.height)
    spare = demand.spare(longest, np.maximum(inventory.width, inventory.height))
    found: dict[int, list[str]] = {}
    for row in np.flatnonzero(spare >= least).tolist():
        texture = inventory.textures[row]
        side = demand.kept_side(row, max(texture.width, texture.height))
        if side < longest[row]:
            found.setdefault(side, []).append(texture.path)
    return {side: tuple(paths) for side, paths in sorted(found.items())}
