"""Why something is written, or is not."""

from __future__ import annotations

from enum import Enum
from pathlib import Path

from oaktrim.core.files.atomic import content_hash


class Reason(Enum):
    """Why a texture or a sound is written, or is not."""

    NEW = "new"
    SOURCE = "source changed"
    RECIPE = "recipe changed"
    OUTPUT = "output missing or changed"
    UNCHANGED = "unchanged"


def reason_of_output(path: Path, digest: str) -> Reason:
    """Say whether a file is still as a run before left it."""
    try:
        same = content_hash(path.read_bytes()) == digest
    except OSError:
        same = False
    return Reason.UNCHANGED if same else Reason.OUTPUT
