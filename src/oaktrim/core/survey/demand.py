"""How large each texture of an inventory needs to be on one target, from where its models are seen."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
# Rounding up a wanted side to a power of two leaves out what no eye tells from the power below, in levels.
_HAIR = 0.02


@dataclass(frozen=True, eq=False)
class Demand:
    """What the textures of an inventory need, a row each.

    Parameters
    ----------
    levels : (N,) levels of the source's own size that are to spare at the percentile, negative where they lack; NaN where the
        texture is not seen
    pixels : (N,) int64, that show it, over all views
    looked : (N,) bool, a model that uses it was looked at, so that "never seen" means something
    estimated : (N,) bool, of the closed form and not of a picture
    view, model : (N,) int64, places in `views` and in the inventory's models of what asks for most, -1 for none
    distance : (N,) from the eye to the place that asks for most, in the model's units
    object : of each, the name of the object there
    views : names
    margin : levels that are seen beyond what `levels` says, see `sight.demand`
    """

    levels: Floats
    pixels: NDArray[np.int64]
    looked: NDArray[np.bool_]
    estimated: NDArray[np.bool_]
    view: NDArray[np.int64]
    model: NDArray[np.int64]
    distance: Floats
    object: tuple[str, ...]
    views: tuple[str, ...]
    margin: float = 0.0

    @property
    def seen(self) -> NDArray[np.bool_]:
        """Which textures are seen at all."""
        return np.isfinite(self.levels)

    @property
    def unseen(self) -> NDArray[np.bool_]:
        """Which textures belong to what was looked at, and are never seen."""
        return self.looked & ~self.seen

    def wanted(self, row: int, size: tuple[int, int]) -> tuple[float, float]:
        """Return the sides in texels that are shown at most, of a source of a size; before any rounding."""
        scale = 2.0 ** -float(self.levels[row])
        return size[0] * scale, size[1] * scale

    def fit(self, longest: NDArray[np.integer], source: NDArray[np.integer]) -> Floats:
        """Return whole levels to spare, negative where they lack, of textures that ship at a longest side; NaN where unseen."""
        spare = self.levels - np.log2(source / np.maximum(longest, 1))
        with np.errstate(invalid="ignore"):
            found: Floats = np.floor(spare + _HAIR)
        return found

    def spare(self, longest: NDArray[np.integer], source: NDArray[np.integer]) -> Floats:
        """Return whole levels that may go without a change that is seen: those of `fit` less the margin; NaN where unseen."""
        with np.errstate(invalid="ignore"):
            found: Floats = np.floor(self.levels - self.margin - np.log2(source / np.maximum(longest, 1)) + _HAIR)
        return found

    def kept_side(self, row: int, longest: int) -> int:
        """Return the power of two that a source of a longest side may be capped at without a change that is seen."""
        return int(self._powers(np.float64(longest), self.levels[row] - self.margin))

    def kept_sides(self, longest: NDArray[np.integer]) -> NDArray[np.int64]:
        """Return `kept_side` of every texture (N,), of sources of these longest sides; 0 where it is not seen."""
        sides = self._powers(longest.astype(np.float64), self.levels - self.margin)
        return np.where(self.seen, sides, 0).astype(np.int64)

    def side(self, row: int, longest: int) -> int:
        """Return the power of two that holds the longest side wanted of a source of that side."""
        return int(self._powers(np.float64(longest), self.levels[row]))

    @staticmethod
    def _powers(longest: Floats | np.float64, levels: Floats | np.float64) -> Floats:
        """Return the powers of two that hold sides less so many levels; 1 for levels that are no number."""
        exponent = np.ceil(np.log2(longest) - np.nan_to_num(levels, nan=64.0) - _HAIR)
        found: Floats = np.exp2(np.maximum(0.0, exponent))
        return found

    def scale(self, row: int) -> float | None:
        """Return how many pixels of the screen show one texel of the source, at most 1; None where nothing is known."""
        if not self.looked[row]:
            return None
        return float(min(1.0, 2.0 ** -self.levels[row])) if np.isfinite(self.levels[row]) else 0.0


def no_demand(count: int, margin: float = 0.0) -> Demand:
    """Return what is known before anything was looked at."""
    return Demand(
        np.full(count, np.nan), np.zeros(count, np.int64), np.zeros(count, np.bool_), np.zeros(count, np.bool_),
        np.full(count, -1, np.int64), np.full(count, -1, np.int64), np.full(count, np.nan), ("",) * count, (), margin,
    )  # fmt: skip
