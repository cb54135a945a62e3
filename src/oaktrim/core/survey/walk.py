"""Walking a tree: which files there are, and what tells that one has changed. It needs little, and starts at once."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from operator import attrgetter
from pathlib import Path

import msgspec
import pathspec

from oaktrim.core.errors import FileError, os_fault, shown

DEFAULT_IGNORE = (".*", "__pycache__/")


@dataclass(frozen=True)
class Unreadable:
    """A file that was to be surveyed and could not be, and why."""

    path: str
    error: str


class Seen(msgspec.Struct, frozen=True, gc=False):
    """A file met on the walk."""

    path: str
    place: str
    file_bytes: int
    file_time: int

    @property
    def stamp(self) -> tuple[int, int]:
        """What tells that the file has changed."""
        return self.file_bytes, self.file_time

    @property
    def file(self) -> Path:
        return Path(self.place)


def fault_of_ignore(pattern: str) -> str:
    """Say what is wrong with a pattern of paths to leave out; empty where nothing is."""
    try:
        pathspec.GitIgnoreSpec.from_lines([pattern])
    except (ValueError, re.error):
        return f"{pattern!r} is not a pattern as in a .gitignore file"
    return ""


def _ignored(patterns: tuple[str, ...]) -> Callable[[str], bool]:
    """Return what says whether a path is left out; most fit no pattern at all, and one expression tells that quickly."""
    spec = pathspec.GitIgnoreSpec.from_lines(patterns)
    parts = [
        pattern.regex.pattern.replace("(?P<ps_d>", "(?:") for pattern in spec.patterns if pattern.regex is not None
    ]
    near = re.compile("|".join(parts) or "(?!)").match
    return lambda path: near(path) is not None and spec.match_file(path)


def walk(
    root: Path,
    ignore: tuple[str, ...],
    unreadable: list[Unreadable],
    wanted: Callable[[str], bool] = lambda _: True,
) -> Iterator[Seen]:
    """Yield the files below the root in the order of their names; links to folders are not followed.

    Parameters
    ----------
    unreadable : is given folders that cannot be read, and files that are `wanted` by their paths and cannot be looked at

    Raises
    ------
    FileError : the root itself cannot be read
    """
    ignored = _ignored(ignore)
    pending = [(str(root), "")]
    while pending:
        folder, prefix = pending.pop()
        try:
            with os.scandir(folder) as entries:
                rows = sorted(entries, key=attrgetter("name"))
        except OSError as error:
            if not prefix:
                raise FileError(root, f"cannot be read: {os_fault(error)}") from error
            unreadable.append(Unreadable(prefix.rstrip("/"), f"the folder cannot be read: {os_fault(error)}"))
            continue
        folders = []
        for entry in rows:
            path = prefix + shown(entry.name)
            try:
                if entry.is_dir(follow_symlinks=False):
                    if not ignored(path + "/"):
                        folders.append((entry.path, path + "/"))
                elif not ignored(path):
                    if entry.is_symlink() and Path(entry.path).is_dir():
                        continue
                    facts = entry.stat()
                    yield Seen(path, entry.path, facts.st_size, facts.st_mtime_ns)
            except OSError as error:
                if wanted(path):
                    unreadable.append(Unreadable(path, os_fault(error)))
        pending.extend(reversed(folders))
