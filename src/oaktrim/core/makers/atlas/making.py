"""An atlas from its sources to its sheets and models."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from itertools import pairwise
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.makers.atlas.contents import Content, Gathered, Group, density
from oaktrim.core.makers.atlas.layout import ChartSet, Layout, Wanted, arranged, kept_share, own_layout
from oaktrim.core.makers.atlas.matrices import uv_turn
from oaktrim.core.makers.atlas.naming import SheetName, sheet_names, sheets_in
from oaktrim.core.makers.atlas.newmaterial import material_row
from oaktrim.core.makers.atlas.rewrite import MovedDraw, Rewritten, rewritten
from oaktrim.core.makers.atlas.scaling import WeightedScaling
from oaktrim.core.makers.atlas.settings import Atlas, Rotation, Shrink
from oaktrim.core.makers.atlas.sheets import (
    ChartPlace,
    bake,
    factors_of,
    kinds_of,
    materials_of,
    shift_of,
)
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import Progress, Task, map_unordered

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
# Where sheets are as empty as that, whole levels are compared with free scales; they stay if they keep so much of the texels.
_THIN, _LEAST_KEPT = 0.55, 0.5
_SMALL_SHEET = 256 * 256
_TURNS = {Rotation.QUARTER: 4, Rotation.FREE: 4, Rotation.NONE: 1}


@dataclass(frozen=True, eq=False)
class GroupLayout:
    """A group with its charts on sheets.

    Parameters
    ----------
    group : its place; layout : of its units; a unit is a chart, or all charts of a content where these keep their own layout
    content : (U,) of each unit; starts : where the charts of each content begin among all; unit : (C,) of each chart
    density : (C,) texels a metre of the sources, 0 without area
    """

    group: int
    layout: Layout
    content: Ints
    starts: Mapping[int, int]
    unit: Ints
    density: Floats

    def matrices(self) -> Floats:
        """Return the matrix of each chart from texels of its source to those of its sheet, (C, 2, 3)."""
        return self.layout.matrices()[self.unit]


@dataclass(frozen=True, eq=False)
class AtlasLayout:
    """An atlas whose islands have their places."""

    settings: Atlas
    gathered: Gathered
    groups: tuple[GroupLayout, ...]


@dataclass(frozen=True, eq=False)
class AtlasMade:
    """What comes of an atlas.

    Parameters
    ----------
    sheets : by the path that names them; models : by their source's path
    warnings : what does not come through whole, in sentences
    """

    laid_out: AtlasLayout
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


def lay_out(gathered: Gathered, settings: Atlas) -> Task[AtlasLayout]:
    """Return an atlas with every island in its place.

    Raises
    ------
    Unsupported : nothing can be merged, or what must keep its texels has no room
    """
    if not gathered.groups:
        reasons = "; ".join(f"{note.material.name}: {note.reason}" for note in gathered.notes if note.reason)
        raise Unsupported(f"no material can go into an atlas: {reasons[:600] or 'nothing is drawn'}")
    groups = []
    for place, group in enumerate(gathered.groups):
        groups.append((yield from _lay_out_group(gathered, place, group, settings)))
    return AtlasLayout(settings, gathered, tuple(groups))


def _lay_out_group(gathered: Gathered, place: int, group: Group, settings: Atlas) -> Task[GroupLayout]:
    before = sum(gathered.contents[row].charts for other in gathered.groups[:place] for row in other.contents)
    pins = {pin.island - before: pin for pin in settings.pins}
    wanted = Wanted(
        settings.size, sheets_in(gathered, place, settings), settings.square, settings.gutter, _TURNS[settings.rotate],
        settings.rotate is Rotation.FREE, np.inf if settings.size else _source_texels(gathered, group),
        settings.longest, settings.share_kept,
        tuple((chart, p.sheet, p.x, p.y, p.turn) for chart, p in pins.items() if p.sheet >= 0),
    )  # fmt: skip
    charts, content, starts, unit = _units(gathered, group, rigid=False)
    dense = np.concatenate([density(gathered.contents[row]) for row in group.contents])
    levels = {chart: pin.levels for chart, pin in pins.items()}
    found = yield from arranged(charts, WeightedScaling(gathered, content, dense, settings, levels), wanted)
    if settings.shrink is Shrink.LEVELS and (found.scales < 1).any() and found.occupancy < _THIN:
        # Islands as large as a sheet, or half of it, leave room for their gutters only a whole level down.
        any_scale = msgspec.structs.replace(settings, shrink=Shrink.FREE)
        free = yield from arranged(charts, WeightedScaling(gathered, content, dense, any_scale, levels), wanted)
        if kept_share(charts, found.scales) < _LEAST_KEPT * kept_share(charts, free.scales):
            found = free
    best = GroupLayout(place, found, content, starts, unit, dense)
    if (found.scales < 1).any() and not wanted.pins:
        for own in _own_layouts(gathered, group, found, best):
            if kept_share(charts, own.layout.scales[own.unit]) > kept_share(charts, found.scales):
                best = own
    return best


def _source_texels(gathered: Gathered, group: Group) -> float:
    """Return the texels of a layout whose sheets have together as many as all maps of its materials; no less than a small sheet."""
    pictures = [
        {row.picture.path: row.picture.size for row in material.maps.values()}
        for material in materials_of(gathered, group)
    ]
    read = sum(width * height for sizes in pictures for width, height in sizes.values())
    sheets = sum(0.25 ** shift_of(kind, gathered, group) for kind in kinds_of(gathered, group))
    return float(max(_SMALL_SHEET, read / max(sheets, 1e-9)))


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
    return [replace(like, layout=layout, content=own, unit=unit)]


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


def made(plan: AtlasLayout, picture: Callable[[str], Image], links: Links) -> Task[AtlasMade]:
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
        wanted = [place for place, name in enumerate(names) if (name.group, name.sheet) in keys.values()]
        mine = {}
        for at, row in map_unordered(partial(_linked, links, model.path, names, sheets), wanted):
            mine[wanted[at]] = row
            yield Progress(len(names), len(names) + 1, "writing models")
        rows = {key: material_row(gathered, names, *where) for key, where in keys.items()}
        models[model.path] = rewritten(
            model.document, model.before or model.document, draws, rows, mine, partial(links.rest, model.path)
        )
    warnings = [line for model in gathered.sources.models for line in model.lost]
    warnings += [line for group in gathered.groups for line in factors_of(gathered, group).warnings]
    return AtlasMade(plan, names, sheets, models, tuple(dict.fromkeys(warnings)))


def _linked(
    links: Links, model: str, names: Sequence[SheetName], sheets: Mapping[str, Image], place: int
) -> dict[str, Any]:
    return links.sheet(model, names[place], sheets[names[place].path])


def _draws(plan: AtlasLayout, model: int) -> tuple[list[MovedDraw], dict[int, tuple[int, int]]]:
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


def island_rows(plan: AtlasLayout) -> list[dict[str, Any]]:
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
    return [(content.corners[a:b].min(axis=(0, 1)), content.corners[a:b].max(axis=(0, 1))) for a, b in pairwise(bounds)]


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


def material_rows(plan: AtlasLayout) -> list[dict[str, Any]]:
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
