"""Pointing the images of a glTF file at other files, everything else kept as it was.

DDS files are named through MSFT_texture_dds, KTX 2.0 files through KHR_texture_basisu: core glTF 2.0 knows PNG and JPEG only
(clause 3.8.3). What an image held in the binary chunk goes, and the buffer views after it move up.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from oaktrim.core.files.gltf import Document
from oaktrim.core.files.uvtransform import SAME_UV, UvTransform

_EXTENSIONS = {"dds": "MSFT_texture_dds", "ktx2": "KHR_texture_basisu"}
# The one type of image that the extension for it states; DDS has none that is registered.
_MIME = {"ktx2": "image/ktx2"}
_TRANSFORM = "KHR_texture_transform"
_CLAMP, _REPEAT = 33071, 10497
_IN_METALLIC_ROUGHNESS = ("baseColorTexture", "metallicRoughnessTexture")


@dataclass(frozen=True)
class Assignment:
    """A slot of a material that another file is to serve.

    Parameters
    ----------
    material : its place; field : of the slot, such as occlusionTexture
    path : of the file, relative to the document's own
    where : brings the UVs of what was there to those of the file
    """

    material: int
    field: str
    path: str
    where: UvTransform = SAME_UV


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
        mine = next((source for source in sources if isinstance(source, int) and source in paths), None)
        if mine is not None:
            texture.pop("source", None)
            kept = {key: row for key, row in others.items() if not (isinstance(row, dict) and "source" in row)}
            texture["extensions"] = {**kept, name: {"source": mine}}
    _need(raw, name, required=True)
    _drop_views(document, gone)


def _need(raw: dict[str, Any], name: str, required: bool) -> None:
    for field in ("extensionsUsed", "extensionsRequired") if required else ("extensionsUsed",):
        listed = raw.setdefault(field, [])
        if name not in listed:
            listed.append(name)


def assign(document: Document, rows: Sequence[Assignment], container: str) -> None:
    """Have slots of materials served by other files; images and textures that nothing reads any more go.

    A slot that was empty is made, and the factors of a new metallic-roughness slot are 1, so that the file says it all.

    Raises
    ------
    FileError : the UVs of a slot are turned, and are to be scaled after it by more one way than the other
    """
    if not rows:
        return
    raw, name = document.raw, _EXTENSIONS[container]
    before = {place for place, _ in _read_textures(raw)}
    made: dict[tuple[str, int | None], int] = {}
    for row in rows:
        material = raw["materials"][row.material]
        holder = _holder(material, row.field)
        info = holder.get(row.field)
        if info is None:
            info = holder[row.field] = {}
            if row.field == "metallicRoughnessTexture":
                holder |= {"metallicFactor": 1, "roughnessFactor": 1}
        old = raw.get("textures", [])[info["index"]] if "index" in info else {}
        sampler = old.get("sampler")
        if not row.where.is_identity:
            _move(document, info, row)
        if row.where.clamped:
            sampler = _sampler(raw, sampler, wrapS=_CLAMP, wrapT=_CLAMP)
        elif row.where.turned and sampler is not None:
            wraps = [raw["samplers"][sampler].get(name, _REPEAT) for name in ("wrapT", "wrapS")]
            sampler = _sampler(raw, sampler, wrapS=wraps[0], wrapT=wraps[1])
        key = (row.path, sampler)
        if key not in made:
            image: dict[str, Any] = {"uri": quote(row.path)}
            if container in _MIME:
                image["mimeType"] = _MIME[container]
            raw.setdefault("images", []).append(image)
            texture: dict[str, Any] = {"extensions": {name: {"source": len(raw["images"]) - 1}}}
            if sampler is not None:
                texture["sampler"] = sampler
            raw.setdefault("textures", []).append(texture)
            made[key] = len(raw["textures"]) - 1
        info["index"] = made[key]
    _need(raw, name, required=True)
    _prune(document, before)


def _holder(material: dict[str, Any], field: str) -> dict[str, Any]:
    """Return the part of a material that has, or would have, a slot."""
    if field in _IN_METALLIC_ROUGHNESS:
        held: dict[str, Any] = material.setdefault("pbrMetallicRoughness", {})
        return held
    for extension in material.get("extensions", {}).values():
        if isinstance(extension, dict) and field in extension:
            return extension
    return material


def _move(document: Document, info: dict[str, Any], row: Assignment) -> None:
    """Bring the UVs of a slot to those of its new file, after what is done to them already (KHR_texture_transform)."""
    held = info.setdefault("extensions", {})
    found = row.where.after(held.get(_TRANSFORM, {}))
    if found is None:
        raise document.fault(f"turns the UVs of a texture that {row.path} stands in for; leave that whole here")
    held[_TRANSFORM] = found
    _need(document.raw, _TRANSFORM, required=False)


def _sampler(raw: dict[str, Any], like: int | None, **wraps: int) -> int:
    """Return a sampler like another with other wraps."""
    samplers = raw.setdefault("samplers", [])
    wanted = {**(samplers[like] if like is not None else {}), **wraps}
    if wanted not in samplers:
        samplers.append(wanted)
    return int(samplers.index(wanted))


def _read_textures(raw: dict[str, Any]) -> Iterator[tuple[int, dict[str, Any]]]:
    """Yield the textures that materials read, with what reads them."""

    def walk(part: Any) -> Iterator[tuple[int, dict[str, Any]]]:
        if isinstance(part, dict):
            for key, value in part.items():
                if key.endswith("Texture") and isinstance(value, dict) and isinstance(value.get("index"), int):
                    yield value["index"], value
                yield from walk(value)
        elif isinstance(part, list):
            for value in part:
                yield from walk(value)

    yield from walk(raw.get("materials", []))


def _sources(texture: dict[str, Any]) -> list[dict[str, Any]]:
    """Return the parts of a texture that name an image."""
    others = [row for row in texture.get("extensions", {}).values() if isinstance(row, dict)]
    return [row for row in (texture, *others) if isinstance(row.get("source"), int)]


def _prune(document: Document, before: set[int]) -> None:
    """Leave out textures that were read and are not any more, and the images that only these had."""
    raw = document.raw
    textures = raw["textures"]
    idle = before - {place for place, _ in _read_textures(raw)}
    needed = {row["source"] for place, texture in enumerate(textures) if place not in idle for row in _sources(texture)}
    gone = {row["source"] for place in idle for row in _sources(textures[place])} - needed
    places = _compacted(raw, "textures", idle)
    for place, info in list(_read_textures(raw)):
        info["index"] = places[place]
    views = {raw["images"][place]["bufferView"] for place in gone if "bufferView" in raw["images"][place]}
    places = _compacted(raw, "images", gone)
    for texture in raw["textures"]:
        for row in _sources(texture):
            row["source"] = places[row["source"]]
    _drop_views(document, views)


def _compacted(raw: dict[str, Any], field: str, gone: set[int]) -> dict[int, int]:
    """Leave rows out of a list and return the new place of each that stays."""
    kept = [place for place in range(len(raw[field])) if place not in gone]
    raw[field] = [raw[field][place] for place in kept]
    return {place: new for new, place in enumerate(kept)}


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
        view = raw.get("bufferView")
        if isinstance(view, int):
            # What names a view that is not there goes on naming one that is not there.
            raw["bufferView"] = places.get(view, view)
        for value in raw.values():
            _renumber(value, places)
    elif isinstance(raw, list):
        for value in raw:
            _renumber(value, places)
