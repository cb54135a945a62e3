"""`oak-trim ship`: run a job for a target into a folder, and weigh the result."""

from __future__ import annotations

from pathlib import Path

import click

from oaktrim.cli.exits import EXIT_OVER
from oaktrim.cli.manymachines import made_by, scheduler_option
from oaktrim.cli.progress import run
from oaktrim.cli.sources import Source, plan_of, source_at
from oaktrim.cli.survey import status_text
from oaktrim.cli.tables import console, table
from oaktrim.cli.upkeep import keep_up
from oaktrim.core.errors import shown
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.status import limits_of
from oaktrim.core.ship.manifest import NAME
from oaktrim.core.ship.result import Shipped, forecast_missed
from oaktrim.core.ship.run import ship as ship_plan
from oaktrim.core.ship.store import MadeStore


def ship_source(source: Source, target: str, out: Path, scheduler: str | None = None) -> tuple[Plan, Shipped]:
    """Ship a source for a target and return its plan and what was done."""
    plan = plan_of(source, target)
    return plan, _ship(source, plan, out, scheduler)


def _ship(source: Source, plan: Plan, out: Path, scheduler: str | None) -> Shipped:
    with made_by(scheduler, source.job.max_pixels) as ahead:
        return run(ship_plan(plan, out, source.job.max_pixels, store=MadeStore(), ahead=ahead))


def print_result(plan: Plan, shipped: Shipped) -> None:
    """Print forecast and result of a run, line by line."""
    forecast = {status.line: status for status in limits_of(plan)}
    rows = []
    for status in shipped.statuses:
        line, value, limit, verdict = status_text(plan.target, status)
        rows.append((line, status_text(plan.target, forecast[status.line])[1], value, limit, verdict))
    console().print(table([plan.target.name, "forecast", "shipped", "limit", ""], rows, right=(1, 2, 3)))


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--target", required=True, metavar="ID", help="The target to ship for; `oak-trim targets` lists them.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The folder to write into.")
@click.option("--watch", is_flag=True, help="Go on, and ship whenever something of PATH is saved, until stopped.")
@scheduler_option
def ship(path: Path, target: str, out: Path, watch: bool, scheduler: str | None) -> None:
    """Make every texture of PATH, a folder or a job, as its cuts say, and write it into a folder.

    Only what changed since the last run is made. With --watch each file of the folder is whole at any time, and what is
    wrong with a save is said without an end to the watch. With --scheduler textures are made by workers on other machines,
    the same as here. Exit status: 0 within every budget; 1 over a budget, or when a
    texture could not be made; 2 when PATH cannot be read or the folder not be written.
    """
    if watch:
        keep_up(path, target, lambda source, plan: _ship(source, plan, out, scheduler))
    plan, shipped = ship_source(source_at(path), target, out, scheduler)
    said = f"{shipped.written} written, {shipped.unchanged} unchanged"
    if shipped.removed:
        said += f", {shipped.removed} removed that the job no longer ships"
    if shipped.beside:
        said += f", {shipped.beside} models and other files beside them"
    click.echo(f"{shown(out)}: {said}; see {NAME}")
    print_result(plan, shipped)
    surprise = forecast_missed(plan, shipped.statuses)
    if surprise:
        click.echo(f"oak-trim: {surprise}", err=True)
    for failure in shipped.manifest.failed:
        click.echo(f"oak-trim: not shipped: {failure.error}", err=True)
    if shipped.manifest.failed or any(status.over for status in shipped.statuses):
        raise SystemExit(EXIT_OVER)
