"""What a check said the last time, told again while nothing that it looked at has changed.

It needs little of the core and starts at once: a look at the stamps of files is all that an unchanged tree costs.
"""

from __future__ import annotations

import hashlib
import logging
import os
from collections.abc import Iterable
from pathlib import Path

import lz4.frame
import msgspec

from oaktrim import __version__
from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.settings import cache_folder, settings_file
from oaktrim.core.survey.walk import Unreadable, walk

_LOG = logging.getLogger(__name__)
_PACKAGE = Path(__file__).parents[2]
# Checks that are kept; the oldest go first.
_KEPT = 20


class Inputs(msgspec.Struct, frozen=True):
    """What a check looks at.

    Parameters
    ----------
    root : of the tree; ignore : patterns of what it leaves out
    files : beside the tree, as the job; apart : files of the tree that the check itself writes
    """

    root: str
    ignore: tuple[str, ...]
    files: tuple[str, ...]
    apart: tuple[str, ...] = ()

    def state(self) -> str:
        """Return a hash of the stamps of all that is looked at, and of the program itself; empty where the root cannot be read."""
        digest = hashlib.blake2b(__version__.encode(), digest_size=16)
        faults: list[Unreadable] = []
        try:
            for seen in walk(Path(self.root), self.ignore, faults):
                if seen.place in self.apart:
                    continue
                digest.update(f"{seen.path}\0{seen.file_bytes}\0{seen.file_time}\0".encode("utf-8", "surrogateescape"))
        except OakTrimError:
            return ""
        program = (os.fspath(file) for file in _PACKAGE.rglob("*.*") if "__pycache__" not in file.parts)
        for file in sorted({*self.files, os.fspath(settings_file()), *program}):
            digest.update(f"{file}\0{_stamp(file)}\0".encode("utf-8", "surrogateescape"))
        digest.update(repr(sorted((row.path, row.error) for row in faults)).encode("utf-8", "surrogateescape"))
        return digest.hexdigest()


def _stamp(file: str) -> str:
    try:
        status = os.stat(file)
    except OSError:
        return "none"
    return f"{status.st_size} {status.st_mtime_ns}"


class LastCheck(msgspec.Struct, frozen=True):
    """A check as it was.

    Parameters
    ----------
    state : of the inputs then
    status : it exited with; said : what it printed; reports : what it wrote, by ending
    """

    inputs: Inputs
    state: str
    status: int
    said: str
    reports: dict[str, bytes]


def _file(asked: Iterable[str]) -> Path:
    key = hashlib.blake2b("\0".join(asked).encode("utf-8", "surrogateescape"), digest_size=16)
    return cache_folder() / "checks" / f"{key.hexdigest()}.check"


def recall(asked: Iterable[str]) -> LastCheck | None:
    """Return the last check that was asked for like this, if nothing has changed since.

    Parameters
    ----------
    asked : all that was asked for, as texts
    """
    try:
        last = msgspec.msgpack.decode(lz4.frame.decompress(read_bytes(_file(asked))), type=LastCheck)
    except (FileError, RuntimeError, msgspec.DecodeError):
        return None
    return last if last.state and last.state == last.inputs.state() else None


def remember(asked: Iterable[str], last: LastCheck) -> None:
    """Keep a check; where that cannot be written, the next one takes longer."""
    file = _file(asked)
    try:
        write_atomic(file, bytes(lz4.frame.compress(msgspec.msgpack.encode(last))))
        for older in sorted(file.parent.glob("*.check"), key=os.path.getmtime)[:-_KEPT]:
            older.unlink()
    except (FileError, OSError) as error:
        _LOG.warning("%s: %s", file, error)
