"""The Target document: a platform's limits, hardware formats, size and upload rules, and packing."""

from __future__ import annotations

import re
from enum import Enum
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from oaktrim.core.errors import DocumentError, FileError, Unsupported
from oaktrim.core.fields import MAX_BYTES, Count, Name, Side, Text, Version, fault_in_words
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.formats.format import Hardware, TextureFormat
from oaktrim.core.sounds.codecs import SoundKind, SoundStorage
from oaktrim.core.targets.lines import LINES, Unit, byte_lines

VERSION = 1

_UNITS = {
    "B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40,
    "kB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12,
}  # fmt: skip
_ID = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")
_SIZE = re.compile(r"\s*(\d+(?:\.\d+)?)\s*([A-Za-z]+)\s*")


class SizeRule(Enum):
    """What the target thinks of sides that are not powers of two."""

    FREE = "free"
    WANTED = "wanted"
    NEEDED_FOR_LEVELS = "needed-for-levels"
    RESAMPLED = "resampled"


class Oversize(Enum):
    """What becomes of a texture over the longest side."""

    HALVED = "halved"
    RESAMPLED = "resampled"
    REFUSED = "refused"


class Filtering(Enum):
    """How the engine reads textures at a slant: it decides how large they need to be."""

    TRILINEAR = "trilinear"
    ANISOTROPIC = "anisotropic"


class Packing(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The lossless second packing of the package: `deflate`, `zstd` or `lz4`, and its level."""

    method: str = "zstd"
    level: int = 9

    def __post_init__(self) -> None:
        ranges = {"deflate": (1, 9), "zstd": (1, 22), "lz4": (0, 16)}
        if self.method not in ranges:
            raise ValueError(f"packing is deflate, zstd or lz4, not {self.method!r}")
        low, high = ranges[self.method]
        if not low <= self.level <= high:
            raise ValueError(f"{self.method} packs at levels {low} to {high}, not {self.level}")


class _Limits(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a target allows; a limit left out is not watched. Sizes are written with a unit: "192 MiB", "40 MB"."""

    def __post_init__(self) -> None:
        for line in LINES.values():
            text = self.stated(line.name)
            if line.in_bytes and text is not None:
                try:
                    parse_bytes(str(text))
                except ValueError as error:
                    raise ValueError(f"{line.field}: {error}") from error

    def stated(self, line: str) -> str | int | None:
        """Return a limit as it is written, or None where it is not watched."""
        value: str | int | None = getattr(self, LINES[line].field)
        return value

    def of(self, line: str) -> int | None:
        """Return a limit as a number, bytes of lines that are counted in them, or None where it is not watched."""
        value = self.stated(line)
        return parse_bytes(value) if isinstance(value, str) else value


_TYPES = {Unit.BYTES: str, Unit.PIXELS: Side, Unit.COUNT: Count}
if TYPE_CHECKING:
    Limits = _Limits
else:
    # A field for each line.
    Limits = msgspec.defstruct(
        "Limits", [(line.field, _TYPES[line.unit] | None, None) for line in LINES.values()], bases=(_Limits,), frozen=True,
        forbid_unknown_fields=True, module=__name__,
    )  # fmt: skip


class Target(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A platform.

    Parameters
    ----------
    id : short name, as on the command line; name : for people
    hardware : families of formats that it decodes; others are expanded to raw pixels at load
    audience : share of the audience that has a family of hardware, 0..1; 1 where it is left out
    container : ktx2 or dds, what is shipped
    filtering : what shows textures at a slant; screen : width and height in pixels
    disk_rate : what its disk brings of levels that are streamed in a second, with a unit: "60 MB"; not watched where left out
    sound_kinds : of files that its engine plays; sound_storage : how it keeps them in memory
    size_rule, oversize : what happens to sides that are not powers of two, or are over the longest allowed
    """

    version: Version
    id: str
    name: Name
    about: Text
    hardware: tuple[Hardware, ...]
    limits: Limits
    audience: dict[Hardware, float] = {}
    container: str = "ktx2"
    size_rule: SizeRule = SizeRule.FREE
    oversize: Oversize = Oversize.HALVED
    packing: Packing = Packing()
    filtering: Filtering = Filtering.ANISOTROPIC
    screen: tuple[Side, Side] = (1920, 1080)
    disk_rate: str | None = None
    sound_kinds: tuple[SoundKind, ...] = tuple(SoundKind)
    sound_storage: SoundStorage = SoundStorage.DECODED

    def __post_init__(self) -> None:
        if self.container not in ("ktx2", "dds"):
            raise ValueError(f"container is ktx2 or dds, not {self.container!r}")
        if not _ID.fullmatch(self.id):
            raise ValueError(f"an id is lower-case letters, digits and hyphens, not {self.id!r}")
        for family, share in self.audience.items():
            if not 0 < share <= 1:
                raise ValueError(f"the share of the audience with {family.value} is over 0 and at most 1, not {share}")
        if self.disk_rate is not None:
            try:
                rate = parse_bytes(self.disk_rate)
            except ValueError as error:
                raise ValueError(f"disk_rate: {error}") from error
            if rate <= 0:
                raise ValueError("disk_rate: a disk that brings nothing in a second can stream nothing")

    def decodes(self, texture_format: TextureFormat) -> bool:
        """Say whether the hardware samples a format as it is."""
        return texture_format.hardware in self.hardware

    def share_of(self, texture_format: TextureFormat) -> float:
        """Return the share of the audience whose hardware samples a format; 0 where the target lacks it."""
        return self.audience.get(texture_format.hardware, 1.0) if self.decodes(texture_format) else 0.0

    @property
    def disk_bytes(self) -> int | None:
        """Bytes a second that its disk brings, None where nothing says."""
        return None if self.disk_rate is None else parse_bytes(self.disk_rate)

    @property
    def limit_bytes(self) -> dict[str, int]:
        """The watched limits counted in bytes, by line."""
        found = {line: self.limits.of(line) for line in byte_lines()}
        return {line: limit for line, limit in found.items() if limit is not None}

    @property
    def longest_side(self) -> int | None:
        """The longest side that it takes, pixels."""
        return self.limits.of("longest-side")


def parse_bytes(text: str) -> int:
    """Return the bytes of a size such as "192 MiB" or "40 MB".

    Raises
    ------
    ValueError : not a number and a known unit, or over 1 PiB
    """
    match = _SIZE.fullmatch(text)
    if match is None or match[2] not in _UNITS:
        raise ValueError(f"a size is a number and one of {', '.join(_UNITS)}, not {text[:40]!r}")
    size = float(match[1]) * _UNITS[match[2]]
    if size > MAX_BYTES:
        raise ValueError(f"a size is at most {MAX_BYTES >> 40} TiB, not {text[:40]!r}")
    return int(size)


def load_target(path: Path) -> Target:
    """Read a target document.

    Raises
    ------
    DocumentError : not readable or not valid; names the file and the field
    """
    try:
        data = read_bytes(path)
        version = msgspec.toml.decode(data).get("version")
        if isinstance(version, int) and version > VERSION:
            raise DocumentError(path, f"is of version {version}, made by a newer Oak Trim; this one reads {VERSION}")
        return msgspec.toml.decode(data, type=Target)
    except DocumentError:
        raise
    except FileError as error:
        raise DocumentError(path, error.fault) from error
    except (msgspec.DecodeError, UnicodeDecodeError, ValueError, RecursionError) as error:
        raise DocumentError(path, f"is not a valid target: {fault_in_words(error)}") from error


def save_target(target: Target, path: Path) -> None:
    """Write a target document.

    Raises
    ------
    FileError : it cannot be written
    """
    fields = msgspec.to_builtins(target)
    fields["limits"] = {line: limit for line, limit in fields["limits"].items() if limit is not None}
    write_atomic(path, msgspec.toml.encode({name: value for name, value in fields.items() if value is not None}))


def validate(target: Target) -> list[str]:
    """Return what cannot be, or can never happen, in a target's rules, in sentences."""
    said = []
    families = {family for family in target.hardware if family is not Hardware.PLAIN}
    if Hardware.PLAIN not in target.hardware:
        said.append("Every GPU samples plain formats; without them nothing can be expanded at load.")
    if target.container == "dds" and families & {Hardware.ETC2, Hardware.ASTC, Hardware.UNIVERSAL}:
        said.append("DDS has no codes for ETC2, ASTC and UASTC: they can only be shipped as KTX2.")
    if not target.sound_kinds:
        said.append("It plays no kind of sound file.")
    side = target.longest_side
    if side is not None:
        if side < 1:
            said.append("A longest side under 1 lets nothing through.")
        elif side & (side - 1) and target.size_rule is not SizeRule.FREE:
            said.append(f"A longest side of {side} is no power of two, which the size rule wants.")
    sizes = target.limit_bytes
    for small, large in (("streaming", "memory"), ("package", "unpacked")):
        if small in sizes and large in sizes and sizes[small] > sizes[large]:
            said.append(f"The limit for {small} is over the one for {large}, so it is never met first.")
    for line in LINES.values():
        limit = target.limits.of(line.name)
        if limit is not None and limit < 1 and line.unit is not Unit.PIXELS:
            said.append(f"The limit for {line.label} lets nothing through.")
    said += [
        f"A share is stated for {family.value}, which the hardware does not have."
        for family in target.audience
        if family not in target.hardware
    ]
    return said


# Folders of target documents; those that come with the product.
FOLDERS: list[Path] = [Path(str(files("oaktrim.core.targets")))]


@cache
def shipped_targets() -> dict[str, Target]:
    """Return the targets that come with the product, by id."""
    paths = [path for folder in FOLDERS for path in sorted(folder.glob("*.toml"))]
    return {target.id: target for target in map(load_target, paths)}


def target_named(name: str) -> Target:
    """Return a target by its id.

    Raises
    ------
    Unsupported : there is none of that id
    """
    known = shipped_targets()
    if name not in known:
        raise Unsupported(f"there is no target {name!r}; known are {', '.join(known)}")
    return known[name]
