"""What a finding is, and what its rules are given to look at."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import Enum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.formats.catalogue import FORMATS, ORDER, formats_for
from oaktrim.core.formats.format import Suits, TextureFormat
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.sounds.codecs import SoundKind
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.footprint import TargetFootprint
from oaktrim.core.targets.lines import Counts
from oaktrim.core.targets.target import Target


class Severity(Enum):
    """How bad a finding is: it breaks on the target, it costs, or it is worth a look."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class Remedy(Enum):
    """What mends a finding: a cut of this kind, or the bench whose maker does it."""

    CAP = "cap"
    FORMAT = "format"
    LEVELS = "levels"
    PATCH = "patch"
    PACK = "pack"
    ATLAS = "atlas"
    IMPOSTER = "imposter"
    SURFACE = "surface"
    RATE = "rate"
    MONO = "mono"
    CODEC = "codec"
    TRIM = "trim-silence"
    KEYS = "keys"
    UNUSED = "unused"
    ORDER = "order"
    LEAVE_OUT = "leave-out"


@dataclass(frozen=True, slots=True)
class Fix:
    """A remedy that can be done: its kind, and the side, the format or the state that it sets."""

    kind: Remedy
    value: int | str = ""


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing noticed about one file on one target.

    Parameters
    ----------
    code : stable name of the rule
    message : what is so, and what it means on the target, in a sentence
    bytes : at stake on the target; of texture memory, for what is no texture of the unpacked size
    remedy : what to do about it, in a few words; fix : the same, to be done, where that can be
    """

    code: str
    severity: Severity
    path: str
    message: str
    bytes: int
    remedy: str
    target: str
    fix: Fix | None = None


@dataclass(frozen=True)
class ShippedSound:
    """What a sound ships as.

    Parameters
    ----------
    kind : of its file
    seconds, rate, channels : as it ships
    file_bytes, held_bytes : of its file, and of memory on the target
    """

    kind: SoundKind
    seconds: float
    rate: int
    channels: int
    file_bytes: int
    held_bytes: int


# The common rule: what a map may cost beside its base colour when a job says nothing else.
COMMON_SHARES: Mapping[Role, float] = {
    Role.NORMAL: 0.5,
    **dict.fromkeys((Role.SURFACE, Role.ROUGHNESS, Role.METALNESS, Role.OCCLUSION, Role.HEIGHT, Role.EMISSIVE), 0.25),
}


@dataclass(frozen=True)
class RuleContext:
    """What the rules look at: an inventory on a target, and what ships there.

    Parameters
    ----------
    formats : places in the catalogue of what each texture ships as; arrival : what the target makes of it
    shares : of the base colour's side that each role may have
    demand : what sightlines ask for, where they were asked
    sounds : what each sound ships as, by path; counts : what of all models that ship is counted in numbers
    trimmed : paths of models and clips that cuts are on; refused : why a model that is cut ships as it is, by path
    """

    inventory: Inventory
    target: Target
    formats: NDArray[np.int64]
    footprint: TargetFootprint
    shares: Mapping[Role, float] = field(default_factory=lambda: COMMON_SHARES)
    demand: Demand | None = None
    sounds: Mapping[str, ShippedSound] = field(default_factory=dict)
    counts: Counts | None = None
    trimmed: frozenset[str] = frozenset()
    refused: Mapping[str, str] = field(default_factory=dict)

    def memory(self, row: int) -> int:
        """Return the bytes of a texture on the target."""
        return int(self.footprint.memory[row])

    def format(self, row: int) -> TextureFormat:
        """Return what a texture ships as."""
        return FORMATS[ORDER[self.formats[row]]]

    def size(self, row: int) -> tuple[int, int]:
        """Return width and height as shipped."""
        return int(self.footprint.width[row]), int(self.footprint.height[row])

    def memory_at(self, row: int, width: int, height: int) -> int:
        """Return the bytes that a texture would take on the target at another size, with all its levels."""
        held = self.format(row)
        if not self.target.decodes(held):
            held = FORMATS[held.expands_to]
        return held.mip_chain_bytes(
            width, height, level_count(width, height), layers=self.inventory.textures[row].slices
        )

    def saved_at_side(self, row: int, side: int) -> int:
        """Return the bytes that a cap would save."""
        width, height = self.size(row)
        longest = max(width, height)
        if longest <= side:
            return 0
        return max(
            0, self.memory(row) - self.memory_at(row, max(1, width * side // longest), max(1, height * side // longest))
        )

    def saved_as(self, row: int, format_name: str) -> int:
        """Return the bytes that a texture would save in another format that the target has."""
        return max(0, self.memory(row) - self.memory_as(row, FORMATS[format_name]))

    def memory_as(self, row: int, texture_format: TextureFormat) -> int:
        """Return the bytes that a texture would take in another format."""
        slices = self.inventory.textures[row].slices
        return texture_format.mip_chain_bytes(*self.size(row), int(self.footprint.levels[row]), layers=slices)

    def usable(self, use: Suits) -> str | None:
        """Return the format to prefer for a use, of those that the target decodes."""
        return next((row.name for row in formats_for(use) if self.target.decodes(row)), None)

    def flags(self, name: str) -> NDArray[np.bool_]:
        """Return a field of the facts as flags, of textures whose pixels are known."""
        return self.inventory.column(name).astype(np.bool_) & self.has_pixels

    @cached_property
    def has_pixels(self) -> NDArray[np.bool_]:
        return np.array([bool(t.pixels) for t in self.inventory.textures], np.bool_)

    def of_role(self, *roles: Role) -> NDArray[np.bool_]:
        """Return which textures have one of some roles."""
        places = [place for place, role in enumerate(Role) if role in roles]
        return np.isin(self.inventory.role_codes, places)

    def shipped_as(self, trait: Callable[[TextureFormat], bool]) -> NDArray[np.bool_]:
        """Return which textures ship as a format that has a trait."""
        flags: NDArray[np.bool_] = np.array([trait(FORMATS[name]) for name in ORDER], np.bool_)[self.formats]
        return flags

    def each(self, flags: NDArray[np.bool_]) -> Iterator[tuple[int, TextureFacts]]:
        """Yield the textures that a column marks, with their rows."""
        return ((int(row), self.inventory.textures[row]) for row in np.flatnonzero(flags))

    def finding(
        self,
        code: str,
        severity: Severity,
        path: str,
        message: str,
        at_stake: int,
        remedy: str,
        fix: Fix | None = None,
    ) -> Finding:
        """Return a finding on this target."""
        return Finding(code, severity, path, message, at_stake, remedy, self.target.id, fix)


Rule = Callable[[RuleContext], Iterator[Finding]]
