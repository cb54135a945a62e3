"""What a new maker's texture begins with: cuts like those that its sources ship with."""

from __future__ import annotations

from collections.abc import Iterable

from oaktrim.core.job.document import Job
from oaktrim.core.makers.registry import Maker, kind_of
from oaktrim.core.plan.cuts import Cap, Change, Cut, KeepCoverage, SetFormat
from oaktrim.core.plan.resolve import Plan


def with_begun(job: Job, maker: Maker, plans: Iterable[Plan]) -> Job:
    """Return the job with a maker more, and its textures cut on each target as their sources were.

    Parameters
    ----------
    plans : of the targets, with the sources still in them
    """
    known = any(row.name == maker.name for row in job.makers)
    job = job.with_maker(maker)
    if known:
        return job
    context = job.maker_context
    for plan in plans:
        for cut in kind_of(maker).first_cuts(maker, plan, context):
            changes: list[Change] = [Cap(cut.side)] if cut.side else []
            changes += [SetFormat(cut.format)] if cut.format else []
            changes += [KeepCoverage(cut.coverage)] if cut.coverage else []
            for change in changes:
                job = job.with_cut(Cut(change, (cut.path,), (plan.target.id,)))
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
