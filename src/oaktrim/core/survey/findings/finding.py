"""What a finding is, and what its rules are given to look at."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import Enum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.survey.inventory import Inventory, TextureFacts
from oaktrim.core.targets.arrival import Arrival, arrive
from oaktrim.core.targets.target import Target


class Severity(Enum):
    """How bad a finding is: it breaks on the target, it costs, or it is worth a look."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True)
class Finding:
    """One thing noticed about one file on one target.

    Parameters
    ----------
    code : stable name of the rule
    message : what is so, and what it means on the target, in a sentence
    bytes : texture memory at stake on the target
    remedy : what to do about it, in a few words
    """

    code: str
    severity: Severity
    path: str
    message: str
    bytes: int
    remedy: str
    target: str


@dataclass(frozen=True)
class Ground:
    """What the rules look at: an inventory, a target, and what the target makes of the uncut textures."""

    inventory: Inventory
    target: Target

    @cached_property
    def arrival(self) -> Arrival:
        """The textures as they arrive when nothing is cut."""
        i = self.inventory
        return arrive(self.target, i.width, i.height, i.stored_levels, i.natural)

    def memory(self, row: int) -> int:
        """Return the bytes of an uncut texture on the target."""
        return int(self.arrival.memory[row])

    def memory_at(self, row: int, width: int, height: int) -> int:
        """Return the bytes that an uncut texture would take on the target at another size, with all its levels."""
        held = FORMATS[self.inventory.textures[row].natural_format]
        if not self.target.decodes(held):
            held = FORMATS[held.expands_to]
        return held.chain_bytes(width, height, level_count(width, height))

    def saved_as(self, row: int, format_name: str) -> int:
        """Return the bytes that an uncut texture would save in another format that the target has."""
        a = self.arrival
        smaller = FORMATS[format_name].chain_bytes(int(a.width[row]), int(a.height[row]), int(a.levels[row]))
        return max(0, self.memory(row) - smaller)

    def pictures(self) -> Iterator[tuple[int, TextureFacts]]:
        """Yield the textures whose pixels are known, with their rows."""
        return ((row, t) for row, t in enumerate(self.inventory.textures) if t.pixels)

    def flagged(self, flags: NDArray[np.bool_]) -> Iterator[tuple[int, TextureFacts]]:
        """Yield the textures that a column marks, with their rows."""
        return ((int(row), self.inventory.textures[row]) for row in np.flatnonzero(flags))

    def finding(self, code: str, severity: Severity, path: str, message: str, at_stake: int, remedy: str) -> Finding:
        """Return a finding on this target."""
        return Finding(code, severity, path, message, at_stake, remedy, self.target.id)


Rule = Callable[[Ground], Iterator[Finding]]
