"""Names of what makers make, by patterns that the user sets."""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from string import Formatter

from oaktrim.core.survey.facts import IMAGE_MARK

_UNSAFE = re.compile(r'[\x00-\x1f"*:<>?|\\#]+|/+')


def check_pattern(pattern: str, known: tuple[str, ...]) -> None:
    """Check a pattern.

    Raises
    ------
    ValueError : a brace is not closed, or a field is not known
    """
    try:
        fields = [name for _, name, _, _ in Formatter().parse(pattern) if name is not None]
    except ValueError as error:
        raise ValueError(f"the pattern {pattern!r} cannot be read: {error}") from error
    for name in fields:
        if name not in known:
            raise ValueError(f"{{{name}}} is not known here; known are {', '.join(f'{{{k}}}' for k in known)}")
    if not pattern.strip("/ "):
        raise ValueError("a pattern cannot be empty")


def safe(name: str) -> str:
    """Return a name that every disk takes."""
    return _UNSAFE.sub("_", name).strip(" .").replace(" ", "_") or "unnamed"


def folder_of(inputs: tuple[str, ...]) -> str:
    """Return the folder of the first input, below the root."""
    return str(PurePosixPath(inputs[0].partition(IMAGE_MARK)[0]).parent) if inputs else ""


def filled(pattern: str, fields: dict[str, object]) -> str:
    """Return the path that a pattern gives, below the root and without ending."""
    parts = PurePosixPath(pattern.format(**fields)).parts
    return "/".join(part for part in parts if part not in ("/", ".", "..")) or "unnamed"
