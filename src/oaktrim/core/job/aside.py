"""Edits that were not saved, kept aside while a program runs and offered again after it ended unasked."""

from __future__ import annotations

import hashlib
import logging
import os
from contextlib import suppress
from pathlib import Path

import msgspec
import platformdirs

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.job.document import Job

_LOG = logging.getLogger(__name__)
_ENDING = ".aside.json"


class Aside(msgspec.Struct, frozen=True):
    """A job with edits that were not saved.

    Parameters
    ----------
    source : the job's file, or the folder that was opened without one
    process : that had it open
    saved : when it was kept aside, in seconds since the epoch
    """

    source: str
    process: int
    saved: float
    job: Job


def aside_folder() -> Path:
    """Return where they are kept."""
    return Path(platformdirs.user_state_dir("oak-trim")) / "unsaved"


def keep_aside(aside: Aside) -> bool:
    """Keep a job aside, in the place of what this process kept of the same source; say whether it could be written."""
    try:
        aside_folder().mkdir(parents=True, exist_ok=True)
        write_atomic(_file(aside.source, aside.process), msgspec.json.encode(aside))
    except (OSError, FileError) as error:
        _LOG.warning("%s is not kept aside: %s", aside.source, error)
        return False
    return True


def forget_aside(source: str, process: int) -> None:
    """Forget what a process kept of a source."""
    with suppress(OSError):
        _file(source, process).unlink(missing_ok=True)


def left_asides() -> list[Aside]:
    """Return what programs that run no more left behind, the newest first; what cannot be read is passed over."""
    found = []
    for file in aside_folder().glob(f"*{_ENDING}"):
        try:
            aside = msgspec.json.decode(file.read_bytes(), type=Aside)
        except (OSError, msgspec.DecodeError, ValueError) as error:
            _LOG.warning("%s: %s", file, error)
            continue
        if not _runs(aside.process):
            found.append(aside)
    return sorted(found, key=lambda aside: -aside.saved)


def _file(source: str, process: int) -> Path:
    name = hashlib.blake2b(source.encode("utf-8", "surrogateescape"), digest_size=12).hexdigest()
    return aside_folder() / f"{name}-{process}{_ENDING}"


def _runs(process: int) -> bool:
    """Say whether a process of this product is alive; numbers are given again."""
    if process == os.getpid():
        return True
    try:
        return b"oaktrim" in Path(f"/proc/{process}/cmdline").read_bytes()
    except OSError:
        return False
