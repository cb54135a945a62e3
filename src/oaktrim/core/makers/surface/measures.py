"""How far a picture is from one that repeats unnoticed: shading, repetition, seam, spread of lightness, and detail."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft2, rfft2
from scipy.ndimage import gaussian_filter, uniform_filter

from oaktrim.core.makers.surface.light import luminance, shading_of
from oaktrim.core.makers.surface.settings import Axes
from oaktrim.core.makers.surface.stack import light_of
from oaktrim.core.makers.surface.tone import tone_of
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.detail import seam_ratio
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.perception import oklab

Floats = NDArray[np.float32]
_CELLS = 128
# Shifts that are nearer than this share of the side are the thing itself.
_NEAR = 0.12
# Good enough, found on pictures that repeat by construction against crops of them that do not.
GOOD_SHADING, GOOD_REPETITION, GOOD_SEAM, GOOD_DETAIL = 0.22, 0.45, 1.6, 0.8


@dataclass(frozen=True)
class Repetition:
    """The second peak of the autocorrelation, 0 to 1: how like itself a picture is at a shift, both in parts of its sides.

    Parameters
    ----------
    at : the middle of what comes again
    """

    peak: float
    shift: tuple[float, float]
    at: tuple[float, float]


@dataclass(frozen=True)
class StraightEdge:
    """The strongest straight edge from border to border, which a pole or a row of tiles shows as a line.

    Parameters
    ----------
    upright : it runs from top to bottom
    at : from the left, or from the top, 0 to 1; 0 where both borders meet
    strength : the step across it over the median of all such steps
    """

    upright: bool
    at: float
    strength: float

    @property
    def words(self) -> str:
        """Where it is."""
        if self.at == 0:
            return "left and right meet" if self.upright else "top and bottom meet"
        return f"{100 * self.at:.0f} % from the {'left' if self.upright else 'top'}"


@dataclass(frozen=True)
class SurfaceMeasures:
    """What is measured of a picture.

    Parameters
    ----------
    shading : standard deviation of light at a large scale, stops; cast : of it from one side, stops; side : which
    seam : the step across its borders over the steps beside these, the largest of the axes that count
    edge : the strongest straight one across an axis that counts
    spread : of lightness, OKLab; detail : of single texels, over that of some, in the logarithm of light
    """

    shading: float
    cast: float
    side: str
    repetition: Repetition
    seam: float
    spread: float
    detail: float
    edge: StraightEdge

    def as_json(self, before: SurfaceMeasures | None = None) -> dict[str, Any]:
        """Return it as JSON has it; `detail_kept` beside what it was before."""
        found: dict[str, Any] = {
            "shading_stops": round(self.shading, 4), "cast_stops": round(self.cast, 4), "cast_from": self.side,
            "repetition": round(self.repetition.peak, 4), "repetition_at": [round(v, 4) for v in self.repetition.at],
            "repetition_shift": [round(v, 4) for v in self.repetition.shift], "seam": round(self.seam, 4),
            "spread": round(self.spread, 4), "edge_across": "x" if self.edge.upright else "y",
            "edge_at": round(self.edge.at, 4), "edge_strength": round(self.edge.strength, 3),
        }  # fmt: skip
        if before is not None:
            found["detail_kept"] = round(self.kept(before), 4)
        return found

    def kept(self, before: SurfaceMeasures) -> float:
        """Return how much of the detail before is still there, 1 for all."""
        return self.detail / before.detail if before.detail > 0 else 1.0


def measures_of(image: Image, transfer: Transfer = Transfer.SRGB, axes: Axes = Axes.BOTH) -> SurfaceMeasures:
    """Return what is measured of a picture; its seam where it is to repeat."""
    light = light_of(image.read_as(transfer))
    seen = light[..., -1] > 0 if image.has_alpha else None
    colours = light[..., : light.shape[2] - int(image.has_alpha)]
    shading = shading_of(colours, seen)
    across, down = seam_ratio(image)
    seam = max(across if axes.across else 0.0, down if axes.down else 0.0)
    detail, edge = _detail(colours), edge_of(colours, axes)
    return SurfaceMeasures(
        shading.left,
        shading.stops,
        shading.side,
        repetition_of(colours),
        seam,
        tone_of(colours, seen).spread,
        detail,
        edge,
    )


def edge_of(light: Floats, axes: Axes = Axes.BOTH) -> StraightEdge:
    """Return the strongest straight edge across one of some axes; light (H, W, C), taken to repeat."""
    logs = np.log2(np.maximum(luminance(light), 1e-3))
    found = []
    for upright, wanted in ((True, axes.across), (False, axes.down)):
        if wanted:
            lines = logs if upright else logs.T
            # What steps the same way all along it; texture steps one way and the other.
            steps = np.abs((lines - np.roll(lines, 1, axis=1)).mean(axis=0))
            place = int(np.argmax(steps))
            strength = float(steps[place] / max(float(np.median(steps)), 1e-3))
            found.append(StraightEdge(upright, place / len(steps), strength))
    return max(found, key=lambda edge: edge.strength)


def repetition_of(light: Floats) -> Repetition:
    """Return how a picture comes again within itself; light (H, W, C)."""
    height, width = light.shape[:2]
    step = max(1, max(height, width) // _CELLS)
    rows, columns = height // step, width // step
    if min(rows, columns) < 8:
        return Repetition(0.0, (0.0, 0.0), (0.5, 0.5))
    cells = light[: rows * step, : columns * step].reshape(rows, step, columns, step, -1).mean(axis=(1, 3))
    lab = oklab(np.maximum(cells if cells.shape[2] == 3 else np.repeat(cells[..., :1], 3, axis=2), 0))
    # Neither what any surface has as a whole, nor its grain.
    smooth = gaussian_filter(lab, (1.0, 1.0, 0), mode="wrap") - gaussian_filter(
        lab, (rows / 5, columns / 5, 0), mode="wrap"
    )
    spectrum = rfft2(smooth, axes=(0, 1))
    like = irfft2(np.abs(spectrum) ** 2, s=(rows, columns), axes=(0, 1)).sum(axis=-1)
    if like[0, 0] <= 1e-9:
        return Repetition(0.0, (0.0, 0.0), (0.5, 0.5))
    like = like / like[0, 0]
    y, x = np.mgrid[0:rows, 0:columns]
    away = np.hypot(np.minimum(y, rows - y) / rows, np.minimum(x, columns - x) / columns)
    like[away < _NEAR] = -1
    down, across = np.unravel_index(int(np.argmax(like)), like.shape)
    again = (smooth * np.roll(smooth, (-down, -across), axis=(0, 1))).sum(axis=-1)
    place = np.unravel_index(int(np.argmax(gaussian_filter(again, 3.0, mode="wrap"))), again.shape)
    return Repetition(
        max(0.0, float(like[down, across])),
        (float(across) / columns, float(down) / rows),
        ((float(place[1]) + 0.5) / columns, (float(place[0]) + 0.5) / rows),
    )


def _detail(light: Floats) -> float:
    """Return how strong the finest detail is against that of some texels, which contrast as a whole leaves alone."""
    logs = np.log2(np.maximum(luminance(light), 1e-4))
    smooth = uniform_filter(logs, 3, mode="wrap")
    middle = float((smooth - uniform_filter(smooth, 9, mode="wrap")).std())
    return float((logs - smooth).std()) / middle if middle > 0 else 0.0
