"""Where the parts of a glTF document name each other by place (glTF 2.0, clause 5, and the extensions that are listed here).

What is left out of a list moves all after it up; whoever names these has to follow. Extensions that are not known may name parts in
places that cannot be found: documents with such are left as they are.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

# From where, to which list. `[]` stands for each row of a list, `*` for each value of an object.
_SITES = (
    ("scenes", "nodes[]", "nodes"),
    ("nodes", "children[]", "nodes"),
    ("nodes", "mesh", "meshes"),
    ("nodes", "skin", "skins"),
    ("nodes", "camera", "cameras"),
    ("nodes", "extensions.MSFT_lod.ids[]", "nodes"),
    ("nodes", "extensions.EXT_mesh_gpu_instancing.attributes.*", "accessors"),
    ("skins", "joints[]", "nodes"),
    ("skins", "skeleton", "nodes"),
    ("skins", "inverseBindMatrices", "accessors"),
    ("animations", "channels[].target.node", "nodes"),
    ("animations", "samplers[].input", "accessors"),
    ("animations", "samplers[].output", "accessors"),
    ("meshes", "primitives[].attributes.*", "accessors"),
    ("meshes", "primitives[].indices", "accessors"),
    ("meshes", "primitives[].targets[].*", "accessors"),
    ("meshes", "primitives[].material", "materials"),
    ("meshes", "primitives[].extensions.KHR_materials_variants.mappings[].material", "materials"),
    ("textures", "source", "images"),
    ("textures", "sampler", "samplers"),
    ("textures", "extensions.*.source", "images"),
    ("images", "bufferView", "bufferViews"),
    ("accessors", "bufferView", "bufferViews"),
    ("accessors", "sparse.indices.bufferView", "bufferViews"),
    ("accessors", "sparse.values.bufferView", "bufferViews"),
)
_OWNERS = tuple(dict.fromkeys((*(owner for owner, _, _ in _SITES), "materials")))
# Of rows whose extensions say how things look: they name textures, in the way that materials do, and nothing else.
_LOOKS = ("materials", "textures", "images", "samplers")
_KNOWN = {
    "EXT_mesh_gpu_instancing", "MSFT_lod", "KHR_materials_variants", "KHR_lights_punctual", "KHR_mesh_quantization",
    "KHR_node_visibility", "KHR_xmp_json_ld",
}  # fmt: skip
_ROWS = ("scenes", "nodes", "meshes", "skins", "animations", "accessors", "bufferViews", "buffers", "cameras")

Site = tuple[Any, Any]


def sites(raw: dict[str, Any], source: str, row: dict[str, Any]) -> Iterator[tuple[str, Site]]:
    """Yield what a row of a list names: the list that it means, and the holder and the key where the place stands."""
    for owner, path, target in _SITES:
        if owner == source:
            for site in _walk(row, path.split(".")):
                yield target, site
    if source == "materials":
        for site in _textures_of(row):
            yield "textures", site


def _walk(part: Any, path: list[str]) -> Iterator[Site]:
    name, *rest = path
    each, name = name.endswith("[]"), name.removesuffix("[]")
    if not isinstance(part, dict):
        return
    for key in list(part) if name == "*" else [name]:
        if key not in part:
            continue
        holders: list[Site] = [(part, key)]
        if each:
            listed = part[key]
            holders = [(listed, place) for place in range(len(listed))] if isinstance(listed, list) else []
        for holder, at in holders:
            if rest:
                yield from _walk(holder[at], rest)
            elif isinstance(holder[at], int) and not isinstance(holder[at], bool):
                yield holder, at


def _textures_of(part: Any) -> Iterator[Site]:
    if isinstance(part, dict):
        for key, value in part.items():
            if key.endswith("Texture") and isinstance(value, dict) and isinstance(value.get("index"), int):
                yield value, "index"
            yield from _textures_of(value)
    elif isinstance(part, list):
        for value in part:
            yield from _textures_of(value)


def unknown_extensions(raw: dict[str, Any]) -> list[str]:
    """Return the names of extensions that may name parts of the document in places that are not known here."""
    found: dict[str, None] = {}
    root = raw.get("extensions")
    for name, extension in root.items() if isinstance(root, dict) else ():
        if name not in _KNOWN and _holds_a_place(extension):
            found[name] = None
    for kind in _ROWS:
        for name, extension in _extensions(raw.get(kind)):
            if name not in _KNOWN and _holds_a_place(extension):
                found[name] = None
    if "KHR_animation_pointer" in raw.get("extensionsUsed", ()):
        found["KHR_animation_pointer"] = None
    return list(found)


def _extensions(part: Any) -> Iterator[tuple[str, Any]]:
    if isinstance(part, dict):
        held = part.get("extensions")
        if isinstance(held, dict):
            yield from held.items()
        for key, value in part.items():
            if key not in ("extensions", "extras"):
                yield from _extensions(value)
    elif isinstance(part, list):
        for value in part:
            yield from _extensions(value)


def _holds_a_place(part: Any) -> bool:
    """Say whether something holds a whole number, which may be a place in a list."""
    if isinstance(part, dict):
        return any(map(_holds_a_place, part.values()))
    if isinstance(part, list):
        return any(map(_holds_a_place, part))
    return isinstance(part, int) and not isinstance(part, bool)


def compacted(raw: dict[str, Any], kinds: frozenset[str], kept: Mapping[str, set[int]]) -> None:
    """Leave out of lists what nothing names any more, and have all that names the rest follow.

    Parameters
    ----------
    kinds : the lists that may lose rows; of the others all rows stay, and what they name does
    kept : rows of such lists that stay although nothing names them
    """
    used = _used(raw, kinds, kept)
    moved: dict[str, dict[int, int]] = {}
    for kind in kinds:
        if kind in raw:
            stays = sorted(used.get(kind, ()))
            moved[kind] = {place: new for new, place in enumerate(stays)}
            raw[kind] = [raw[kind][place] for place in stays]
    for kind in _OWNERS:
        for row in raw.get(kind, ()):
            for target, (holder, key) in list(sites(raw, kind, row)):
                if target in moved:
                    # What names a row that is not there goes on naming one that is not there.
                    holder[key] = moved[target].get(holder[key], len(raw[target]))
    for kind in moved:
        if not raw[kind]:
            del raw[kind]


def _used(raw: dict[str, Any], kinds: frozenset[str], kept: Mapping[str, set[int]]) -> dict[str, set[int]]:
    """Return the rows of each list that something names, whatever may not lose rows and what stays counted."""
    used: dict[str, set[int]] = {}
    waiting: list[tuple[str, int]] = []

    def use(kind: str, place: int) -> None:
        if 0 <= place < len(raw.get(kind, ())) and place not in used.setdefault(kind, set()):
            used[kind].add(place)
            waiting.append((kind, place))

    for kind in dict.fromkeys((*_OWNERS, *_ROWS, *_LOOKS)):
        for place in kept.get(kind, ()) if kind in kinds else range(len(raw.get(kind, ()))):
            use(kind, place)
    while waiting:
        kind, place = waiting.pop()
        for target, (holder, key) in sites(raw, kind, raw[kind][place]):
            use(target, holder[key])
    return used
