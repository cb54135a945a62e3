"""Overlays with their patches, a row each: those that are made, and those that are mostly empty."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec
import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor

from oaktrim.core.job.begin import saved, with_begun
from oaktrim.core.job.document import Job
from oaktrim.core.makers.patch.patch import (
    SPECK,
    Patch,
    Rect,
    Snap,
    background_of,
    islands,
    snapped,
    tells_alpha,
    used_mask,
)
from oaktrim.core.makers.registry import of_type
from oaktrim.core.pixels.image import Image
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role
from oaktrim.desk.session.session import Session

# An overlay whose used rectangle takes less of it is worth a patch, and a patch that is smaller than that of it.
_MOST_USED = 0.75


@dataclass(frozen=True, eq=False)
class Looked:
    """An overlay as looked at.

    Parameters
    ----------
    background : its empty colour; none where alpha tells
    used : rectangles around what is used, the largest first
    """

    path: str
    image: Image
    background: tuple[float, ...]
    mask: NDArray[np.bool_]
    used: tuple[Rect, ...]


@dataclass
class PatchRow:
    """One overlay with its patch: made, or as it would be."""

    path: str
    share: float
    patch: Patch
    made: bool


def look_at(path: str, sources: Sources, background: tuple[float, ...] | None, tolerance: int, gap: int) -> Looked:
    """Return what is used of an overlay; a background of None is found."""
    image = sources.picture(path)
    found = background if background is not None else () if tells_alpha(image) else background_of(image)
    mask = used_mask(image, found, tolerance, SPECK)
    return Looked(path, image, found, mask, tuple(islands(mask, gap)))


def codes_of(colour: QColor, image: Image) -> tuple[float, ...]:
    """Return a colour as codes of a picture's channels, alpha full."""
    full = 1.0 if image.is_float else float((1 << image.bit_depth) - 1)
    red, green, blue = colour.redF() * full, colour.greenF() * full, colour.blueF() * full
    codes = (red, green, blue) if len(image.channels) > 2 else (red,)
    return tuple(
        code if image.is_float else float(round(code)) for code in (*codes, *([full] if image.has_alpha else []))
    )


def share_used(found: Inventory, path: str) -> float:
    """Return how much of an overlay the rectangle around what is used takes, as the survey saw it."""
    if path not in found.row_of:
        return 1.0
    texture = found.textures[found.row_of[path]]
    return texture.used[2] * texture.used[3] / (texture.width * texture.height)


def _is_empty(found: Inventory, path: str) -> bool:
    row = found.row_of[path]
    texture = found.textures[row]
    clear = texture.channels in (2, 4) and "A" in texture.live
    overlay = found.roles[row].role in (Role.OVERLAY, Role.MASK)
    return bool(texture.pixels) and (clear or overlay) and texture.used[2] > 0 and share_used(found, path) < _MOST_USED


def patch_rows(found: Inventory, job: Job, asked: Sequence[str], snap: Snap, gutter: int) -> list[PatchRow]:
    """Return the patches of a job, overlays that are mostly empty, and those that were asked for; the emptiest first."""
    rows = [PatchRow(m.source, share_used(found, m.source), m, True) for m in of_type(job.makers, Patch)]
    taken = {row.path for row in rows}
    empty = [t.path for t in found.textures if t.path not in taken and _is_empty(found, t.path)]
    wanted = [path for path in asked if path in found.row_of and path not in taken and path not in empty]
    for path in (*empty, *wanted):
        texture = found.textures[found.row_of[path]]
        x, y, width, height = texture.used if texture.used[2] else (0, 0, texture.width, texture.height)
        rect = snapped(Rect(x, y, width, height), (texture.width, texture.height), snap, gutter)
        if path in empty and rect.width * rect.height >= _MOST_USED * texture.width * texture.height:
            continue
        patch = job.named(Patch("", path, rect))
        rows.append(PatchRow(path, share_used(found, path), patch, False))
    return sorted(rows, key=lambda row: (row.made, row.share))


def patch_saves(session: Session, row: PatchRow) -> int | None:
    """Return what a patch saves of the watched target's texture memory; None where it cannot be made."""
    others = tuple(maker for maker in session.job.makers if maker.name != row.patch.name)
    without = msgspec.structs.replace(session.job, makers=others)
    before = session.plan_of(without)
    after = session.plan_of(session.job if row.made else with_begun(without, row.patch, [before]))
    return saved(before, after, row.patch.name, "memory")
