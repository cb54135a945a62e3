"""From a path in an inventory to the bytes on disk that it stands for."""

from __future__ import annotations

import os
import re
from pathlib import Path

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.references import Surroundings
from oaktrim.core.scene.read import parse_model
from oaktrim.core.survey.facts import IMAGE_MARK

_ESCAPED = re.compile(r"\\x([0-9a-f]{2})")


def file_of(root: Path, path: str) -> Path:
    """Return the file that a path in an inventory stands for or in, escapes turned back to bytes."""
    path = path.partition(IMAGE_MARK)[0]
    plain = root / path
    if "\\x" not in path or plain.exists():
        return plain
    raw, at = b"", 0
    for match in _ESCAPED.finditer(path):
        raw += path[at : match.start()].encode() + bytes([int(match[1], 16)])
        at = match.end()
    return root / os.fsdecode(raw + path[at:].encode())


def source_bytes(root: Path, path: str) -> bytes:
    """Return the bytes of a texture's source: a file, or an image that a model holds.

    Raises
    ------
    FileError : it cannot be read
    """
    data = read_bytes(file_of(root, path))
    file, mark, number = path.partition(IMAGE_MARK)
    if not mark:
        return data
    images = parse_model(data, Surroundings(root, file)).images
    held = images[int(number)].data if int(number) < len(images) else None
    if held is None:
        raise FileError(root / path, "is no longer held by the model")
    return held
