"""`oak-trim outfits`: parts of models that need not all be there, what each costs, and leaving them out of a target."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from oaktrim.cli.exits import fail
from oaktrim.cli.job import save
from oaktrim.cli.sources import plan_of, source_at
from oaktrim.cli.tables import console, table
from oaktrim.core.job.document import Job
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.modelcuts import LeaveOut
from oaktrim.core.plan.outfits import outfits_of, saved_without
from oaktrim.core.plan.packing import CompressionRatios, Measured
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.units import bytes_text

_LINES = ("memory", "package")


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--target", "name", metavar="ID", help="The target that costs are told on, and parts left out of.")
@click.option(
    "--where", "pattern", default="*", metavar="PATTERN", help="Only parts whose name or path fits, as 'coat*'."
)
@click.option("--leave-out", is_flag=True, help="Leave these parts out of the target.")
@click.option("--keep", is_flag=True, help="Ship these parts again.")
def outfits(path: Path, name: str | None, pattern: str, leave_out: bool, keep: bool) -> None:
    """List nodes, variants and scenes of the models of PATH with what each costs, or leave some out of a target.

    What a part wears alone goes with it; what others wear too stays. Exit status: 0; 1 when no part fits; 2 when PATH
    cannot be read.
    """
    source = source_at(path)
    job = source.job
    plan = plan_of(source, name or "")
    found = outfits_of(plan, pattern)
    if not found:
        raise fail(f"no part of a model fits {pattern!r}", 1)
    if leave_out or keep:
        if path.is_dir():
            raise fail(f"{path}: a cut is kept in a job; make one with oak-trim job new")
        if not name:
            raise fail("say which --target they are left out of")
        made = Cut(LeaveOut(leave_out), tuple(row.path for row in found), (name,))
        job = job.with_cut(made)
        save(job, path, source)
        click.echo(f"{made.change.label} on {plan.target.name}: {', '.join(row.name for row in found)}")
        return
    _print(plan, job, pattern)


def _print(plan: Plan, job: Job, pattern: str) -> None:
    ratios = CompressionRatios(plan.inventory).merged(Measured(SurveyCache().measured()))

    def planned(cuts: Sequence[Cut]) -> Plan:
        return resolve(plan.inventory, plan.target, cuts, ratios, job.rules, plan.demand)

    rows = []
    for outfit in outfits_of(plan, pattern):
        saved = saved_without(plan, outfit, _LINES, planned)
        rows.append(
            (
                outfit.path, outfit.kind, f"{outfit.triangles:,}", str(outfit.draws), str(outfit.materials),
                f"{len(outfit.alone)} + {len(outfit.shared)}", *(bytes_text(saved[line]) for line in _LINES),
                "left out" if outfit.left else "",
            )
        )  # fmt: skip
    heads = ["part", "kind", "triangles", "draws", "materials", "textures + shared", "memory", "package", ""]
    console().print(table(heads, rows, right=(2, 3, 4, 5, 6, 7)))
