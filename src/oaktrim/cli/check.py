"""`oak-trim check`: whether a build may go on, for machines that build."""

from __future__ import annotations

import os
from importlib import import_module
from pathlib import Path

import click

from oaktrim.cli.exits import EXIT_OVER, fail
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.plan.lastcheck import recall, remember

ENDINGS = (".sarif.json", ".html", ".csv", ".json", ".xml", ".sarif")


def _ending(file: Path) -> str:
    """Return what kind of report a name asks for, by its ending."""
    found = next((ending for ending in ENDINGS if file.name.lower().endswith(ending)), None)
    if found is None:
        raise fail(f"{file}: a report ends in {', '.join(ENDINGS)}")
    return ".sarif" if found == ".sarif.json" else found


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--target", "targets", multiple=True, metavar="ID", help="Weigh on this target; may be given again.")
@click.option(
    "--fail-on",
    type=click.Choice(["error", "warning", "note", "never"]),
    default="error",
    show_default=True,
    help="The mildest finding that fails; with never, nothing does, not even limits.",
)
@click.option(
    "--baseline",
    type=click.Path(path_type=Path, dir_okay=False),
    help="An earlier survey as JSON: what it knows fails no more.",
)
@click.option(
    "--changed-since",
    "since",
    type=click.Path(path_type=Path, dir_okay=False),
    help="An earlier survey as JSON, or a list of changed files: only findings on files that are new or others fail.",
)
@click.option(
    "--report",
    "reports",
    multiple=True,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write a report: .xml is JUnit's, .sarif SARIF, then .json, .html, .csv; may be given again.",
)
def check(
    path: Path,
    targets: tuple[str, ...],
    fail_on: str,
    baseline: Path | None,
    since: Path | None,
    reports: tuple[Path, ...],
) -> None:
    """Say whether what is in PATH, a folder or a job, may be built: limits, findings, own checks, and what got worse.

    Exit status: 0 when it may; 1 when a limit is passed, or a finding is as grave as --fail-on says; 2 when PATH or another
    file cannot be read. What a baseline knows does not fail: a limit that is passed by no more than it was, a finding that
    was there. A file that cannot be read is an error. While nothing has changed, the last answer is given again at once.
    """
    endings = {report: _ending(report) for report in reports}
    places = [os.fspath(p.absolute()) for p in (path, baseline, since) if p is not None]
    asked = (*places, f"{baseline is None} {since is None}", fail_on, os.getcwd(), *targets)
    last = recall(asked)
    if last is None or any(ending not in last.reports for ending in endings.values()):
        wanted = set(endings.values()) | set(() if last is None else last.reports)
        ask = import_module("oaktrim.cli.freshcheck").Ask(path, targets, fail_on, baseline, since, reports)
        last = ask.look(wanted)
        remember(asked, last)
    for report, ending in endings.items():
        write_atomic(report, last.reports[ending])
    click.echo(last.said)
    if last.status:
        raise SystemExit(EXIT_OVER)
