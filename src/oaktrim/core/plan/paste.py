"""A column of values pasted onto assets: what each would change, and what is refused and why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS, format_named
from oaktrim.core.plan.cuts import Cap, Cut, SetFormat
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.roles import Role

# Columns of the ledger that take values.
SIZE, FORMAT, ROLE = "Ships at", "Format", "Used as"


@dataclass(frozen=True)
class Pasted:
    """What a paste would do.

    Parameters
    ----------
    cuts : one for each value that differs; roles : likewise, with the paths
    changes : path, what it is now, and what it would be; refused : path, value and reason
    """

    cuts: tuple[Cut, ...]
    roles: tuple[tuple[Role, tuple[str, ...]], ...]
    changes: tuple[tuple[str, str, str], ...]
    refused: tuple[tuple[str, str, str], ...]


class _RefusedError(Exception):
    pass


def _side(text: str, plan: Plan, row: int) -> int:
    plain = text.strip().rstrip("²").replace("×", "x").lower()
    try:
        side = max(int(part) for part in plain.split("x"))
    except ValueError:
        raise _RefusedError("is no size such as 1024 or 1024x512") from None
    source = int(max(plan.inventory.width[row], plan.inventory.height[row]))
    if not 1 <= side <= source:
        raise _RefusedError(f"a texture is never enlarged: its source has {source}" if side > source else "is no size")
    return side


def _format(text: str) -> str:
    wanted = text.strip().removesuffix("▲").strip().lower()
    name = next((n for n, f in FORMATS.items() if wanted in (n, f.label.lower())), "")
    try:
        return format_named(name or wanted).name
    except OakTrimError as error:
        raise _RefusedError(str(error)) from None


def _role(text: str) -> Role:
    wanted = text.strip().lower()
    for role in Role:
        if wanted in (role.value, role.label.lower()):
            return role
    raise _RefusedError("is no role")


def paste(column: str, values: Sequence[str], rows: Sequence[int], plan: Plan, targets: tuple[str, ...]) -> Pasted:
    """Return what pasting a column of values onto some textures would do; one value alone is for all of them.

    Parameters
    ----------
    column : SIZE, FORMAT or ROLE
    targets : that the cuts are for; empty for all
    """
    if len(values) == 1:
        values = list(values) * len(rows)
    inventory, wanted = plan.inventory, dict[object, list[str]]()
    changes, refused = [], []
    for row, value in zip(rows, values, strict=False):
        path = inventory.textures[row].path
        try:
            now, new = _one(column, value, plan, row)
        except _RefusedError as error:
            refused.append((path, value, str(error)))
            continue
        if now != new:
            wanted.setdefault(new, []).append(path)
            changes.append((path, str(getattr(now, "value", now)), str(getattr(new, "value", new))))
    if len(values) != len(rows):
        refused.append(("", "", f"{len(values)} values for {len(rows)} rows: what has no partner is left out"))
    roles = tuple((role, tuple(paths)) for role, paths in wanted.items() if isinstance(role, Role))
    cuts = tuple(
        Cut(Cap(new) if isinstance(new, int) else SetFormat(str(new)), tuple(paths), targets)
        for new, paths in wanted.items()
        if not isinstance(new, Role)
    )
    return Pasted(cuts, roles, tuple(changes), tuple(refused))


def _one(column: str, value: str, plan: Plan, row: int) -> tuple[object, object]:
    """Return what a texture has in a column and what it would have."""
    if column == SIZE:
        longest = np.maximum(plan.footprint.width[row], plan.footprint.height[row])
        return int(longest), _side(value, plan, row)
    if column == FORMAT:
        return list(FORMATS)[plan.formats[row]], _format(value)
    return plan.inventory.roles[row].role, _role(value)
