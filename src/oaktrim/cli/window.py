"""`oak-trim` and `open`: starting the window, in a process of its own that alone needs a display."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import click

from oaktrim.cli.display import has_display, missing_packages
from oaktrim.cli.exits import fail


def start_window(path: Path | None = None) -> None:
    """Show the window and stay until it is closed."""
    if not has_display():
        raise fail("there is no display here to open the window on; `oak-trim --help` lists what works in a terminal")
    missing = missing_packages()
    if missing:
        names = " ".join(missing)
        raise fail(f"the window needs system packages that are not installed: {names} (sudo apt-get install {names})")
    arguments = [sys.executable, "-m", "oaktrim.desk", *([str(path)] if path is not None else [])]
    raise SystemExit(subprocess.run(arguments, check=False).returncode)


@click.command(name="open")
@click.argument("path", required=False, type=click.Path(path_type=Path))
def open_path(path: Path | None) -> None:
    """Open the window on PATH, a folder or a job; without one, the window alone."""
    # All else that may be wrong with it the window says itself.
    if path is not None and not path.exists():
        raise fail(f"{path}: there is no such folder or job")
    start_window(path)
