"""What a target makes of textures as they arrive: sides made smaller, resampled or left, levels lost, formats expanded.

Everything here works on whole columns, one entry a texture, so that thousands are weighed within a frame.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.columns import mip_chain_bytes
from oaktrim.core.targets.target import Oversize, SizeRule, Target

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]

FORMAT_INDEX: dict[str, int] = {name: i for i, name in enumerate(ORDER)}
_ROWS = [FORMATS[name] for name in ORDER]
BLOCK_WIDTH, BLOCK_HEIGHT, _BLOCK_BYTES, _EXPANDED = (
    np.array(column, np.int64)
    for column in zip(
        *((row.block[0], row.block[1], row.block_bytes, FORMAT_INDEX[row.expands_to]) for row in _ROWS), strict=True
    )
)


@dataclass(frozen=True)
class TargetFootprint:
    """Textures as a target takes them, a column each.

    Parameters
    ----------
    width, height, levels : as they ship
    shrunk : made smaller for being over the longest side; resampled : brought to powers of two
    levels_lost : would have had levels but for its size; refused : over a longest side that is not mended
    expanded : the hardware lacks the format
    stored : bytes of the levels in their own format; memory : bytes on the target, expansion counted
    """

    width: Ints
    height: Ints
    levels: Ints
    shrunk: Flags
    resampled: Flags
    levels_lost: Flags
    refused: Flags
    expanded: Flags
    stored: Ints
    memory: Ints


def is_power_of_two(side: Ints) -> Flags:
    """Say of each side whether it is a power of two."""
    powers: Flags = (side & (side - 1)) == 0
    return powers


def full_levels(width: Ints, height: Ints) -> Ints:
    """Return the number of levels down to 1x1 of each size."""
    # frexp gives the exponent e with side < 2**e, which is the bit length.
    return np.frexp(np.maximum(width, height))[1].astype(np.int64)


def fit_side(width: Ints, height: Ints, side: Ints) -> tuple[Ints, Ints]:
    """Return sizes scaled down in proportion so that the longest side is at most `side`; rounded to nearest."""
    longest = np.maximum(width, height)
    over = longest > side
    scale = np.where(over, side / longest, 1.0)
    small = [np.maximum(1, np.floor(each * scale + 0.5).astype(np.int64)) for each in (width, height)]
    return np.where(over, small[0], width), np.where(over, small[1], height)


def _nearest_power(side: Ints) -> Ints:
    """Return the nearest power of two, the lower of equally near ones."""
    below = np.int64(1) << (np.frexp(side)[1].astype(np.int64) - 1)
    return np.where(side - below <= 2 * below - side, below, 2 * below)


def apply_target_rules(
    target: Target, width: Ints, height: Ints, levels: Ints, formats: Ints, slices: Ints | int = 1
) -> TargetFootprint:
    """Return what a target makes of textures.

    Parameters
    ----------
    width, height : pixels as sent
    levels : wanted; 0 for as many as the size has
    formats : places in the catalogue's order
    slices : pictures that each texture holds
    """
    longest = target.longest_side
    over = np.zeros(len(width), np.bool_) if longest is None else np.maximum(width, height) > longest
    refused, shrunk = np.zeros_like(over), np.zeros_like(over)
    if longest is not None and over.any():
        if target.oversize is Oversize.REFUSED:
            refused = over
        else:
            shrunk = over
            if target.oversize is Oversize.HALVED:
                steps = np.ceil(np.log2(np.maximum(width, height) / longest)).clip(0).astype(np.int64)
                # A chain halves and rounds down, so one step more can never be needed.
                width, height = np.maximum(1, width >> steps), np.maximum(1, height >> steps)
            else:
                width, height = fit_side(width, height, np.full_like(width, longest))
    powers = is_power_of_two(width) & is_power_of_two(height)
    resampled, levels_lost = np.zeros_like(over), np.zeros_like(over)
    if target.size_rule is SizeRule.RESAMPLED:
        resampled = ~powers
        width, height = _nearest_power(width), _nearest_power(height)
    most = full_levels(width, height)
    kept = np.where(levels == 0, most, np.minimum(levels, most))
    if target.size_rule is SizeRule.NEEDED_FOR_LEVELS:
        levels_lost = ~powers & (kept > 1)
        kept = np.where(powers, kept, 1)
    decodes = np.array([target.decodes(row) for row in _ROWS])
    expanded = ~decodes[formats]
    stored = _weigh(width, height, kept, formats) * slices
    memory = stored.copy()
    if expanded.any():
        memory = np.where(expanded, _weigh(width, height, kept, _EXPANDED[formats]) * slices, stored)
    return TargetFootprint(
        width, height, kept, shrunk, resampled, levels_lost, refused, expanded,
        stored=stored, memory=memory,
    )  # fmt: skip


def left_out(footprint: TargetFootprint, rows: Flags) -> TargetFootprint:
    """Return textures as a target takes them when some do not ship."""
    return replace(
        footprint,
        stored=np.where(rows, 0, footprint.stored),
        memory=np.where(rows, 0, footprint.memory),
        refused=footprint.refused & ~rows,
        expanded=footprint.expanded & ~rows,
    )


def _weigh(width: Ints, height: Ints, levels: Ints, formats: Ints) -> Ints:
    return mip_chain_bytes(width, height, levels, BLOCK_WIDTH[formats], BLOCK_HEIGHT[formats], _BLOCK_BYTES[formats])


def weigh_nothing() -> None:
    """Have the kernel that weighs ready, so that the first plan does not wait for it."""
    one = np.ones(1, np.int64)
    _weigh(one, one, one, np.zeros(1, np.int64))
