"""Why something is written, or is not."""

from __future__ import annotations

from contextlib import suppress
from enum import Enum
from pathlib import Path

from oaktrim.core.files.atomic import content_hash

# Path, size, time and inode of files, and the hash of what they hold.
_Key = tuple[Path, int, int, int]
_HASHES: dict[_Key, str] = {}
_MOST_HASHES = 1 << 17


class Reason(Enum):
    """Why a texture or a sound is written, or is not."""

    NEW = "new"
    SOURCE = "source changed"
    RECIPE = "recipe changed"
    OUTPUT = "output missing or changed"
    UNCHANGED = "unchanged"


def reason_of_output(path: Path, digest: str) -> Reason:
    """Say whether a file is still as a run before left it; what this process has hashed is not read again while it stands."""
    try:
        key = _key(path)
        known = _HASHES.get(key)
        if known is None:
            known = content_hash(path.read_bytes())
            _keep(key, known)
    except OSError:
        return Reason.OUTPUT
    return Reason.UNCHANGED if known == digest else Reason.OUTPUT


def note_output(path: Path, digest: str) -> None:
    """Note the hash of a file that was just written, so that it need not be read again."""
    with suppress(OSError):
        _keep(_key(path), digest)


def _key(path: Path) -> _Key:
    status = path.stat()
    return path, status.st_size, status.st_mtime_ns, status.st_ino


def _keep(key: _Key, digest: str) -> None:
    if len(_HASHES) >= _MOST_HASHES:
        _HASHES.clear()
    _HASHES[key] = digest
