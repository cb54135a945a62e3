"""Near-same textures that one could serve: alike in colour and structure, at any size, as they are or mirrored."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
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
from oaktrim.core.survey.roles import Family, Role

Cells = NDArray[np.float32]
_SIDE = 24
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
            if other == row or other in taken or not _comparable(plans[0], row, other):
                continue
            way = _likest(cells[row], cells[other], inventory.roles[row].role)
            if way is not None:
                others.append((other, way[0]))
                apart = max(apart, way[1])
        if not others:
            continue
        taken.update([row, *(other for other, _ in others)])
        sharers = tuple(
            Sharer(inventory.textures[other].path, across, down)
            for other, (across, down) in sorted(others, key=lambda pair: inventory.textures[pair[0]].path)
        )
        saved = tuple(int(sum(line[other] for other, _ in others)) for line in memory)
        found.append(Sharing(Share("shared", inventory.textures[row].path, sharers), apart, saved))
    return sorted(found, key=lambda row: -max(row.saved))


def _cells(small: NDArray[Any]) -> Cells:
    """Return a small picture as OKLab over a square of cells, with alpha as a fourth."""
    # By boxes: what is mirrored has mirrored cells.
    few = resample(Image.of(np.ascontiguousarray(small)), _SIDE, _SIDE, Resampling(Filter.BOX)).pixels
    picked = few.astype(np.float32) / np.float32(np.iinfo(few.dtype).max)
    lab = oklab(srgb_to_linear(picked[..., :3]))
    return np.concatenate([lab, picked[..., 3:]], axis=-1)


def _comparable(plan: Plan, row: int, other: int) -> bool:
    """Say whether two textures are used as the same, and have one shape."""
    inventory = plan.inventory
    a, b = inventory.textures[row], inventory.textures[other]
    shape = (a.width / a.height) / (b.width / b.height)
    return inventory.roles[row].role is inventory.roles[other].role and 1 / _ASPECT < shape < _ASPECT


def _likest(mine: Cells, other: Cells, role: Role) -> tuple[tuple[bool, bool], float] | None:
    """Return which way round two pictures are alike, and how far apart they are then; None where they are not."""
    best: tuple[tuple[bool, bool], float] | None = None
    # Vectors cannot be mirrored, and small differences of values are large ones of light.
    mirrored, most = role is not Role.NORMAL, _APART if role.family is Family.COLOUR else _APART / 3
    shown = max(0.05, float(mine[..., 3].mean()))
    for across, down in ((False, False), (True, False), (False, True), (True, True)) if mirrored else ((False, False),):
        turned = other[:: -1 if down else 1, :: -1 if across else 1]
        apart = float(np.abs(mine - turned).mean(axis=(0, 1)).sum()) / shown
        if apart > most or (best is not None and apart >= best[1]):
            continue
        a, b = mine - mine.mean(axis=(0, 1)), turned - turned.mean(axis=(0, 1))
        power = float(np.sqrt((a * a).sum() * (b * b).sum()))
        flat = max(float(a.std()), float(b.std())) < _FLAT
        # What is flat as a whole may differ in what so small a picture does not show.
        if (flat and apart < _APART / 8) or (not flat and float((a * b).sum()) > _ALIKE * power):
            best = (across, down), apart
    return best
