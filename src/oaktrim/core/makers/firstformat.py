"""The format that several textures go on in as one."""

from __future__ import annotations

from collections.abc import Sequence

from oaktrim.core.formats.catalogue import FORMATS, formats_for
from oaktrim.core.formats.format import Suits
from oaktrim.core.plan.advice import format_options
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.roles import Role


def format_of_all(plan: Plan, names: Sequence[str], role: Role, alpha: bool) -> str:
    """Return the format that maps go on in as one texture, or nothing where none of them was compressed.

    Parameters
    ----------
    names : of the formats that they ship as, what counts most first
    role, alpha : of the one texture
    """
    compressed = [name for name in names if FORMATS[name].compressed]
    if not compressed:
        return ""
    least = 2 if role is Role.NORMAL else 3
    fit = [option.format.name for option in format_options(plan.target, role, alpha) if not option.against]
    same = next((name for name in compressed if name in fit and len(FORMATS[name].channels) >= least), None)
    # Sources of one channel go on in the best format of their family that keeps several.
    return same or next((row.name for row in formats_for(Suits.PACKED) if row.name in fit), "")
