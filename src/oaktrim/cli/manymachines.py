"""The option of commands that can have their work done by the workers of a scheduler."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib import import_module
from typing import Any, TypeVar

import click

from oaktrim.cli.exits import fail
from oaktrim.core.ship.store import Ahead

F = TypeVar("F", bound=Callable[..., Any])


def scheduler_option(command: F) -> F:
    """Add the option to a command, as `scheduler`."""
    return click.option(
        "--scheduler",
        metavar="ADDRESS",
        help="Have textures made by the workers of this Dask scheduler: tcp://HOST:8786.",
    )(command)


@contextmanager
def made_by(scheduler: str | None, max_pixels: int) -> Iterator[Ahead | None]:
    """Yield what has textures made by the workers of a scheduler; None without one, where all is made here.

    Raises
    ------
    ShipError : it cannot be reached, has no workers, or one of another version
    """
    if scheduler is None:
        yield None
        return
    try:
        client = import_module("oaktrim.core.cluster.client")
    except ModuleNotFoundError as error:
        raise fail(f"--scheduler needs {error.name}, which comes with: pip install 'oak-trim[cluster]'") from error
    cluster = client.Cluster(scheduler, max_pixels)
    try:
        yield cluster.ahead
    finally:
        cluster.close()
