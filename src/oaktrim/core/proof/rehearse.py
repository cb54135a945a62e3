"""What an upload makes of a texture by the target's own rules, beside a cut by hand of the same size."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.pixels.resample import Filter
from oaktrim.core.plan.commonrules import common_formats
from oaktrim.core.plan.formatrules import apply_format_rules
from oaktrim.core.plan.resolve import Plan, Recipe
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.trial import Trial, reference_for, try_recipe
from oaktrim.core.targets.footprint import fit_side

# From which on a difference is noticed at the size on the screen; sides that are tried, at most so many halvings.
NOTICED = 1.0
_LEAST, _HALVINGS = 32, 6


@dataclass(frozen=True, eq=False)
class Rehearsal:
    """What comes of a texture.

    Parameters
    ----------
    sent, becomes : width and height as it is sent, and as the target holds it
    upload : as the target's own rules make it: box filter, quick encoder; by_hand : the same size, cut here
    advised : longest side under which a cut would be noticed at the size on the screen; 0 where each would be
    """

    path: str
    sent: tuple[int, int]
    becomes: tuple[int, int]
    format: str
    upload: Trial
    by_hand: Trial
    advised: int

    @property
    def changed(self) -> bool:
        """The target makes another size of it."""
        return self.sent != self.becomes

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it; errors are in JND at the size on the screen."""
        return {
            "path": self.path, "sent": list(self.sent), "becomes": list(self.becomes), "format": self.format,
            "upload_jnd": round(self.upload.quality.jnd, 3), "by_hand_jnd": round(self.by_hand.quality.jnd, 3),
            "memory": self.upload.memory, "advised_side": self.advised,
        }  # fmt: skip


def rehearse(plan: Plan, row: int, max_pixels: int) -> Task[Rehearsal]:
    """Rehearse the upload of one texture.

    Parameters
    ----------
    plan : of the target, with what is sent: without cuts, the sources

    Raises
    ------
    OakTrimError : the texture cannot be read
    """
    inventory, footprint = plan.inventory, plan.footprint
    texture = inventory.textures[row]
    sent = texture.width, texture.height
    becomes = int(footprint.width[row]), int(footprint.height[row])
    name = _format_of(plan, row)
    reference = reference_for(plan, row, max_pixels=max_pixels)
    base = plan.encode_settings(row)

    def recipe(size: tuple[int, int], how: Filter, effort: Effort) -> Recipe:
        settings = msgspec.structs.replace(base, width=size[0], height=size[1], format=name, effort=effort, filter=how)
        return Recipe(texture.path, settings, True)

    yield Progress(0, 3, f"as it is uploaded: {texture.path}")
    upload = yield from try_recipe(plan, row, recipe(becomes, Filter.BOX, Effort.DRAFT), reference, max_pixels)
    yield Progress(1, 3, f"as it is cut here: {texture.path}")
    by_hand = yield from try_recipe(plan, row, recipe(becomes, base.filter, Effort.STANDARD), reference, max_pixels)
    advised = 0
    for step in range(_HALVINGS):
        side = max(becomes) >> step
        if side < _LEAST:
            break
        small = tuple(int(v[0]) for v in fit_side(*(np.array([v]) for v in (*becomes, side))))
        yield Progress(2, 3, f"at {side}: {texture.path}")
        tried = by_hand
        if step:
            tried = yield from try_recipe(
                plan, row, recipe((small[0], small[1]), base.filter, Effort.STANDARD), reference, max_pixels
            )
        if tried.quality.jnd > NOTICED:
            break
        advised = side
    return Rehearsal(texture.path, sent, becomes, name, upload, by_hand, advised)


def _format_of(plan: Plan, row: int) -> str:
    """Return what a target would hold a texture as: its own blocks, or those that suit its role there."""
    name = str(ORDER[plan.formats[row]])
    if FORMATS[name].compressed:
        return name
    rules = common_formats(plan.target)
    ruled = apply_format_rules(plan.inventory, plan.target, rules, np.zeros(len(plan.formats), np.bool_))
    place = int(ruled.formats[row])
    return str(ORDER[place]) if place >= 0 else name
