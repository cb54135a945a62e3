"""The lines of a budget: what a target can limit, what each counts, and what it is called. A line is declared here alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    # Not where the program runs: lines are listed by commands that are to start at once.
    import numpy as np
    from numpy.typing import NDArray

    Ints = NDArray[np.int64]


class Unit(Enum):
    """What a line is counted in."""

    BYTES = "bytes"
    PIXELS = "px"
    COUNT = ""


class Weighed(Protocol):
    """Assets in columns (N,): bytes of texture memory, in the package, as files and of sounds in memory, and how many levels."""

    @property
    def memory(self) -> Ints: ...

    @property
    def package(self) -> Ints: ...

    @property
    def files(self) -> Ints: ...

    @property
    def levels(self) -> Ints: ...

    @property
    def sounds(self) -> Ints: ...


@dataclass(frozen=True)
class Weights:
    """Assets in columns, as `Weighed` has them."""

    memory: Ints
    package: Ints
    files: Ints
    levels: Ints
    sounds: Ints

    @classmethod
    def of_textures(cls, memory: Ints, package: Ints, files: Ints, levels: Ints) -> Weights:
        """Return what textures weigh: they are no sounds."""
        return cls(memory, package, files, levels, package * 0)

    @classmethod
    def beside_textures(cls, package: Ints, files: Ints, sounds: Ints) -> Weights:
        """Return what meshes, clips and sounds weigh: they are no texture memory and have no levels."""
        nothing = package * 0
        return cls(nothing, package, files, nothing, sounds)


@dataclass(frozen=True)
class Counts:
    """What of a job is counted in numbers; 0 where there is none."""

    longest_side: int = 0
    materials: int = 0
    triangles: int = 0
    draws: int = 0


@dataclass(frozen=True)
class Line:
    """What a target can limit.

    Parameters
    ----------
    name : as on the command line and in JSON; the field of target documents has underscores
    label : for people, in lower case
    unit : what it is counted in
    of_assets : what each asset adds, of lines counted in bytes; of_counts : the total, of the others
    estimated : it stays an estimate until everything was packed
    remedy : what brings a total down, of lines counted in numbers
    """

    name: str
    label: str
    unit: Unit
    of_assets: Callable[[Weighed], Ints] | None = None
    of_counts: Callable[[Counts], int] | None = None
    estimated: bool = False
    remedy: str = ""

    @property
    def field(self) -> str:
        """Its name in target documents."""
        return self.name.replace("-", "_")

    @property
    def in_bytes(self) -> bool:
        return self.unit is Unit.BYTES

    def weigh(self, assets: Weighed) -> Ints:
        """Return what each asset adds.

        Raises
        ------
        TypeError : the line is not counted in bytes
        """
        if self.of_assets is None:
            raise TypeError(f"{self.name} is not counted in bytes")
        return self.of_assets(assets)

    def count(self, counts: Counts) -> int:
        """Return the total.

        Raises
        ------
        TypeError : the line is counted in bytes
        """
        if self.of_counts is None:
            raise TypeError(f"{self.name} is counted in bytes")
        return self.of_counts(counts)


def _streamed(assets: Weighed) -> Ints:
    # What has no levels is not streamed: it is resident whole, outside the pool.
    return assets.memory * (assets.levels > 1)


# Filled by `register`, in the order in which lines are shown.
LINES: dict[str, Line] = {}


def register(line: Line) -> None:
    """Add a line; before target documents are read, whose limits have a field for each.

    Raises
    ------
    ValueError : there is one of that name
    """
    if line.name in LINES:
        raise ValueError(f"there is a line {line.name!r} already")
    LINES[line.name] = line


def byte_lines() -> tuple[str, ...]:
    """Return the names of the lines that are counted in bytes."""
    return tuple(name for name, line in LINES.items() if line.in_bytes)


_MERGE = "merge materials, or make the model simpler"
for _line in (
    Line("memory", "texture memory", Unit.BYTES, lambda assets: assets.memory),
    Line("package", "package", Unit.BYTES, lambda assets: assets.package, estimated=True),
    Line("unpacked", "unpacked", Unit.BYTES, lambda assets: assets.files),
    Line("streaming", "streamed levels", Unit.BYTES, _streamed),
    Line("sounds", "sound memory", Unit.BYTES, lambda assets: assets.sounds),
    Line("longest-side", "longest side", Unit.PIXELS, of_counts=lambda counts: counts.longest_side),
    Line("materials", "materials", Unit.COUNT, of_counts=lambda counts: counts.materials, remedy=_MERGE),
    Line(
        "triangles", "triangles", Unit.COUNT, of_counts=lambda counts: counts.triangles, remedy="make the model simpler"
    ),
    Line("draws", "draw calls", Unit.COUNT, of_counts=lambda counts: counts.draws, remedy=_MERGE),
):
    register(_line)
