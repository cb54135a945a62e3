"""A glTF model trimmed by its settings, and what came of it in numbers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from oaktrim.core.errors import FileError
from oaktrim.core.files.gltf import Document
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.scene.model import Model
from oaktrim.core.trim.clips import hierarchy_of, reduce_clips
from oaktrim.core.trim.merging import join_draws, merge_materials
from oaktrim.core.trim.motion import MotionBound, Reduced
from oaktrim.core.trim.rework import Packed, Rework, Row
from oaktrim.core.trim.settings import ModelSettings
from oaktrim.core.trim.vertices import VertexReport, drop_unused, order_triangles, quantize

# What a document whose objects are lists or texts, or whose numbers name nothing, fails with wherever that is met.
_SHAPES = (AttributeError, IndexError, KeyError, TypeError, ValueError)
# What goes where nothing names it any more, once something was left out or became one.
_LOOSE = frozenset({"accessors", "meshes", "materials", "textures", "images", "samplers", "skins", "cameras"})


@dataclass(frozen=True)
class Trimmed:
    """A trimmed model.

    Parameters
    ----------
    file : the document written again
    clip_bytes : of each clip that is left, by its place in the source
    clips : what became of the keys of each clip that was reduced, by its place in the source
    vertices : what became of vertex data
    materials, draws : how many materials became another, and how many draws were joined
    """

    file: Packed
    clip_bytes: Mapping[int, int]
    clips: Mapping[int, Reduced]
    vertices: VertexReport
    materials: int = 0
    draws: int = 0


def trim(document: Document, settings: ModelSettings, buffer_uri: str) -> Trimmed:
    """Return a glTF document trimmed; it is used up.

    Parameters
    ----------
    buffer_uri : what the new buffer is called, of a document that does not hold it

    Raises
    ------
    FileError : it is damaged, or has extensions whose places are not known, so that it has to ship as it is
    """
    model = model_of(document, whole=True)
    if model.faults:
        raise FileError(document.place.file, f"is damaged and ships as it is: {model.faults[0]}")
    try:
        return _trim(document, model, settings, buffer_uri)
    except _SHAPES as error:
        raise document.fault(
            f"is damaged and ships as it is: a part of it is not what it has to be ({error})"
        ) from error


def _trim(document: Document, model: Model, settings: ModelSettings, buffer_uri: str) -> Trimmed:
    rework, report = Rework(document), VertexReport()
    places = {id(row): place for place, row in enumerate(rework.rows("animations"))}
    reduced: Mapping[int, Reduced] = {}
    hierarchy = hierarchy_of(rework, model) if settings.motion or settings.millimetres else None
    if settings.motion and hierarchy is not None:
        reduced = reduce_clips(rework, hierarchy, dict[int, MotionBound](settings.motion))
    _without_clips(rework, settings.clips)
    _without_variants(rework, settings.variants)
    scales = _scales(rework, model) if settings.millimetres else {}
    gone = _below(model, settings.nodes)
    _without_nodes(rework, gone)
    if gone:
        stay = {place for place in range(len(rework.rows("nodes"))) if place not in gone}
        rework.leave_out(_LOOSE | {"nodes"}, {"nodes": stay})
    materials = draws = 0
    if settings.merged:
        materials, draws = merge_materials(rework), join_draws(rework)
    if settings.unused:
        drop_unused(rework, report)
    if settings.ordered:
        order_triangles(rework, report)
    if settings.unused or settings.merged or settings.variants:
        rework.leave_out(_LOOSE)
    if settings.millimetres:
        quantize(rework, settings.millimetres, scales, report)
    sizes = {places[id(row)]: _clip_bytes(rework, row) for row in rework.rows("animations")}
    return Trimmed(rework.pack(buffer_uri), sizes, reduced, report, materials, draws)


def _clip_bytes(rework: Rework, animation: Row) -> int:
    """Return the bytes of a clip's times and values, shared ones once."""
    samplers = animation.get("samplers", ())
    return sum(rework.stored(place).nbytes for place in {s[end] for s in samplers for end in ("input", "output")})


def _without_clips(rework: Rework, places: tuple[int, ...]) -> None:
    if places:
        rows = [row for place, row in enumerate(rework.rows("animations")) if place not in places]
        rework.raw["animations"] = rows
        if not rows:
            del rework.raw["animations"]


def _without_variants(rework: Rework, names: tuple[str, ...]) -> None:
    """Leave out material variants (KHR_materials_variants), and what their draws would wear."""
    listed = rework.raw.get("extensions", {}).get("KHR_materials_variants", {}).get("variants", [])
    gone = {place for place, row in enumerate(listed) if row.get("name") in names}
    if not gone:
        return
    moved = {place: new for new, place in enumerate(place for place in range(len(listed)) if place not in gone)}
    rework.raw["extensions"]["KHR_materials_variants"]["variants"] = [listed[place] for place in moved]
    for mesh in rework.rows("meshes"):
        for primitive in mesh.get("primitives", ()):
            extension = primitive.get("extensions", {}).get("KHR_materials_variants")
            if extension is None:
                continue
            for row in extension.get("mappings", ()):
                row["variants"] = [moved[place] for place in row.get("variants", ()) if place in moved]
            extension["mappings"] = [row for row in extension.get("mappings", ()) if row["variants"]]
            if not extension["mappings"]:
                del primitive["extensions"]["KHR_materials_variants"]
    if not moved:
        del rework.raw["extensions"]["KHR_materials_variants"]
        if not rework.raw["extensions"]:
            del rework.raw["extensions"]
        for name in ("extensionsUsed", "extensionsRequired"):
            if "KHR_materials_variants" in rework.raw.get(name, ()):
                rework.raw[name].remove("KHR_materials_variants")
                if not rework.raw[name]:
                    del rework.raw[name]


def _without_nodes(rework: Rework, gone: set[int]) -> None:
    """Take nodes out of scenes, clips and levels of detail; joints of skins that are left stay."""
    if not gone:
        return
    for scene in rework.rows("scenes"):
        scene["nodes"] = [node for node in scene.get("nodes", ()) if node not in gone]
        if not scene["nodes"]:
            del scene["nodes"]
    for node in rework.rows("nodes"):
        node["children"] = [child for child in node.get("children", ()) if child not in gone]
        if not node["children"]:
            del node["children"]
        levels = node.get("extensions", {}).get("MSFT_lod")
        if levels is not None:
            levels["ids"] = [place for place in levels.get("ids", ()) if place not in gone]
    for animation in rework.rows("animations"):
        animation["channels"] = [row for row in animation["channels"] if row.get("target", {}).get("node") not in gone]
    rows = [row for row in rework.rows("animations") if row["channels"]]
    if rework.rows("animations"):
        rework.raw["animations"] = rows
        if not rows:
            del rework.raw["animations"]


def _below(model: Model, places: tuple[int, ...]) -> set[int]:
    return {node for place in places if 0 <= place < len(model.nodes) for node in model.below(place)}


def _scales(rework: Rework, model: Model) -> dict[int, float]:
    """Return how large a metre of what each node draws is in the world at rest, at most, by the identity of the node's row."""
    found: dict[int, float] = {}
    world = model.world_matrices()
    for place, (node, row) in enumerate(zip(model.nodes, rework.rows("nodes"), strict=True)):
        if node.mesh is None:
            continue
        skin = model.skins[node.skin] if node.skin is not None and 0 <= node.skin < len(model.skins) else None
        matrices = [world.get(place, np.eye(4))]
        if skin is not None and skin.inverse_bind is not None:
            matrices = [world[n] @ back for n, back in zip(skin.nodes, skin.inverse_bind, strict=True) if n in world]
        found[id(row)] = max((float(np.linalg.norm(matrix[:3, :3], 2)) for matrix in matrices), default=1.0)
    return found
