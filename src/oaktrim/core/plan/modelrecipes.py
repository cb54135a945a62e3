"""What models ship as: the settings that cuts give each, what that leaves of it, and what textures go with it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.plan.modelcuts import (
    DropUnused,
    LeaveOut,
    MergeMaterials,
    ModelChange,
    OrderTriangles,
    QuantizeVertices,
    ReduceMotion,
)
from oaktrim.core.survey.facts import CLIP_MARK, NODE_MARK, SCENE_MARK, VARIANT_MARK, ModelFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.lines import Counts
from oaktrim.core.trim.motion import MotionBound
from oaktrim.core.trim.settings import ModelSettings

PART_MARKS = (NODE_MARK, VARIANT_MARK, SCENE_MARK)


@dataclass(frozen=True, eq=False)
class ModelRecipes:
    """What models ship as.

    Parameters
    ----------
    settings : of those that are trimmed, by path
    left : paths of sounds that are left out
    touched : paths of models and clips that are cut; refused : why a model that is cut ships as it is, by path
    gone : bytes of vertices that go with parts that are left out, by path of the model
    textures : rows that nothing wears any more that ships, (N,)
    counts : what of all models is counted in numbers
    """

    settings: Mapping[str, ModelSettings]
    left: frozenset[str]
    touched: frozenset[str]
    refused: Mapping[str, str]
    gone: Mapping[str, int]
    textures: NDArray[np.bool_]
    counts: Counts


def model_of_path(path: str) -> str:
    """Return the path of the model that a clip's or a part's path is in."""
    for mark in (CLIP_MARK, *PART_MARKS):
        if mark in path:
            return path.partition(mark)[0]
    return path


def model_recipes(inventory: Inventory, target: str, cuts: Sequence[Any]) -> ModelRecipes:
    """Return what models ship as on a target; later cuts of a kind win over earlier ones."""
    asked: dict[str, dict[type, ModelChange | LeaveOut]] = {}
    for cut in cuts:
        if isinstance(cut.change, ModelChange | LeaveOut) and cut.is_for(target):
            for path in cut.assets:
                asked.setdefault(path, {})[type(cut.change)] = cut.change
    if not asked:
        nothing = np.zeros(len(inventory.textures), np.bool_)
        return ModelRecipes({}, frozenset(), frozenset(), {}, {}, nothing, inventory.counts)
    by_model: dict[str, dict[str, dict[type, ModelChange | LeaveOut]]] = {}
    for path, changes in asked.items():
        by_model.setdefault(model_of_path(path), {})[path] = changes
    found, refused = {}, {}
    for model in inventory.models:
        if model.path in by_model and model.held:
            refused[model.path] = model.held
        elif model.path in by_model:
            settings = _settings(model, by_model[model.path])
            if settings:
                found[model.path] = settings
    left = frozenset(sound.path for sound in inventory.audio if _is_left(asked.get(sound.path, {})))
    textures = _textures_left(inventory, found)
    gone = {
        model.path: sum(model.nodes[n].data_bytes for n in gone_nodes(model, found[model.path]))
        for model in inventory.models
        if model.path in found
    }
    touched = frozenset(path for path in asked if model_of_path(path) in found)
    return ModelRecipes(found, left, touched, refused, gone, textures, _counts(inventory, found))


def _is_left(changes: Mapping[type, ModelChange | LeaveOut]) -> bool:
    change = changes.get(LeaveOut)
    return isinstance(change, LeaveOut) and change.on


def _settings(model: ModelFacts, asked: Mapping[str, Mapping[type, ModelChange | LeaveOut]]) -> ModelSettings:
    whole = asked.get(model.path, {})

    def is_on(kind: type[Any]) -> bool:
        change = whole.get(kind)
        return change is not None and bool(getattr(change, "on", False))

    quantized = whole.get(QuantizeVertices)
    motion: list[tuple[int, MotionBound]] = []
    clips: list[int] = []
    for place in range(len(model.clips)):
        changes = asked.get(f"{model.path}{CLIP_MARK}{place}", {})
        change = changes.get(ReduceMotion)
        if _is_left(changes):
            clips.append(place)
        elif isinstance(change, ReduceMotion):
            motion.append((place, change.bound))
    names = {
        mark: [path.partition(mark)[2] for path, changes in asked.items() if mark in path and _is_left(changes)]
        for mark in PART_MARKS
    }
    nodes = {node.place for node in model.nodes if node.name in names[NODE_MARK]}
    nodes |= {place for name in names[SCENE_MARK] for place in _only_in(model, name)}
    return ModelSettings(
        is_on(DropUnused), is_on(MergeMaterials), is_on(OrderTriangles),
        quantized.millimetres if isinstance(quantized, QuantizeVertices) else 0.0, tuple(motion), tuple(clips),
        tuple(sorted(nodes)), tuple(sorted(name for name in names[VARIANT_MARK] if name in model.variants)),
    )  # fmt: skip


def _only_in(model: ModelFacts, scene: str) -> set[int]:
    """Return the nodes that stand in one scene and in no other, the one that is shown first least of all."""
    others = {node for name, nodes in model.scenes.items() if name != scene for node in nodes}
    tops = {node.place for node in model.nodes if node.shown}
    return set(model.scenes.get(scene, ())) - others - tops


def gone_nodes(model: ModelFacts, settings: ModelSettings) -> set[int]:
    """Return the places among a model's listed nodes of those that are left out, with all below them."""
    out: set[int] = set()
    children: dict[int, list[int]] = {}
    for number, node in enumerate(model.nodes):
        children.setdefault(node.parent, []).append(number)
    waiting = [number for number, node in enumerate(model.nodes) if node.place in settings.nodes]
    while waiting:
        number = waiting.pop()
        if number not in out:
            out.add(number)
            waiting += children.get(number, ())
    return out


def used_materials(model: ModelFacts, settings: ModelSettings) -> set[int]:
    """Return the materials that something of a model still wears once parts are left out."""
    gone = gone_nodes(model, settings)
    worn = {m for number, node in enumerate(model.nodes) if number not in gone for m in node.materials}
    return worn - {m for name in settings.variants for m in model.variants.get(name, ())}


def _textures_left(inventory: Inventory, found: Mapping[str, ModelSettings]) -> NDArray[np.bool_]:
    """Return which textures only what is left out wears: all owners of one are materials that nothing wears any more."""
    left = np.zeros(len(inventory.textures), np.bool_)
    cut = {
        number: used_materials(model, found[model.path])
        for number, model in enumerate(inventory.models)
        if model.path in found and (found[model.path].nodes or found[model.path].variants)
    }
    if not cut:
        return left
    for row, owners in inventory.ownership.owners.items():
        left[row] = bool(owners) and all(
            owner.model in cut
            and owner.material not in cut[owner.model]
            and _was_used(inventory.models[owner.model], owner.material)
            for owner in owners
        )
    return left


def _was_used(model: ModelFacts, material: int) -> bool:
    return any(material in node.materials for node in model.nodes)


def _counts(inventory: Inventory, found: Mapping[str, ModelSettings]) -> Counts:
    counts = inventory.counts
    materials, triangles, draws = counts.materials, counts.triangles, counts.draws
    for model in inventory.models:
        settings = found.get(model.path)
        if settings is None:
            continue
        gone = gone_nodes(model, settings)
        shown = [(number in gone, node) for number, node in enumerate(model.nodes) if node.shown]
        triangles -= sum(node.triangles for is_gone, node in shown if is_gone)
        draws -= sum(node.draws for is_gone, node in shown if is_gone)
        if settings.merged:
            draws -= sum(node.joined for is_gone, node in shown if not is_gone)
        if settings.unused or settings.merged or settings.nodes or settings.variants:
            worn = used_materials(model, settings)
            names = [model.materials[place].content if settings.merged else place for place in worn]
            materials += len(set(names)) - len(model.materials)
    return Counts(0, materials, triangles, draws)
