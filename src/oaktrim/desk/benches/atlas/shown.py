"""An atlas as the bench shows it, made ready beside the window."""

from __future__ import annotations

import msgspec

from oaktrim.core.makers.atlas.settings import Atlas
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.atlasdraft import AtlasDraft, Island, TargetCost, cost_on, draft, islands_of_plan
from oaktrim.desk.widgets.layers import Layer, make_layer


class Shown(msgspec.Struct, frozen=True):
    """A draft with what is shown of it: islands, layers by sheet, and what it costs by target."""

    draft: AtlasDraft
    islands: tuple[Island, ...]
    layers: dict[str, Layer]
    costs: tuple[TargetCost, ...]


def shown_of(plans: tuple[Plan, ...], settings: Atlas, layouts: tuple[Layout, ...], max_pixels: int) -> Task[Shown]:
    """Draft an atlas with all that the bench shows, each part as it comes."""
    islands: tuple[Island, ...] = ()
    layers: dict[str, Layer] = {}
    costs: tuple[TargetCost, ...] = ()
    task = draft(plans[0].inventory, settings, layouts, max_pixels)
    while True:
        try:
            step = next(task)
        except StopIteration as end:
            return Shown(end.value, islands, layers, costs)
        if isinstance(step.found, AtlasDraft):
            now = step.found
            if now.plan is not None and not islands:
                islands = tuple(islands_of_plan(now.plan))
            if now.made is not None and not layers:
                layers = {path: make_layer(image) for path, image in now.made.sheets.items()}
                costs = tuple(cost_on(plan, now) for plan in plans)
            step = Progress(step.done, step.total, step.what, Shown(now, islands, layers, costs))
        yield step
