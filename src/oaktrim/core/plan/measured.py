"""Plans of which all that they guess, and that can be measured beforehand, is measured."""

from __future__ import annotations

from collections.abc import Mapping

from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.excerpts import measure_excerpts, missing_excerpts
from oaktrim.core.plan.formatrules import Rules
from oaktrim.core.plan.modelsizes import measure_models, untried_models
from oaktrim.core.plan.packing import CompressionRatios, measure_ratios, measured_before
from oaktrim.core.plan.resolve import Plan, missing_of, resolve
from oaktrim.core.progress import Task
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Target


def measured_plans(
    inventory: Inventory,
    targets: tuple[Target, ...],
    cache: SurveyCache,
    cuts: tuple[Cut, ...] = (),
    rules: Rules = Rules(),
    demands: Mapping[str, Demand] | None = None,
) -> Task[tuple[Plan, ...]]:
    """Return what an inventory ships as on targets; what the cuts ask for is really packed first, on samples.

    Parameters
    ----------
    demands : what sightlines ask for, by target, where they were asked
    """
    ratios, seen = CompressionRatios(inventory).merged(measured_before(cache)), demands or {}

    def plans() -> tuple[Plan, ...]:
        return tuple(resolve(inventory, target, cuts, ratios, rules, seen.get(target.id)) for target in targets)

    guessed = plans()
    missing = dict.fromkeys(key for plan in guessed for key in missing_of(plan, ratios))
    excerpts, models = missing_excerpts(guessed, ratios), untried_models(guessed, ratios)
    if not missing and not excerpts and not models:
        return guessed
    ratios = ratios.merged((yield from measure_ratios(inventory, missing, cache)))
    ratios = ratios.merged((yield from measure_excerpts(inventory.root, excerpts, cache)))
    ratios = ratios.merged((yield from measure_models(inventory, models, cache)))
    return plans()
