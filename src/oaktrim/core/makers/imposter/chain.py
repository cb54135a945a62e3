"""The chain of levels of a model: its own levels of detail, its imposter as one more, and beyond that nothing, if asked.

Written as glTF: with MSFT_lod and the share of the screen's height from which each level is drawn (`MSFT_screencoverage`), or as
plain nodes beside each other whose names end in _LOD0, _LOD1 and so on, for engines that go by name.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from math import tan
from pathlib import PurePosixPath
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files.gltf import Document, pack_glb
from oaktrim.core.files.gltfchunk import ChunkWriter, hold_image, with_one_buffer
from oaktrim.core.makers.imposter.settings import Chain, ChainForm, Imposter
from oaktrim.core.makers.sourcemodel import SourceModel
from oaktrim.core.scene.model import Model
from oaktrim.core.sight.sightlines import YFOV

Floats = NDArray[np.float64]
_LEVELS, _SHARES = "MSFT_lod", "MSFT_screencoverage"


@dataclass(frozen=True)
class Level:
    """One level of a chain.

    Parameters
    ----------
    name : of its node; node : its place in the source, -1 for the imposter
    triangles : that it draws
    share : of the screen's height, from which on upwards it is drawn; 0 where it is drawn however far away
    """

    name: str
    node: int
    triangles: int
    share: float

    def distance(self, height: float) -> float | None:
        """Return how far away a thing of a height ends to be drawn by it, on a screen of the usual angle; None for never."""
        return None if self.share <= 0 else height / (2 * tan(YFOV / 2) * self.share)


def branches_of(model: Model, nodes: Sequence[str], file: str) -> list[int]:
    """Return the nodes that a chain stands for: those that are named, or those of the scene that draw anything.

    Raises
    ------
    FileError : a node is named that the model has not
    """
    if not nodes:
        drawn = [root for root in model.roots if any(model.nodes[n].mesh is not None for n in model.below(root))]
        return drawn or list(model.roots)
    places = {row.name: place for place, row in reversed(list(enumerate(model.nodes)))}
    for name in nodes:
        if name not in places:
            raise FileError(file, f"has no node called {name[:100]!r}")
    return [places[name] for name in nodes]


def levels_of(model: Model, branches: Sequence[int], imposter: tuple[str, int], chain: Chain) -> tuple[Level, ...]:
    """Return the levels of a chain, the nearest first; own levels that the imposter covers are left out.

    Parameters
    ----------
    imposter : its name and its triangles
    """
    name, triangles = imposter
    own = [(place, model.nodes[place].name) for place in (_own_levels(model, branches) if len(branches) == 1 else ())]
    shares = list(model.nodes[branches[0]].coverage) if own else []
    # A level without a share is half as high as the one before.
    while len(shares) <= len(own):
        shares.append(shares[-1] / 2 if shares else 0.5)
    if len(branches) == 1:
        name = model.nodes[branches[0]].name or name
    # By MSFT_lod a thing keeps its name; nodes beside each other are told by their endings.
    first = name if chain.form is ChainForm.LEVELS else f"{name}_LOD0"
    rows = [(first, -1 if len(branches) > 1 else branches[0], _triangles(model, branches))]
    kept = [max(shares[0], chain.switch)] if own else [chain.switch]
    for (place, label), before, share in zip(own, shares, shares[1:], strict=False):
        if before > chain.switch:
            rows.append((label or f"{name}_LOD{len(rows)}", place, _triangles(model, [place])))
            kept.append(max(share, chain.switch))
    # What is drawn last before the imposter is drawn down to it.
    kept[-1] = chain.switch
    found = [Level(label, place, count, share) for (label, place, count), share in zip(rows, kept, strict=True)]
    return (*found, Level(f"{name}_LOD{len(found)}", -1, triangles, chain.vanish))


def _own_levels(model: Model, branches: Sequence[int]) -> tuple[int, ...]:
    return model.nodes[branches[0]].levels


def _triangles(model: Model, branches: Sequence[int]) -> int:
    stand_ins = {place for node in model.nodes for level in node.levels for place in model.below(level)}
    mine = {place for branch in branches for place in model.below(branch)}
    mine -= stand_ins - {place for branch in branches if branch in stand_ins for place in model.below(branch)}
    return sum(
        model.nodes[n].copies * sum(len(p.triangles) for p in model.meshes[mesh].primitives)
        for n in mine
        if (mesh := model.nodes[n].mesh) is not None
    )


@dataclass(frozen=True, eq=False)
class ChainPlan:
    """What a chain is of.

    Parameters
    ----------
    branches : the nodes that the imposter stands for; pivot : (3,) what of the scene stands at its origin
    levels : the nearest first, the imposter last
    """

    settings: Chain
    branches: tuple[int, ...]
    pivot: Floats
    levels: tuple[Level, ...]


def chain_plan(model: Model, settings: Imposter, pivot: Floats, triangles: int) -> ChainPlan | None:
    """Return the chain of a model and its imposter of so many triangles, None where none is asked for.

    Raises
    ------
    FileError : a node is named that the model has not
    """
    if settings.chain is None:
        return None
    branches = branches_of(model, settings.nodes, settings.source_model)
    name = PurePosixPath(settings.name).name
    levels = levels_of(model, branches, (name, triangles), settings.chain)
    return ChainPlan(settings.chain, tuple(branches), pivot, levels)


def chained(
    source: SourceModel,
    plan: ChainPlan,
    imposter: Document,
    rest: Callable[[int], Mapping[str, Any] | None] = lambda _: None,
) -> bytes:
    """Return a model with its imposter as one of its levels, as GLB.

    Parameters
    ----------
    imposter : its own model
    rest : returns what an image row of the source holds in the new file, by its place; None leaves it as it is

    Raises
    ------
    Unsupported : the branches hang on different nodes, so that no one node stands for them
    FileError : a buffer cannot be read
    """
    document, model, branches, levels = source.document, source.model, plan.branches, plan.levels
    raw = copy.deepcopy(document.raw)
    for place, image in enumerate(raw.get("images", [])):
        image["place before"] = place
    buffer = ChunkWriter(raw)
    with_one_buffer(document, buffer)
    nodes = raw["nodes"]
    parent = _parent_of(raw, branches, document)
    last = _added(raw, buffer, imposter)
    above = np.eye(4) if parent < 0 else model.world_matrices()[parent]
    moved = np.eye(4)
    moved[:3, 3] = plan.pivot
    nodes[last] |= {"name": levels[-1].name}
    matrix = np.linalg.inv(above) @ moved
    if not np.allclose(matrix, np.eye(4)):
        nodes[last]["matrix"] = matrix.T.reshape(-1).tolist()
    _joined(raw, parent, branches, last, levels, plan.settings)
    for image in raw.get("images", []):
        if "place before" in image:
            found = rest(image.pop("place before"))
            if found is not None:
                hold_image(image, buffer, found)
    raw["buffers"] = [{"byteLength": len(buffer.data) + -len(buffer.data) % 4}]
    return pack_glb(msgspec.json.encode(raw), bytes(buffer.data))


def _parent_of(raw: dict[str, Any], branches: Sequence[int], document: Document) -> int:
    """Return the node that all branches hang on, -1 where that is the scene."""
    parents = {child: place for place, row in enumerate(raw["nodes"]) for child in row.get("children", [])}
    found = {parents.get(branch, -1) for branch in branches}
    if len(found) > 1:
        names = ", ".join(str(raw["nodes"][branch].get("name", branch)) for branch in branches)
        raise Unsupported(
            f"{document.place.file}: {names} hang on different nodes, so that no one level can stand for all of them"
        )
    return found.pop()


def _joined(
    raw: dict[str, Any], parent: int, branches: Sequence[int], last: int, levels: Sequence[Level], chain: Chain
) -> None:
    """Put the levels of a chain into the scene."""
    nodes = raw["nodes"]
    own = [level.node for level in levels[1:-1]]
    by_name = chain.form is ChainForm.NAMED
    if len(branches) == 1 and nodes[branches[0]].get("extensions", {}).get(_LEVELS):
        first = branches[0]
    else:
        nodes.append({"name": levels[0].name, "children": list(branches)})
        first = len(nodes) - 1
    if by_name:
        nodes[first].get("extensions", {}).pop(_LEVELS, None)
        nodes[first].get("extras", {}).pop(_SHARES, None)
    else:
        nodes[first].setdefault("extensions", {})[_LEVELS] = {"ids": [*own, last]}
        extras = nodes[first].get("extras")
        kept = extras if isinstance(extras, dict) else {} if extras is None else {"before": extras}
        nodes[first]["extras"] = kept | {_SHARES: [round(level.share, 6) for level in levels]}
        used = raw.setdefault("extensionsUsed", [])
        used += [] if _LEVELS in used else [_LEVELS]
    in_place = [first, *own, last] if by_name else [first]

    def replaced(rows: list[int]) -> list[int]:
        kept = [row for row in rows if row not in branches and row not in in_place]
        return [*kept, *in_place] if any(row in branches for row in rows) else rows

    if parent >= 0:
        nodes[parent]["children"] = replaced(nodes[parent]["children"])
        return
    if not raw.get("scenes"):
        below = {child for row in nodes for child in row.get("children", [])}
        raw["scenes"], raw["scene"] = [{"nodes": [n for n in range(len(nodes)) if n not in below]}], 0
    for scene in raw["scenes"]:
        scene["nodes"] = replaced(scene.get("nodes", []))


def _added(raw: dict[str, Any], buffer: ChunkWriter, other: Document) -> int:
    """Add all rows of another document of one node, and return the place of that."""
    rows = copy.deepcopy(other.raw)
    views = [
        buffer.view(bytes(other.view(place)), view.get("target")) for place, view in enumerate(rows["bufferViews"])
    ]
    starts = {
        kind: len(raw.get(kind, [])) for kind in ("accessors", "images", "samplers", "textures", "materials", "meshes")
    }
    for row in rows["accessors"]:
        row["bufferView"] = views[row["bufferView"]]
    for row in rows.get("images", []):
        if "bufferView" in row:
            row["bufferView"] = views[row["bufferView"]]
    for row in rows.get("textures", []):
        row["source"] += starts["images"]
        row["sampler"] += starts["samplers"]
    for row in rows["materials"]:
        _moved_textures(row, starts["textures"])
    for row in rows["meshes"]:
        for primitive in row["primitives"]:
            primitive["attributes"] = {k: v + starts["accessors"] for k, v in primitive["attributes"].items()}
            primitive["indices"] += starts["accessors"]
            primitive["material"] += starts["materials"]
    for kind in starts:
        raw.setdefault(kind, []).extend(rows.get(kind, []))
        if not raw[kind]:
            del raw[kind]
    raw["nodes"].append({"mesh": starts["meshes"]})
    return len(raw["nodes"]) - 1


def _moved_textures(value: Any, start: int) -> None:
    if isinstance(value, dict):
        for key, row in value.items():
            if key.endswith("Texture") and isinstance(row, dict) and "index" in row:
                row["index"] += start
            _moved_textures(row, start)
