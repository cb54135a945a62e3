"""Names of what makers make, by patterns that the user sets."""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from string import Formatter

import msgspec

from oaktrim.core.makers.glyphs import GlyphSheet
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.maker import Maker
from oaktrim.core.makers.pack import Pack
from oaktrim.core.makers.patch import Patch
from oaktrim.core.survey.facts import IMAGE_MARK

_UNSAFE = re.compile(r'[\x00-\x1f"*:<>?|\\#]+|/+')


class NamePatterns(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How names are made, below the root and without ending.

    `{folder}` is that of the first input, `{material}` what a pack is for, `{layout}` the layout's short name, `{source}`
    the overlay's name, `{font}` and `{size}` those of a sheet.
    """

    pack: str = "{folder}/{material}_{layout}"
    patch: str = "{folder}/{source}_patch"
    glyphs: str = "{font}_{size}_glyphs"

    def __post_init__(self) -> None:
        for kind, known in _FIELDS.items():
            check_pattern(getattr(self, kind), known)


_FIELDS = {
    "pack": ("folder", "material", "layout"),
    "patch": ("folder", "source"),
    "glyphs": ("folder", "font", "size"),
}


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


def name_of(maker: Maker, patterns: NamePatterns, layouts: tuple[Layout, ...]) -> str:
    """Return the name that the patterns give a maker."""
    if isinstance(maker, Pack):
        layout = next((row.short for row in layouts if row.id == maker.layout), maker.layout)
        return _filled(patterns.pack, folder=_folder(maker.inputs), material=safe(maker.subject), layout=layout)
    if isinstance(maker, Patch):
        file, _, number = maker.source.partition(IMAGE_MARK)
        source = safe(PurePosixPath(file).stem + (f"_{number}" if number else ""))
        return _filled(patterns.patch, folder=_folder(maker.inputs), source=source)
    assert isinstance(maker, GlyphSheet)
    font = PurePosixPath(maker.font)
    # A font from elsewhere has no folder below the root.
    folder = "" if font.is_absolute() or ".." in font.parts else str(font.parent)
    return _filled(patterns.glyphs, folder=folder, font=safe(font.stem), size=maker.size)


def _folder(inputs: tuple[str, ...]) -> str:
    return str(PurePosixPath(inputs[0].partition(IMAGE_MARK)[0]).parent) if inputs else ""


def _filled(pattern: str, **fields: object) -> str:
    parts = PurePosixPath(pattern.format(**fields)).parts
    return "/".join(part for part in parts if part not in ("/", ".", "..")) or "unnamed"
