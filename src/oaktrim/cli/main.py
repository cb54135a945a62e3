"""The `oak-trim` command: its parts, and errors as one line and an exit status."""

from __future__ import annotations

import os
import sys

import click

from oaktrim import __version__
from oaktrim.cli.console import fail, run
from oaktrim.cli.convert import decode, encode, measure
from oaktrim.cli.example import example
from oaktrim.cli.fit import fit
from oaktrim.cli.formats import formats
from oaktrim.cli.job import cut, job_group, role_rules, roles
from oaktrim.cli.makers import glyphs, layouts, pack, patch, unpack
from oaktrim.cli.ship import ship
from oaktrim.cli.survey import survey
from oaktrim.cli.targets import targets
from oaktrim.cli.window import demo, open_path, start_window
from oaktrim.core.errors import OakTrimError
from oaktrim.core.warm import warm_beside


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="oak-trim")
@click.pass_context
def commands(context: click.Context) -> None:
    """Weigh a game's textures against platform budgets, cut them down, prove the result and ship it.

    Without a command, the window opens.
    """
    if context.invoked_subcommand is None:
        start_window()


@click.command()
def prepare() -> None:
    """Compile the kernels for this machine once; set-up does this, so that nobody waits for it later."""
    run(warm_beside())
    click.echo("Kernels are ready.")


_COMMANDS = (
    open_path, demo, example, survey, job_group, cut, roles, role_rules, fit, ship,
    pack, unpack, layouts, patch, glyphs, encode, decode, measure, formats, targets, prepare,
)  # fmt: skip
for command in _COMMANDS:
    commands.add_command(command)


def main() -> None:
    """Run the command line."""
    try:
        commands.main(prog_name="oak-trim", standalone_mode=False)
    except click.Abort:
        raise SystemExit(130) from None
    except click.ClickException as error:
        error.show()
        raise SystemExit(error.exit_code) from None
    except OakTrimError as error:
        raise fail(str(error)) from error
    except BrokenPipeError:
        # The reader of a pipe has gone; say nothing more, not even at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise SystemExit(0) from None
