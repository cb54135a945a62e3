"""How many texels each chart of an atlas gets: by its weight, between its floor and the texels that its source has."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.atlas.contents import Gathered
from oaktrim.core.makers.atlas.reading import MapRead
from oaktrim.core.makers.atlas.settings import Atlas, Shrink, VisibleScale, Weight
from oaktrim.core.survey.demand import Demand

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
# The scale at which what is never seen is kept.
_UNSEEN = 1 / 64
_LEAST = 1e-4


class WeightedScaling:
    """The scale of each chart for a common factor; see `layout.Scaling`.

    Parameters
    ----------
    content : (C,) of each chart; dense : (C,) texels a metre of its source, 0 without area
    levels : by chart, more or fewer levels by hand, beside those of its material
    """

    def __init__(
        self, gathered: Gathered, content: Ints, dense: Floats, settings: Atlas, levels: Mapping[int, float]
    ) -> None:
        references = [gathered.contents[row].reference for row in content]
        choices = [
            settings.choice(gathered.sources.materials[gathered.contents[row].materials[0]].path) for row in content
        ]
        by_hand = np.array([row.levels for row in choices]) + [levels.get(chart, 0.0) for chart in range(len(content))]
        seen = {row.picture: row.scale for row in settings.seen} if settings.weight is Weight.SEEN else {}
        base = _base(settings.weight, references, dense, seen)
        self.base = base * 2.0**by_hand
        ceiling = 2.0 ** np.minimum(by_hand, 0)
        if seen:
            # What is seen from no farther than this needs no more texels, however large the sheet is.
            ceiling = np.minimum(ceiling, np.maximum(self.base, _UNSEEN))
        known = np.where(dense > 0, dense, 1)
        if settings.ceiling:
            ceiling = np.where(dense > 0, np.minimum(ceiling, settings.ceiling / known), ceiling)
        floor = np.where(dense > 0, settings.floor / known, 0.0)
        keep = np.array([row.keep or reference is None for row, reference in zip(choices, references, strict=True)])
        self.floor = np.where(keep, 1.0, np.clip(floor, _LEAST, 1.0))
        self.ceiling = np.where(keep, 1.0, np.maximum(np.maximum(ceiling, _LEAST), self.floor))
        self.whole = settings.shrink is Shrink.LEVELS
        if self.whole:
            self.floor, self.ceiling = (2.0 ** np.ceil(np.log2(row) - 1e-9) for row in (self.floor, self.ceiling))

    def __call__(self, factor: float) -> Floats:
        """Return the scale of each chart, (C,)."""
        scaled = self.ceiling if np.isinf(factor) else np.maximum(self.base * factor, _LEAST)
        if self.whole:
            scaled = 2.0 ** np.floor(np.log2(scaled) + 1e-9)
        found: Floats = np.minimum(self.ceiling, np.maximum(self.floor, scaled))
        return found

    def after(self, factor: float) -> float:
        """Return the least factor above one at which any scale is another; infinite where none is."""
        now = self(factor)
        if not self.whole:
            return factor if (now < self.ceiling).any() else np.inf
        due = (now < self.ceiling) & (self.base > 0)
        return float((2 * now[due] / self.base[due]).min(initial=np.inf))

    def above(self, scales: Floats, factor: float) -> tuple[Floats, Ints]:
        """Return the next scale of each chart, and the charts in the order in which these are due."""
        if not self.whole:
            return scales, np.zeros(0, np.int64)
        following = np.minimum(self.ceiling, 2 * scales)
        larger = np.flatnonzero(following > scales)
        short = self.base[larger] * factor / scales[larger]
        return following, larger[np.argsort(-short, kind="stable")].astype(np.int64)


def visible_scales(paths: Sequence[str], demand: Demand) -> tuple[VisibleScale, ...]:
    """Return how large textures need to be by sightlines, of those that were looked at; `paths` are those of the demand's rows."""
    rows = np.flatnonzero(demand.seen | demand.unseen)
    return tuple(
        VisibleScale(paths[int(row)], min(64.0, 2.0 ** -float(demand.levels[row])) if demand.seen[row] else 0.0)
        for row in rows
    )


def _base(weight: Weight, references: list[MapRead | None], dense: Floats, seen: Mapping[str, float]) -> Floats:
    """Return the scale of each chart before the common factor."""
    if seen:
        return np.array([_visible_scale(reference, seen) for reference in references])
    known = dense > 0
    if weight is Weight.AS_IS or not known.any():
        return np.ones(len(references))
    return np.where(known, float(np.median(dense[known])) / np.where(known, dense, 1), 1.0)


def _visible_scale(reference: MapRead | None, seen: Mapping[str, float]) -> float:
    if reference is None:
        return 1.0
    scale = seen.get(reference.picture.path, 1.0)
    return min(1.0, scale) if scale > 0 else _UNSEEN
