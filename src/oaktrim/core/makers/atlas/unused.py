"""What of a glTF document nothing names any more, left out with its bytes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

# Extensions whose references to rows are known here, or that have none.
_KNOWN = {
    "KHR_texture_transform", "KHR_materials_unlit", "KHR_materials_emissive_strength", "KHR_lights_punctual",
    "KHR_mesh_quantization", "EXT_mesh_gpu_instancing", "MSFT_lod", "KHR_texture_basisu", "EXT_texture_webp",
    "EXT_texture_avif", "MSFT_texture_dds", "KHR_materials_ior", "KHR_materials_specular", "KHR_materials_clearcoat",
    "KHR_materials_sheen", "KHR_materials_transmission", "KHR_materials_volume", "KHR_materials_iridescence",
    "KHR_materials_anisotropy", "KHR_materials_dispersion", "KHR_xmp_json_ld",
}  # fmt: skip


def references_are_known(raw: dict[str, Any]) -> bool:
    """Say whether all references between the rows of a document are known here."""
    return bool(set(raw.get("extensionsUsed", [])) <= _KNOWN)


def _accessor_places(raw: dict[str, Any]) -> Iterator[tuple[dict[str, Any], str]]:
    """Yield where accessors are named: the row that holds the number, and its field."""
    for mesh in raw.get("meshes", []):
        for row in mesh["primitives"]:
            for attributes in (row["attributes"], *row.get("targets", [])):
                yield from ((attributes, name) for name in attributes)
            if "indices" in row:
                yield row, "indices"
    for skin in raw.get("skins", []):
        if "inverseBindMatrices" in skin:
            yield skin, "inverseBindMatrices"
    for clip in raw.get("animations", []):
        for sampler in clip["samplers"]:
            yield sampler, "input"
            yield sampler, "output"
    for node in raw.get("nodes", []):
        attributes = node.get("extensions", {}).get("EXT_mesh_gpu_instancing", {}).get("attributes", {})
        yield from ((attributes, name) for name in attributes)


def _texture_places(raw: dict[str, Any]) -> Iterator[tuple[dict[str, Any], str]]:
    def walk(value: Any) -> Iterator[tuple[dict[str, Any], str]]:
        if isinstance(value, dict):
            for key, inner in value.items():
                if key.endswith("Texture") and isinstance(inner, dict) and isinstance(inner.get("index"), int):
                    yield inner, "index"
                yield from walk(inner)
        elif isinstance(value, list):
            for inner in value:
                yield from walk(inner)

    yield from walk(raw.get("materials", []))


def _image_places(raw: dict[str, Any]) -> Iterator[tuple[dict[str, Any], str]]:
    for texture in raw.get("textures", []):
        for row in (texture, *texture.get("extensions", {}).values()):
            if isinstance(row, dict) and isinstance(row.get("source"), int):
                yield row, "source"


def _view_places(raw: dict[str, Any]) -> Iterator[tuple[dict[str, Any], str]]:
    for row in raw.get("accessors", []):
        if "bufferView" in row:
            yield row, "bufferView"
        for part in row.get("sparse", {}).values():
            if isinstance(part, dict) and "bufferView" in part:
                yield part, "bufferView"
    yield from ((row, "bufferView") for row in raw.get("images", []) if "bufferView" in row)


def _material_places(raw: dict[str, Any]) -> Iterator[tuple[dict[str, Any], str]]:
    yield from ((row, "material") for mesh in raw.get("meshes", []) for row in mesh["primitives"] if "material" in row)


def _sampler_places(raw: dict[str, Any]) -> Iterator[tuple[dict[str, Any], str]]:
    yield from ((row, "sampler") for row in raw.get("textures", []) if "sampler" in row)


def drop_unused(raw: dict[str, Any], data: bytearray) -> bytearray:
    """Leave out materials, textures, images, accessors and views that nothing names any more, and return what is left of these."""
    lists = (
        ("materials", _material_places), ("textures", _texture_places), ("samplers", _sampler_places),
        ("images", _image_places), ("accessors", _accessor_places), ("bufferViews", _view_places),
    )  # fmt: skip
    for name, named in lists:
        rows = raw.get(name, [])
        used = {holder[key] for holder, key in named(raw)}
        kept = [place for place in range(len(rows)) if place in used]
        if len(kept) == len(rows):
            continue
        places = {place: new for new, place in enumerate(kept)}
        for holder, key in list(named(raw)):
            holder[key] = places.get(holder[key], holder[key])
        raw[name] = [rows[place] for place in kept]
        if not kept:
            del raw[name]
    packed = bytearray()
    for view in raw.get("bufferViews", []):
        if view.get("buffer", 0) == 0 and "extensions" not in view:
            start = view.get("byteOffset", 0)
            packed += b"\0" * (-len(packed) % 8)
            piece = data[start : start + view["byteLength"]]
            view["byteOffset"] = len(packed)
            packed += piece
    if not any("extensions" in view for view in raw.get("bufferViews", [])):
        return packed
    return data
