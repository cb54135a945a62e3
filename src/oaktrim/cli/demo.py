"""`oak-trim demo`: the window on the demonstration."""

from __future__ import annotations

import click

from oaktrim.cli.display import has_display
from oaktrim.cli.example import run_example
from oaktrim.cli.progress import run
from oaktrim.cli.window import start_window
from oaktrim.demo.heronmere import make_demo


@click.command()
def demo() -> None:
    """Open the window on Heronmere Landing, the demonstration; without a display, run the example instead."""
    if not has_display():
        click.echo("There is no display here: running the whole example in the terminal instead.")
        run_example()
        return
    start_window(run(make_demo()))
