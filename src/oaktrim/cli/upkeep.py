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

# A file that was shipped and cannot be read may be half saved: it is looked at again, so often and after so many seconds.
_LOOKS, _BETWEEN = 4, 0.25


def keep_up(path: Path, target: str, ship: Callable[[Source, Plan], Shipped], settle: float = _BETWEEN) -> None:
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
    readable: frozenset[str] = frozenset()
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
                plan = _whole(source, target, readable, settle)
                readable = frozenset(texture.path for texture in plan.inventory.textures)
                shipped = ship(source, plan)
                _say(shipped, time.monotonic() - started)
                shipped_once = True
            except OakTrimError as error:
                if not shipped_once:
                    raise
                click.echo(f"oak-trim: {error}; waiting for the next change", err=True)
            changes.wait()
    finally:
        watcher.stop()


def _whole(source: Source, target: str, readable: frozenset[str], settle: float) -> Plan:
    """Return the plan of a source, when files that could be read before can be read again, or it takes too long."""
    for _ in range(_LOOKS - 1):
        plan = plan_of(source, target)
        if not readable & {row.path for row in plan.inventory.unreadable}:
            return plan
        time.sleep(settle)
    return plan_of(source, target)


def _say(shipped: Shipped, seconds: float) -> None:
    over = [status.line.label for status in shipped.statuses if status.over]
    said = f"{shipped.written} written, {shipped.unchanged} unchanged, {shipped.removed} removed in {seconds:.1f} s"
    click.echo(f"{time.strftime('%H:%M:%S')} {said}" + (f"; over on {', '.join(over)}" if over else ""))
    for failure in shipped.manifest.failed:
        click.echo(f"oak-trim: not shipped: {shown(failure.error)}", err=True)
