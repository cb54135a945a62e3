"""Vertex data of a glTF document: what no material needs left out, what is the same shared, the rest smaller and in better order.

Fewer bits by KHR_mesh_quantization, ratified: positions, normals, tangents and UVs as integers, whose scale is in the node that
draws them, or in the matrices of the skin that bends them. Colours, weights, joints and indices may be narrower in glTF 2.0 itself.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.trim.cachekernel import cache_misses, ordered_triangles
from oaktrim.core.trim.rework import Rework, Row

Floats = NDArray[np.float64]

CACHE = 16
_QUANTIZED, _INSTANCES = "KHR_mesh_quantization", "EXT_mesh_gpu_instancing"
_TRIANGLES, _FLOATS, _USHORTS = 4, 5126, 5123
# Directions may be turned by this where their bits are fewer, degrees.
DEGREES = 1.0
_BYTE, _SHORT, _USHORT = 127, 32767, 65535
_TANGENTS = ("normalTexture", "clearcoatNormalTexture", "anisotropyTexture")
# UVs that are so little beyond the tile are in it.
_JUST = 1e-5


@dataclass
class VertexReport:
    """What became of vertex data.

    Parameters
    ----------
    dropped : bytes of attributes that went, by name
    shared : meshes that became another
    misses : vertices that the cache had to have worked on, before and after; triangles : of which
    millimetres, degrees : the farthest that a position was moved and a direction turned; uv : of a UV, in tiles
    left : why positions stay as they are, in sentences
    """

    dropped: dict[str, int] = field(default_factory=dict)
    shared: int = 0
    misses: tuple[int, int] = (0, 0)
    triangles: int = 0
    millimetres: float = 0.0
    degrees: float = 0.0
    uv: float = 0.0
    left: list[str] = field(default_factory=list)


def primitives_of(raw: dict[str, Any]) -> Iterator[tuple[int, Row]]:
    """Yield the draws of all meshes with the place of their mesh."""
    for place, mesh in enumerate(raw.get("meshes", ())):
        for primitive in mesh.get("primitives", ()):
            yield place, primitive


def materials_of(primitive: Row) -> list[int | None]:
    """Return the materials that a draw may have: its own, and those of variants."""
    found: list[int | None] = [primitive.get("material")]
    mappings = primitive.get("extensions", {}).get("KHR_materials_variants", {}).get("mappings", ())
    return found + [row.get("material") for row in mappings]


def needed(raw: dict[str, Any], primitive: Row, skinned: bool) -> set[str]:
    """Return the attributes of a draw that something reads: of those that are not of glTF's own names, all."""
    found = {name for name in primitive["attributes"] if name.startswith("_") or name == "POSITION"}
    if skinned:
        found |= {name for name in primitive["attributes"] if name.startswith(("JOINTS_", "WEIGHTS_"))}
    found.add("COLOR_0")
    for place in materials_of(primitive):
        material = raw["materials"][place] if place is not None and place < len(raw.get("materials", ())) else {}
        if "KHR_materials_unlit" not in material.get("extensions", {}):
            found.add("NORMAL")
        for name, info in _texture_infos(material):
            uv_set = (
                info.get("extensions", {}).get("KHR_texture_transform", {}).get("texCoord", info.get("texCoord", 0))
            )
            found.add(f"TEXCOORD_{uv_set}")
            if name in _TANGENTS:
                found.add("TANGENT")
        if "KHR_materials_anisotropy" in material.get("extensions", {}):
            found.add("TANGENT")
    return found


def _texture_infos(part: Any) -> Iterator[tuple[str, Row]]:
    if isinstance(part, dict):
        for key, value in part.items():
            if key.endswith("Texture") and isinstance(value, dict) and "index" in value:
                yield key, value
            yield from _texture_infos(value)
    elif isinstance(part, list):
        for value in part:
            yield from _texture_infos(value)


def unused_attributes(rework: Rework) -> dict[str, int]:
    """Return the bytes of attributes that nothing reads, by name."""
    raw, found = rework.raw, dict[str, int]()
    skinned = _skinned_meshes(raw)
    seen: set[int] = set()
    for mesh, primitive in primitives_of(raw):
        kept = needed(raw, primitive, mesh in skinned)
        for name, place in primitive.get("attributes", {}).items():
            if (name not in kept or _is_white(rework, name, place)) and place not in seen:
                seen.add(place)
                found[name] = found.get(name, 0) + rework.stored(place).nbytes
    return found


def drop_unused(rework: Rework, report: VertexReport) -> None:
    """Leave out attributes that nothing reads, narrow indices, and have meshes that are the same be one."""
    raw = rework.raw
    report.dropped = unused_attributes(rework)
    skinned, narrow = _skinned_meshes(raw), dict[int, int]()
    for mesh, primitive in primitives_of(raw):
        kept = needed(raw, primitive, mesh in skinned)
        attributes = primitive["attributes"]
        for name in [n for n, place in attributes.items() if n not in kept or _is_white(rework, n, place)]:
            del attributes[name]
            for target in primitive.get("targets", ()):
                target.pop(name, None)
        if "indices" in primitive:
            place = primitive["indices"]
            if place not in narrow:
                narrow[place] = _narrowed(rework, place)
            primitive["indices"] = narrow[place]
    report.shared = _share_meshes(rework)


def _is_white(rework: Rework, name: str, place: int) -> bool:
    """Say whether an attribute is colours that change nothing."""
    return name == "COLOR_0" and bool((rework.floats(place) == 1).all())


def _narrowed(rework: Rework, place: int) -> int:
    """Return an accessor of indices in 16 bits, where they fit; the highest value ends strips (clause 3.7.2.1)."""
    values = rework.stored(place)
    if values.dtype.itemsize <= 2 or int(values.max()) >= _USHORT:
        return place
    return rework.add(values.astype(np.uint16))


def _skinned_meshes(raw: dict[str, Any]) -> set[int]:
    return {node["mesh"] for node in raw.get("nodes", ()) if "mesh" in node and "skin" in node}


def _share_meshes(rework: Rework) -> int:
    """Have nodes whose meshes hold the same name one of them; return how many meshes that leaves unnamed."""
    rework.share()
    first: dict[bytes, int] = {}
    instead: dict[int, int] = {}
    for place, mesh in enumerate(rework.rows("meshes")):
        key = msgspec.json.encode({name: value for name, value in mesh.items() if name != "name"}, order="sorted")
        instead[place] = first.setdefault(key, place)
    for node in rework.rows("nodes"):
        if "mesh" in node:
            node["mesh"] = instead.get(node["mesh"], node["mesh"])
    return sum(place != target for place, target in instead.items())


def order_triangles(rework: Rework, report: VertexReport) -> None:
    """Have triangles stand in the order that suits a cache of `CACHE` vertices, and vertices in the order of their first use."""
    raw = rework.raw
    uses: dict[int, int] = {}
    for _, primitive in primitives_of(raw):
        for place in _vertex_accessors(primitive):
            uses[place] = uses.get(place, 0) + 1
    before = after = 0
    for _, primitive in primitives_of(raw):
        if primitive.get("mode", _TRIANGLES) != _TRIANGLES or "indices" not in primitive:
            continue
        stored = rework.stored(primitive["indices"])
        indices = stored[:, 0].astype(np.int64)[: len(stored) // 3 * 3]
        count = len(rework.stored(primitive["attributes"]["POSITION"])) if "POSITION" in primitive["attributes"] else 0
        if not len(indices) or not count or int(indices.max()) >= count:
            continue
        was = int(cache_misses(indices, count, CACHE))
        ordered = np.empty_like(indices)
        ordered_triangles(indices, count, CACHE, ordered)
        now = int(cache_misses(ordered, count, CACHE))
        before, report.triangles = before + was, report.triangles + len(indices) // 3
        after += min(was, now)
        if now >= was:
            continue
        places = _vertex_accessors(primitive)
        if all(uses[place] == 1 and not rework.is_sparse(place) for place in places):
            ordered = _in_order_of_use(rework, primitive, ordered, count)
        primitive["indices"] = rework.add(ordered.astype(stored.dtype))
    report.misses = before, after


def _vertex_accessors(primitive: Row) -> list[int]:
    found = list(primitive.get("attributes", {}).values())
    return found + [place for target in primitive.get("targets", ()) for place in target.values()]


def _in_order_of_use(rework: Rework, primitive: Row, indices: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Bring a draw's vertices to the order in which its triangles name them, and return these; what none names goes."""
    _, first = np.unique(indices, return_index=True)
    order = indices[np.sort(first)]
    place_of = np.full(count, -1, np.int64)
    place_of[order] = np.arange(len(order))
    for holder in (primitive["attributes"], *primitive.get("targets", ())):
        for name, place in holder.items():
            row = rework.accessor(place)
            values = rework.stored(place)
            if len(values) == count:
                holder[name] = rework.add(values[order], bool(row.get("normalized")), "min" in row)
    return place_of[indices]


@dataclass(frozen=True)
class _Grid:
    """How positions are stored: steps from a centre."""

    centre: Floats
    scale: float
    top: int

    def steps(self, points: Floats, moved: bool = True) -> NDArray[Any]:
        found = np.rint((points - (self.centre if moved else 0)) / self.scale * self.top)
        return np.clip(found, -self.top, self.top).astype(np.int8 if self.top == _BYTE else np.int16)

    def back(self, steps: NDArray[Any], moved: bool = True) -> Floats:
        found: Floats = steps.astype(np.float64) / self.top * self.scale + (self.centre if moved else 0)
        return found

    @property
    def matrix(self) -> Floats:
        """From what is stored to what it means, (4, 4)."""
        found = np.diag([self.scale, self.scale, self.scale, 1.0])
        found[:3, 3] = self.centre
        return found


def quantize(rework: Rework, millimetres: float, scales: dict[int, float], report: VertexReport) -> None:
    """Store vertex data in fewer bits.

    Parameters
    ----------
    millimetres : how far a vertex may move in the world
    scales : how large a metre of what each node draws is in the world, at most, by the identity of the node's row
    """
    size_of: dict[int, float] = {}
    for node in rework.rows("nodes"):
        if "mesh" in node:
            size_of[node["mesh"]] = max(size_of.get(node["mesh"], 0.0), scales.get(id(node), 1.0))
    raw, made = rework.raw, dict[tuple[int, str], int]()
    grids = _grids(rework, millimetres, size_of, report)
    changed = False
    for mesh, primitive in list(primitives_of(raw)):
        for holder, is_target in ((primitive["attributes"], False), *((t, True) for t in primitive.get("targets", ()))):
            for name, place in list(holder.items()):
                key = (place, f"{name} {mesh if name == 'POSITION' else ''} {is_target}")
                if key not in made:
                    made[key] = _stored_smaller(
                        rework, name, place, grids.get(mesh), is_target, report, size_of.get(mesh, 1.0)
                    )
                changed |= (made[key] != place and name in ("POSITION", "NORMAL", "TANGENT")) or (
                    made[key] != place and name.startswith("TEXCOORD")
                )
                holder[name] = made[key]
    _hang(rework, grids)
    if changed:
        for listed in ("extensionsUsed", "extensionsRequired"):
            names = raw.setdefault(listed, [])
            if _QUANTIZED not in names:
                names.append(_QUANTIZED)


def _stored_smaller(
    rework: Rework, name: str, place: int, grid: _Grid | None, is_target: bool, report: VertexReport, size: float
) -> int:
    """Return an accessor that holds the same in fewer bits; itself where it has few or they would not do."""
    row, kind = rework.accessor(place), name.split("_", maxsplit=1)[0]
    if rework.is_sparse(place):
        return place
    if kind == "JOINTS":
        small = row["componentType"] == _USHORTS and int(rework.stored(place).max()) <= np.iinfo(np.uint8).max
        return rework.add(rework.stored(place).astype(np.uint8)) if small else place
    if row["componentType"] != _FLOATS:
        return place
    if kind == "POSITION" and grid is not None:
        points = rework.floats(place)
        steps = grid.steps(points, not is_target)
        off = float(np.sqrt(np.square(grid.back(steps, not is_target) - points).sum(axis=1)).max()) * size * 1000
        report.millimetres = max(report.millimetres, off)
        return rework.add(steps, True, True)
    if kind in ("NORMAL", "TANGENT") and not is_target:
        return _directions(rework, place, report)
    if kind == "WEIGHTS":
        return rework.add(_whole_weights(rework.floats(place)), True)
    return _within_one(rework, kind, place, report) if kind in ("TEXCOORD", "COLOR") else place


def _within_one(rework: Rework, kind: str, place: int, report: VertexReport) -> int:
    """Return UVs or colours as normalised integers; as they are where they go beyond 0..1."""
    values = rework.floats(place)
    if values.min() < -_JUST or values.max() > 1 + _JUST:
        return place
    if kind == "COLOR":
        return rework.add(np.rint(np.clip(values, 0, 1) * 255).astype(np.uint8), True)
    steps = np.rint(np.clip(values, 0, 1) * _USHORT).astype(np.uint16)
    report.uv = max(report.uv, float(np.abs(steps / _USHORT - values).max()))
    return rework.add(steps, True)


def _directions(rework: Rework, place: int, report: VertexReport) -> int:
    values = rework.floats(place)
    unit = values[:, :3] / np.maximum(np.linalg.norm(values[:, :3], axis=1, keepdims=True), 1e-12)
    for top, kind in ((_BYTE, np.int8), (_SHORT, np.int16)):
        steps = np.rint(np.concatenate([unit, values[:, 3:]], axis=1) * top).astype(kind)
        back = steps[:, :3] / np.maximum(np.linalg.norm(steps[:, :3], axis=1, keepdims=True), 1e-12)
        turned = float(np.degrees(2 * np.arcsin(np.clip(np.linalg.norm(back - unit, axis=1) / 2, 0, 1))).max())
        if turned <= DEGREES:
            report.degrees = max(report.degrees, turned)
            return rework.add(steps, True)
    return place


def _whole_weights(weights: Floats) -> NDArray[np.uint16]:
    """Return weights as whole steps that add up to full where the weights do."""
    steps = np.rint(np.clip(weights, 0, 1) * _USHORT).astype(np.int64)
    total = np.where(np.abs(weights.sum(axis=1) - 1) < 1e-3, _USHORT - steps.sum(axis=1), 0)
    steps[np.arange(len(steps)), steps.argmax(axis=1)] += total
    return np.clip(steps, 0, _USHORT).astype(np.uint16)


def _grids(rework: Rework, millimetres: float, size_of: dict[int, float], report: VertexReport) -> dict[int, _Grid]:
    """Return how positions of each mesh are stored, where they can be: one grid for all that hang on one skin."""
    raw = rework.raw
    by_mesh: dict[int, list[Row]] = {}
    for node in rework.rows("nodes"):
        if "mesh" in node:
            by_mesh.setdefault(node["mesh"], []).append(node)
    groups: dict[object, list[int]] = {}
    for mesh in range(len(rework.rows("meshes"))):
        nodes = by_mesh.get(mesh, [])
        skins = {node.get("skin") for node in nodes}
        name = raw["meshes"][mesh].get("name") or f"mesh {mesh}"
        if len(skins) > 1:
            report.left.append(f"{name} hangs on several skins, or on one and on none")
        elif any(_INSTANCES in node.get("extensions", {}) for node in nodes):
            report.left.append(f"{name} is drawn in many places at once, in front of which no scale fits")
        elif nodes:
            skin = next(iter(skins))
            groups.setdefault(("mesh", mesh) if skin is None else ("skin", skin), []).append(mesh)
    found: dict[int, _Grid] = {}
    for meshes in groups.values():
        points = [
            rework.floats(primitive["attributes"]["POSITION"])
            for mesh, primitive in primitives_of(raw)
            if mesh in meshes and "POSITION" in primitive.get("attributes", {})
        ]
        moves = [
            rework.floats(target["POSITION"])
            for mesh, primitive in primitives_of(raw)
            if mesh in meshes
            for target in primitive.get("targets", ())
            if "POSITION" in target and not rework.is_sparse(target["POSITION"])
        ]
        sparse = any(
            rework.is_sparse(place)
            for mesh, primitive in primitives_of(raw)
            if mesh in meshes
            for holder in (primitive.get("attributes", {}), *primitive.get("targets", ()))
            for name, place in holder.items()
            if name == "POSITION"
        )
        grid = (
            None
            if sparse or not points
            else _grid(points, moves, millimetres, max(size_of.get(m, 1.0) for m in meshes))
        )
        found |= {} if grid is None else dict.fromkeys(meshes, grid)
    return found


def _grid(points: list[Floats], moves: list[Floats], millimetres: float, size: float) -> _Grid | None:
    """Return the coarsest grid on which no vertex moves farther than it may, or None where none is fine enough."""
    low, high = np.min([p.min(axis=0) for p in points], axis=0), np.max([p.max(axis=0) for p in points], axis=0)
    scale = float(max([(high - low).max() / 2, *(np.abs(m).max() for m in moves)]))
    if not np.isfinite(scale) or scale <= 0:
        return None
    # Every shape at full moves by half a step too.
    shapes = 1 + len(moves)
    for top in (_BYTE, _SHORT):
        if np.sqrt(3) / 2 * scale / top * size * 1000 * shapes <= millimetres:
            return _Grid((low + high) / 2, scale, top)
    return None


def _hang(rework: Rework, grids: dict[int, _Grid]) -> None:
    """Have what draws a mesh scale what is stored: the skin's matrices, or a node of its own below the mesh's."""
    raw, nodes = rework.raw, rework.rows("nodes")
    skins: dict[int, _Grid] = {}
    for place in range(len(nodes)):
        node = nodes[place]
        grid = grids.get(node.get("mesh", -1))
        if grid is None:
            continue
        if "skin" in node:
            skins[node["skin"]] = grid
            continue
        held = {name: node.pop(name) for name in ("mesh", "weights") if name in node}
        row = held | {"translation": grid.centre.tolist(), "scale": [grid.scale] * 3}
        nodes.append(row)
        node.setdefault("children", []).append(len(nodes) - 1)
        for animation in rework.rows("animations"):
            for channel in animation.get("channels", ()):
                target = channel.get("target", {})
                if target.get("node") == place and target.get("path") == "weights":
                    target["node"] = len(nodes) - 1
    for place, grid in skins.items():
        skin = raw["skins"][place]
        count = len(skin["joints"])
        if "inverseBindMatrices" in skin:
            # Columns stand first.
            held_matrices = rework.floats(skin["inverseBindMatrices"])[:count].reshape(-1, 4, 4).transpose(0, 2, 1)
        else:
            held_matrices = np.tile(np.eye(4), (count, 1, 1))
        scaled = (held_matrices @ grid.matrix).transpose(0, 2, 1).reshape(-1, 16)
        skin["inverseBindMatrices"] = rework.add(scaled.astype(np.float32))
