"""`oak-trim desktop`: the entry in the desktop's menu, icons, the kind of file, the manual and completion, for one user."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import click
from click.shell_completion import get_completion_class

from oaktrim.cli.exits import fail
from oaktrim.cli.manual import man_page, markdown
from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import write_atomic

_ID, _KIND = "org.oaktrim.OakTrim", "application-x-oak-trim-job"
# Where each file goes, below the folder of the user's data.
_PLACES = {
    f"{_ID}.desktop": f"applications/{_ID}.desktop",
    f"{_ID}.xml": f"mime/packages/{_ID}.xml",
    f"{_ID}.metainfo.xml": f"metainfo/{_ID}.metainfo.xml",
    f"{_ID}.svg": f"icons/hicolor/scalable/apps/{_ID}.svg",
    f"{_KIND}.svg": f"icons/hicolor/scalable/mimetypes/{_KIND}.svg",
}
_MANUAL = "man/man1/oak-trim.1"
_COMPLETIONS = {
    "bash": "bash-completion/completions/oak-trim",
    "zsh": "zsh/site-functions/_oak-trim",
    "fish": "fish/vendor_completions.d/oak-trim.fish",
}
# What tells the desktop that something is new; each only where it is there.
_TELL = (
    ("update-mime-database", "mime"),
    ("update-desktop-database", "applications"),
    ("gtk-update-icon-cache", "icons/hicolor"),
)


def _data_home() -> Path:
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def _program() -> str:
    """Return the program that the desktop is to start: this one, by its whole path."""
    found = Path(sys.argv[0])
    return (
        str(found.absolute()) if found.name == "oak-trim" and found.exists() else shutil.which("oak-trim") or "oak-trim"
    )


_PREFIX = click.option(
    "--prefix", type=click.Path(path_type=Path, file_okay=False), help="The folder of data; the user's own without."
)


@click.group()
def desktop() -> None:
    """Put Oak Trim into the desktop's menu, with its icon, kind of file, manual and completion; or take it out."""


@desktop.command()
@_PREFIX
@click.pass_context
def install(context: click.Context, prefix: Path | None) -> None:
    """Write the desktop entry, icons, kind of file, manual and completions below the folder of the user's data."""
    root, folder = prefix or _data_home(), files("oaktrim.cli") / "entry"
    group = context.find_root().command
    assert isinstance(group, click.Group)
    texts = {place: (folder / name).read_text("utf-8") for name, place in _PLACES.items()}
    entry = _PLACES[f"{_ID}.desktop"]
    texts[entry] = texts[entry].replace("@PROGRAM@", _program())
    texts[_MANUAL] = man_page(group)
    for shell, place in _COMPLETIONS.items():
        texts[place] = completion(group, shell)
    for place, text in sorted(texts.items()):
        file = root / place
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            write_atomic(file, text.encode())
        except OSError as error:
            raise FileError(file, f"cannot be written: {error.strerror}") from error
        click.echo(file)
    _tell(root)


@desktop.command()
@_PREFIX
def remove(prefix: Path | None) -> None:
    """Remove all that `install` wrote."""
    root, gone = prefix or _data_home(), 0
    for place in (*_PLACES.values(), _MANUAL, *_COMPLETIONS.values()):
        try:
            (root / place).unlink()
            gone += 1
        except FileNotFoundError:
            continue
        except OSError as error:
            raise fail(f"{root / place}: cannot be removed: {error.strerror}") from error
    _tell(root)
    click.echo(f"{gone} files removed below {root}")


@desktop.command(name="commands")
@click.pass_context
def list_commands(context: click.Context) -> None:
    """Print all commands with their options as one page in Markdown."""
    group = context.find_root().command
    assert isinstance(group, click.Group)
    click.echo(markdown(group), nl=False)


def completion(group: click.Group, shell: str) -> str:
    """Return the script that completes commands in a shell."""
    kind = get_completion_class(shell)
    assert kind is not None
    return str(kind(group, {}, "oak-trim", "_OAK_TRIM_COMPLETE").source())


def _tell(root: Path) -> None:
    for program, place in _TELL:
        found = shutil.which(program)
        if found and (root / place).is_dir():
            subprocess.run([found, str(root / place)], check=False, capture_output=True)
