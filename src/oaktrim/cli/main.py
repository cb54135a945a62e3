"""The `oak-trim` command: its parts, and errors as one line and an exit status."""

from __future__ import annotations

import errno
import faulthandler
import logging
import os
import signal
import sys

import click

from oaktrim import __version__
from oaktrim.cli.exits import EXIT_UNFORESEEN, EXIT_UNREADABLE, fail
from oaktrim.cli.parts import Parts
from oaktrim.cli.window import start_window
from oaktrim.core.errors import OakTrimError, os_fault, shown
from oaktrim.core.log import log_aloud, log_file, log_to


@click.group(cls=Parts, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="oak-trim")
@click.option("--verbose", "-v", is_flag=True, help="Write what is done to the standard error, too.")
@click.pass_context
def commands(context: click.Context, verbose: bool) -> None:
    """Weigh a game's textures against platform budgets, cut them down, prove the result and ship it.

    Without a command, the window opens.
    """
    if verbose:
        log_aloud()
    if context.invoked_subcommand is None:
        start_window()


# What the system says of a stream that takes no more; faults of files come as errors of the core, with their names.
_OUTPUT_FAULTS = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO, errno.EBADF)


class _Terminated(KeyboardInterrupt):
    """SIGTERM, which ends work in the same order as Ctrl+C does."""


def _terminate(number: int, frame: object) -> None:
    raise _Terminated


def _occupy_standard_streams() -> None:
    """Open what of input, output and errors is closed onto nothing, so that no file that is opened later takes its place."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
    sys.stdout = sys.stdout or open(os.devnull, "w")  # noqa: SIM115 - as long as the process
    sys.stderr = sys.stderr or open(os.devnull, "w")  # noqa: SIM115 - as long as the process


def _let_go_of_output() -> None:
    """Say nothing more on the standard output, not even at exit."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _log_crashes() -> None:
    """Have a crash of the process itself write where it happened."""
    try:
        faulthandler.enable(log_file().with_name("crash.log").open("a"))
    except OSError:
        faulthandler.enable(sys.__stderr__ or sys.stderr)


def main() -> None:
    """Run the command line.

    Exit statuses are those of the commands; 2 where output cannot be written, 3 where something unforeseen happens, 130
    after Ctrl+C, 143 after SIGTERM.
    """
    _occupy_standard_streams()
    log_to(log_file())
    _log_crashes()
    logging.getLogger(__name__).info("%s %s", __version__, shown(" ".join(sys.argv[1:])))
    signal.signal(signal.SIGTERM, _terminate)
    try:
        status = _run_commands()
        sys.stdout.flush()
    except BrokenPipeError:
        # The reader of a pipe has gone.
        _let_go_of_output()
        status = 0
    except OSError as error:
        status = _fail_of_output(error)
    raise SystemExit(status)


def _run_commands() -> int:
    try:
        commands.main(prog_name="oak-trim", standalone_mode=False)
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else int(end.code is not None)
    except click.Abort as error:
        terminated = isinstance(error.__cause__, _Terminated)
        click.echo("oak-trim: stopped; what was finished is kept", err=True)
        return 128 + (signal.SIGTERM if terminated else signal.SIGINT)
    except click.ClickException as error:
        error.show()
        return error.exit_code
    except OakTrimError as error:
        fail(str(error))
        return EXIT_UNREADABLE
    except OSError:
        raise
    except Exception as error:
        return _report_unexpected_error(error)
    return 0


def _fail_of_output(error: OSError) -> int:
    """Say that results could not be written, where that is what went wrong."""
    if error.filename is not None or error.errno not in _OUTPUT_FAULTS:
        return _report_unexpected_error(error)
    _let_go_of_output()
    click.echo(f"oak-trim: the results cannot be written: {os_fault(error)}", err=True)
    return EXIT_UNREADABLE


def _report_unexpected_error(error: Exception) -> int:
    logging.getLogger(__name__).critical("unforeseen", exc_info=error)
    click.echo(
        f"oak-trim: something unforeseen happened ({type(error).__name__}: {str(error)[:200]}); it is logged in "
        f"{shown(log_file())}",
        err=True,
    )
    return EXIT_UNFORESEEN
