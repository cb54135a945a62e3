"""Near-same textures that one could serve: alike in colour and structure, at any size, mirrored, or turned by quarters."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from oaktrim.core.makers.share.kind import Share, Sharer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.perception import oklab
from oaktrim.core.pixels.resample import Filter, Resampling, resample
from oaktrim.core.pixels.transfer import srgb_to_linear
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.onmodel import compared, users
from oaktrim.core.proof.surfacedraft import worn
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.survey.drawables import TextureCache
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Family, Role

Cells = NDArray[np.float32]
_SIDE, _SEEN = 24, 256
# Of OKLab, that two may differ by in the mean; how alike their structure has to be, 0 to 1; what is flat has none.
_APART, _ALIKE, _FLAT = 0.03, 0.9, 0.012
# What has to differ however alike it looks: faces of a sky, letters, tables.
_APART_ROLES = (Role.ENVIRONMENT, Role.GLYPHS, Role.LOOKUP)
# Of shape, that two may differ by.
_ASPECT = 1.02


@dataclass(frozen=True)
class Sharing:
    """Textures that one could serve.

    Parameters
    ----------
    share : the maker that lets it; apart : mean difference of the one that differs most, OKLab
    saved : bytes of memory by target, in the order of the plans
    """

    share: Share
    apart: float
    saved: tuple[int, ...]


def sharings(plans: Sequence[Plan], thumbnail: Callable[[str], NDArray[Any] | None]) -> list[Sharing]:
    """Return groups of near-same textures, those that save most first; the largest of each stays.

    Parameters
    ----------
    plans : of one inventory; thumbnail : returns a small picture (h, w, 4) of a content, or None
    """
    inventory = plans[0].inventory
    rows = [
        row
        for row, texture in enumerate(inventory.textures)
        if texture.pixels and not texture.constant and not texture.floating and texture.path not in inventory.made
        and texture.slices == 1 and inventory.roles[row].role not in _APART_ROLES
    ]  # fmt: skip
    cells: dict[int, Cells] = {}
    for row in rows:
        small = thumbnail(inventory.textures[row].content)
        if small is not None and np.issubdtype(small.dtype, np.integer):
            cells[row] = _cells(small)
    known = [row for row in rows if row in cells]
    if len(known) < 2:
        return []
    taken: set[int] = set()
    found = []
    # Means of colour are the same whichever way a picture is turned.
    means = np.array([cells[row].mean(axis=(0, 1)) for row in known])
    near = KDTree(means)
    memory = [plan.line("memory") for plan in plans]
    order = sorted(known, key=lambda row: (-inventory.textures[row].width * inventory.textures[row].height, row))
    place = {row: number for number, row in enumerate(known)}
    for row in order:
        if row in taken:
            continue
        others, apart = [], 0.0
        for number in near.query_ball_point(means[place[row]], 2 * _APART):
            other = known[number]
            ways = () if other == row or other in taken else _ways(plans[0], row, other)
            way = _likest(cells[row], cells[other], inventory.roles[row].role, ways)
            if way is not None:
                others.append((other, way[0]))
                apart = max(apart, way[1])
        if not others:
            continue
        taken.update([row, *(other for other, _ in others)])
        sharers = tuple(sorted((way for _, way in others), key=lambda way: way.path))
        saved = tuple(int(sum(line[other] for other, _ in others)) for line in memory)
        found.append(Sharing(Share("shared", inventory.textures[row].path, sharers), apart, saved))
    return sorted(found, key=lambda row: -max(row.saved))


@dataclass(frozen=True, eq=False)
class Swap:
    """A model with a texture of its own, and with the shared one in its place.

    Parameters
    ----------
    path : of the texture whose place is taken; jnd : how far both are apart as they are seen, in JND
    """

    path: str
    scenes: tuple[Drawable, Drawable]
    camera: Camera
    jnd: float


def swappable(found: Inventory, share: Share, path: str) -> Sharer | None:
    """Return the sharer whose swap a model can show: of a path, or for the one that stays of the first that is worn."""
    rows = [row for row in share.others if users(found, found.row_of[row.path])]
    return next((row for row in rows if row.path == path), rows[0] if rows and path == share.source else None)


def swap(found: Inventory, share: Share, sharer: Sharer, cache: TextureCache, max_pixels: int) -> Task[Swap]:
    """Show a shared texture on the first model that wears another of its group.

    Raises
    ------
    OakTrimError : a picture or the model cannot be read
    """
    yield Progress(0, 2, f"reading {share.source}")
    kept = found.sources(max_pixels).picture(share.source)
    image = replace(kept, pixels=sharer.shown(kept.pixels))
    place = users(found, found.row_of[sharer.path])[0]
    scenes, camera = yield from worn(found, sharer.path, {sharer.path: image}, place, cache, max_pixels)
    how = Settings(4, 8, buffers=("ids",))
    before = yield from draw(scenes[0], camera, (_SEEN, _SEEN), how)
    after = yield from draw(scenes[1], camera, (_SEEN, _SEEN), how)
    return Swap(sharer.path, scenes, camera, compared(before, after).jnd)


def _cells(small: NDArray[Any]) -> Cells:
    """Return a small picture as OKLab over a square of cells, with alpha as a fourth."""
    # By boxes: what is mirrored has mirrored cells.
    few = resample(Image.of(np.ascontiguousarray(small)), _SIDE, _SIDE, Resampling(Filter.BOX)).pixels
    picked = few.astype(np.float32) / np.float32(np.iinfo(few.dtype).max)
    lab = oklab(srgb_to_linear(picked[..., :3]))
    return np.concatenate([lab, picked[..., 3:]], axis=-1)


def _ways(plan: Plan, row: int, other: int) -> tuple[Sharer, ...]:
    """Return how another might stand to a texture: of one role and one shape, or of one turned by a quarter."""
    inventory = plan.inventory
    a, b, role = inventory.textures[row], inventory.textures[other], inventory.roles[row].role
    if inventory.roles[other].role is not role:
        return ()
    # Vectors cannot be mirrored or turned.
    sides = (False,) if role is Role.NORMAL else (False, True)
    found = []
    for swapped in sides:
        across, down = (b.height, b.width) if swapped else b.size
        if 1 / _ASPECT < (a.width * down) / (a.height * across) < _ASPECT:
            found += [Sharer(b.path, x, y, swapped) for y in sides for x in sides]
    return tuple(found)


def _likest(mine: Cells, other: Cells, role: Role, ways: Sequence[Sharer]) -> tuple[Sharer, float] | None:
    """Return which way another is like a picture, and how far apart they are then; None where it is not."""
    best: tuple[Sharer, float] | None = None
    # Small differences of values are large ones of light.
    most = _APART if role.family is Family.COLOUR else _APART / 3
    seen = max(0.05, float(mine[..., 3].mean()))
    b = other - other.mean(axis=(0, 1))
    for way in ways:
        shown = way.shown(mine)
        apart = float(np.abs(shown - other).mean(axis=(0, 1)).sum()) / seen
        if apart > most or (best is not None and apart >= best[1]):
            continue
        a = shown - shown.mean(axis=(0, 1))
        power = float(np.sqrt((a * a).sum() * (b * b).sum()))
        flat = max(float(a.std()), float(b.std())) < _FLAT
        # What is flat as a whole may differ in what so small a picture does not show.
        if (flat and apart < _APART / 8) or (not flat and float((a * b).sum()) > _ALIKE * power):
            best = way, apart
    return best
