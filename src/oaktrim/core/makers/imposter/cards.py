"""Cards: rectangles in space onto which a thing is baked."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import cos, pi, sin

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.imposter.settings import Imposter
from oaktrim.core.makers.imposter.subject import FLAT, Subject

Floats = NDArray[np.float64]
_UP = np.array([0.0, 1.0, 0.0])
# Of what faces one way, what may face the other on a card that is seen from one side.
_ONE_WAY = 0.05


@dataclass(frozen=True, eq=False)
class Card:
    """A rectangle.

    Parameters
    ----------
    corner : its lower left corner as seen from the front; right, up, normal : unit vectors; width, height : lengths
    triangles : (K,) rows of those that are baked onto it
    both : what lies on it is seen from both sides; slice : it is cut out of something closed, so that insides are baked, too
    back : it is the back of another
    """

    corner: Floats
    right: Floats
    up: Floats
    normal: Floats
    width: float
    height: float
    triangles: NDArray[np.int64]
    both: bool = True
    slice: bool = False
    back: bool = False

    @property
    def middle(self) -> Floats:
        found: Floats = self.corner + self.right * self.width / 2 + self.up * self.height / 2
        return found

    def turned(self) -> Card:
        """Return its back: the same rectangle, seen from the other side."""
        return replace(
            self, corner=self.corner + self.right * self.width, right=-self.right, normal=-self.normal, back=True
        )  # fmt: skip

    def points(self, across: Floats, above: Floats) -> Floats:
        """Return places in space of places on the card, in parts of its sides from the lower left corner, (N, 3)."""
        found: Floats = (
            self.corner
            + np.multiply.outer(across * self.width, self.right)
            + np.multiply.outer(above * self.height, self.up)
        )
        return found


def frame(normal: Floats) -> tuple[Floats, Floats]:
    """Return the directions to the right and up on a plane, upright where it can be."""
    right = np.cross(_UP, normal)
    if np.linalg.norm(right) < 1e-6:
        right = np.array([1.0, 0.0, 0.0]) * (1.0 if normal[1] > 0 else -1.0)
        right = right - normal * (right @ normal)
    right = right / np.linalg.norm(right)
    return right, np.cross(normal, right)


def around(
    corners: Floats, offset: float, axes: tuple[Floats, Floats, Floats], rows: NDArray[np.int64], least: float
) -> Card:
    """Return the rectangle on a plane that holds the shadows of triangles (M, 3, 3) along its normal.

    Parameters
    ----------
    offset : of the plane along its normal; axes : right, up and normal; rows : which triangles
    least : of its sides
    """
    right, up, normal = axes
    points = corners[rows].reshape(-1, 3)
    across, above = points @ right, points @ up
    low, high = np.array([across.min(), above.min()]), np.array([across.max(), above.max()])
    size = np.maximum(high - low, least)
    low = (low + high - size) / 2
    corner = right * low[0] + up * low[1] + normal * offset
    return Card(corner, right, up, normal, float(size[0]), float(size[1]), rows)


def facing(subject: Subject, rows: NDArray[np.int64], normal: Floats, offset: float) -> tuple[Floats, float, bool]:
    """Return a plane turned to where its triangles face, and whether these are seen from both sides."""
    along = subject.normals[rows] @ normal
    if subject.two_sided[rows].any():
        return normal, offset, True
    ahead, behind = float(np.maximum(along, 0).sum()), float(np.maximum(-along, 0).sum())
    if behind > ahead:
        normal, offset, ahead, behind = -normal, -offset, behind, ahead
    return normal, offset, behind > _ONE_WAY * ahead


def flat_cards(subject: Subject, settings: Imposter) -> list[Card]:
    """Return the cards that stand on axes, through the middle of a thing; where it would be seen edge-on there is none."""
    corners = subject.corners
    rows = np.arange(len(corners))
    least = subject.radius * 2 * FLAT
    found: list[Card] = []
    for axis in _normals(settings.axes):
        normal, offset, both = facing(subject, rows, axis, float(subject.centre @ axis))
        right, up = frame(normal)
        card = around(corners, offset, (right, up, normal), rows, least)
        if min(card.width, card.height) > least:
            found.append(replace(card, both=both))
    return found


def _normals(axes: str) -> list[Floats]:
    if axes.startswith("star:"):
        count = int(axes[5:])
        return [np.array([sin(pi * n / count), 0.0, cos(pi * n / count)]) for n in range(count)]
    return [np.eye(3)["xyz".index(letter)] for letter in axes]
