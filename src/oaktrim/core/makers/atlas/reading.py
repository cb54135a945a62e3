"""What an atlas is made of: models as documents that are written again, their draws with UVs, and what their materials read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from math import cos, sin
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.makers.atlas.mapkinds import ALONG_THE_SURFACE, KNOWN_PREFIX, MapSlot, slot_text
from oaktrim.core.makers.sourcemodel import SourceModel
from oaktrim.core.scene.faults import Faults
from oaktrim.core.scene.gltf.meshes import MeshReader
from oaktrim.core.scene.model import GLTF_SLOTS, Material, Model, Surface, TextureUse, Wrap
from oaktrim.core.survey.derived import material_path

Floats = NDArray[np.float64]
_POINTER, _VARIANTS = "KHR_animation_pointer", "KHR_materials_variants"
# Extensions of a material that its factors hold already.
_IN_SURFACE = ("KHR_materials_emissive_strength", "KHR_materials_unlit")


@dataclass(frozen=True)
class SourcePicture:
    """What is known of a picture before it is read: its size in texels, bits a channel, whether it holds floats, its content."""

    path: str
    size: tuple[int, int]
    bits: int
    floating: bool
    content: str
    glyphs: bool = False


@dataclass(frozen=True)
class MapRead:
    """A picture as a material reads it.

    Parameters
    ----------
    matrix : 2 rows of 3, from UVs to texels of the picture
    """

    slot: MapSlot
    picture: SourcePicture
    uv_set: int
    matrix: tuple[tuple[float, float, float], tuple[float, float, float]]
    wrap: tuple[Wrap, Wrap]

    @property
    def array(self) -> Floats:
        return np.array(self.matrix, np.float64)

    @property
    def tiles(self) -> Floats:
        """The matrix (2, 3) from UVs to whole pictures."""
        return self.array / np.array(self.picture.size, np.float64)[:, None]


@dataclass(frozen=True)
class SourceMaterial:
    """A material of a model, and whether it can be merged.

    Parameters
    ----------
    model : place among the models; place : in the model's materials; -1 for draws that name none
    maps : by slot, those of extensions by name; key : equal for materials of equal content
    extensions : as JSON, with the name of each map in the place of what it reads; materials go together where they are equal
    reason : why it cannot be merged as it is, in words; empty where it can
    """

    model: int
    place: int
    name: str
    path: str
    surface: Surface
    maps: Mapping[MapSlot, MapRead]
    uv_set: int
    extensions: str
    reason: str = ""

    @property
    def key(self) -> str:
        rows = sorted(
            (slot_text(row.slot), row.picture.content, row.uv_set, row.matrix, row.wrap[0].value, row.wrap[1].value)
            for row in self.maps.values()
        )
        return repr((self.surface, self.extensions, self.uv_set if rows else 0, rows))


@dataclass(frozen=True, eq=False)
class Part:
    """One draw of a mesh.

    Parameters
    ----------
    model, mesh, primitive : its place; material : among the source materials
    positions : (N, 3) float32; triangles : (M, 3) int64; uv : (N, 2) float64, that its material reads; None without
    scale : metres a unit, the largest at which the mesh stands in the scene
    """

    model: int
    mesh: int
    primitive: int
    material: int
    positions: NDArray[np.float32]
    triangles: NDArray[np.int64]
    uv: Floats | None
    scale: float


@dataclass(frozen=True, eq=False)
class AtlasSources:
    """All that an atlas is made of."""

    models: tuple[SourceModel, ...]
    materials: tuple[SourceMaterial, ...]
    parts: tuple[Part, ...]


# Returns what is known of the picture that a slot reads: a model's place, a material's, its use.
PictureOf = Callable[[int, int, TextureUse], SourcePicture]


def atlas_sources(
    models: Sequence[SourceModel], picture_of: PictureOf, objects: Sequence[str] = (), project: bool = False
) -> AtlasSources:
    """Return the draws and materials of models.

    Parameters
    ----------
    objects : names of nodes; what hangs on them is taken, and all where none is named
    project : draws without UVs get some

    Raises
    ------
    FileError : an object is named that no model has
    """
    taken = _meshes_of(models, objects)
    materials: list[SourceMaterial] = []
    numbers: dict[tuple[int, int], int] = {}
    parts: list[Part] = []
    for number, model in enumerate(models):
        reader = MeshReader(model.document, True, Faults())
        scales = _scales(model.model)
        for mesh, row in enumerate(model.document.root.meshes):
            if (number, mesh) not in taken:
                continue
            for primitive, draw in enumerate(row.primitives):
                key = (number, -1 if draw.material is None else draw.material)
                if key not in numbers:
                    numbers[key] = len(materials)
                    materials.append(_material(model, *key, picture_of))
                place = numbers[key]
                part, fault = _part(reader, (number, mesh, primitive), place, materials[place], scales, project)
                if fault and not materials[place].reason:
                    materials[place] = replace(materials[place], reason=fault)
                parts.append(part)
    return AtlasSources(tuple(models), tuple(materials), tuple(parts))


def _meshes_of(models: Sequence[SourceModel], objects: Sequence[str]) -> set[tuple[int, int]]:
    if not objects:
        return {(number, mesh) for number, model in enumerate(models) for mesh in range(len(model.model.meshes))} | {
            (number, mesh) for number, model in enumerate(models) for mesh in range(len(model.document.root.meshes))
        }
    found: set[tuple[int, int]] = set()
    named: set[str] = set()
    for number, model in enumerate(models):
        for place, node in enumerate(model.model.nodes):
            if node.name in objects:
                named.add(node.name)
                below = (model.model.nodes[row].mesh for row in model.model.below(place))
                found |= {(number, mesh) for mesh in below if mesh is not None}
    for name in objects:
        if name not in named:
            raise FileError(models[0].document.place.file, f"has no node called {name[:100]!r}")
    return found


def _scales(model: Model) -> dict[int, float]:
    """Return the largest scale at which each mesh stands in the scene."""
    found: dict[int, float] = {}
    for place, matrix in model.world_matrices().items():
        node = model.nodes[place]
        if node.mesh is None:
            continue
        matrices = [matrix] if node.instances is None else [matrix @ row for row in node.instances[:1000]]
        for row in matrices:
            size = float(abs(np.linalg.det(row[:3, :3]))) ** (1 / 3)
            if np.isfinite(size) and size > 0:
                found[node.mesh] = max(found.get(node.mesh, 0.0), size)
    return found


def _material(model: SourceModel, number: int, place: int, picture_of: PictureOf) -> SourceMaterial:
    """Return a material with what it reads, and why it cannot be merged where it cannot."""
    if not 0 <= place < len(model.model.materials):
        name = "no material" if place < 0 else f"material {place}"
        reason = "" if place < 0 else "is named by a draw, and the file has no such material"
        return SourceMaterial(number, place, name, material_path(model.path, name), Surface(), {}, 0, "", reason)
    material: Material = model.model.materials[place]
    raw = model.document.raw["materials"][place]
    reason, extensions, names = _extensions(model, raw)
    maps: dict[MapSlot, MapRead] = {}
    for use in material.uses:
        core = use.slot in GLTF_SLOTS and use.name == use.slot.value
        slot: MapSlot | None = use.slot if core else names.get(use.name)
        if slot is None:
            continue
        try:
            picture = picture_of(number, place, use)
        except OakTrimError as error:
            reason = reason or f"its {use.name} cannot be read: {error}"
            continue
        if picture.floating:
            reason = reason or f"{picture.path} holds light beyond 1, which a sheet of 8 or 16 bits cannot"
        if picture.glyphs:
            reason = reason or f"{picture.path} is a sheet of glyphs, whose metrics hold for it alone"
        maps[slot] = MapRead(slot, picture, use.uv_set, _matrix(use, picture.size), use.wrap)
    sets = sorted({row.uv_set for row in maps.values()})
    if len(sets) > 1:
        reason = reason or f"its textures read UV sets {' and '.join(map(str, sets))}; an atlas has one layout for all"
    path = material_path(model.path, material.name)
    return SourceMaterial(
        number, place, material.name, path, material.surface, maps, sets[0] if sets else 0, extensions, reason
    )


def _extensions(model: SourceModel, raw: Mapping[str, Any]) -> tuple[str, str, dict[str, str]]:
    """Return why the extensions of a material keep it from being merged, them as JSON, and their maps' slots by name."""
    rows = raw.get("extensions", {})
    kept = {name: row for name, row in rows.items() if name not in _IN_SURFACE} if isinstance(rows, dict) else {}
    reason = ""
    names: dict[str, str] = {}
    for name, row in kept.items():
        kept[name], found = _without_maps(name, row)
        names |= found
        fault = next((field for field in found if field in ALONG_THE_SURFACE), "")
        if fault:
            reason = f"{name} reads directions from {fault}, which would turn with its islands"
        if _names_texture(kept[name]):
            reason = f"{name} reads maps of its own, which an atlas does not know"
    used = model.document.root.extensions_used
    if _POINTER in used:
        reason = reason or f"the file moves materials ({_POINTER})"
    if _VARIANTS in used:
        reason = reason or f"the file swaps materials ({_VARIANTS})"
    return reason, msgspec.json.encode(kept, order="sorted").decode() if kept else "", names


def _without_maps(name: str, row: Any) -> tuple[Any, dict[str, str]]:
    """Return an extension with a name in the place of each map that it reads, and these names by field."""
    if not (isinstance(row, dict) and name.startswith(KNOWN_PREFIX)):
        return row, {}
    made, names = dict(row), dict[str, str]()
    for field, info in row.items():
        if field.endswith("Texture") and isinstance(info, dict) and isinstance(info.get("index"), int):
            names[field] = f"{name}/{field}"
            rest = {key: value for key, value in info.items() if key not in ("index", "texCoord", "extensions")}
            made[field] = rest | {"sheet": names[field]}
    return made, names


def _names_texture(value: Any) -> bool:
    if isinstance(value, dict):
        return isinstance(value.get("index"), int) or any(_names_texture(row) for row in value.values())
    return isinstance(value, list) and any(_names_texture(row) for row in value)


def _matrix(use: TextureUse, size: tuple[int, int]) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """Return the matrix from UVs to texels (KHR_texture_transform, then the picture's size)."""
    c, s = cos(use.rotation), sin(use.rotation)
    (x, y), (u, v), (w, h) = use.scale, use.offset, size
    return (c * x * w, s * y * w, u * w), (-s * x * h, c * y * h, v * h)


def _part(
    reader: MeshReader,
    where: tuple[int, int, int],
    number: int,
    material: SourceMaterial,
    scales: Mapping[int, float],
    project: bool,
) -> tuple[Part, str]:
    """Return a draw, and why it keeps its material from being merged."""
    model, mesh, primitive = where
    row = reader.root.meshes[mesh].primitives[primitive]
    who = f"mesh {mesh}, primitive {primitive}"
    scale = scales.get(mesh, 1.0)
    none = np.zeros((0, 3), np.float32)
    empty = Part(model, mesh, primitive, number, none, np.zeros((0, 3), np.int64), None, scale)
    if row.mode not in (4, 5, 6):
        return empty, f"{who} draws points or lines"
    try:
        made = reader.primitive(row, who)
    except (FileError, ValueError, OverflowError, MemoryError) as error:
        return empty, f"{who} cannot be read: {getattr(error, 'fault', error)}"
    if made.count and not len(made.triangles):
        return empty, f"{who} is compressed in a way that is not read"
    uv: Floats | None = None
    if material.uv_set < len(made.uvs):
        uv = made.uvs[material.uv_set].astype(np.float64)
    elif project:
        uv = box_projected(made.positions, made.triangles)
    part = Part(model, mesh, primitive, number, made.positions, made.triangles, uv, scale)
    fault = (
        "" if uv is not None or not material.maps else f"{who} has no UVs; they can be projected from the box around"
    )
    return part, fault


def box_projected(points: NDArray[np.float32], triangles: NDArray[np.int64]) -> Floats:
    """Return UVs (N, 2) of vertices as seen along the axis that their triangles face most, the longest side 0..1."""
    low = points.min(axis=0, initial=np.inf) if len(points) else np.zeros(3)
    size = float((points.max(axis=0) - low).max()) if len(points) else 1.0
    normals = np.zeros((len(points), 3))
    a, b, c = (points[triangles[:, k]].astype(np.float64) for k in range(3))
    faces = np.cross(b - a, c - a)
    for k in range(3):
        np.add.at(normals, triangles[:, k], faces)
    axis = np.abs(normals).argmax(axis=1)
    across, up = np.where(axis == 0, 2, 0), np.where(axis == 1, 2, 1)
    rows = np.arange(len(points))
    size = size if np.isfinite(size) and size > 0 else 1.0
    return np.stack(
        [(points[rows, across] - low[across]) / size, 1 - (points[rows, up] - low[up]) / size], axis=1
    ).astype(np.float64)
