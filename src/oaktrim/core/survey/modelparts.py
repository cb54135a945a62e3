"""What a glTF model is made of, for cuts: nodes that draw, variants and scenes, vertex data by attribute, and idle motion."""

from __future__ import annotations

import logging
from collections import Counter
from dataclasses import dataclass, field

import msgspec
import numpy as np

from oaktrim.core.errors import FileError
from oaktrim.core.files.gltf import Document
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.scene.model import Model
from oaktrim.core.survey.facts import ClipFacts, NodeFacts, VertexFacts
from oaktrim.core.trim.clips import curves_of, hierarchy_of
from oaktrim.core.trim.merging import join_draws, merge_materials
from oaktrim.core.trim.motion import Curve, Hierarchy, MotionBound, reduce_motion
from oaktrim.core.trim.rework import Rework
from oaktrim.core.trim.vertices import (
    VertexReport,
    drop_unused,
    materials_of,
    order_triangles,
    primitives_of,
    unused_attributes,
)

_LOG = logging.getLogger(__name__)
# Of clips that take less, keys are not looked at.
_WORTH = 1 << 14
_USUAL = MotionBound(1.0, 1.0)
_VARIANTS = "KHR_materials_variants"
# What is the same but for how it is stored.
_SAME = 1e-6


@dataclass(frozen=True)
class Parts:
    """What a model is made of; see `ModelFacts`."""

    clips: tuple[ClipFacts, ...]
    nodes: tuple[NodeFacts, ...] = ()
    scenes: dict[str, tuple[int, ...]] = field(default_factory=dict)
    variants: dict[str, tuple[int, ...]] = field(default_factory=dict)
    vertices: VertexFacts = field(default_factory=VertexFacts)
    held: str = ""


def parts_of(document: Document, clips: tuple[ClipFacts, ...]) -> Parts:
    """Return what a document is made of; of one that is damaged, or that cannot be written again, only why."""
    try:
        model = model_of(document, whole=True)
        if model.faults:
            return Parts(clips, held=f"it is damaged: {model.faults[0]}")
        rework = Rework(document)
        hierarchy = hierarchy_of(rework, model) if clips else None
        told = clips if hierarchy is None else _clips(rework, hierarchy, clips)
        scenes, variants, used = _scenes(document), _variants(document), _mesh_materials(document)
        vertices, joined = _vertices(rework)
        return Parts(told, _nodes(model, used, joined), scenes, variants, vertices)
    except FileError as error:
        return Parts(clips, held=error.fault)
    except Exception as error:  # a damaged document fails wherever it is looked at; it is still weighed
        _LOG.exception("%s cannot be looked into", document.place.file)
        return Parts(clips, held=f"it is damaged: {error!r}"[:300])


def _mesh_materials(document: Document) -> list[tuple[int, ...]]:
    """Return the materials that each mesh may wear, those of variants too."""
    found = []
    for mesh in document.raw.get("meshes", ()):
        rows = (row for primitive in mesh.get("primitives", ()) for row in materials_of(primitive))
        found.append(tuple(dict.fromkeys(row for row in rows if row is not None)))
    return found


def _nodes(model: Model, used: list[tuple[int, ...]], joined: list[int]) -> tuple[NodeFacts, ...]:
    uses = Counter(node.mesh for node in model.nodes if node.mesh is not None)
    parents = {child: place for place, node in enumerate(model.nodes) for child in node.children}
    drawing = set[int]()
    for place, node in enumerate(model.nodes):
        at: int | None = place if node.mesh is not None else None
        while at is not None and at not in drawing:
            drawing.add(at)
            at = parents.get(at)
    listed = sorted(drawing)
    number = {place: n for n, place in enumerate(listed)}
    shown = model.world_matrices()
    found = []
    for place in listed:
        node = model.nodes[place]
        primitives = model.meshes[node.mesh].primitives if node.mesh is not None else ()
        found.append(
            NodeFacts(
                node.name, place, number.get(parents.get(place, -1), -1),
                () if node.mesh is None else used[node.mesh],
                sum(node.copies * primitive.count for primitive in primitives), node.copies * len(primitives),
                model.meshes[node.mesh].data_bytes if node.mesh is not None and uses[node.mesh] == 1 else 0,
                0 if node.mesh is None else node.copies * joined[node.mesh], place in shown,
            )
        )  # fmt: skip
    return tuple(found)


def _scenes(document: Document) -> dict[str, tuple[int, ...]]:
    shown = document.root.scene or 0
    return {
        row.name or f"scene {place}": tuple(row.nodes)
        for place, row in enumerate(document.root.scenes)
        if place != shown and row.nodes
    }


def _variants(document: Document) -> dict[str, tuple[int, ...]]:
    """Return the materials that only stand for each variant, by its name."""
    listed = document.raw.get("extensions", {}).get(_VARIANTS, {}).get("variants", ())
    own: dict[int, set[int]] = {}
    worn: Counter[int] = Counter()
    for _, primitive in primitives_of(document.raw):
        worn.update([primitive["material"]] if "material" in primitive else [])
        for row in primitive.get("extensions", {}).get(_VARIANTS, {}).get("mappings", ()):
            for place in row.get("variants", ()):
                own.setdefault(place, set()).add(row.get("material"))
    shared = Counter(material for materials in own.values() for material in materials)
    return {
        str(row.get("name", f"variant {place}")): tuple(
            sorted(m for m in own.get(place, ()) if shared[m] == 1 and not worn[m])
        )
        for place, row in enumerate(listed)
    }


def _clips(rework: Rework, hierarchy: Hierarchy, clips: tuple[ClipFacts, ...]) -> tuple[ClipFacts, ...]:
    found = []
    for clip, animation in zip(clips, rework.rows("animations"), strict=True):
        curves = [curve for curve in curves_of(rework, animation) if curve is not None]
        idle = sum(_says_nothing(curve, hierarchy) for curve in curves)
        # Weights of shapes move a node too; a channel that names no node moves nothing (glTF 2.0, clause 3.11).
        targets = (channel.get("target", {}).get("node") for channel in animation.get("channels", ()))
        moved = {node for node in targets if isinstance(node, int) and 0 <= node < len(rework.rows("nodes"))}
        needed = -1
        if clip.data_bytes >= _WORTH and curves:
            needed = reduce_motion(curves, hierarchy, _USUAL).after
        found.append(msgspec.structs.replace(clip, idle=idle, moves=len(moved), needed=needed))
    return tuple(found)


def _says_nothing(curve: Curve, hierarchy: Hierarchy) -> bool:
    rest = hierarchy.rest[("translation", "rotation", "scale").index(curve.path)][curve.node]
    values = curve.at(curve.times)
    apart = np.abs(values - rest).max()
    if curve.path == "rotation":
        apart = min(apart, np.abs(values + rest).max())
    return bool(apart <= _SAME)


def _vertices(rework: Rework) -> tuple[VertexFacts, list[int]]:
    """Return what is known of vertex data, and how many draws of each mesh could be joined; the document is used up."""
    attributes: dict[str, int] = {}
    seen: set[int] = set()
    for _, primitive in primitives_of(rework.raw):
        named = {
            **primitive.get("attributes", {}),
            **({"indices": primitive["indices"]} if "indices" in primitive else {}),
        }
        for name, place in named.items():
            if place not in seen:
                seen.add(place)
                attributes[name] = attributes.get(name, 0) + rework.stored(place).nbytes
    unused = unused_attributes(rework)
    wide = sum(rework.stored(place).nbytes for place in _indices(rework))
    report, meshes = VertexReport(), rework.rows("meshes")
    drop_unused(rework, report)
    narrow = wide - sum(rework.stored(place).nbytes for place in _indices(rework))
    same = merge_materials(rework)
    draws = [len(mesh.get("primitives", ())) for mesh in meshes]
    join_draws(rework)
    joined = [before - len(mesh.get("primitives", ())) for before, mesh in zip(draws, meshes, strict=True)]
    order_triangles(rework, report)
    facts = VertexFacts(
        attributes,
        unused,
        narrow,
        report.shared,
        report.misses[0],
        report.misses[1],
        report.triangles,
        same,
        sum(joined),
    )
    return facts, joined


def _indices(rework: Rework) -> set[int]:
    return {primitive["indices"] for _, primitive in primitives_of(rework.raw) if "indices" in primitive}
