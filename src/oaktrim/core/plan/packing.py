"""How well textures pack in each format: measured on a sample where it has been, guessed from the plain sample elsewhere."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.texture import ENCODABLE
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import spread
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.sample import PACKINGS, packed_share
from oaktrim.core.targets.arrival import FORMAT_INDEX

Key = tuple[int, int, str]


class PackedShares:
    """Packed over plain bytes of each texture of an inventory, by format and packing method.

    The natural format is known from the survey. Others start as a guess, and are measured on the sample that the
    survey kept: see `missing` and `measure`.
    """

    def __init__(self, inventory: Inventory) -> None:
        self.inventory = inventory
        rows = len(inventory.textures)
        self._known: dict[str, NDArray[np.float32]] = {}
        self._guess: dict[str, NDArray[np.float32]] = {}
        for method in PACKINGS:
            known = np.full((rows, len(FORMAT_INDEX)), np.nan, np.float32)
            natural = np.array([t.packed.get(method, np.nan) for t in inventory.textures], np.float32)
            known[np.arange(rows), inventory.natural] = natural
            self._known[method] = known
            # Blocks are already dense: what packs to a fifth as plain pixels packs to a good half as blocks.
            self._guess[method] = np.sqrt(np.nan_to_num(natural, nan=0.8))

    def of(self, formats: NDArray[np.int64], method: str) -> NDArray[np.float32]:
        """Return the share of each texture in the format given for it (places in the catalogue)."""
        known = self._known[method][np.arange(len(formats)), formats]
        return np.where(np.isnan(known), self._guess[method], known)

    def missing(self, formats: NDArray[np.int64], method: str) -> list[Key]:
        """Return what would have to be measured for `of` to guess nothing; formats without an encoder are left out."""
        unknown = np.isnan(self._known[method][np.arange(len(formats)), formats])
        can = np.zeros(len(FORMAT_INDEX), np.bool_)
        can[[FORMAT_INDEX[name] for name in ENCODABLE]] = True
        has_pixels = np.array([bool(t.pixels) for t in self.inventory.textures], np.bool_)
        return [(int(row), int(formats[row]), method) for row in np.flatnonzero(unknown & can[formats] & has_pixels)]

    def measure(self, keys: Iterable[Key], cache: SurveyCache) -> Iterator[Key]:
        """Measure shares on the kept samples, on all cores, and yield each key as it becomes known."""
        names = list(FORMAT_INDEX)
        listed = list(keys)

        def work(key: Key) -> float | None:
            row, place, method = key
            sample: Image | None = cache.sample(self.inventory.textures[row].content)
            return None if sample is None else packed_share(sample, names[place], PACKINGS[method])

        for position, share in spread(work, listed):
            row, place, method = listed[position]
            if share is not None:
                self._known[method][row, place] = share
                yield listed[position]
