"""Which grids and levels of weights are tried when ASTC blocks are made, and how many of them at each effort."""

from __future__ import annotations

import tomllib
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.astc.endpoints import CONTRACTED, SCALED
from oaktrim.core.codecs.effort import Effort

KINDS = ("opaque_colour", "opaque_grey", "colour_alpha", "grey_alpha")
FAMILIES = ("one_partition", "two_planes", "two_partitions", "three_partitions", "four_partitions")
_LARGE = 20
_DATA = tomllib.loads((files(__package__) / "choices.toml").read_text("utf-8"))
# Of draft, standard, standard in blocks of more than twenty pixels, and fine: (4, 5, 8); the file says what the numbers are.
PLANS = np.array([_DATA["plans"][name] for name in ("draft", "standard", "standard_large", "fine")], np.int64)


def plan_of(effort: Effort, size: tuple[int, int]) -> NDArray[np.int64]:
    """Return how much is tried of blocks of a size, (5, 8)."""
    large = size[0] * size[1] > _LARGE
    plan: NDArray[np.int64] = PLANS[{Effort.DRAFT: 0, Effort.STANDARD: 2 if large else 1, Effort.FINE: 3}[effort]]
    return plan


def choices_of(size: tuple[int, int], kind: int, family: int) -> list[tuple[tuple[int, int], int, int]]:
    """Return what to try for a kind of block, the most useful first: grid, level of weights, and how ends are written.

    Parameters
    ----------
    size : of a block; kind : place in `KINDS`; family : place in `FAMILIES`
    """
    found = []
    for text in _DATA["choices"][f"{size[0]}x{size[1]}"][KINDS[kind]].get(FAMILIES[family], "").split():
        across, down, level = map(int, text.rstrip("s").split("."))
        found.append(((across, down), level, SCALED if text.endswith("s") else CONTRACTED))
    return found
