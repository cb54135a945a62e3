"""An atlas as it would come out, step by step, for who decides about it: what is merged, the layout, the sheets, the likeness."""

from __future__ import annotations

from dataclasses import dataclass, replace

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.atlas.contents import Gathered
from oaktrim.core.makers.atlas.kind import gathered_in
from oaktrim.core.makers.atlas.making import AtlasLayout, AtlasMade, Links, lay_out, made
from oaktrim.core.makers.atlas.opened import Pictures
from oaktrim.core.makers.atlas.settings import Atlas
from oaktrim.core.makers.atlas.summary import Change, change_of
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.registry import FirstCut, MakerContext, kind_of
from oaktrim.core.makers.sourcemodel import model_at
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.alike import Alike, alike, atlas_drawables
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.survey.inventory import Inventory


@dataclass(frozen=True, eq=False)
class AtlasDraft:
    """An atlas as far as it has come: each part is there when the ones before it are.

    Parameters
    ----------
    gathered : what becomes of each material; plan : where the islands stand; made : the sheets and models
    before, after : the first model, ready to be drawn; alike : how far these are apart
    """

    settings: Atlas
    gathered: Gathered
    plan: AtlasLayout | None = None
    made: AtlasMade | None = None
    before: Drawable | None = None
    after: Drawable | None = None
    alike: Alike | None = None

    @property
    def whole(self) -> Atlas:
        """The settings with the size that came of them, which a job keeps, so that its cuts know what they cut."""
        sides = [max(row.layout.width, row.layout.height) for row in self.plan.groups] if self.plan is not None else []
        return msgspec.structs.replace(self.settings, size=max(sides)) if sides else self.settings

    @property
    def change(self) -> Change | None:
        return None if self.made is None else change_of(self.made)


def draft(found: Inventory, settings: Atlas, layouts: tuple[Layout, ...], max_pixels: int) -> Task[AtlasDraft]:
    """Make an atlas without keeping it; each part is brought as it comes (`AtlasDraft`).

    Parameters
    ----------
    found : what files hold, without what makers make

    Raises
    ------
    OakTrimError : a model or a picture cannot be read, or nothing can be merged
    """
    facts = {row.path: row for row in found.textures}
    roles = {row.path: guess.role for row, guess in zip(found.textures, found.roles, strict=True)}
    yield Progress(0, 4, "reading models")
    now = AtlasDraft(settings, gathered_in(MakerContext(found.root, (), layouts, facts, roles), settings))
    yield Progress(1, 4, "laying out", now)
    now = replace(now, plan=(yield from lay_out(now.gathered, settings)))
    yield Progress(2, 4, "baking", now)
    pictures = Pictures(found.sources(max_pixels).picture)
    assert now.plan is not None
    now = replace(
        now, made=(yield from made(now.plan, pictures, Links(lambda _, name, __: {"uri": "", "name": name.path})))
    )
    yield Progress(3, 4, "getting ready to look at it", now)
    assert now.made is not None
    before, after = atlas_drawables(model_at(found.root, settings.source_models[0]), now.made, pictures)
    now = replace(now, before=before, after=after)
    yield Progress(3, 4, "looking at it from all around", now)
    return replace(now, alike=(yield from alike(before, after)))


@dataclass(frozen=True)
class TargetCost:
    """What the pictures of the merged materials take on a target, and what the sheets would, cut as those were; bytes.

    Parameters
    ----------
    package : estimated: sheets pack as the pictures do that they are made of
    """

    target: str
    memory: tuple[int, int]
    package: tuple[int, int]


def cost_on(plan: Plan, now: AtlasDraft, layouts: tuple[Layout, ...] = ()) -> TargetCost:
    """Return what an atlas changes on a target.

    Parameters
    ----------
    plan : of the target, without the atlas
    """
    assert now.made is not None
    paths = {row.picture.path for note in now.gathered.notes if note.taken for row in note.material.maps.values()}
    left = {row.picture.path for note in now.gathered.notes if not note.taken for row in note.material.maps.values()}
    rows = plan.inventory.rows(sorted(paths - left))
    before, package, stored = (
        int(column[rows].sum()) for column in (plan.line("memory"), plan.line("package"), plan.footprint.stored)
    )
    cuts = {
        cut.path: cut
        for cut in kind_of(now.whole).first_cuts(now.whole, plan, MakerContext(plan.inventory.root, (), layouts))
    }
    after = kept = 0
    for path, image in now.made.sheets.items():
        cut = cuts.get(path, FirstCut(path))
        width, height = image.size
        shrunk = min(1.0, cut.side / max(width, height)) if cut.side else 1.0
        width, height = max(1, round(width * shrunk)), max(1, round(height * shrunk))
        held = FORMATS[cut.format or "rgba8"]
        kept += held.mip_chain_bytes(width, height, level_count(width, height))
        held = held if plan.target.decodes(held) else FORMATS[held.expands_to]
        after += held.mip_chain_bytes(width, height, level_count(width, height))
    return TargetCost(plan.target.name, (before, after), (package, round(kept * package / max(1, stored))))


@dataclass(frozen=True, eq=False)
class Island:
    """One island on its sheet.

    Parameters
    ----------
    number : its place among the islands; material : its name; group, sheet : where it stands
    corners : (M, 3, 2) its triangles, texels of the layout; box : left, top, width, height
    levels : lost, 0 where it has all its texels
    density : texels a metre of the model, as laid out; metres : its area there, square metres; both 0 without any
    """

    number: int
    material: str
    group: int
    sheet: int
    corners: NDArray[np.float64]
    box: tuple[float, float, float, float]
    levels: float
    density: float
    metres: float


def islands_of_plan(plan: AtlasLayout) -> list[Island]:
    """Return the islands of an atlas, as `atlas.json` numbers them."""
    found: list[Island] = []
    gathered = plan.gathered
    for laid in plan.groups:
        matrices, layout = laid.matrices(), laid.layout
        for place, start in laid.starts.items():
            content = gathered.contents[place]
            name = gathered.sources.materials[content.materials[0]].name
            metres = np.bincount(content.chart, content.area, content.charts)
            bounds = np.searchsorted(content.chart, np.arange(content.charts + 1))
            for chart in range(content.charts):
                matrix, unit = matrices[start + chart], int(laid.unit[start + chart])
                corners = content.corners[bounds[chart] : bounds[chart + 1]] @ matrix[:, :2].T + matrix[:, 2]
                low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
                scale = float(layout.scales[unit])
                box = (float(low[0]), float(low[1]), float(high[0] - low[0]), float(high[1] - low[1]))
                density = float(laid.density[start + chart]) * scale
                found.append(
                    Island(
                        len(found),
                        name,
                        laid.group,
                        int(layout.on[unit]),
                        corners,
                        box,
                        float(-np.log2(scale)) + 0.0,
                        density,
                        float(metres[chart]),
                    )
                )
    return found
