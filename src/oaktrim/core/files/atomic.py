"""Files as wholes: written so that they appear whole or not at all, read, and told apart by what they hold."""

from __future__ import annotations

import hashlib
import os
import stat
import tempfile
from pathlib import Path

from oaktrim.core.errors import FileError, os_fault

# What files are called before they are whole.
PASSING = ".oak-trim-"


def write_atomic(path: Path, data: bytes) -> None:
    """Write a file under a passing name beside its place, flush it to the disk, and put it in place in one step.

    Raises
    ------
    FileError : the folder cannot be made or the file not be written; what stood there before still stands
    """
    passing = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, passing = tempfile.mkstemp(prefix=PASSING, dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(passing, 0o666 & ~_umask())
        os.replace(passing, path)
    except OSError as error:
        if passing is not None:
            Path(passing).unlink(missing_ok=True)
        raise FileError(path, f"cannot be written: {os_fault(error)}") from error


def _umask() -> int:
    # The mask can only be read by setting it; /proc tells it without that race.
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("Umask:"):
            return int(line.split()[1], 8)
    return 0o022


def read_bytes(path: Path) -> bytes:
    """Return a file's bytes.

    Raises
    ------
    FileError : it cannot be read, or is a device, a pipe or a folder, which may never end
    """
    try:
        if not stat.S_ISREG(path.stat().st_mode):
            raise FileError(path, "is not a regular file")
        return path.read_bytes()
    except OSError as error:
        raise FileError(path, f"cannot be read: {os_fault(error)}") from error


def content_hash(*parts: bytes) -> str:
    """Return BLAKE2b of some bytes, 128 bits in hexadecimal."""
    digest = hashlib.blake2b(digest_size=16)
    for part in parts:
        digest.update(part)
    return digest.hexdigest()
