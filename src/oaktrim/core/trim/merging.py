"""Materials of a glTF document: those that are the same made one, and draws of a mesh that then have one material joined."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

from oaktrim.core.trim.references import sites
from oaktrim.core.trim.rework import Rework, Row

_TRIANGLES = 4


def merge_materials(rework: Rework) -> int:
    """Have all that wears materials which are the same but for their names wear the first of them; return how many go."""
    raw = rework.raw
    _share_rows(raw, "samplers", "textures")
    _share_rows(raw, "textures", "materials")
    return _share_rows(raw, "materials", "meshes")


def _share_rows(raw: dict[str, Any], kind: str, owners: str) -> int:
    """Have all that names rows of a list which hold the same name the first; return how many are not named any more."""
    first: dict[bytes, int] = {}
    instead: dict[int, int] = {}
    for place, row in enumerate(raw.get(kind, ())):
        key = msgspec.json.encode({name: value for name, value in row.items() if name != "name"}, order="sorted")
        instead[place] = first.setdefault(key, place)
    for owner in raw.get(owners, ()):
        for target, (holder, key) in sites(raw, owners, owner):
            if target == kind:
                holder[key] = instead.get(holder[key], holder[key])
    return sum(place != target for place, target in instead.items())


def join_draws(rework: Rework) -> int:
    """Join draws of a mesh that have one material and hold the same kinds of data; return how many draws that saves."""
    joined = 0
    for mesh in rework.rows("meshes"):
        groups: dict[object, list[Row]] = {}
        for number, primitive in enumerate(mesh.get("primitives", ())):
            groups.setdefault(_alike(rework, primitive) or number, []).append(primitive)
        if len(groups) < len(mesh.get("primitives", ())):
            joined += len(mesh["primitives"]) - len(groups)
            mesh["primitives"] = [_joined(rework, rows) if len(rows) > 1 else rows[0] for rows in groups.values()]
    return joined


def _alike(rework: Rework, primitive: Row) -> object:
    """Return what draws that can be joined have in common, or None where one stands alone."""
    if primitive.get("mode", _TRIANGLES) != _TRIANGLES or primitive.get("targets") or primitive.get("extensions"):
        return None
    if set(primitive) - {"mode", "material", "attributes", "indices"}:
        return None
    shapes = []
    for name, place in sorted(primitive["attributes"].items()):
        row = rework.accessor(place)
        shapes.append((name, row["componentType"], row["type"], bool(row.get("normalized"))))
    return (primitive.get("material"), tuple(shapes))


def _joined(rework: Rework, rows: list[Row]) -> Row:
    attributes, indices, begin = dict[str, int](), [], 0
    for primitive in rows:
        count = len(rework.stored(primitive["attributes"]["POSITION"]))
        own = (
            rework.stored(primitive["indices"])[:, 0].astype(np.int64)
            if "indices" in primitive
            else np.arange(count // 3 * 3)
        )
        indices.append(own[: len(own) // 3 * 3] + begin)
        begin += count
    for name in rows[0]["attributes"]:
        places = [primitive["attributes"][name] for primitive in rows]
        first = rework.accessor(places[0])
        values = np.concatenate([rework.stored(place) for place in places])
        attributes[name] = rework.add(values, bool(first.get("normalized")), "min" in first)
    together = np.concatenate(indices)
    kind = np.uint16 if begin <= np.iinfo(np.uint16).max else np.uint32
    return {**rows[0], "attributes": attributes, "indices": rework.add(together.astype(kind))}
