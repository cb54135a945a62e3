"""`oak-trim survey`: where a folder or a job stands, and what is wrong."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click
from rich.text import Text

from oaktrim.cli.console import EXIT_OVER, console, table
from oaktrim.cli.sources import source_at, weigh_source
from oaktrim.core.errors import shown
from oaktrim.core.plan.report import Survey, as_csv, as_json
from oaktrim.core.plan.resolve import Plan, Standing, limits_of
from oaktrim.core.survey.findings.rules import Merged
from oaktrim.core.targets.target import Target
from oaktrim.core.units import bytes_like, bytes_text, size_text

_LONGEST_LIST = 20


def standing_text(target: Target, standing: Standing) -> tuple[str, str, str, str]:
    """Return line, value, limit and verdict as words."""
    if not standing.in_bytes:
        verdict = "OVER" if standing.over else "within"
        return "longest side", f"{standing.value} px", f"{standing.limit} px", verdict
    stated = getattr(target.limits, standing.line)
    gap = bytes_like(abs(standing.limit - standing.value), stated)
    verdict = f"OVER by {gap}" if standing.over else f"{gap} to spare"
    line = "texture memory" if standing.line == "memory" else standing.line
    return line, bytes_like(standing.value, stated), stated, verdict


def _print_table(found: Survey) -> None:
    out = console()
    inventory = found.inventory
    out.print(
        Text(
            f"{shown(inventory.root)}: {len(inventory.textures)} textures in {inventory.files} files"
            + (f", {len(inventory.unreadable)} unreadable" if inventory.unreadable else "")
        )
    )
    for plan in found.plans:
        out.print()
        rows = [standing_text(plan.target, standing) for standing in limits_of(plan)]
        out.print(table([plan.target.name, "is", "limit", ""], rows, right=(1, 2)))
    if found.plans:
        _print_dearest(found, found.plans[0])
    if found.findings:
        out.print()
        listed = found.findings[:_LONGEST_LIST]
        print_findings(listed)
        if len(found.findings) > len(listed):
            out.print(f"... and {len(found.findings) - len(listed)} findings more: --as csv or --as json lists all")


def print_findings(listed: Sequence[Merged]) -> None:
    """Print findings, two lines each: which file has what, and what it means."""
    for finding in listed:
        stake = f", {bytes_text(finding.bytes)} at stake" if finding.bytes else ""
        console().print(Text(f"{finding.severity.value}: {finding.path}: {finding.code}{stake}"))
        console().print(Text(f"    {finding.message}"))


def _print_dearest(found: Survey, plan: Plan) -> None:
    memory = plan.arrival.memory
    order = sorted(range(len(memory)), key=lambda row: -int(memory[row]))[:10]
    rows = [
        (
            found.inventory.textures[row].path,
            found.inventory.roles[row].role.label,
            size_text(found.inventory.textures[row].width, found.inventory.textures[row].height),
            size_text(int(plan.arrival.width[row]), int(plan.arrival.height[row])),
            plan.recipe(row).format,
            bytes_text(int(memory[row])),
        )
        for row in order
    ]
    console().print()
    heads = [f"dearest on {plan.target.name}", "used as", "source", "ships at", "format", "memory"]
    console().print(table(heads, rows, right=(5,)))


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--target", "targets", multiple=True, metavar="ID", help="Weigh on this target; may be given again.")
@click.option(
    "--as",
    "form",
    type=click.Choice(["table", "json", "csv"]),
    default="table",
    show_default=True,
    help="What to print.",
)
@click.option("--strict", is_flag=True, help="Findings of severity error fail too.")
def survey(path: Path, targets: tuple[str, ...], form: str, strict: bool) -> None:
    """Weigh the textures of PATH, a folder or a job, against the limits of its targets.

    Exit status: 0 within every budget; 1 over a budget (or, with --strict, any finding of severity error); 2 when PATH
    cannot be read. Files that cannot be read are listed and do not stop the survey.
    """
    found = weigh_source(source_at(path), targets)
    if form == "json":
        click.echo(as_json(found), nl=False)
    elif form == "csv":
        click.echo(as_csv(found), nl=False)
    else:
        _print_table(found)
    if found.over or (strict and found.grave):
        raise SystemExit(EXIT_OVER)
