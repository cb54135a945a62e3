"""The one tree of errors that the core raises on purpose; whatever the bytes, a reader raises nothing else."""

from __future__ import annotations

import os
from pathlib import Path


class OakTrimError(Exception):
    """Anything the core refuses, with a sentence fit to be shown to a user."""


class Unsupported(OakTrimError):
    """Asked for something that the product or the format cannot do; says what can be done instead."""


class FileError(OakTrimError):
    """A file that cannot be read or written.

    Parameters
    ----------
    path : path of the file as the user knows it
    fault : what is wrong, without the path
    offset : byte offset of the fault, where there is one
    """

    def __init__(self, path: str | os.PathLike[str], fault: str, offset: int | None = None) -> None:
        self.path = Path(path)
        self.fault = fault if offset is None else f"{fault} (at byte {offset})"
        super().__init__(f"{shown(path)}: {self.fault}")


class DocumentError(FileError):
    """A job or target document that is not valid; the fault names the field by its path."""


class ShipError(OakTrimError):
    """A ship run that cannot start or go on."""


def shown(path: str | os.PathLike[str]) -> str:
    """Return a path as text that can always be printed, bytes that are not UTF-8 written as escapes."""
    text = os.fspath(path)
    if isinstance(text, str) and text.isascii():
        return text
    return os.fsencode(text).decode("utf-8", "backslashreplace")


def os_fault(error: OSError) -> str:
    """Return the system's own words for an error, without the path."""
    return (error.strerror or type(error).__name__).lower()
