"""`oak-trim`, `open` and `demo`: starting the window, in a process of its own that alone needs a display."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import click

from oaktrim.cli.console import fail, run
from oaktrim.cli.example import run_example
from oaktrim.cli.sources import source_at
from oaktrim.demo.heronmere import make_demo


def has_display() -> bool:
    """Say whether a window could be shown here."""
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))


def start_window(path: Path | None = None) -> None:
    """Show the window and stay until it is closed."""
    if not has_display():
        raise fail("there is no display here to open the window on; `oak-trim --help` lists what works in a terminal")
    arguments = [sys.executable, "-m", "oaktrim.desk", *([str(path)] if path is not None else [])]
    raise SystemExit(subprocess.run(arguments, check=False).returncode)


@click.command(name="open")
@click.argument("path", type=click.Path(path_type=Path))
def open_path(path: Path) -> None:
    """Open the window on PATH, a folder or a job."""
    source_at(path)
    start_window(path)


@click.command()
def demo() -> None:
    """Open the window on Heronmere Landing, the demonstration; without a display, run the example instead."""
    if not has_display():
        click.echo("There is no display here: running the whole example in the terminal instead.")
        run_example()
        return
    start_window(run(make_demo()))
