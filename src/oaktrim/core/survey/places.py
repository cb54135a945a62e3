"""From a path in an inventory to the bytes on disk that it stands for."""

from __future__ import annotations

import os
import re
from functools import lru_cache
from pathlib import Path

from oaktrim.core.errors import FileError, os_fault
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.read import parse_images
from oaktrim.core.survey.facts import CLIP_MARK, IMAGE_MARK, NODE_MARK, SCENE_MARK, VARIANT_MARK

_ESCAPED = re.compile(r"\\x([0-9a-f]{2})")


def file_path(path: str) -> str:
    """Return the path of the file that a path in an inventory stands for or in."""
    for mark in (IMAGE_MARK, CLIP_MARK, NODE_MARK, VARIANT_MARK, SCENE_MARK):
        path = path.partition(mark)[0]
    return path


def file_of(root: Path, path: str) -> Path:
    """Return the file that a path in an inventory stands for or in, escapes turned back to bytes."""
    path = file_path(path)
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
    file, mark, number = path.partition(IMAGE_MARK)
    if not mark:
        return read_bytes(file_of(root, path))
    place = file_of(root, path)
    images = _embedded_images(root, file, place, file_stamp(place))
    held = images[int(number)] if int(number) < len(images) else None
    if held is None:
        raise FileError(root / path, "is no longer held by the model")
    return held


def file_stamp(file: Path) -> tuple[int, int]:
    """Return a file's size and the time of its last change, which tell that it is another now.

    Raises
    ------
    FileError : it cannot be read
    """
    try:
        status = file.stat()
    except OSError as error:
        raise FileError(file, f"cannot be read: {os_fault(error)}") from error
    return status.st_size, status.st_mtime_ns


@lru_cache(maxsize=2)
def _embedded_images(root: Path, path: str, file: Path, _stamp: tuple[int, int]) -> tuple[bytes | None, ...]:
    """Return the bytes of all images that a model holds; those of the last models are kept, as one is asked for after the other."""
    return tuple(image.data for image in parse_images(read_bytes(file), ReferenceFolder(root, path)))
