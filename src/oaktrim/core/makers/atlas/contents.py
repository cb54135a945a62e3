"""What goes into an atlas: materials of equal content as one, their islands as charts, and the kinds that can share a sheet."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import ceil

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.atlas.charts import islands_of, together
from oaktrim.core.makers.atlas.reading import AtlasSources, MapRead, Part, SourceMaterial
from oaktrim.core.makers.atlas.settings import MOST_REPEATS, Atlas, FactorUse, Repeats, Take
from oaktrim.core.scene.model import AlphaMode, Wrap
from oaktrim.core.units import bytes_text

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
_SLACK = 1e-3
_STEPS = {Wrap.REPEAT: 1, Wrap.MIRROR: 2, Wrap.CLAMP: 0}
# Of a picture of factors alone, texels each way.
FACTOR_SIDE = 4


@dataclass(frozen=True)
class MaterialNote:
    """What becomes of a material.

    Parameters
    ----------
    group : the place of its group, -1 where it is left out; same_as : the material whose content it has, or -1
    reason : why it is left out, or with what it goes, in words
    islands, used : how many there are, and the share of its texture that they cover
    repeats : how often its texture repeats, across and down; baked_bytes : what writing that out takes, plain
    split : its triangles are to be split at whole tiles
    """

    material: SourceMaterial
    group: int = -1
    same_as: int = -1
    reason: str = ""
    islands: int = 0
    used: float = 0.0
    repeats: tuple[float, float] = (1.0, 1.0)
    baked_bytes: int = 0
    split: bool = False

    @property
    def taken(self) -> bool:
        return self.group >= 0


@dataclass(frozen=True, eq=False)
class Content:
    """Materials of one content, as charts over their textures.

    Parameters
    ----------
    materials : places of theirs; the first stands for all
    reference : the map with most texels, by which charts are measured; None for factors alone
    parts : places of their draws; starts : (P + 1,) where the vertices of each begin
    corners : (M, 3, 2) of triangles in texels of the reference; chart : (M,), ascending; order : (M,) which triangles these are
    area : (M,) of each triangle in the scene, square metres
    points : (N, 2) vertices in texels of the reference; vertex_chart : (N,)
    charts, islands : how many
    """

    materials: tuple[int, ...]
    reference: MapRead | None
    parts: tuple[int, ...]
    starts: Ints
    corners: Floats
    chart: Ints
    area: Floats
    points: Floats
    vertex_chart: Ints
    charts: int
    islands: int
    repeats: tuple[float, float]
    used: float


@dataclass(frozen=True, eq=False)
class Group:
    """Contents that become one material.

    Parameters
    ----------
    contents : places among all; name : of the material that comes of it
    """

    name: str
    contents: tuple[int, ...]
    alpha: AlphaMode
    two_sided: bool
    unlit: bool
    extensions: str
    factors: FactorUse


@dataclass(frozen=True, eq=False)
class Gathered:
    """All that goes into an atlas, and what becomes of every material."""

    sources: AtlasSources
    notes: tuple[MaterialNote, ...]
    contents: tuple[Content, ...]
    groups: tuple[Group, ...]


def gathered(sources: AtlasSources, settings: Atlas) -> Gathered:
    """Return what of some models goes into an atlas."""
    notes = [_noted(material, settings) for material in sources.materials]
    by_key: dict[str, list[int]] = {}
    for place, note in enumerate(notes):
        if not note.reason:
            by_key.setdefault(note.material.key, []).append(place)
    contents: list[Content] = []
    for places in by_key.values():
        content = _content(sources, places)
        first = sources.materials[places[0]]
        fault = _too_often(content, first, settings)
        for place in places:
            note = replace(
                notes[place], islands=content.islands, used=content.used, repeats=content.repeats,
                baked_bytes=_baked_bytes(content, first), reason=fault, split=_is_to_split(content, first, settings),
            )  # fmt: skip
            if place != places[0] and not fault:
                note = replace(note, same_as=places[0])
            notes[place] = note
        if not fault and len(content.corners):
            contents.append(content)
        elif not fault:
            for place in places:
                notes[place] = replace(notes[place], reason="nothing is drawn with it")
    return _grouped(sources, settings, notes, contents)


def _noted(material: SourceMaterial, settings: Atlas) -> MaterialNote:
    choice = settings.choice(material.path)
    if choice.take is Take.LEAVE:
        return MaterialNote(material, reason="left out by hand")
    return MaterialNote(material, reason=material.reason)


def _too_often(content: Content, material: SourceMaterial, settings: Atlas) -> str:
    """Return why a texture that repeats cannot be merged; empty where it can, or does not repeat."""
    across, down = content.repeats
    if max(across, down) <= 1 + _SLACK:
        return ""
    choice = settings.choice(material.path)
    how = choice.repeats or settings.repeats
    often = f"its texture repeats {across:.3g} times across and {down:.3g} down"
    if how is Repeats.LEAVE:
        return often
    if how is Repeats.SPLIT and _can_split(material):
        return ""
    most = MOST_REPEATS if choice.repeats is None and choice.take is not Take.TAKE else 8 * MOST_REPEATS
    if max(across, down) > most:
        cost = bytes_text(_baked_bytes(content, material))
        return f"{often}: it tiles, and written out would take {cost}"
    return ""


def _is_to_split(content: Content, material: SourceMaterial, settings: Atlas) -> bool:
    """Say whether the triangles of a content are to be split at whole tiles."""
    how = settings.choice(material.path).repeats or settings.repeats
    return how is Repeats.SPLIT and max(content.repeats) > 1 + _SLACK and _can_split(material)


def _can_split(material: SourceMaterial) -> bool:
    """Say whether all maps of a material repeat in one and the same way."""
    ways = {row.tiles.tobytes() for row in material.maps.values()}
    return len(ways) == 1 and all(row.wrap == (Wrap.REPEAT, Wrap.REPEAT) for row in material.maps.values())


def _baked_bytes(content: Content, material: SourceMaterial) -> int:
    """Return what the maps of a content take in RGBA with all they repeat written out."""
    times = ceil(content.repeats[0] - _SLACK) * ceil(content.repeats[1] - _SLACK)
    return sum(4 * row.picture.size[0] * row.picture.size[1] for row in material.maps.values()) * max(1, times)


def _content(sources: AtlasSources, places: Sequence[int]) -> Content:
    """Return what materials of one content draw, as charts."""
    material = sources.materials[places[0]]
    reference = max(material.maps.values(), key=_texels_a_uv, default=None)
    mine = [place for place, part in enumerate(sources.parts) if part.material in places]
    parts = [sources.parts[place] for place in mine]
    starts = np.concatenate([[0], np.cumsum([len(part.positions) for part in parts])]).astype(np.int64)
    positions = np.concatenate([part.positions for part in parts] or [np.zeros((0, 3), np.float32)])
    triangles = np.concatenate(
        [part.triangles + start for part, start in zip(parts, starts, strict=False)] or [np.zeros((0, 3), np.int64)]
    )
    area = np.concatenate([_areas(part) for part in parts] or [np.zeros(0)])
    if reference is None:
        return _of_factors(tuple(places), tuple(mine), starts, len(triangles), area)
    uv = np.concatenate([part.uv if part.uv is not None else np.zeros((len(part.positions), 2)) for part in parts])
    islands = islands_of(positions, uv, triangles, _steps(material))
    matrix = reference.array
    points = islands.moved @ matrix[:, :2].T + matrix[:, 2]
    size = np.array(reference.picture.size, np.float64)
    corners = points[triangles]
    island = islands.island[triangles[:, 0]]
    repeats = _repeats(corners, island, islands.count, size)
    chart = together(corners, island, islands.count, float(size.max()))
    charts = int(chart.max()) + 1 if len(chart) else 0
    used = min(1.0, float(np.abs(_doubled(corners)).sum() / 2 / (size[0] * size[1])))
    ascending = np.argsort(chart[island], kind="stable")
    return Content(
        materials=tuple(places),
        reference=reference,
        parts=tuple(mine),
        starts=starts,
        corners=corners[ascending],
        chart=chart[island][ascending],
        area=area[ascending],
        points=points,
        vertex_chart=chart[islands.island],
        charts=charts,
        islands=islands.count,
        repeats=repeats,
        used=used,
    )


def _of_factors(places: tuple[int, ...], parts: tuple[int, ...], starts: Ints, triangles: int, area: Floats) -> Content:
    """Return a content without textures: every vertex in the middle of some texels of its factors."""
    middle = FACTOR_SIDE / 2
    square = np.array([[0, 0], [FACTOR_SIDE, 0], [FACTOR_SIDE, FACTOR_SIDE], [0, FACTOR_SIDE]], np.float64)
    corners = square[[[0, 1, 2], [0, 2, 3]]] if triangles else np.zeros((0, 3, 2))
    return Content(
        materials=places,
        reference=None,
        parts=parts,
        starts=starts,
        corners=corners,
        chart=np.zeros(len(corners), np.int64),
        area=np.full(len(corners), area.sum() / 2),
        points=np.full((int(starts[-1]), 2), middle),
        vertex_chart=np.zeros(int(starts[-1]), np.int64),
        charts=1 if triangles else 0,
        islands=0,
        repeats=(1.0, 1.0),
        used=1.0,
    )


def _texels_a_uv(row: MapRead) -> float:
    found = abs(float(np.linalg.det(row.array[:, :2])))
    return found if np.isfinite(found) else 0.0


def _steps(material: SourceMaterial) -> tuple[int, int]:
    """Return the whole tiles that UVs can be moved by without any map of a material changing."""
    steps = [1, 1]
    for row in material.maps.values():
        tiles = row.tiles[:, :2]
        if not np.allclose(tiles, np.round(tiles), atol=1e-9):
            return 0, 0
        for axis in range(2):
            # What one whole step along a UV is along each side of the picture.
            for side in range(2):
                if round(float(tiles[side, axis])):
                    step = _STEPS[row.wrap[side]]
                    steps[axis] = 0 if not step or not steps[axis] else max(steps[axis], step)
    return steps[0], steps[1]


def _repeats(corners: Floats, island: Ints, count: int, size: Floats) -> tuple[float, float]:
    """Return how many tiles the widest and the tallest island reach over."""
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    for k in range(3):
        np.minimum.at(low, island, corners[:, k])
        np.maximum.at(high, island, corners[:, k])
    spans = (high - low) / size
    spans = spans[np.isfinite(spans).all(axis=1)]
    return (float(spans[:, 0].max()), float(spans[:, 1].max())) if len(spans) else (1.0, 1.0)


def _areas(part: Part) -> Floats:
    a, b, c = (part.positions[part.triangles[:, k]].astype(np.float64) for k in range(3))
    with np.errstate(over="ignore", invalid="ignore"):
        found = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2 * part.scale**2
    return np.where(np.isfinite(found), found, 0.0)


def _doubled(corners: Floats) -> Floats:
    """Return twice the signed areas of triangles (M, 3, 2)."""
    d1, d2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    found: Floats = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
    return found


def density(content: Content) -> Floats:
    """Return the texels a metre of each chart, (charts,); 0 where it has no area in the scene."""
    texels = np.bincount(content.chart, np.abs(_doubled(content.corners)) / 2, content.charts)
    metres = np.bincount(content.chart, content.area, content.charts)
    with np.errstate(divide="ignore", invalid="ignore"):
        found = np.sqrt(texels / metres)
    return np.where(np.isfinite(found), found, 0.0)


def _grouped(
    sources: AtlasSources, settings: Atlas, notes: list[MaterialNote], contents: Sequence[Content]
) -> Gathered:
    """Return contents in groups of one way of being drawn; one that is alone stays as it is, where others are not."""
    key: tuple[object, ...]
    kinds: dict[tuple[object, ...], list[int]] = {}
    for place, content in enumerate(contents):
        material = sources.materials[content.materials[0]]
        surface = material.surface
        sides = surface.two_sided if not settings.sides_together else None
        key = (surface.alpha, sides, surface.unlit, material.extensions)
        if settings.factors is FactorUse.APART:
            # With what is drawn on one side or on both they are alike.
            key = (*key, replace(surface, two_sided=False), frozenset(material.maps))
        kinds.setdefault(key, []).append(place)
    any_merged = any(len(places) > 1 for places in kinds.values())
    stem = settings.name.rpartition("/")[2]
    kept: list[Content] = []
    groups: list[Group] = []
    for places in kinds.values():
        first = sources.materials[contents[places[0]].materials[0]]
        alone = len(places) == 1 and any_merged
        if alone and settings.choice(first.path).take is not Take.TAKE:
            for mine in contents[places[0]].materials:
                notes[mine] = replace(notes[mine], reason=f"alone in how it is drawn: {_how(first)}")
            continue
        surfaces = [sources.materials[contents[place].materials[0]].surface for place in places]
        ending = "" if first.surface.alpha is AlphaMode.OPAQUE else f" {first.surface.alpha.value.lower()}"
        taken = {group.name for group in groups}
        name = f"{stem}{ending}"
        name = name if name not in taken else f"{name} {len(groups) + 1}"
        for place in places:
            for mine in contents[place].materials:
                notes[mine] = replace(notes[mine], group=len(groups))
        groups.append(
            Group(
                name, tuple(range(len(kept), len(kept) + len(places))), first.surface.alpha,
                any(row.two_sided for row in surfaces), first.surface.unlit, first.extensions, settings.factors,
            )
        )  # fmt: skip
        kept += [contents[place] for place in places]
    return Gathered(sources, tuple(notes), tuple(kept), tuple(groups))


def _how(material: SourceMaterial) -> str:
    surface = material.surface
    words = {AlphaMode.OPAQUE: "opaque", AlphaMode.MASK: "cut out by alpha", AlphaMode.BLEND: "blended"}[surface.alpha]
    words += ", both sides" if surface.two_sided else ""
    return words + (", unlit" if surface.unlit else "")
