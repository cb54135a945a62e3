"""How a command ends: its exit statuses, and an error in one line."""

from __future__ import annotations

import click

EXIT_OVER, EXIT_UNREADABLE, EXIT_UNFORESEEN = 1, 2, 3


def fail(message: str, status: int = EXIT_UNREADABLE) -> SystemExit:
    """Print an error in one line and return the exit to raise."""
    click.echo(f"oak-trim: {message}", err=True)
    return SystemExit(status)
