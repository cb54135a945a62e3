"""What a new maker's texture begins with: cuts like those that its sources ship with."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from oaktrim.core.formats.catalogue import FORMATS, ORDER, formats_for
from oaktrim.core.formats.format import Suits
from oaktrim.core.job.document import Job
from oaktrim.core.makers.maker import Maker
from oaktrim.core.makers.pack import Pack, pack_size
from oaktrim.core.makers.patch import Patch
from oaktrim.core.plan.advice import format_options
from oaktrim.core.plan.cuts import Cap, Cut, SetFormat
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.roles import Role


def with_begun(job: Job, maker: Maker, plans: Iterable[Plan]) -> Job:
    """Return the job with a maker more, and its texture cut on each target as its sources were.

    A pack is capped at the largest of its sources as shipped, and compressed where one of them was; a patch keeps the
    format of its overlay, and shrinks as much as that does.

    Parameters
    ----------
    plans : of the targets, with the sources still in them
    """
    known = any(row.name == maker.name for row in job.makers)
    job = job.with_maker(maker)
    if known:
        return job
    for plan in plans:
        rows = plan.inventory.rows(maker.inputs)
        if not len(rows):
            continue
        target = plan.target.id
        if isinstance(maker, Pack):
            layout = job.layout(maker.layout)
            sizes = [(plan.inventory.textures[row].width, plan.inventory.textures[row].height) for row in rows]
            side = int(np.maximum(plan.footprint.width[rows], plan.footprint.height[rows]).max())
            if side < max(pack_size(maker, sizes)):
                job = job.with_cut(Cut(Cap(side), (maker.name,), (target,)))
            name = _together(plan, [ORDER[place] for place in plan.formats[rows]], layout.role, layout.count == 4)
        elif isinstance(maker, Patch):
            source = plan.inventory.textures[rows[0]]
            shrunk = max(plan.footprint.width[rows[0]] / source.width, plan.footprint.height[rows[0]] / source.height)
            side = round(max(maker.rect.width, maker.rect.height) * float(shrunk))
            if shrunk < 1 and side >= 1:
                job = job.with_cut(Cut(Cap(side), (maker.name,), (target,)))
            name = ORDER[plan.formats[rows[0]]]
            name = name if name != plan.inventory.textures[rows[0]].natural_format else ""
        else:
            name = ""
        if name:
            job = job.with_cut(Cut(SetFormat(name), (maker.name,), (target,)))
    return job


def saved(before: Plan, after: Plan, name: str, line: str) -> int | None:
    """Return by how many bytes a line falls by what a maker makes, sources that are left out against what it made.

    Parameters
    ----------
    before, after : plans of one target without and with the maker; name : of what it makes

    Returns
    -------
    int, under 0 where it grows; None where it is not made
    """
    place = after.inventory.row_of.get(name)
    if place is None:
        return None
    gone = [source for source, taker in after.inventory.replaced.items() if taker == name]
    return int(before.line(line)[before.inventory.rows(gone)].sum()) - int(after.line(line)[place])


def _together(plan: Plan, names: list[str], role: Role, alpha: bool) -> str:
    """Return the format that maps go on in as one texture, or nothing where none of them was compressed."""
    compressed = [name for name in names if FORMATS[name].compressed]
    if not compressed:
        return ""
    fit = [option.format.name for option in format_options(plan.target, role, alpha) if not option.against]
    same = next((name for name in compressed if name in fit and len(FORMATS[name].channels) >= 3), None)
    return same or next((row.name for row in formats_for(Suits.PACKED) if row.name in fit), "")
