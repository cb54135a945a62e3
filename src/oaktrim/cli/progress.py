"""What long commands show while they work: a bar where there is a terminal, else a line now and then."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import TypeVar

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TaskID, TextColumn, TimeRemainingColumn

from oaktrim.core import progress

T = TypeVar("T")

_PATIENCE_SECONDS, _LINE_SECONDS = 1.0, 10.0


def run(task: progress.Task[T], found: Callable[[object], None] = lambda _: None) -> T:
    """Run a task: with a bar on anything longer than a second where errors go to a terminal, else with a line now and then.

    Parameters
    ----------
    found : is given what steps bring before the end
    """
    started = time.monotonic()
    show: _Bar | _Lines = _Bar(started) if sys.stderr.isatty() else _Lines(started)

    def watch(step: progress.Progress) -> None:
        if step.found:
            found(step.found)
        show.step(step)

    try:
        return progress.finish(task, watch)
    finally:
        show.end()


class _Bar:
    """A bar on the terminal, from the second on after which somebody wonders."""

    def __init__(self, started: float) -> None:
        self._due = started + _PATIENCE_SECONDS
        self._bar: Progress | None = None
        self._line: TaskID | None = None

    def step(self, step: progress.Progress) -> None:
        if self._bar is None or self._line is None:
            if time.monotonic() < self._due:
                return
            self._bar = Progress(
                TextColumn("{task.description}", justify="left"),
                BarColumn(),
                TextColumn("{task.completed:.0f}/{task.total:.0f}"),
                TimeRemainingColumn(),
                console=Console(stderr=True),
                transient=True,
            )
            self._bar.start()
            self._line = self._bar.add_task("", total=None)
        self._bar.update(self._line, description=step.what[-48:], completed=step.done, total=step.total)

    def end(self) -> None:
        if self._bar is not None:
            self._bar.stop()


class _Lines:
    """A line on the standard error every ten seconds, for logs."""

    def __init__(self, started: float) -> None:
        self._started, self._due = started, started + _LINE_SECONDS

    def step(self, step: progress.Progress) -> None:
        now = time.monotonic()
        if now >= self._due:
            self._due = now + _LINE_SECONDS
            far = f" {step.done} of {step.total}" if step.total else ""
            click.echo(f"oak-trim: {now - self._started:.0f} s: {step.what}{far}", err=True)

    def end(self) -> None:
        return None
