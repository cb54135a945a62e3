"""Keeping an output folder up to date while artists save: `oak-trim ship --watch`."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

import click

from oaktrim.cli.sources import Source, plan_of, source_at
from oaktrim.core.errors import OakTrimError, shown
from oaktrim.core.files.watching import Changes, Watcher
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.ship.result import Shipped


def keep_up(path: Path, target: str, ship: Callable[[Source, Plan], Shipped]) -> None:
    """Ship a source whenever it has changed, until the program is stopped; says a line each time.

    What is wrong with a later build is said, and the next change is waited for.

    Parameters
    ----------
    ship : ships a plan of a source

    Raises
    ------
    OakTrimError : the first time fails
    """
    changes = Changes()
    watcher = Watcher(changes.note)
    watched: tuple[Path, tuple[Path, ...]] | None = None
    shipped_once = False
    try:
        while True:
            started = time.monotonic()
            try:
                source = source_at(path)
                files = (path, *(Path(os.path.normpath(source.root / name)) for name in source.job.check_files))
                files = tuple(file for file in files if file.is_file())
                if watched != (source.root, files):
                    # Before anything is read, so that no change falls in between.
                    watched = (source.root, files)
                    watcher.look_at(*watched)
                shipped = ship(source, plan_of(source, target))
                _say(shipped, time.monotonic() - started)
                shipped_once = True
            except OakTrimError as error:
                if not shipped_once:
                    raise
                click.echo(f"oak-trim: {error}; waiting for the next change", err=True)
            changes.wait()
    finally:
        watcher.stop()


def _say(shipped: Shipped, seconds: float) -> None:
    over = [status.line.label for status in shipped.statuses if status.over]
    said = f"{shipped.written} written, {shipped.unchanged} unchanged, {shipped.removed} removed in {seconds:.1f} s"
    click.echo(f"{time.strftime('%H:%M:%S')} {said}" + (f"; over on {', '.join(over)}" if over else ""))
    for failure in shipped.manifest.failed:
        click.echo(f"oak-trim: not shipped: {shown(failure.error)}", err=True)
