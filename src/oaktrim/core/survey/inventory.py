"""What a survey found: a row of facts for each texture, the files that could not be read, and the columns to weigh."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.survey.roles import RoleGuess
from oaktrim.core.targets.arrival import FORMAT_INDEX

_ESCAPED = re.compile(r"\\x([0-9a-f]{2})")


class TextureFacts(msgspec.Struct, frozen=True, array_like=True):
    """Facts of one texture file, kept in the cache by path, size and time.

    Parameters
    ----------
    path : below the root, with slashes; bytes that are not UTF-8 stand as escapes
    file_bytes, file_time : size, and time of change in nanoseconds
    content : BLAKE2b of the file's bytes, 128 bits in hexadecimal
    kind, width, height, channels, bit_depth, floating, levels, format, profile : as in `PictureFacts`
    pixels : hash of the pixels; empty where they cannot be decoded
    grey, opaque, constant : of the pixels; `opaque` says that there is an alpha channel and it is full everywhere
    packed : packed over plain bytes of a sample in the natural format, by packing method
    """

    path: str
    file_bytes: int
    file_time: int
    content: str
    kind: str
    width: int
    height: int
    channels: int
    bit_depth: int
    floating: bool
    levels: int
    format: str
    profile: bool
    pixels: str
    grey: bool
    opaque: bool
    constant: bool
    packed: dict[str, float]

    @property
    def natural_format(self) -> str:
        """The format that holds the file's pixels without loss of size or kind: what it ships as when nothing is cut."""
        if self.format:
            return self.format
        return natural_format(self.channels, self.bit_depth, self.floating)


def natural_format(channels: int, bit_depth: int, floating: bool) -> str:
    """Return the plain format of pixels of this shape."""
    if floating:
        return "rgba16f"
    if bit_depth > 8:
        return "r16" if channels == 1 else "rgba16f"
    return "r8" if channels == 1 else "rgba8"


@dataclass(frozen=True)
class Unreadable:
    """A file that was to be surveyed and could not be, and why."""

    path: str
    error: str


@dataclass(frozen=True)
class Inventory:
    """All that a survey found below a root.

    Parameters
    ----------
    textures : in the order of their paths
    roles : one for each texture
    files : how many files were seen in all, ignored ones left out
    """

    root: Path
    textures: tuple[TextureFacts, ...]
    roles: tuple[RoleGuess, ...]
    unreadable: tuple[Unreadable, ...]
    files: int

    @cached_property
    def row_of(self) -> dict[str, int]:
        """The row of each texture by its path."""
        return {texture.path: row for row, texture in enumerate(self.textures)}

    @cached_property
    def width(self) -> NDArray[np.int64]:
        return np.array([t.width for t in self.textures], np.int64)

    @cached_property
    def height(self) -> NDArray[np.int64]:
        return np.array([t.height for t in self.textures], np.int64)

    @cached_property
    def natural(self) -> NDArray[np.int64]:
        """The place in the catalogue of each texture's natural format."""
        return np.array([FORMAT_INDEX[t.natural_format] for t in self.textures], np.int64)

    @cached_property
    def stored_levels(self) -> NDArray[np.int64]:
        """Levels as stored in GPU containers; 0 for pictures, whose levels are still to be made."""
        return np.array([t.levels if t.format else 0 for t in self.textures], np.int64)

    @cached_property
    def families(self) -> NDArray[np.str_]:
        """The family of each texture's role, by its value."""
        return np.array([guess.role.family.value for guess in self.roles], np.str_)

    def rows(self, paths: tuple[str, ...]) -> NDArray[np.int64]:
        """Return the rows of the paths that are here; paths that are gone are passed over."""
        row_of = self.row_of
        found = np.fromiter((row_of.get(path, -1) for path in paths), np.int64, len(paths))
        return found[found >= 0]


def file_of(root: Path, path: str) -> Path:
    """Return the file that a path in an inventory stands for, escapes turned back to bytes."""
    plain = root / path
    if "\\x" not in path or plain.exists():
        return plain
    raw, at = b"", 0
    for match in _ESCAPED.finditer(path):
        raw += path[at : match.start()].encode() + bytes([int(match[1], 16)])
        at = match.end()
    return root / os.fsdecode(raw + path[at:].encode())
