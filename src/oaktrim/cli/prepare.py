"""`oak-trim prepare`: what set-up does, so that nobody waits for it later."""

from __future__ import annotations

import click

from oaktrim.cli.progress import run
from oaktrim.core.warm import warm_beside


@click.command()
def prepare() -> None:
    """Compile the kernels for this machine once; set-up does this, so that nobody waits for it later."""
    run(warm_beside())
    click.echo("Kernels are ready.")
