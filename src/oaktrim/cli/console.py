"""What every command prints with: tables, a progress bar where there is a terminal, and errors in one line."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence
from typing import TypeVar

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn
from rich.table import Table
from rich.text import Text

from oaktrim.core import progress

T = TypeVar("T")

EXIT_OVER, EXIT_UNREADABLE, EXIT_UNFORESEEN = 1, 2, 3
_PATIENCE_SECONDS = 1.0


def console() -> Console:
    """Return the console for results; wide when it is no terminal, so that nothing is folded in a file."""
    return Console(file=sys.stdout, width=None if sys.stdout.isatty() else 160, highlight=False, soft_wrap=True)


def run(task: progress.Task[T]) -> T:
    """Run a task, with a bar on anything longer than a second when the output is a terminal."""
    if not (sys.stdout.isatty() and sys.stderr.isatty()):
        return progress.finish(task)
    bar = Progress(
        TextColumn("{task.description}", justify="left"),
        BarColumn(),
        TextColumn("{task.completed:.0f}/{task.total:.0f}"),
        TimeRemainingColumn(),
        console=Console(stderr=True),
        transient=True,
    )
    return _watched(task, bar)


def _watched(task: progress.Task[T], bar: Progress) -> T:
    started = time.monotonic()
    shown: list[Callable[[progress.Progress], None]] = []

    def watch(step: progress.Progress) -> None:
        if not shown:
            if time.monotonic() - started < _PATIENCE_SECONDS:
                return
            bar.start()
            line = bar.add_task("", total=None)
            shown.append(lambda s: bar.update(line, description=s.what[-48:], completed=s.done, total=s.total))
        shown[0](step)

    try:
        return progress.finish(task, watch)
    finally:
        if shown:
            bar.stop()


def table(heads: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = ()) -> Table:
    """Return a plain table; the columns whose places are in `right` are set to the right."""
    out = Table(box=None, pad_edge=False, header_style="bold")
    for place, head in enumerate(heads):
        out.add_column(head, justify="right" if place in right else "left", no_wrap=True, overflow="ignore")
    for row in rows:
        out.add_row(*(Text(cell) for cell in row))
    return out


def fail(message: str, status: int = EXIT_UNREADABLE) -> SystemExit:
    """Print an error in one line and return the exit to raise."""
    click.echo(f"oak-trim: {message}", err=True)
    return SystemExit(status)
