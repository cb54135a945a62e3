"""An atlas from its sources to its sheets and models."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import PurePosixPath
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.makers.atlas.contents import Content, Gathered, Group, density
from oaktrim.core.makers.atlas.layout import ChartSet, Layout, Wanted, arranged, own_layout
from oaktrim.core.makers.atlas.reading import MapRead
from oaktrim.core.makers.atlas.rewrite import MovedDraw, Rewritten, rewritten
from oaktrim.core.makers.atlas.settings import Atlas, Rotation, Weight
from oaktrim.core.makers.atlas.sheets import ChartPlace, MapKind, bake, factors_of, kinds_of, uv_turn
from oaktrim.core.makers.names import safe
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import Progress, Task
from oaktrim.core.scene.model import AlphaMode, Slot, Surface

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
# The scale at which what is never seen is kept.
_UNSEEN = 1 / 64
_TURNS = {Rotation.QUARTER: 4, Rotation.FREE: 4, Rotation.NONE: 1}


@dataclass(frozen=True, eq=False)
class GroupLayout:
    """A group with its charts on sheets.

    Parameters
    ----------
    group : its place; layout : of its units; a unit is a chart, or all charts of a content where these keep their own layout
    content : (U,) of each unit; starts : where the charts of each content begin among all; unit : (C,) of each chart
    density : (C,) texels a metre of the sources, 0 without area
    own : the sheet is the one picture as it was, smaller
    """

    group: int
    layout: Layout
    content: Ints
    starts: Mapping[int, int]
    unit: Ints
    density: Floats
    own: bool = False

    def matrices(self) -> Floats:
        """Return the matrix of each chart from texels of its source to those of its sheet, (C, 2, 3)."""
        return self.layout.matrices()[self.unit]


@dataclass(frozen=True, eq=False)
class LaidOut:
    """An atlas whose islands have their places."""

    settings: Atlas
    gathered: Gathered
    groups: tuple[GroupLayout, ...]


@dataclass(frozen=True)
class SheetName:
    """Which map of an atlas a sheet is; `path` is its name, without ending."""

    group: int
    sheet: int
    kind: MapKind
    path: str


@dataclass(frozen=True, eq=False)
class AtlasMade:
    """What comes of an atlas.

    Parameters
    ----------
    sheets : by the path that names them; models : by their source's path
    warnings : what does not come through whole, in sentences
    """

    laid_out: LaidOut
    names: tuple[SheetName, ...]
    sheets: Mapping[str, Image]
    models: Mapping[str, Rewritten]
    warnings: tuple[str, ...] = field(default=())


def _units(gathered: Gathered, group: Group, rigid: bool) -> tuple[ChartSet, Ints, dict[int, int], Ints]:
    """Return the charts of a group to be placed, the content of each unit, where contents begin, and each chart's unit."""
    corners, chart, content, unit = [], [], [], []
    starts: dict[int, int] = {}
    count = charts = 0
    for place in group.contents:
        row = gathered.contents[place]
        starts[place] = charts
        corners.append(row.corners)
        mine = 1 if rigid else row.charts
        chart.append(np.zeros(len(row.chart), np.int64) + count if rigid else row.chart + count)
        content += [place] * mine
        unit.append(np.zeros(row.charts, np.int64) + count if rigid else np.arange(row.charts) + count)
        count += mine
        charts += row.charts
    made = ChartSet(np.concatenate(corners), np.concatenate(chart), count)
    return made, np.array(content, np.int64), starts, np.concatenate(unit)


def laid_out(gathered: Gathered, settings: Atlas, seen: Mapping[str, float] | None = None) -> Task[LaidOut]:
    """Return an atlas with every island in its place.

    Parameters
    ----------
    seen : the scale at which each picture is wanted by what is seen of it, by path; 0 for what is never seen

    Raises
    ------
    Unsupported : nothing can be merged, or what must keep its texels has no room
    """
    if not gathered.groups:
        reasons = "; ".join(f"{note.material.name}: {note.reason}" for note in gathered.notes if note.reason)
        raise Unsupported(f"no material can go into an atlas: {reasons[:600] or 'nothing is drawn'}")
    groups = []
    for place, group in enumerate(gathered.groups):
        groups.append((yield from _group_laid_out(gathered, place, group, settings, seen)))
    return LaidOut(settings, gathered, tuple(groups))


def _group_laid_out(
    gathered: Gathered, place: int, group: Group, settings: Atlas, seen: Mapping[str, float] | None
) -> Task[GroupLayout]:
    wanted = Wanted(
        settings.size, sheets_in(gathered, place, settings), settings.square, settings.gutter, _TURNS[settings.rotate],
        settings.rotate is Rotation.FREE,
    )  # fmt: skip
    charts, content, starts, unit = _units(gathered, group, rigid=False)
    dense = np.concatenate([density(gathered.contents[row]) for row in group.contents])
    scaling = _Scaling(gathered, content, dense, settings, seen)
    found = yield from arranged(charts, scaling, wanted)
    best = GroupLayout(place, found, content, starts, unit, dense)
    if (found.scales < 1).any():
        for own in _own_layouts(gathered, group, found, best):
            if _quality(charts, own.layout.scales[own.unit]) > _quality(charts, found.scales):
                best = own
    return best


def _own_layouts(gathered: Gathered, group: Group, found: Layout, like: GroupLayout) -> list[GroupLayout]:
    """Return the layout that a single picture had before, where all its islands lie in one tile of it."""
    if len(group.contents) != 1:
        return []
    content = gathered.contents[group.contents[0]]
    if content.reference is None or found.sheets != 1:
        return []
    size = np.array(content.reference.picture.size, np.float64)
    slack = 0.01
    inside = content.corners.min() >= -slack and (content.corners.max(axis=(0, 1)) <= size + slack).all()
    if not inside:
        return []
    unit, own = np.zeros(len(like.unit), np.int64), np.array([group.contents[0]], np.int64)
    layout = own_layout(content.reference.picture.size, max(found.width, found.height))
    return [replace(like, layout=layout, content=own, unit=unit, own=True)]


def _quality(charts: ChartSet, scales: Floats) -> float:
    """Return the share of texels that charts keep."""
    d1, d2 = charts.corners[:, 1] - charts.corners[:, 0], charts.corners[:, 2] - charts.corners[:, 0]
    area = np.bincount(charts.chart, np.abs(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]), charts.count)
    return float((area * np.minimum(1, scales) ** 2).sum() / max(1e-30, area.sum()))


class _Scaling:
    """The scale of each chart for a common factor: by its weight, between its floor and the texels that its source has."""

    def __init__(
        self, gathered: Gathered, content: Ints, dense: Floats, settings: Atlas, seen: Mapping[str, float] | None
    ) -> None:
        materials = [gathered.sources.materials[gathered.contents[row].materials[0]] for row in content]
        choices = [settings.choice(row.path) for row in materials]
        weight = settings.weight
        if weight is Weight.SEEN and seen is None:
            weight = Weight.AREA
        known = dense > 0
        if weight is Weight.AREA and known.any():
            middle = float(np.median(dense[known]))
            base = np.where(known, middle / np.where(known, dense, 1), 1.0)
        elif weight is Weight.SEEN:
            assert seen is not None
            base = np.array([_seen_scale(gathered.contents[row].reference, seen) for row in content])
        else:
            base = np.ones(len(content))
        levels = np.array([row.levels for row in choices])
        for pin in settings.pins:
            if 0 <= pin.island < len(levels):
                levels[pin.island] += pin.levels
        self.base = base * 2.0**levels
        self.ceiling = np.where(np.isinf(base), 1.0, 1.0) * 2.0 ** np.minimum(levels, 0)
        keep = np.array([row.keep for row in choices]) | np.array(
            [gathered.contents[row].reference is None for row in content]
        )
        floor = np.where(known, settings.floor / np.where(known, dense, 1), 0.0) if settings.floor else np.zeros(len(dense))
        self.floor = np.where(keep, 1.0, np.clip(floor, 1e-4, 1.0))
        self.ceiling = np.where(keep, 1.0, np.maximum(self.ceiling, self.floor))
        # What is seen from no farther than this needs no more texels, however large the sheet is.
        if weight is Weight.SEEN:
            self.ceiling = np.maximum(self.floor, np.minimum(self.ceiling, np.maximum(self.base, _UNSEEN)))

    def __call__(self, factor: float) -> Floats:
        scaled = self.ceiling if np.isinf(factor) else self.base * factor
        found: Floats = np.minimum(self.ceiling, np.maximum(self.floor, scaled))
        return found


def _seen_scale(reference: MapRead | None, seen: Mapping[str, float]) -> float:
    if reference is None:
        return 1.0
    scale = seen.get(reference.picture.path, 1.0)
    return min(1.0, scale) if scale > 0 else _UNSEEN


def sheets_in(gathered: Gathered, place: int, settings: Atlas) -> int:
    """Return how many sheets a group has: as many as asked for, where it has so many islands."""
    return max(1, min(settings.sheets, sum(gathered.contents[row].charts for row in gathered.groups[place].contents)))


def sheet_names(gathered: Gathered, settings: Atlas) -> tuple[SheetName, ...]:
    """Return the maps that an atlas has."""
    found = []
    for place, group in enumerate(gathered.groups):
        ending = group.name.removeprefix(settings.name.rpartition("/")[2]).strip().replace(" ", "_")
        stem = f"{settings.name}_{ending}" if ending else settings.name
        count = sheets_in(gathered, place, settings)
        for sheet in range(count):
            numbered = f"{stem}_{sheet + 1}" if count > 1 else stem
            for kind in kinds_of(gathered, group):
                found.append(SheetName(place, sheet, kind, f"{numbered}_{kind.ending}"))
    return tuple(found)


@dataclass(frozen=True)
class Links:
    """How the models of an atlas name their images.

    Parameters
    ----------
    sheet : returns what an image row holds for a sheet: from the model's path, the sheet's name, and the sheet
    rest : returns the same for an image that the model keeps: from the model's path and the image's place in it
    """

    sheet: Callable[[str, SheetName, Image], dict[str, Any]]
    rest: Callable[[str, int], dict[str, Any] | None] = lambda _, __: None


def made(plan: LaidOut, picture: Callable[[str], Image], links: Links) -> Task[AtlasMade]:
    """Return the sheets and the models of an atlas.

    Parameters
    ----------
    picture : returns a picture by its path

    Raises
    ------
    OakTrimError : a picture or a buffer cannot be read
    """
    gathered = plan.gathered
    names = sheet_names(gathered, plan.settings)
    sheets: dict[str, Image] = {}
    for done, name in enumerate(names):
        group, laid = gathered.groups[name.group], plan.groups[name.group]
        matrices = laid.layout.matrices()
        on = np.flatnonzero(laid.layout.on == name.sheet)
        charts = [ChartPlace(int(unit), int(laid.content[unit]), matrices[unit]) for unit in on]
        yield Progress(done, len(names) + 1, f"baking {name.path}")
        sheets[name.path] = yield from bake(name.kind, gathered, group, laid.layout, charts, picture)
    yield Progress(len(names), len(names) + 1, "writing models")
    models = {}
    for number, model in enumerate(gathered.sources.models):
        draws, keys = _draws(plan, number)
        mine = {
            place: links.sheet(model.path, name, sheets[name.path])
            for place, name in enumerate(names)
            if (name.group, name.sheet) in keys.values()
        }
        rows = {key: _material_row(plan, names, *where) for key, where in keys.items()}
        models[model.path] = rewritten(model.document, draws, rows, mine, partial(links.rest, model.path))
    warnings = [line for model in gathered.sources.models for line in model.lost]
    warnings += [line for group in gathered.groups for line in factors_of(gathered, group).warnings]
    return AtlasMade(plan, names, sheets, models, tuple(dict.fromkeys(warnings)))


def _draws(plan: LaidOut, model: int) -> tuple[list[MovedDraw], dict[int, tuple[int, int]]]:
    """Return the draws of a model with their new UVs, and which group and sheet each material key stands for."""
    gathered = plan.gathered
    found: list[MovedDraw] = []
    keys: dict[int, tuple[int, int]] = {}
    for laid in plan.groups:
        matrices, on = laid.matrices(), laid.layout.on[laid.unit]
        size = np.array([laid.layout.width, laid.layout.height], np.float64)
        for place, start in laid.starts.items():
            content = gathered.contents[place]
            chosen = start + np.arange(content.charts)
            turns = np.stack([uv_turn(content.reference, matrix) for matrix in matrices[chosen]])
            for number, part_place in enumerate(content.parts):
                part = gathered.sources.parts[part_place]
                if part.model != model:
                    continue
                rows = slice(int(content.starts[number]), int(content.starts[number + 1]))
                chart = content.vertex_chart[rows]
                moved = np.einsum("nab,nb->na", matrices[chosen][chart][:, :, :2], content.points[rows])
                uv = (moved + matrices[chosen][chart][:, :, 2]) / size
                sheet = on[chosen][chart[part.triangles[:, 0]]] if len(part.triangles) else np.zeros(0, np.int64)
                material = laid.group * 64 + sheet
                for key in np.unique(material):
                    keys[int(key)] = (laid.group, int(key) - laid.group * 64)
                found.append(MovedDraw(part.mesh, part.primitive, uv.astype(np.float32), turns[chart], material))
    return [draw for draw in found if len(draw.material)], keys


def _material_row(plan: LaidOut, names: Sequence[SheetName], group: int, sheet: int) -> dict[str, Any]:
    """Return the row of a new material, its textures named by the places of their sheets."""
    gathered, mine = plan.gathered, plan.gathered.groups[group]
    surface = factors_of(gathered, mine).surface
    by_kind = {
        name.kind.ending: place for place, name in enumerate(names) if (name.group, name.sheet) == (group, sheet)
    }  # fmt: skip
    slots = {
        slot for place in mine.contents for slot in gathered.sources.materials[gathered.contents[place].materials[0]].maps
    }  # fmt: skip
    pbr: dict[str, Any] = {"metallicFactor": surface.metallic, "roughnessFactor": surface.roughness}
    if surface.base_colour != (1.0, 1.0, 1.0, 1.0):
        pbr["baseColorFactor"] = list(surface.base_colour)
    row: dict[str, Any] = {"name": mine.name, "pbrMetallicRoughness": pbr}
    if "base" in by_kind:
        pbr["baseColorTexture"] = {"sheet": by_kind["base"]}
    if "orm" in by_kind:
        surfaces = {gathered.sources.materials[gathered.contents[p].materials[0]].surface for p in mine.contents}
        differ = len({(s.metallic, s.roughness) for s in surfaces}) > 1
        if Slot.METALLIC_ROUGHNESS in slots or differ:
            pbr["metallicRoughnessTexture"] = {"sheet": by_kind["orm"]}
        if Slot.OCCLUSION in slots:
            row["occlusionTexture"] = {"sheet": by_kind["orm"]}
            if surface.occlusion_strength != 1:
                row["occlusionTexture"]["strength"] = surface.occlusion_strength
    if "normal" in by_kind:
        row["normalTexture"] = {"sheet": by_kind["normal"]}
        if surface.normal_scale != 1:
            row["normalTexture"]["scale"] = surface.normal_scale
    extensions: dict[str, Any] = msgspec.json.decode(mine.extensions) if mine.extensions else {}
    row |= _emission(surface, by_kind, extensions)
    if mine.unlit:
        extensions["KHR_materials_unlit"] = {}
    if extensions:
        row["extensions"] = extensions
    if mine.alpha is not AlphaMode.OPAQUE:
        row["alphaMode"] = mine.alpha.value
    if mine.alpha is AlphaMode.MASK and surface.cutoff != 0.5:
        row["alphaCutoff"] = surface.cutoff
    if surface.two_sided:
        row["doubleSided"] = True
    return row


def _emission(surface: Surface, by_kind: Mapping[str, int], extensions: dict[str, Any]) -> dict[str, Any]:
    """Return the emissive part of a material's row; what is brighter than 1 goes into an extension."""
    largest = max(surface.emissive)
    if largest <= 0:
        return {}
    strength = max(1.0, largest)
    if strength > 1:
        extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": strength}
    found: dict[str, Any] = {"emissiveFactor": [value / strength for value in surface.emissive]}
    if "emissive" in by_kind:
        found["emissiveTexture"] = {"sheet": by_kind["emissive"]}
    return found


def island_rows(plan: LaidOut) -> list[dict[str, Any]]:
    """Return every island's source and place, as `atlas.json` has them."""
    rows: list[dict[str, Any]] = []
    gathered = plan.gathered
    for laid in plan.groups:
        matrices, layout = laid.matrices(), laid.layout
        for place, start in laid.starts.items():
            content = gathered.contents[place]
            material = gathered.sources.materials[content.materials[0]]
            for chart, (low, high) in enumerate(_boxes(content)):
                unit = int(laid.unit[start + chart])
                ends = matrices[start + chart] @ np.array([[low[0], high[0]], [low[1], high[1]], [1, 1]])
                corner, far = ends.min(axis=1), ends.max(axis=1)
                scale = float(layout.scales[unit])
                rows.append(
                    {
                        "material": material.path,
                        "picture": content.reference.picture.path if content.reference is not None else None,
                        "source": [*np.round(low, 3).tolist(), *np.round(high - low, 3).tolist()],
                        "group": laid.group,
                        "sheet": int(layout.on[unit]),
                        "place": [*np.round(corner, 3).tolist(), *np.round(far - corner, 3).tolist()],
                        "scale": round(scale, 6),
                        "turns": int(layout.turns[unit]),
                        "degrees": round(float(np.degrees(layout.angles[unit])), 3),
                        "levels_lost": round(float(-np.log2(scale)), 3) + 0.0,
                    }
                )
    return rows


def _boxes(content: Content) -> list[tuple[Floats, Floats]]:
    bounds = np.searchsorted(content.chart, np.arange(content.charts + 1))
    return [
        (content.corners[a:b].min(axis=(0, 1)), content.corners[a:b].max(axis=(0, 1)))
        for a, b in zip(bounds, bounds[1:], strict=False)
    ]


def sheet_rows(result: AtlasMade) -> list[dict[str, Any]]:
    """Return every sheet's path, map, material and size."""
    return [
        {
            "path": name.path,
            "map": name.kind.ending,
            "material": result.laid_out.gathered.groups[name.group].name,
            "group": name.group,
            "sheet": name.sheet,
            "width": result.sheets[name.path].width,
            "height": result.sheets[name.path].height,
        }
        for name in result.names
    ]


def material_rows(plan: LaidOut) -> list[dict[str, Any]]:
    """Return what became of every material, and why."""
    gathered = plan.gathered
    return [
        {
            "material": note.material.path,
            "into": gathered.groups[note.group].name if note.taken else None,
            "same_as": gathered.notes[note.same_as].material.path if note.same_as >= 0 else None,
            "reason": note.reason or None,
            "islands": note.islands,
            "used": round(note.used, 4),
            "repeats": [round(v, 3) for v in note.repeats],
        }
        for note in gathered.notes
    ]


def atlas_json(result: AtlasMade) -> bytes:
    """Return the JSON that goes beside an atlas: `oak-trim.atlas/1`."""
    plan = result.laid_out
    layouts = [
        {
            "material": plan.gathered.groups[row.group].name,
            "width": row.layout.width,
            "height": row.layout.height,
            "sheets": row.layout.sheets,
            "occupancy": round(row.layout.occupancy, 4),
        }
        for row in plan.groups
    ]
    document = {
        "schema": "oak-trim.atlas/1",
        "gutter": plan.settings.gutter,
        "layouts": layouts,
        "sheets": sheet_rows(result),
        "materials": material_rows(plan),
        "islands": island_rows(plan),
        "warnings": list(result.warnings),
    }
    return msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n"


def model_names(settings: Atlas) -> list[str]:
    """Return what the models of an atlas are called, without ending, in the order of their sources."""
    stems = [safe(PurePosixPath(path).stem) for path in settings.source_models]
    if len(stems) == 1:
        return [settings.name]
    found: list[str] = []
    for number, stem in enumerate(stems):
        name = f"{settings.name}_{stem}"
        found.append(name if stems.count(stem) == 1 else f"{name}_{number + 1}")
    return found


def sheet_uri(model: str, path: str, ending: str = "") -> str:
    """Return the way from a model's folder to a sheet, both below one root."""
    here, there = PurePosixPath(model).parent.parts, PurePosixPath(path).parts
    shared = 0
    while shared < len(here) and shared < len(there) - 1 and here[shared] == there[shared]:
        shared += 1
    return "/".join([".."] * (len(here) - shared) + list(there[shared:])) + ending
