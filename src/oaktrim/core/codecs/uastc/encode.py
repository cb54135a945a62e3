"""Encoding UASTC: the search for ASTC blocks among the few kinds that UASTC has, and hints for loaders beside them."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from oaktrim.core.codecs.astc.encode import Splits, encode_blocks, encoding_tables
from oaktrim.core.codecs.astc.endpoints import DIRECT
from oaktrim.core.codecs.astc.tables import LEVELS
from oaktrim.core.codecs.blocks import ReadResult
from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.partitions import subset_masks
from oaktrim.core.codecs.uastc.hints import hinted_rows, hinting_scratch
from oaktrim.core.codecs.uastc.tables import SEED, SUBSET
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import each_chunk

SIZE = (4, 4)
# Counts of weights by family of choices (one partition, two planes, two and three partitions), the most useful first; of
# opaque colour, of opaque grey, which is searched as grey and alpha, of colour and alpha, and of grey and alpha.
_WEIGHTS = (
    ((16, 8, 4, 32), (4,), (4, 8), (4,), ()),
    ((), (), (), (), ()),
    ((8, 16, 4), (4, 2), (4,), (), ()),
    ((16,), (4,), (4,), (), ()),
)
# A row for each kind of block: how many choices of each family are tried, and how many ways to split in two, three and four; then
# rounds of refitting, hundredths of squared error below which nothing more is tried, and rounds of bettering what was found.
_PLANS = {
    Effort.DRAFT: ([2, 0, 1, 0, 0, 1, 0, 0], [2, 0, 0, 0, 0, 0, 0, 0], [2, 1, 1, 0, 0, 1, 0, 0], [1, 1, 0, 0, 0, 0, 0, 0],
                   [1, 200, 64, 0, 0, 0, 0, 0]),
    Effort.STANDARD: ([4, 1, 2, 1, 0, 3, 2, 0], [0, 0, 0, 0, 0, 0, 0, 0], [3, 2, 1, 0, 0, 3, 0, 0], [1, 1, 1, 0, 0, 2, 0, 0],
                      [1, 30, 256, 1, 0, 0, 0, 0]),
    Effort.FINE: ([4, 1, 2, 1, 0, 16, 8, 0], [0, 0, 0, 0, 0, 0, 0, 0], [3, 2, 1, 0, 0, 16, 0, 0], [1, 1, 1, 0, 0, 16, 0, 0],
                  [2, 0, 1024, 4, 0, 0, 0, 0]),
}  # fmt: skip


def _choices_of(size: tuple[int, int], kind: int, family: int) -> list[tuple[tuple[int, int], int, int]]:
    return [(size, LEVELS.index(count), DIRECT) for count in _WEIGHTS[kind][family]]


def _splits_of(size: tuple[int, int], partitions: int) -> Splits:
    def split(mode: int, count: int) -> tuple[Any, ...]:
        kept = SEED[mode] >= 0
        parted = np.ascontiguousarray(SUBSET[mode, kept])
        return parted, subset_masks(parted, count), np.ascontiguousarray(SEED[mode, kept])

    # Four partitions are never tried; what stands for them is not looked at.
    return split(2, 2), split(3, 3), split(3, 3)


@cache
def _tables() -> tuple[object, ...]:
    return encoding_tables(SIZE, 0, _choices_of, _splits_of)


def encode_uastc(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
    """Encode colour and alpha."""
    plan = np.array(_PLANS[options.effort], np.int64)
    data = encode_blocks(image, options, SIZE, plan, _tables(), block_errors)
    blocks = np.frombuffer(data, np.uint8).reshape(-(-image.height // 4), -(-image.width // 4), 16)
    out, effort = np.empty_like(blocks), options.effort.rank
    each_chunk(
        lambda start, stop: hinted_rows(blocks, effort, start, stop, out, hinting_scratch()),
        blocks.shape[0], max(1, 1024 // blocks.shape[1]), options.threads,
    )  # fmt: skip
    return out.tobytes()
