"""A glTF document being rewritten: contents of accessors replaced or added, and the buffer made anew of what is still named."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.files.gltf import Document, pack_glb
from oaktrim.core.files.gltfwriter import CODES, INDICES, TYPES, VERTICES
from oaktrim.core.trim.references import Site, compacted, sites, unknown_extensions

_ALIGNED = 4
_HOLDERS = ("meshes", "nodes", "skins", "animations")
Row = dict[str, Any]


@dataclass(frozen=True)
class Packed:
    """A document written again.

    Parameters
    ----------
    data : its file; buffer : of what stands beside it, None of a GLB, which holds it
    geometry : all of it but the images that it holds
    """

    data: bytes
    buffer: bytes | None
    geometry: bytes


class Rework:
    """One document on its way to another; `raw` may be edited freely, accessors are named by their places in it.

    Raises
    ------
    FileError : it has extensions that may name parts of it in places that are not known
    """

    def __init__(self, document: Document) -> None:
        self.document, self.raw = document, document.raw
        unknown = unknown_extensions(self.raw)
        if unknown:
            raise document.fault(
                f"uses {', '.join(unknown[:4])}, which may name parts of it in ways that are not known: it ships as it is"
            )
        # By the identity of their rows, which stays when places change: what was read, and what was put in.
        self._source: dict[int, int] = {id(row): place for place, row in enumerate(self.rows("accessors"))}
        self._put: dict[int, NDArray[Any]] = {}

    def fault(self, text: str) -> FileError:
        """Return an error in the name of the file."""
        return self.document.fault(text)

    def rows(self, kind: str) -> list[Row]:
        """Return one of the document's lists; empty where it has none."""
        found = self.raw.get(kind, [])
        return found if isinstance(found, list) else []

    def accessor(self, place: int) -> Row:
        """Return the row of an accessor.

        Raises
        ------
        FileError : there is none
        """
        rows = self.rows("accessors")
        if not 0 <= place < len(rows):
            raise self.fault(f"accessor {place} is named and there are {len(rows)}")
        return rows[place]

    def stored(self, place: int) -> NDArray[Any]:
        """Return an accessor's elements as they are stored, (count, width)."""
        row = self.accessor(place)
        put = self._put.get(id(row))
        return self.document.stored(self._source[id(row)]) if put is None else put

    def floats(self, place: int) -> NDArray[np.float64]:
        """Return an accessor's elements as numbers, normalised integers brought to -1..1 or 0..1, (count, width)."""
        values = self.stored(place)
        if self.accessor(place).get("normalized") and values.dtype.kind in "iu":
            return np.maximum(values / np.float64(np.iinfo(values.dtype).max), -1.0)
        return values.astype(np.float64)

    def is_sparse(self, place: int) -> bool:
        """Say whether an accessor states but what is other than in its base."""
        row = self.accessor(place)
        return "sparse" in row and id(row) not in self._put

    def add(self, values: NDArray[Any], normalized: bool = False, bounds: bool = False) -> int:
        """Add an accessor that holds an array, (count, width) or (count,), and return its place.

        Parameters
        ----------
        bounds : state least and greatest, as positions and key times need (clauses 3.7.2.1 and 3.11)
        """
        rows = np.ascontiguousarray(values.reshape(len(values), -1))
        row: Row = {"componentType": CODES[rows.dtype.name], "count": len(rows), "type": TYPES[rows.shape[1]]}
        if normalized:
            row["normalized"] = True
        if bounds:
            row |= {"min": rows.min(axis=0).tolist(), "max": rows.max(axis=0).tolist()}
        listed = self.raw.setdefault("accessors", [])
        listed.append(row)
        self._put[id(row)] = rows
        return len(listed) - 1

    def leave_out(self, kinds: frozenset[str], kept: dict[str, set[int]] | None = None) -> None:
        """Leave rows out of lists that nothing names; see `compacted`."""
        compacted(self.raw, kinds, kept or {})

    def pack(self, buffer_uri: str) -> Packed:
        """Return the document written again.

        Accessors that nothing names are left out, and those that hold the same become one.
        """
        self.share()
        self.leave_out(frozenset({"accessors"}))
        binary, views = bytearray(), list[Row]()

        def view(data: bytes, **more: int) -> int:
            binary.extend(b"\0" * (-len(binary) % _ALIGNED))
            views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": len(data), **more})
            binary.extend(data)
            return len(views) - 1

        images = [
            (row, bytes(self.document.view(row["bufferView"]))) for row in self.rows("images") if "bufferView" in row
        ]
        self._write_accessors(view)
        plain = len(binary)
        for row, data in images:
            row["bufferView"] = view(data)
        self.raw.pop("bufferViews", None)
        self.raw.pop("buffers", None)
        is_glb = self.document.binary is not None
        if views:
            size = len(binary) + (-len(binary) % _ALIGNED if is_glb else 0)
            self.raw["bufferViews"] = views
            self.raw["buffers"] = [{"byteLength": size, **({} if is_glb else {"uri": buffer_uri})}]
        text = msgspec.json.encode(self.raw)
        geometry = text + bytes(binary[:plain])
        if is_glb:
            return Packed(pack_glb(text, bytes(binary)), None, geometry)
        return Packed(msgspec.json.format(text, indent=1) + b"\n", bytes(binary) if views else None, geometry)

    def _named(self) -> dict[int, list[tuple[int, Site]]]:
        """Return who names each accessor, and as what: the target of its view, or who else, under 0."""
        found: dict[int, list[tuple[int, Site]]] = {}
        for kind in _HOLDERS:
            for row in self.rows(kind):
                for target, (holder, key) in sites(self.raw, kind, row):
                    if target == "accessors":
                        use = -_HOLDERS.index(kind) if kind != "meshes" else INDICES if key == "indices" else VERTICES
                        found.setdefault(holder[key], []).append((use, (holder, key)))
        return found

    def share(self) -> None:
        """Have accessors that hold the same, and are read as the same, be one."""
        named = self._named()
        first: dict[tuple[object, ...], int] = {}
        for place, uses in named.items():
            row = self.accessor(place)
            if self.is_sparse(place):
                continue
            values = self.stored(place)
            key = (
                content_hash(np.ascontiguousarray(values).tobytes()), values.dtype.str, values.shape,
                bool(row.get("normalized")), "min" in row, max(use for use, _ in uses),
            )  # fmt: skip
            one = first.setdefault(key, place)
            for _, (holder, at) in uses:
                holder[at] = one

    def _write_accessors(self, view: Callable[..., int]) -> None:
        """Write what accessors hold: those that are read alike and have elements of one size stand in one view."""
        named = self._named()
        groups: dict[tuple[int, int], list[tuple[Row, NDArray[Any]]]] = {}
        for place, row in enumerate(self.rows("accessors")):
            use = max((use for use, _ in named.get(place, ())), default=0)
            if self.is_sparse(place):
                self._write_sparse(row, view)
                if row.get("bufferView") is None:
                    continue
                values = self.document.stored(self._source[id(row)], sparse=False)
            elif row.get("bufferView") is None and id(row) not in self._put:
                # All zeros, which take no bytes (clause 3.6.2.3).
                continue
            else:
                values = self.stored(place)
            size = values.dtype.itemsize * values.shape[1]
            # Elements of vertices begin on multiples of four bytes (clause 3.6.2.4); others on multiples of their own.
            stride = -(-size // _ALIGNED) * _ALIGNED if use == VERTICES else values.dtype.itemsize
            groups.setdefault((use, stride), []).append((row, values))
        for (use, stride), members in sorted(groups.items(), key=lambda group: group[0]):
            data = bytearray()
            for row, values in members:
                data.extend(b"\0" * (-len(data) % _ALIGNED))
                row["byteOffset"] = len(data)
                data.extend(_padded(values, stride) if use == VERTICES else np.ascontiguousarray(values).tobytes())
            more = {"target": use} if use > 0 else {}
            number = view(bytes(data), **more, **({"byteStride": stride} if use == VERTICES else {}))
            for row, _ in members:
                row["bufferView"] = number

    def _write_sparse(self, row: Row, view: Callable[..., int]) -> None:
        """Write what is other than in the base of a sparse accessor, as it was."""
        for name, data in zip(("indices", "values"), self.document.sparse_bytes(self._source[id(row)]), strict=True):
            part = row["sparse"][name]
            part["bufferView"] = view(data)
            part.pop("byteOffset", None)


def _padded(values: NDArray[Any], stride: int) -> bytes:
    """Return elements as bytes, each padded to a stride."""
    flat = np.ascontiguousarray(values).view(np.uint8).reshape(len(values), -1)
    padded = np.zeros((len(values), stride), np.uint8)
    padded[:, : flat.shape[1]] = flat
    return padded.tobytes()
