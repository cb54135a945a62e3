"""How well textures pack in each format and at each scale: measured on a sample where it has been, guessed elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.progress import Progress, Task, map_unordered
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.packed import PACKINGS, packed_share
from oaktrim.core.survey.sample import SCALES
from oaktrim.core.targets.footprint import FORMAT_INDEX
from oaktrim.core.targets.target import Packing

Row = TypeVar("Row")

# Row, format, scale and packing method.
Key = tuple[int, int, int, str]
Places = NDArray[np.int64]


_NAMES = list(FORMAT_INDEX)
_LEFT_OF = np.array([format_named(name).family.package_left for name in _NAMES])
_DENSE = np.array([format_named(name).compressed for name in _NAMES])
# By how much the pixels of a file pack to more than the file, by its kind.
_GROWN = {"jpeg": 5.0, "webp": 5.0, "png": 1.3}


def packing_name(packing: Packing) -> str:
    """Return a packing's method and level, as keys and manifests have them."""
    return f"{packing.method} {packing.level}"


def other_key(content: str, packing: Packing) -> str:
    """Return what the size of a packed file is known by."""
    return f"{content} {packing_name(packing)}"


def left_of(formats: Places, losses: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return about what part of its package is left of each texture that gives something up for the download, in dB."""
    left: NDArray[np.float64] = 1 - (1 - _LEFT_OF[formats]) * np.minimum(losses, 2.0) ** 0.6
    return left


@dataclass(frozen=True)
class Measured:
    """What measuring found out, of whatever inventory holds the same contents.

    Parameters
    ----------
    sizes : packed bytes by recipe, which begins with the content
    shares : packed over plain bytes by content, format, scale and packing method
    """

    sizes: Mapping[str, int] = field(default_factory=dict)
    ratios: Mapping[tuple[str, int, int, str], float] = field(default_factory=dict)

    def __or__(self, later: Measured) -> Measured:
        return Measured({**self.sizes, **later.sizes}, {**self.ratios, **later.ratios})

    def __bool__(self) -> bool:
        return bool(self.sizes or self.ratios)


def measured_before(cache: SurveyCache) -> Measured:
    """Return all that was measured and kept, of whatever inventory."""
    ratios = {}
    for recipe, share in cache.shares().items():
        content, name, scale, method = recipe.split(" ")
        if name in FORMAT_INDEX:
            ratios[content, FORMAT_INDEX[name], int(scale), method] = share
    return Measured(cache.measured(), ratios)


class CompressionRatios:
    """Packed over plain bytes of each texture of an inventory, by format, scale and packing method.

    All start as a guess, and are measured on the sample that the survey kept: see `missing` and `measure_ratios`. Values
    never change: what is measured makes new ones, so any thread may read them.
    """

    def __init__(self, inventory: Inventory) -> None:
        self.inventory = inventory
        self._known: dict[tuple[int, int, str], NDArray[np.float32]] = {}
        self._guess = _guessed(inventory)
        # Bytes by row, and by what a recipe says after the content that it begins with.
        self.measured: dict[int, dict[str, int]] = {}
        # Of files beside the textures: bytes by keys that begin with their contents.
        self._whole: dict[str, int] = {}
        self._has_pixels = np.array([t.pixels != "" for t in inventory.textures], np.bool_)

    def moved(self, inventory: Inventory) -> CompressionRatios:
        """Return what is known here for another inventory, of the textures whose content is in both."""
        fresh = CompressionRatios(inventory)
        rows = self.inventory.rows_by_content
        source = np.array([rows.get(texture.content, (-1,))[0] for texture in inventory.textures], np.int64)
        both = np.flatnonzero(source >= 0)
        for key, column in self._known.items():
            fresh._known[key] = np.full(len(source), np.nan, np.float32)
            fresh._known[key][both] = column[source[both]]
        found = ((int(row), self.measured.get(int(source[row]))) for row in both)
        fresh.measured = {row: sizes for row, sizes in found if sizes}
        fresh._whole = self._whole
        return fresh

    def merged(self, found: Measured) -> CompressionRatios:
        """Return these ratios with what was measured more of; a recipe begins with the content."""
        if not found:
            return self
        fresh = copy(self)
        if found.sizes:
            others, rows = self.inventory.other_contents, self.inventory.rows_by_content
            fresh.measured = dict(self.measured)
            whole: dict[str, int] = {}
            changed: set[int] = set()
            endings: dict[str, str] = {}
            for recipe, size in found.sizes.items():
                content, _, ending = recipe.partition(" ")
                ending = endings.setdefault(ending, ending)
                if content in others:
                    whole[recipe] = size
                for row in rows.get(content, ()):
                    if row not in changed:
                        changed.add(row)
                        fresh.measured[row] = dict(fresh.measured.get(row, ()))
                    fresh.measured[row][ending] = size
            if whole:
                fresh._whole = self._whole | whole
        if found.ratios:
            fresh._known = dict(self._known)
            copied: set[tuple[int, int, str]] = set()
            for (content, place, scale, method), share in found.ratios.items():
                key = (place, scale, method)
                if key not in copied:
                    copied.add(key)
                    fresh._known[key] = self._column(*key).copy()
                fresh._known[key][self.inventory.rows_by_content.get(content, [])] = share
        return fresh

    def made_size(self, row: int, recipe: str) -> int | None:
        """Return the packed bytes of a texture made by a recipe; None where it was not measured."""
        known = self.measured.get(row)
        return None if known is None else known.get(recipe.partition(" ")[2])

    def size_of(self, key: str) -> int | None:
        """Return a measured size of what is no texture, by its key; None where it was not measured."""
        return self._whole.get(key)

    def _column(self, place: int, scale: int, method: str) -> NDArray[np.float32]:
        known = self._known.get((place, scale, method))
        return np.full(len(self.inventory.textures), np.nan, np.float32) if known is None else known

    def of(self, formats: Places, scales: Places, method: str) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
        """Return the share of each texture in the format given for it (places in the catalogue) at the scale given, and
        whether it is told from a sample.

        A scale that was not measured takes the share of the nearest one that was.
        """
        found = np.full(len(formats), np.nan, np.float32)
        for place in np.unique(formats):
            rows = formats == place
            for scale in np.unique(scales[rows]):
                mine = rows & (scales == scale)
                for nearby in sorted(range(SCALES), key=lambda s: abs(s - int(scale))):
                    column = self._known.get((int(place), nearby, method))
                    if column is not None:
                        unknown = mine & np.isnan(found)
                        found[unknown] = column[unknown]
        # Blocks are already dense: what packs to a fifth as plain pixels packs to a good half as blocks.
        guess = np.where(_DENSE[formats], np.sqrt(self._guess), self._guess)
        sampled = ~np.isnan(found)
        return np.where(sampled, found, guess), sampled

    def missing(self, formats: Places, scales: Places, method: str) -> list[Key]:
        """Return what would have to be measured for `of` to guess nothing."""
        wanted: list[Key] = []
        for place in np.unique(formats):
            for scale in range(SCALES):
                rows = (formats == place) & (scales == scale) & self._has_pixels
                if rows.any():
                    unknown = rows & np.isnan(self._column(int(place), scale, method))
                    wanted += [(int(row), int(place), scale, method) for row in np.flatnonzero(unknown)]
        return wanted


def measure_ratios(inventory: Inventory, keys: Iterable[Key], cache: SurveyCache) -> Task[Measured]:
    """Measure shares on the kept samples, on all cores, and keep them in the cache; each step says what became known."""
    # Once for textures that hold the same.
    by_content: dict[str, dict[tuple[int, int, str], Key]] = {}
    for key in keys:
        by_content.setdefault(inventory.textures[key[0]].content, {})[key[1:]] = key
    listed: Sequence[list[Key]] = [list(wanted.values()) for wanted in by_content.values()]

    def work(wanted: list[Key]) -> Measured:
        texture = inventory.textures[wanted[0][0]]
        pieces, size = cache.sample(texture.content), texture.width * texture.height
        if pieces is None:
            return Measured()
        return Measured(
            ratios={
                (texture.content, place, scale, method): packed_share(
                    pieces[scale], _NAMES[place], PACKINGS[method], size >> 2 * scale
                )
                for _, place, scale, method in wanted
            }
        )

    ratios: dict[tuple[str, int, int, str], float] = {}
    try:
        for done, (_, found) in enumerate(map_unordered(work, listed), 1):
            ratios |= found.ratios
            yield Progress(done, len(listed), "packing samples", found)
    finally:
        cache.keep_shares(
            {f"{content} {_NAMES[place]} {scale} {method}": r for (content, place, scale, method), r in ratios.items()}
        )
    return Measured(ratios=ratios)


def measure_each(
    rows: Sequence[Row], sizes_of: Callable[[Row], dict[str, int]], name_of: Callable[[Row], str], cache: SurveyCache
) -> Task[Measured]:
    """Measure rows on all cores, and keep what was found in the cache; each step says what became known.

    What cannot be read stays an estimate: shipping says why.

    Parameters
    ----------
    sizes_of : returns the bytes of a row by the keys that they are known by; may raise an OakTrimError
    name_of : returns what is said of a row as it is measured
    """

    def work(row: Row) -> Measured:
        try:
            return Measured(sizes_of(row))
        except (OakTrimError, MemoryError):
            return Measured()

    found = Measured()
    try:
        for done, (position, measured) in enumerate(map_unordered(work, rows), 1):
            found |= measured
            yield Progress(done, len(rows), name_of(rows[position]), measured)
    finally:
        cache.keep_measured(found.sizes)
    return found


def _guessed(inventory: Inventory) -> NDArray[np.float32]:
    """Return about what the plain pixels of each texture pack to, from the size of its file; 0.8 where that tells nothing."""
    natural = np.array([format_named(name).bits_per_pixel for name in _NAMES])[inventory.natural]
    plain = np.maximum(1.0, inventory.width * inventory.height * natural / 8)
    # A lossy file takes about a fifth of what it would take without loss; PNG's filters save a quarter that plain rows do not.
    grown = np.array([_GROWN.get(texture.kind, 1.0) for texture in inventory.textures])
    share = inventory.column("file_bytes") * grown / plain
    return np.where((share > 0) & (share < 1), share, 0.8).astype(np.float32)
