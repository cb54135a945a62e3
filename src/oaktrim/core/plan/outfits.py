"""Parts of models that need not all be there - outfits, variants, scenes - and what each costs, alone and with others."""

from __future__ import annotations

import fnmatch
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.modelcuts import LeaveOut
from oaktrim.core.plan.modelrecipes import gone_nodes, used_materials
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.facts import NODE_MARK, SCENE_MARK, VARIANT_MARK, ModelFacts
from oaktrim.core.trim.settings import ModelSettings

# Nodes are listed so deep below the top: what is deeper is rarely an outfit.
_DEEPEST = 3


@dataclass(frozen=True)
class Outfit:
    """A part of a model that can be left out.

    Parameters
    ----------
    path : the model's and the part's name; kind : node, variant or scene
    triangles, draws : of what is shown first; materials : that only this part wears
    alone, shared : rows of textures that only this part wears, and that others wear too
    left : it is left out on the plan's target
    """

    path: str
    name: str
    kind: str
    triangles: int
    draws: int
    materials: int
    alone: tuple[int, ...]
    shared: tuple[int, ...]
    left: bool


def outfits_of(plan: Plan, pattern: str = "*") -> list[Outfit]:
    """Return the parts of a plan's models whose name, or path, fits a pattern, in the order of the models."""
    found = []
    for number, model in enumerate(plan.inventory.models):
        if not model.held:
            found += [
                _outfit(plan, number, model, path, kind)
                for path, kind in _listed(model)
                if fnmatch.fnmatchcase(path.lower(), pattern.lower())
                or fnmatch.fnmatchcase(path.partition("#")[2].partition("/")[2].lower(), pattern.lower())
            ]
    return found


def _listed(model: ModelFacts) -> list[tuple[str, str]]:
    rows = [(f"{model.path}{VARIANT_MARK}{name}", "variant") for name in model.variants]
    rows += [(f"{model.path}{SCENE_MARK}{name}", "scene") for name in model.scenes]
    depth: list[int] = []
    names: dict[str, None] = {}
    by_number = dict(enumerate(model.nodes))
    for node in model.nodes:
        deep, at = 0, node
        while at.parent >= 0 and deep < _DEEPEST:
            deep, at = deep + 1, by_number[at.parent]
        depth.append(deep)
        if deep < _DEEPEST and node.name:
            names[node.name] = None
    return rows + [(f"{model.path}{NODE_MARK}{name}", "node") for name in names]


def part_settings(model: ModelFacts, path: str) -> ModelSettings:
    """Return the settings that leave out one part of a model alone."""
    name = path[len(model.path) :]
    if name.startswith(VARIANT_MARK):
        return ModelSettings(variants=(name.removeprefix(VARIANT_MARK),))
    if name.startswith(SCENE_MARK):
        return ModelSettings(nodes=tuple(model.scenes.get(name.removeprefix(SCENE_MARK), ())))
    wanted = name.removeprefix(NODE_MARK)
    return ModelSettings(nodes=tuple(node.place for node in model.nodes if node.name == wanted))


def _outfit(plan: Plan, number: int, model: ModelFacts, path: str, kind: str) -> Outfit:
    settings = part_settings(model, path)
    gone = gone_nodes(model, settings)
    before, after = used_materials(model, ModelSettings()), used_materials(model, settings)
    mine = before - after
    touched = {m for n in gone for m in model.nodes[n].materials}
    touched |= {m for name in settings.variants for m in model.variants.get(name, ())}
    alone, shared = list[int](), list[int]()
    for row, owners in plan.inventory.ownership.owners.items():
        if any(owner.model == number and owner.material in touched for owner in owners):
            only = all(owner.model == number and owner.material in mine for owner in owners)
            (alone if only else shared).append(row)
    now = plan.others.models.settings.get(model.path, ModelSettings())
    left = bool(settings.nodes or settings.variants) and (
        set(settings.nodes) <= set(now.nodes) and set(settings.variants) <= set(now.variants)
    )
    shown = [model.nodes[n] for n in gone if model.nodes[n].shown]
    return Outfit(
        path, path.partition("#")[2].partition("/")[2], kind, sum(node.triangles for node in shown),
        sum(node.draws for node in shown), len(mine), tuple(sorted(alone)), tuple(sorted(shared)), left,
    )  # fmt: skip


def saved_without(
    plan: Plan, outfit: Outfit, lines: Sequence[str], planned: Callable[[Sequence[Cut]], Plan]
) -> dict[str, int]:
    """Return what leaving a part out saves on lines counted in bytes; of one that is left out, what it would cost.

    Parameters
    ----------
    planned : returns the plan of the same target by other cuts
    """
    target, paths = plan.target.id, (outfit.path,)
    with_it, without = (planned((*plan.cuts, Cut(LeaveOut(on), paths, (target,)))) for on in (False, True))
    return {line: with_it.total(line) - without.total(line) for line in lines}
