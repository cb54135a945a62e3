"""`oak-trim example`: the whole round in the terminal: survey, cuts, ship, survey of the result, before and after."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path

import click
import msgspec

from oaktrim.cli.progress import run
from oaktrim.cli.ship import ship_source
from oaktrim.cli.sources import Source, source_at, weigh_source
from oaktrim.cli.survey import print_findings, status_text
from oaktrim.cli.tables import console, table
from oaktrim.core.plan.status import limits_of
from oaktrim.core.settings import cache_folder
from oaktrim.demo.heronmere import make_demo


def _say(text: str) -> None:
    click.echo(f"\n— {text}")


def run_example(out: Path | None = None) -> None:
    """Run the round on the demonstration and print each step; `out` is kept, a folder of our own is not."""
    job_file = run(make_demo())
    source = source_at(job_file)
    click.echo(f"{source.job.name}: {source.root}")
    uncut = replace(source, job=msgspec.structs.replace(source.job, cuts=()))
    _say("Where do I stand? Nothing is cut yet.")
    before = weigh_source(uncut, ())
    for plan in before.plans:
        rows = [status_text(plan.target, status) for status in limits_of(plan)]
        console().print(table([plan.target.name, "is", "limit", ""], rows, right=(1, 2)))
    _say(f"What is wrong? {len(before.findings)} findings; the dearest of each kind:")
    first = {finding.code: finding for finding in reversed(before.findings)}
    print_findings(list(reversed(first.values())))
    _say(f"The job's {len(source.job.cuts)} cuts:")
    for cut in source.job.cuts:
        click.echo(f"  {cut.label}" + (f", on {', '.join(cut.targets)}" if cut.targets else ""))
    with tempfile.TemporaryDirectory(prefix="shipped-", dir=_scratch()) as folder:
        for plan in before.plans:
            place = (out or Path(folder)) / plan.target.id
            _ship_and_weigh(source, plan.target.id, place, {s.line.name: s.value for s in limits_of(plan)})


def _scratch() -> Path:
    cache_folder().mkdir(parents=True, exist_ok=True)
    return cache_folder()


def _ship_and_weigh(source: Source, target: str, place: Path, before: dict[str, int]) -> None:
    plan, shipped = ship_source(source, target, place)
    _say(f"Shipped for {plan.target.name}: {shipped.written} written, {shipped.unchanged} unchanged. Before and after:")
    again = {s.line.name: s for s in limits_of(weigh_source(source_at(place), (target,)).plans[0])}
    rows = []
    for status in shipped.statuses:
        line, after, limit, verdict = status_text(plan.target, status)
        was = status_text(plan.target, replace(status, value=before[status.line.name]))[1]
        surveyed = status_text(plan.target, again[status.line.name])[1]
        rows.append((line, was, after, surveyed, limit, verdict))
    heads = [plan.target.name, "before", "after", "surveyed again", "limit", ""]
    console().print(table(heads, rows, right=(1, 2, 3, 4)))
    for failure in shipped.manifest.failed:
        click.echo(f"  not shipped: {failure.error}")


@click.command()
@click.option("--out", type=click.Path(path_type=Path, file_okay=False), help="Keep what is shipped in this folder.")
def example(out: Path | None) -> None:
    """Run the whole round on the demonstration in the terminal."""
    run_example(out)
