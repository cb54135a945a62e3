"""Card clouds: planes chosen so that every triangle lies near one, and the rectangles on them.

Planes are counted by the triangles that they would hold, all offsets of a direction at once, and taken greedily (X. Décoret,
F. Durand, F. Sillion and J. Dorsey, "Billboard clouds for extreme model simplification", SIGGRAPH 2003). Then each plane is fitted
to its triangles, and these go to the nearest, some times over (S. Lloyd, "Least squares quantization in PCM", 1982).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.makers.imposter.cards import Card, around, facing, frame
from oaktrim.core.makers.imposter.settings import Imposter
from oaktrim.core.makers.imposter.subject import FLAT, Subject
from oaktrim.core.progress import Progress, Task

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
_KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}
# Directions that are tried: spread evenly, and those that most of the surface faces.
_DIRECTIONS, _OWN = 144, 64
# Of the whole area, what planes hold within their error; the rest goes to the nearest.
_HELD = 0.96
_SEARCHES, _LLOYD, _REFINED, _CLOSE = 8, 6, 24, 3.0
# Triangles by which planes are chosen, where there are more.
_MOST = 40_000


@dataclass(frozen=True, eq=False)
class Cloud:
    """Planes with their triangles.

    Parameters
    ----------
    normals : (P, 3) unit; offsets : (P,) along them; owner : (M,) which plane each triangle goes to
    error : within which the planes hold what they hold; reached : of each triangle, how far its farthest corner is, (M,)
    """

    normals: Floats
    offsets: Floats
    owner: Ints
    error: float
    reached: Floats


def cloud_cards(subject: Subject, settings: Imposter) -> Task[tuple[list[Card], Cloud]]:
    """Return a cloud's cards: onto each is baked what lies within the error of its plane, and what has no nearer one."""
    corners = subject.corners
    found = yield from chosen(corners, settings.cards, settings.upright)
    cards = []
    least = subject.radius * 2 * FLAT
    for plane in range(len(found.normals)):
        normal, offset = found.normals[plane], float(found.offsets[plane])
        mine = np.flatnonzero(found.owner == plane)
        if not len(mine):
            continue
        away = np.abs(corners @ normal - offset).max(axis=1)
        near = np.flatnonzero((away <= found.error) | (found.owner == plane))
        normal, offset, both = facing(subject, near, normal, offset)
        right, up = frame(normal)
        card = around(corners, offset, (right, up, normal), mine, least)
        baked = near[_inside(corners[near], card) | (found.owner[near] == plane)]
        cards.append(replace(card, triangles=baked, both=both, slice=both))
        yield Progress(plane, len(found.normals), "laying out cards")
    return cards, found


def _inside(corners: Floats, card: Card) -> NDArray[np.bool_]:
    """Say which triangles (K, 3, 3) lie over a card, as seen along its normal."""
    away = corners - card.corner
    across, above = away @ card.right, away @ card.up
    slack = 1e-6 * max(card.width, card.height)
    inside = (across >= -slack) & (across <= card.width + slack) & (above >= -slack) & (above <= card.height + slack)
    found: NDArray[np.bool_] = np.all(inside, axis=1)
    return found


def chosen(corners: Floats, count: int, upright: float) -> Task[Cloud]:
    """Return the planes that hold triangles within the least error, at most so many.

    Parameters
    ----------
    corners : (M, 3, 3); upright : how far upright planes are preferred, 0 to 1
    """
    sample = _sampled(corners)
    few = corners[sample]
    area = _areas(few)
    radius = float(np.linalg.norm(corners.max(axis=(0, 1)) - corners.min(axis=(0, 1))) / 2)
    middle = (corners.max(axis=(0, 1)) + corners.min(axis=(0, 1))) / 2
    directions = np.concatenate([_hemisphere(_DIRECTIONS), _own_directions(few, area, _OWN)])
    liking = _mean_visibility(directions) * (1 + upright * (1 - np.abs(directions[:, 1])))
    low, high = radius * 1e-3, radius
    best: tuple[Floats, Floats, float] | None = None
    for step in range(_SEARCHES):
        yield Progress(step, _SEARCHES + _LLOYD, "choosing planes")
        error = float(np.sqrt(low * high)) if best is not None or step else radius * 0.15
        planes, held = _greedy(few - middle, area, directions, liking, error, count)
        if held >= _HELD * area.sum():
            best, high = (planes[:, :3], planes[:, 3], error), error
        else:
            low = error
    if best is None:
        planes, _ = _greedy(few - middle, area, directions, liking, high, count)
        best = planes[:, :3], planes[:, 3], high
    normals, offsets, error = best
    offsets = offsets + normals @ middle
    now = _assigned(corners, normals, offsets, error)
    weights = _areas(corners)
    for step in range(_LLOYD):
        yield Progress(_SEARCHES + step, _SEARCHES + _LLOYD, "fitting planes")
        fitted = _fitted(corners, weights, now)
        after = _assigned(corners, *fitted, error)
        if _cost(after, weights) >= _cost(now, weights) * 0.999:
            break
        now = after
    return now


def _sampled(corners: Floats) -> Ints:
    """Return triangles by which planes are chosen: all, or as many as are enough, each as likely as it is large."""
    if len(corners) <= _MOST:
        return np.arange(len(corners))
    area = _areas(corners)
    rng = np.random.default_rng(4)
    return np.sort(rng.choice(len(corners), _MOST, replace=False, p=area / area.sum() if area.sum() > 0 else None))


def _areas(corners: Floats) -> Floats:
    found: Floats = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    # What has no area can still be seen as a line.
    return found + 1e-9 * max(float(found.max(initial=0.0)), 1e-30)


def _hemisphere(count: int) -> Floats:
    """Return directions spread evenly over half a sphere, opposite ones once (a spiral of the golden angle)."""
    place = np.arange(count) + 0.5
    height = place / count
    turn = np.pi * (1 + 5**0.5) * place
    flat = np.sqrt(1 - height**2)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), height], axis=1)


def _own_directions(corners: Floats, area: Floats, count: int) -> Floats:
    """Return the directions that most of the surface of triangles faces, to about a degree, (D, 3)."""
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    lengths = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.where(lengths > 0, normals / np.maximum(lengths, 1e-300), [0.0, 0.0, 1.0])
    # Opposite ones are one plane.
    signs = np.sign(normals[np.arange(len(normals)), np.abs(normals).argmax(axis=1)])
    normals *= np.where(signs == 0, 1, signs)[:, None]
    keys, back = np.unique(np.round(normals * 50).astype(np.int64), axis=0, return_inverse=True)
    heavy = np.bincount(back.reshape(-1), area, len(keys))
    found = []
    for key in np.argsort(-heavy, kind="stable")[:count]:
        mean = (normals * area[:, None])[back.reshape(-1) == key].sum(axis=0)
        found.append(mean / np.linalg.norm(mean))
    return np.array(found)


def _mean_visibility(normals: Floats) -> Floats:
    """Return how much of planes (D, 3) is seen on the average by those who stand around, a little above, on the same ground."""
    turns = np.arange(64) * (2 * np.pi / 64)
    lifts = np.radians(np.array([0.0, 10.0, 20.0, 35.0]))[:, None]
    flat = np.cos(lifts)
    eyes = np.stack(
        [flat * np.sin(turns), np.broadcast_to(np.sin(lifts), (4, 64)), flat * np.cos(turns)], axis=-1
    ).reshape(-1, 3)
    found: Floats = np.abs(normals @ eyes.T).mean(axis=1)
    return found


def _greedy(
    corners: Floats, area: Floats, directions: Floats, liking: Floats, error: float, count: int
) -> tuple[Floats, float]:
    """Return up to `count` planes (P, 4), normal and offset, and the area that they hold."""
    reach = float(np.abs(corners).max()) * 1.8 + 2 * error
    bins = int(min(4096, np.ceil(2 * reach / error)))
    step = 2 * reach / bins
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    counts = np.zeros((len(directions), bins))
    left = np.ones(len(corners), np.bool_)
    _count(corners, normals, area, directions, left, error, reach, step, 1.0, counts)
    found: list[Floats] = []
    held = 0.0
    total = float(area.sum())
    while len(found) < count and held < _HELD * total:
        direction, place = np.unravel_index(int((counts * liking[:, None]).argmax()), counts.shape)
        if counts[direction, place] <= 1e-12 * total:
            break
        normal, offset = _refined(corners, area, left, directions[direction], -reach + (place + 0.5) * step, error)
        mine = left & (np.abs(corners @ normal - offset).max(axis=1) <= error)
        if not mine.any():
            normal, offset = directions[direction], -reach + (place + 0.5) * step
            mine = left & (np.abs(corners @ normal - offset).max(axis=1) <= error)
            if not mine.any():
                counts[direction, place] = 0
                continue
        _count(corners, normals, area, directions, mine, error, reach, step, -1.0, counts)
        left &= ~mine
        held += float(area[mine].sum())
        found.append(np.append(normal, offset))
    return np.array(found or [np.array([0.0, 0.0, 1.0, 0.0])]), held


def _refined(
    corners: Floats, area: Floats, left: NDArray[np.bool_], normal: Floats, offset: float, error: float
) -> tuple[Floats, float]:
    """Return a plane near one that holds more, tried in a cone that narrows."""
    rng = np.random.default_rng(9)
    # What lies farther off is not won by a plane that turns a little.
    away = np.abs(corners @ normal - offset).max(axis=1)
    close = left & (away <= _CLOSE * error)
    points, weight = corners[close], area[close]
    best, at = normal, offset
    most = float(area[left & (away <= error)].sum())
    cone = 0.12
    for _ in range(_REFINED):
        tried = best + rng.normal(0, cone, 3)
        tried /= np.linalg.norm(tried)
        place = at + float(rng.normal(0, error * 0.5))
        held = float(weight[np.abs(points @ tried - place).max(axis=1) <= error].sum())
        if held > most:
            best, at, most = tried, place, held
        cone *= 0.9
    return best, at


@njit(**_KERNEL)
def _count(corners, normals, area, directions, which, error, reach, step, sign, counts):
    """Add (or take away) the triangles that lie within an error of planes of all directions and offsets.

    Parameters
    ----------
    corners : (M, 3, 3); normals : (M, 3); area : (M,); directions : (D, 3); which : (M,) bool
    reach, step : offsets run from -reach in steps; counts : (D, B) float64, changed
    """
    for d in range(directions.shape[0]):
        x, y, z = directions[d, 0], directions[d, 1], directions[d, 2]
        for t in range(corners.shape[0]):
            if not which[t]:
                continue
            low, high = np.inf, -np.inf
            for k in range(3):
                at = corners[t, k, 0] * x + corners[t, k, 1] * y + corners[t, k, 2] * z
                low, high = min(low, at), max(high, at)
            first, last = high - error, low + error
            if first > last:
                continue
            # What a plane shows of a triangle is its shadow.
            facing = abs(normals[t, 0] * x + normals[t, 1] * y + normals[t, 2] * z)
            weight = sign * area[t] * (0.1 + 0.9 * facing)
            begin = max(0, int(np.ceil((first + reach) / step - 0.5)))
            end = min(counts.shape[1] - 1, int(np.floor((last + reach) / step - 0.5)))
            for b in range(begin, end + 1):
                counts[d, b] += weight


def _assigned(corners: Floats, normals: Floats, offsets: Floats, error: float) -> Cloud:
    """Return planes with each triangle at the one that its farthest corner is nearest to."""
    best, owner = np.full(len(corners), np.inf), np.zeros(len(corners), np.int64)
    for plane in range(len(normals)):
        away = np.abs(corners @ normals[plane] - offsets[plane]).max(axis=1)
        nearer = away < best
        best[nearer], owner[nearer] = away[nearer], plane
    return Cloud(normals, offsets, owner, error, best)


def _cost(cloud: Cloud, weights: Floats) -> float:
    return float((weights * cloud.reached**2).sum())


def _fitted(corners: Floats, weights: Floats, cloud: Cloud) -> tuple[Floats, Floats]:
    """Return planes through the middles of their triangles, across the direction in which these spread least."""
    normals, offsets = cloud.normals.copy(), cloud.offsets.copy()
    for plane in range(len(normals)):
        mine = cloud.owner == plane
        if not mine.any():
            continue
        points = corners[mine].reshape(-1, 3)
        heavy = np.repeat(weights[mine], 3)
        middle = (points * heavy[:, None]).sum(axis=0) / heavy.sum()
        apart = points - middle
        _, vectors = np.linalg.eigh((apart * heavy[:, None]).T @ apart)
        normal = vectors[:, 0]
        normals[plane] = normal if normal @ normals[plane] >= 0 else -normal
        offsets[plane] = float(normals[plane] @ middle)
    return normals, offsets
