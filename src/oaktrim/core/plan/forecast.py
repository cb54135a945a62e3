"""The forecast of a package: estimates of textures, brought to the measure of what was measured, and how far they may be off.

An estimate misses in two ways: each texture by itself, and all of one kind together, since a sample or a file's size says the same
wrong thing of them all. The second does not average out over a tree. What has been measured of a tree tells it, and the rest is
corrected by that; so the forecast moves towards what comes out in the end, and its uncertainty shrinks with what is left.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.formats.catalogue import FORMATS, ORDER

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
Floats = NDArray[np.float64]

# How far estimates are off, as a part of themselves (standard deviation), told from the file's size alone or from a sample: each
# by itself, all of one kind together, and what of the latter stays however much of a tree has been measured. Set on four
# public games, 661 pictures, plain and in four block formats, on three targets; `make bench` says how many lie within.
_ALONE = np.array([0.75, 0.5])
_TOGETHER, _STAYS = np.array([0.35, 0.12]), np.array([0.15, 0.05])
# Meshes, clips and sounds: packed in part where it was not packed whole.
_CARRIED_ALONE, _CARRIED_TOGETHER = 0.10, 0.03
# So many textures of average size have to be measured for them to say as much of their kind as is known of all trees.
_PRIOR = 8.0
# Nine of ten lie within so many standard deviations.
_NINE_OF_TEN = 1.645
# Estimates of one family of formats miss together.
_FAMILIES = list({FORMATS[name].family.name: FORMATS[name].family for name in ORDER}.values())
_FAMILY_OF = np.array([[f.name for f in _FAMILIES].index(FORMATS[name].family.name) for name in ORDER])
# Small textures and large ones miss differently: a small one is its own sample, a large one packs better than its pieces.
_CLASSES = (1 << 16, 1 << 19)
# A kind is a family of formats, what its estimates are told from, and a class of size.
_KINDS = len(_FAMILIES) * 2 * (len(_CLASSES) + 1)
# What estimates are multiplied by before anything of a tree is measured.
_BEFOREHAND = np.array([factor for f in _FAMILIES for bias in f.sample_bias for factor in (1.0, bias)])


@dataclass(frozen=True, eq=False)
class Forecast:
    """What textures take in a package.

    Parameters
    ----------
    package : bytes of each, measured or estimated, (N,)
    measured : which are measured, (N,)
    factors : what estimates of each kind are multiplied by, (kinds,); see `corrected`
    spread : standard deviation of the sum, bytes
    """

    package: Ints
    measured: Flags
    factors: Floats
    spread: float


def kinds(estimates: Floats, formats: Ints, sampled: Flags) -> Ints:
    """Return which estimates miss together, 0 to `_KINDS`, (N,)."""
    found: Ints = (_FAMILY_OF[formats] * (len(_CLASSES) + 1) + np.searchsorted(_CLASSES, estimates)) * 2 + sampled
    return found


def forecast(estimates: Floats, formats: Ints, sampled: Flags, sizes: Ints) -> Forecast:
    """Return the forecast of some textures.

    Parameters
    ----------
    estimates : bytes of each as told from a sample or from its file, (N,)
    formats : places in the catalogue, (N,); sampled : told from a sample, (N,)
    sizes : bytes as measured, -1 where they are not, (N,)
    """
    measured, kind = sizes >= 0, kinds(estimates, formats, sampled)

    def sums(rows: Flags | slice, values: Floats | None = None) -> Floats:
        found: Floats = np.bincount(kind[rows], None if values is None else values[rows], _KINDS).astype(np.float64)
        return found

    mean = sums(slice(None), estimates) / np.maximum(sums(slice(None)), 1)
    told, came = sums(measured, estimates), sums(measured, sizes.astype(np.float64))
    prior = np.maximum(_PRIOR * mean, 1.0)
    factors = (came + prior * _BEFOREHAND) / (told + prior)
    open_ = np.where(measured, 0.0, estimates * factors[kind])
    # How many textures of one size those measured are worth.
    worth = np.square(told) / np.maximum(sums(measured, np.square(estimates)), 1.0)
    basis = np.arange(_KINDS) % 2
    together = np.hypot(_TOGETHER[basis] / np.sqrt(1 + worth / _PRIOR), _STAYS[basis])
    left = np.bincount(kind, open_, _KINDS)
    spread = float(np.hypot(np.linalg.norm(_ALONE[kind % 2] * open_), np.linalg.norm(together * left)))
    package = np.where(measured, sizes, np.ceil(open_).astype(np.int64))
    return Forecast(package, measured, factors, spread)


def corrected(estimates: Floats, formats: Ints, sampled: Flags, factors: Floats) -> Ints:
    """Return estimates brought to the measure of what was measured of their kinds, bytes (N,)."""
    found: Ints = np.ceil(estimates * factors[kinds(estimates, formats, sampled)]).astype(np.int64)
    return found


def half_width(spread: float, others: tuple[int, ...]) -> int:
    """Return by how many bytes a package may be off: nine of ten final figures lie within.

    Parameters
    ----------
    spread : of the textures, as in `Forecast`
    others : estimates of what is passed through beside them, bytes each
    """
    pieces = np.array(others, np.float64)
    apart = float(np.hypot(_CARRIED_ALONE * np.linalg.norm(pieces), _CARRIED_TOGETHER * pieces.sum()))
    return int(_NINE_OF_TEN * np.hypot(spread, apart))
