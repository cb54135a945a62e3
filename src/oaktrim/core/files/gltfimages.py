"""Pointing the images of a glTF file at other files, everything else kept as it was.

DDS files are named through MSFT_texture_dds, KTX 2.0 files through KHR_texture_basisu: core glTF 2.0 knows PNG and JPEG only
(clause 3.8.3). What an image held in the binary chunk goes, and the buffer views after it move up.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

from oaktrim.core.files.gltf import Document

_EXTENSIONS = {"dds": "MSFT_texture_dds", "ktx2": "KHR_texture_basisu"}
# The one type of image that the extension for it states; DDS has none that is registered.
_MIME = {"ktx2": "image/ktx2"}


def point_images(document: Document, paths: Mapping[int, str], container: str) -> None:
    """Make images of a document refer to files, in its JSON and its binary chunk.

    Parameters
    ----------
    paths : of the files, relative to the document's own, by the place of the image
    container : "dds" or "ktx2"
    """
    if not paths:
        return
    raw, name = document.raw, _EXTENSIONS[container]
    gone: set[int] = set()
    for place, path in paths.items():
        image = raw["images"][place]
        if "bufferView" in image:
            gone.add(image.pop("bufferView"))
        image.pop("mimeType", None)
        image["uri"] = quote(path)
        if container in _MIME:
            image["mimeType"] = _MIME[container]
    for texture in raw.get("textures", []):
        others = texture.get("extensions", {})
        sources = [texture.get("source"), *(row.get("source") for row in others.values() if isinstance(row, dict))]
        mine = next((source for source in sources if source in paths), None)
        if mine is not None:
            texture.pop("source", None)
            kept = {key: row for key, row in others.items() if not (isinstance(row, dict) and "source" in row)}
            texture["extensions"] = {**kept, name: {"source": mine}}
    for field in ("extensionsUsed", "extensionsRequired"):
        listed = raw.setdefault(field, [])
        if name not in listed:
            listed.append(name)
    _drop_views(document, gone)


def _drop_views(document: Document, gone: set[int]) -> None:
    """Leave buffer views out of the JSON, and their bytes out of the binary chunk, where nothing else needs them."""
    raw, binary = document.raw, document.binary
    views = raw.get("bufferViews", [])
    held = {view for view in gone if isinstance(view, int) and 0 <= view < len(views)}
    # What an extension says of a view cannot be known to hold for another place; what two use is still needed.
    if not held or binary is None or any("extensions" in view for view in views) or held & _named(raw):
        return
    packed, places, kept = bytearray(), dict[int, int](), list[dict[str, Any]]()
    for place, view in enumerate(views):
        if place in held:
            continue
        places[place] = len(kept)
        kept.append(view)
        if view.get("buffer", 0) == 0:
            start = view.get("byteOffset", 0)
            # Elements of up to eight bytes keep their alignment (clause 3.6.2.4).
            packed += b"\0" * ((start - len(packed)) % 8)
            view["byteOffset"] = len(packed)
            packed += binary[start : start + view["byteLength"]]
    packed += b"\0" * (-len(packed) % 4)
    raw["bufferViews"] = kept
    if not kept:
        del raw["bufferViews"]
    _renumber(raw, places)
    if packed:
        raw["buffers"][0]["byteLength"] = len(packed)
        document.binary = bytes(packed)


def _named(raw: Any) -> set[int]:
    """Return all buffer views that the JSON names."""
    if isinstance(raw, dict):
        own = {raw["bufferView"]} if isinstance(raw.get("bufferView"), int) else set()
        return own.union(*(_named(value) for value in raw.values()))
    return set().union(*(_named(value) for value in raw)) if isinstance(raw, list) else set()


def _renumber(raw: Any, places: Mapping[int, int]) -> None:
    if isinstance(raw, dict):
        if isinstance(raw.get("bufferView"), int):
            raw["bufferView"] = places[raw["bufferView"]]
        for value in raw.values():
            _renumber(value, places)
    elif isinstance(raw, list):
        for value in raw:
            _renumber(value, places)
