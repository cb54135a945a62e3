"""A model written again with the UVs of an atlas: its own document, but for the draws and materials that are merged.

Everything else is kept as it was read: skins, animations, instances, extras, extensions. Rows that nothing uses any more are left
out where all references to them are known; in a file with extensions that are not, they stay, and only new ones are added.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.gltf import Document, PrimitiveRow, pack_glb
from oaktrim.core.files.gltfchunk import ChunkWriter, hold_image, with_one_buffer
from oaktrim.core.makers.atlas.unused import drop_unused, references_are_known
from oaktrim.core.scene.gltf.meshes import triangle_rows

_VERTICES, _INDICES = 34962, 34963
# Where an image stood before rows were left out.
_PLACE = "place before"
_TEXCOORD, _TANGENT = "TEXCOORD_0", "TANGENT"


@dataclass(frozen=True, eq=False)
class MovedDraw:
    """A draw of which vertices have new UVs.

    Parameters
    ----------
    uv : (N, 2) float32 of each vertex; turn : (N, 2, 2), by which directions of UV are turned
    material : the key of the new material that each triangle has
    """

    mesh: int
    primitive: int
    uv: NDArray[np.float32]
    turn: NDArray[np.float64]
    material: NDArray[np.int64]


@dataclass
class Counts:
    """What a model is drawn with: vertices, draws and materials of its meshes, each counted once."""

    vertices: int = 0
    draws: int = 0
    materials: int = 0


@dataclass(frozen=True, eq=False)
class Rewritten:
    """A model after an atlas.

    Parameters
    ----------
    raw, binary : its JSON and binary chunk; before, after : counts
    seams : vertices added where an island was parted from another of its material or a draw from another
    apart : draws that stay apart though one material has them, as their vertices hold different things
    """

    raw: dict[str, Any]
    binary: bytes
    before: Counts
    after: Counts
    seams: int
    apart: int

    def glb(self) -> bytes:
        """Return the model as GLB."""
        return pack_glb(msgspec.json.encode(self.raw), self.binary)

    def gltf(self, buffer_uri: str) -> tuple[bytes, bytes]:
        """Return the JSON of the model as glTF, and the buffer that stands beside it."""
        raw = dict(self.raw)
        if self.binary:
            raw["buffers"] = [{"byteLength": len(self.binary), "uri": quote(buffer_uri)}]
        return msgspec.json.format(msgspec.json.encode(raw), indent=1) + b"\n", self.binary


def rewritten(
    document: Document,
    before: Document,
    draws: Sequence[MovedDraw],
    materials: Mapping[int, dict[str, Any]],
    sheets: Mapping[int, Any],
    rest: Callable[[int], Mapping[str, Any] | None] = lambda _: None,
) -> Rewritten:
    """Return a document with the UVs and materials of an atlas.

    Parameters
    ----------
    before : the document as it was read, before anything was split
    draws : those that are merged; materials : rows of the new ones by key, their textures named by `sheets`' keys
    sheets : what an image row holds, by key: `uri`, or `data` (with its `mimeType`) that goes into the binary chunk
    rest : returns the same for an image that is kept, by its place in the document; None leaves it as it is

    Raises
    ------
    FileError : the document's buffers cannot be read
    """
    raw = copy.deepcopy(document.raw)
    for place, image in enumerate(raw.get("images", [])):
        image[_PLACE] = place
    buffer = ChunkWriter(raw)
    with_one_buffer(document, buffer)
    used_before = _used_vertices(before)
    textures = {key: _texture(raw, buffer, row) for key, row in sheets.items()}
    places: dict[int, int] = {}
    for key in sorted({int(k) for draw in draws for k in np.unique(draw.material)}):
        raw.setdefault("materials", []).append(_material(materials[key], textures))
        places[key] = len(raw["materials"]) - 1
    by_mesh: dict[int, list[MovedDraw]] = {}
    for draw in draws:
        by_mesh.setdefault(draw.mesh, []).append(draw)
    apart = 0
    for mesh, mine in by_mesh.items():
        apart += _merge(document, raw, buffer, mesh, mine, places)
    known = references_are_known(raw)
    if known:
        buffer.data = drop_unused(raw, buffer.data)
    for image in raw.get("images", []):
        found = rest(image.pop(_PLACE)) if _PLACE in image else None
        if found is not None:
            hold_image(image, buffer, found)
    if known:
        buffer.data = drop_unused(raw, buffer.data)
    raw["buffers"] = [{"byteLength": len(buffer.data) + -len(buffer.data) % 4}] if buffer.data else []
    if not buffer.data:
        raw.pop("buffers")
    after = counted(raw)
    return Rewritten(raw, bytes(buffer.data), counted(before.raw), after, max(0, after.vertices - used_before), apart)


def counted(raw: Mapping[str, Any]) -> Counts:
    """Return what meshes are drawn with."""
    found, accessors, materials = Counts(), set[int](), set[int]()
    for mesh in raw.get("meshes", []):
        for row in mesh["primitives"]:
            found.draws += 1
            materials.add(row.get("material", -1))
            position = row["attributes"].get("POSITION")
            if position is not None and position not in accessors:
                accessors.add(position)
                if 0 <= position < len(raw.get("accessors", [])):
                    found.vertices += raw["accessors"][position].get("count", 0)
    found.materials = len(materials)
    return found


def _used_vertices(document: Document) -> int:
    """Return how many vertices of a document its draws use, each once for an accessor."""
    used: dict[int, set[int] | int] = {}
    total = 0
    seen: dict[int, list[NDArray[np.int64]]] = {}
    for mesh in document.root.meshes:
        for row in mesh.primitives:
            position = row.attributes.get("POSITION", -1)
            if not 0 <= position < len(document.root.accessors):
                continue
            count = document.root.accessors[position].count
            if row.indices is None:
                used[position] = count
                continue
            try:
                seen.setdefault(position, []).append(np.unique(document.accessor(row.indices)).astype(np.int64))
            except Exception:  # a draw that cannot be read is not one that is merged
                used[position] = count
    for position, rows in seen.items():
        if position not in used:
            total += len(np.unique(np.concatenate(rows)))
    return total + sum(count for count in used.values() if isinstance(count, int))


def _texture(raw: dict[str, Any], buffer: ChunkWriter, row: Mapping[str, Any]) -> int:
    """Add an image with a texture that ends at its border, and return the texture."""
    image: dict[str, Any] = {}
    hold_image(image, buffer, row)
    raw.setdefault("images", []).append(image)
    sampler = {"magFilter": 9729, "minFilter": 9987, "wrapS": 33071, "wrapT": 33071}
    samplers = raw.setdefault("samplers", [])
    if sampler not in samplers:
        samplers.append(sampler)
    raw.setdefault("textures", []).append({"sampler": samplers.index(sampler), "source": len(raw["images"]) - 1})
    return len(raw["textures"]) - 1


def _material(row: Mapping[str, Any], textures: Mapping[int, int]) -> dict[str, Any]:
    """Return a material's row with its textures by their places."""

    def placed(value: Any) -> Any:
        if isinstance(value, dict):
            made = {key: placed(inner) for key, inner in value.items()}
            if "sheet" in made:
                made["index"] = textures[made.pop("sheet")]
            return made
        return value

    found: dict[str, Any] = placed(dict(row))
    return found


def _merge(
    document: Document,
    raw: dict[str, Any],
    buffer: ChunkWriter,
    mesh: int,
    draws: Sequence[MovedDraw],
    places: Mapping[int, int],
) -> int:
    """Write the merged draws of a mesh again; return how many could not become one with others of their material."""
    rows = document.root.meshes[mesh].primitives
    raws = raw["meshes"][mesh]["primitives"]
    together: dict[tuple[Any, ...], list[tuple[MovedDraw, int]]] = {}
    for draw in draws:
        for key in np.unique(draw.material):
            together.setdefault(
                (int(key), _shape(document, rows[draw.primitive], raws[draw.primitive])), []
            ).append((draw, int(key)))  # fmt: skip
    gone = {draw.primitive for draw in draws}
    first = min(gone)
    made = [
        _written(document, buffer, [(rows[d.primitive], raws[d.primitive], d) for d, _ in mine], key[0], places)
        for key, mine in together.items()
    ]
    kept: list[Any] = []
    for place, row in enumerate(raws):
        if place == first:
            kept += made
        if place not in gone:
            kept.append(row)
    raw["meshes"][mesh]["primitives"] = kept
    return len(made) - len({key[0] for key in together})


def _shape(document: Document, row: PrimitiveRow, raw: Mapping[str, Any]) -> tuple[Any, ...]:
    """Return what two draws must have in common to become one: what their vertices hold, and all that is said of them."""

    def kind(accessor: int) -> tuple[Any, ...]:
        found = document.root.accessors[accessor]
        return found.component_type, found.type, found.normalized

    attributes = tuple(sorted((name, *kind(place)) for name, place in row.attributes.items() if name != _TEXCOORD))
    targets = tuple(tuple(sorted((name, *kind(place)) for name, place in target.items())) for target in row.targets)
    others = {
        key: value for key, value in raw.items() if key not in ("attributes", "indices", "material", "mode", "targets")
    }
    return attributes, targets, repr(others)


def _written(
    document: Document,
    buffer: ChunkWriter,
    draws: Sequence[tuple[PrimitiveRow, Mapping[str, Any], MovedDraw]],
    key: int,
    places: Mapping[int, int],
) -> dict[str, Any]:
    """Return the row of one draw made of several, its vertices copied."""
    order: list[NDArray[np.int64]] = []
    picked: list[NDArray[np.int64]] = []
    total = 0
    for row, _, moved in draws:
        count = document.root.accessors[row.attributes["POSITION"]].count
        corners = triangle_rows(document, row, count)[moved.material == key]
        used, back = np.unique(corners, return_inverse=True)
        picked.append(used)
        order.append(back.reshape(-1).astype(np.int64) + total)
        total += len(used)
    uv = np.concatenate([moved.uv[used] for (_, _, moved), used in zip(draws, picked, strict=True)])
    turn = np.concatenate([moved.turn[used] for (_, _, moved), used in zip(draws, picked, strict=True)])

    def gathered(places_of: Sequence[int]) -> tuple[NDArray[Any], dict[str, Any]]:
        values = [document.stored(place)[used] for place, used in zip(places_of, picked, strict=True)]
        return np.concatenate(values), buffer.raw["accessors"][places_of[0]]

    first, first_raw, _ = draws[0]
    attributes: dict[str, int] = {}
    for name in first.attributes:
        if name == _TEXCOORD:
            continue
        values, like = gathered([row.attributes[name] for row, _, _ in draws])
        if name == _TANGENT and "NORMAL" in first.attributes:
            normals, _ = gathered([row.attributes["NORMAL"] for row, _, _ in draws])
            values = _turned_tangents(values, normals, turn)
        attributes[name] = buffer.accessor(values, like, name == "POSITION")
    attributes[_TEXCOORD] = buffer.accessor(uv.astype(np.float32), {}, False)
    corners = np.concatenate(order)
    kind = np.uint16 if total < 65535 else np.uint32
    made = {k: v for k, v in first_raw.items() if k not in ("attributes", "indices", "material", "mode", "targets")}
    made |= {
        "attributes": attributes,
        "indices": buffer.accessor(corners.astype(kind)[:, None], {}, False, indices=True),
        "material": places[key],
    }
    if first.targets:
        made["targets"] = []
        for number, target in enumerate(first.targets):
            made["targets"].append({})
            for name in target:
                values, like = gathered([row.targets[number][name] for row, _, _ in draws])
                if name == _TANGENT and {_TANGENT, "NORMAL"} <= set(first.attributes):
                    tangents, _ = gathered([row.attributes[_TANGENT] for row, _, _ in draws])
                    normals, _ = gathered([row.attributes["NORMAL"] for row, _, _ in draws])
                    moves = (
                        gathered([row.targets[number]["NORMAL"] for row, _, _ in draws])[0]
                        if "NORMAL" in target
                        else 0.0
                    )
                    values = _turned_moves(values, tangents, normals, moves, turn)
                made["targets"][-1][name] = buffer.accessor(values, like, name == "POSITION")
    return made


def _turned_tangents(tangents: NDArray[Any], normals: NDArray[Any], turn: NDArray[np.float64]) -> NDArray[Any]:
    """Return tangents (N, 4) of UVs that were turned; those stored as integers are, too."""
    sign = np.sign(tangents[:, 3].astype(np.float64))
    made = _along_u(_as_parts(tangents)[:, :3], _as_parts(normals)[:, :3], sign, turn)
    made /= np.maximum(np.linalg.norm(made, axis=1, keepdims=True), 1e-12)
    signs = sign * np.sign(np.linalg.det(turn))
    return _as_stored(np.concatenate([made, signs[:, None]], axis=1), tangents.dtype)


def _turned_moves(
    moves: NDArray[Any],
    tangents: NDArray[Any],
    normals: NDArray[Any],
    normal_moves: NDArray[Any] | float,
    turn: NDArray[np.float64],
) -> NDArray[Any]:
    """Return what a morph target adds to tangents, (N, 3), of UVs that were turned: the turned end less the turned start."""
    sign = np.sign(tangents[:, 3].astype(np.float64))
    start, up = _as_parts(tangents)[:, :3], _as_parts(normals)[:, :3]
    bent = up + (normal_moves if isinstance(normal_moves, float) else _as_parts(normal_moves))
    end = _along_u(start + _as_parts(moves), bent, sign, turn)
    return _as_stored(end - _along_u(start, up, sign, turn), moves.dtype)


def _along_u(
    tangents: NDArray[np.float64], normals: NDArray[np.float64], sign: NDArray[np.float64], turn: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return where U leads after a turn, (N, 3), of tangents and normals before it."""
    down = -np.cross(normals, tangents) * sign[:, None]
    found: NDArray[np.float64] = tangents * turn[:, 0, 0:1] + down * turn[:, 0, 1:2]
    return found


def _as_parts(stored: NDArray[Any]) -> NDArray[np.float64]:
    """Return stored vectors as parts of one."""
    whole = 1.0 if stored.dtype.kind == "f" else float(np.iinfo(stored.dtype).max)
    found: NDArray[np.float64] = stored.astype(np.float64) / whole
    return found


def _as_stored(parts: NDArray[np.float64], kind: np.dtype[Any]) -> NDArray[Any]:
    """Return parts of one as a type stores them."""
    if kind.kind == "f":
        return parts.astype(kind)
    whole = np.iinfo(kind)
    return np.clip(np.rint(parts * whole.max), whole.min, whole.max).astype(kind)
