"""`oak-trim survey`: where a folder or a job stands, and what is wrong."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import click
from rich.text import Text

from oaktrim.cli.exits import EXIT_OVER, fail
from oaktrim.cli.sources import source_at, weigh_source
from oaktrim.cli.tables import console, table
from oaktrim.core.errors import shown
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.plan.baseline import LimitNow, Worse, read_earlier, worse_than
from oaktrim.core.plan.page import as_html
from oaktrim.core.plan.report import Survey, as_csv, as_json, filtered
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.status import BudgetStatus, limits_of
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.findings.rules import Merged
from oaktrim.core.targets.target import Target
from oaktrim.core.units import bytes_text, size_text

_LONGEST_LIST = 20
_COUNTED = ("models", "audio", "unreadable", "findings", "suppressed")


def status_text(target: Target, status: BudgetStatus) -> tuple[str, str, str, str]:
    """Return line, value, limit and verdict as words, what is over in capitals."""
    line, value, limit, verdict = status.words(target)
    if not status.over:
        return line, value, limit, verdict
    gap = verdict.removesuffix("over").strip()
    return line, value, limit, f"OVER by {gap}" if gap else "OVER"


def _print_table(found: Survey) -> None:
    out = console()
    inventory = found.inventory
    out.print(
        Text(
            f"{shown(inventory.root)}: {len(inventory.textures)} textures in {inventory.files} files"
            + "".join(f", {found.checked[what]} {what}" for what in _COUNTED if found.checked[what])
        )
    )
    for plan in found.plans:
        out.print()
        rows = [status_text(plan.target, status) for status in limits_of(plan)]
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
    for line in finding_lines(listed):
        console().print(Text(line))


def finding_lines(listed: Sequence[Merged]) -> Iterator[str]:
    """Yield what is said of findings, two lines each."""
    for finding in listed:
        stake = f", {bytes_text(finding.bytes)} at stake" if finding.bytes else ""
        yield f"{finding.severity.value}: {finding.path}: {finding.code}{stake}"
        yield f"    {finding.message}"


def _print_dearest(found: Survey, plan: Plan) -> None:
    memory = plan.footprint.memory
    order = sorted(found.rows, key=lambda row: -int(memory[row]))[:10]
    rows = [
        (
            found.inventory.textures[row].path,
            found.inventory.roles[row].role.label,
            size_text(found.inventory.textures[row].width, found.inventory.textures[row].height),
            size_text(int(plan.footprint.width[row]), int(plan.footprint.height[row])),
            plan.encode_settings(row).format,
            bytes_text(int(memory[row])),
        )
        for row in order
    ]
    console().print()
    heads = [f"dearest on {plan.target.name}", "used as", "source", "ships at", "format", "memory"]
    console().print(table(heads, rows, right=(5,)))


def _page(found: Survey) -> bytes:
    cache = SurveyCache()
    return as_html(found, lambda row: cache.thumbnail(found.inventory.textures[row].content))


WRITERS: dict[str, Callable[[Survey], bytes]] = {
    ".html": _page,
    ".csv": as_csv,
    ".json": as_json,
}


def _print_worse(worse: Worse) -> None:
    for row in worse.limits:
        console().print(Text(limit_line(row)))
    print_findings(worse.findings)
    if not worse.limits and not worse.findings:
        console().print("Nothing got worse.")


def limit_line(row: LimitNow, compared: bool = True) -> str:
    """Return what is said of a limit that is passed, by more than it was.

    Parameters
    ----------
    compared : with an earlier survey
    """
    status = row.status
    say = bytes_text if status.line.in_bytes else "{:,}".format
    now = f"{row.target}: {status.line.label} is {say(status.value)}, over {say(status.limit)}"
    if not compared:
        return now
    return f"{now}; it was {'not weighed' if row.was is None else say(row.was)}"


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
@click.option(
    "--filter", "wanted", metavar="FILTER", default="", help="List only what this keeps: 'role:normal side>2048'."
)
@click.option(
    "--report",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write a report; its ending says .html, .csv or .json.",
)
@click.option(
    "--baseline",
    type=click.Path(path_type=Path, dir_okay=False),
    help="An earlier survey as JSON: say only what got worse.",
)
def survey(
    path: Path,
    targets: tuple[str, ...],
    form: str,
    strict: bool,
    wanted: str,
    report: Path | None,
    baseline: Path | None,
) -> None:
    """Weigh what is in PATH, a folder or a job, against the limits of its targets.

    Exit status: 0 within every budget; 1 over a budget (or, with --strict, any finding of severity error); 2 when PATH
    cannot be read. With --baseline: 1 when a total over its limit grew, or an error or a warning is new; else 0.
    Files that cannot be read are listed and do not stop the survey.
    """
    if report is not None and report.suffix.lower() not in WRITERS:
        raise fail(f"{report}: a report ends in {', '.join(WRITERS)}")
    found = weigh_source(source_at(path), targets)
    if wanted:
        found = filtered(found, wanted)
    if report is not None:
        write_atomic(report, WRITERS[report.suffix.lower()](found))
    if baseline is not None:
        worse = worse_than(found, read_earlier(baseline))
        _print_worse(worse)
        raise SystemExit(EXIT_OVER if worse.grave else 0)
    if form == "json":
        click.echo(as_json(found), nl=False)
    elif form == "csv":
        click.echo(as_csv(found), nl=False)
    else:
        _print_table(found)
    if found.over or (strict and found.grave):
        raise SystemExit(EXIT_OVER)
