"""Fewer keys for a clip, within an error that means something: how far anything that it moves comes to stand from where it stood.

Each track's keys are weighed once; what is kept follows from a tolerance for each track, told from how far its node reaches. One
factor on all tolerances is then sought, the largest under which the whole hierarchy, moved by what is really stored, keeps within
the bound at every key of the source and halfway between. Rotations are unit quaternions on great arcs (K. Shoemake, "Animating
rotation with quaternion curves", 1985), stored as normalised 16-bit integers where the bound allows (glTF 2.0, clause 3.11).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from math import inf, radians

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.progress import each_chunk
from oaktrim.core.trim.motionkernel import (
    CUBIC,
    CUBIC_TURN,
    LINEAR,
    STEP,
    TURN,
    movement_apart,
    placements_at,
    sample,
    weigh_keys,
)

Floats = NDArray[np.float64]

MAX_MILLIMETRES, MAX_DEGREES = 1000.0, 90.0
_WIDTHS = {"translation": 3, "rotation": 4, "scale": 3}
_SHORT = 32767
# Of a cubic curve, how many straight pieces each of its own stands for before keys are left out.
_PIECES = 8
# What is the same but for how it is stored.
_SAME = 1e-6
# The factor is sought from here, between these, in so many attempts, until what holds is so near to the bound.
_BEGIN, _LEAST, _MOST = 0.5, 1 / 64, 16.0
_ATTEMPTS, _NEAR = 6, 0.93
_CHUNK = 512


class MotionBound(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How far anything may come to stand from where it stood, millimetres, and be turned, degrees."""

    millimetres: float
    degrees: float

    def __post_init__(self) -> None:
        if not 0 < self.millimetres <= MAX_MILLIMETRES:
            raise ValueError(
                f"a clip may be off by more than 0 and up to {MAX_MILLIMETRES:g} mm, not {self.millimetres:g}"
            )
        if not 0 < self.degrees <= MAX_DEGREES:
            raise ValueError(
                f"a clip may be turned by more than 0 and up to {MAX_DEGREES:g} degrees, not {self.degrees:g}"
            )


@dataclass(frozen=True, eq=False)
class Curve:
    """How one property of a node moves.

    Parameters
    ----------
    path : translation, rotation or scale
    times : (K,) ascending seconds; values : (K, W), or (K, 3 W) with tangents where it is cubic
    interpolation : LINEAR, STEP or CUBICSPLINE
    """

    node: int
    path: str
    times: Floats
    values: Floats
    interpolation: str

    @property
    def width(self) -> int:
        return _WIDTHS[self.path]

    @property
    def kind(self) -> int:
        """How it is sampled."""
        if self.interpolation == "STEP":
            return STEP
        turn = self.path == "rotation"
        if self.interpolation == "CUBICSPLINE":
            return CUBIC_TURN if turn else CUBIC
        return TURN if turn else LINEAR

    def extended_to(self, end: float) -> Curve:
        """Return the curve with its last value once more at a time after it."""
        values = np.concatenate([self.values, self.values[-1:]])
        return Curve(self.node, self.path, np.append(self.times, end), values, self.interpolation)

    def at(self, times: Floats) -> Floats:
        """Return its values at ascending times, (T, W)."""
        out = np.empty((len(times), self.width))
        sample(self.times, self.values, self.kind, times, out)
        return out


@dataclass(frozen=True, eq=False)
class Hierarchy:
    """The nodes that clips may move, with what hangs on them.

    Parameters
    ----------
    parents : of each node of the document, -1 at a root
    rest : translation, rotation and scale of each, (N, 3), (N, 4), (N, 3)
    local : matrices to the parent at rest, (N, 4, 4)
    probes : points in each node's own space that stand for all that it carries, (P, 3) each; none where it carries nothing
    """

    parents: Sequence[int]
    rest: tuple[Floats, Floats, Floats]
    local: Floats
    probes: Sequence[Floats]

    @cached_property
    def order(self) -> list[int]:
        """Nodes, parents first."""
        found: list[int] = []
        seen: set[int] = set()
        for place in range(len(self.parents)):
            path, node = list[int](), place
            while node >= 0 and node not in seen:
                seen.add(node)
                path.append(node)
                node = self.parents[node]
            found += reversed(path)
        return found

    @cached_property
    def world(self) -> Floats:
        """Matrices to the world at rest, (N, 4, 4)."""
        found = self.local.copy()
        for node in self.order:
            if self.parents[node] >= 0:
                found[node] = found[self.parents[node]] @ self.local[node]
        return found

    @cached_property
    def reach(self) -> Floats:
        """How far from each node's origin what it carries reaches, itself and all below it, at rest, (N,)."""
        found = np.zeros(len(self.parents))
        for node in self.order:
            matrix = self.world[node]
            points = np.concatenate([self.probes[node] @ matrix[:3, :3].T + matrix[:3, 3], matrix[None, :3, 3]])
            at = node
            while at >= 0:
                found[at] = max(found[at], float(np.sqrt(np.square(points - self.world[at][:3, 3]).sum(axis=1)).max()))
                at = self.parents[at]
        return found


@dataclass(frozen=True, eq=False)
class Reduced:
    """A clip with fewer keys.

    Parameters
    ----------
    curves : of those that were given, what is left; None where it says what the rest says
    short : their rotations are stored as normalised 16-bit integers
    before, after : keys
    times : seconds at which it was compared, (T,); distance, angle : how far it is off there, metres and radians, (T,)
    nodes : which node carries what is farthest off, (T,)
    """

    curves: tuple[Curve | None, ...]
    short: bool
    before: int
    after: int
    times: Floats
    distance: Floats
    angle: Floats
    nodes: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))

    @property
    def stored_bytes(self) -> int:
        """Bytes of all times and values."""
        return sum(_stored(curve, self.short) for curve in self.curves if curve is not None)

    @property
    def worst(self) -> int:
        """The place among the times of what is farthest off."""
        return int(self.distance.argmax()) if len(self.distance) else 0


class Movement:
    """The nodes that some curves move, ready to be compared again and again."""

    def __init__(self, hierarchy: Hierarchy, curves: Sequence[Curve], times: Floats) -> None:
        self._hierarchy, self._times = hierarchy, times
        moved = {curve.node for curve in curves}
        moving: set[int] = set()
        for node in hierarchy.order:
            if node in moved or hierarchy.parents[node] in moving:
                moving.add(node)
        nodes = [node for node in hierarchy.order if node in moving]
        place = {node: n for n, node in enumerate(nodes)}
        self._nodes = nodes
        self._rows = {node: row for row, node in enumerate(node for node in nodes if node in moved)}
        self._parent = np.array([place.get(hierarchy.parents[node], -1) for node in nodes], np.int64)
        self._moved = np.array([self._rows.get(node, -1) for node in nodes], np.int64)
        above = np.tile(np.eye(4)[:3], (len(nodes), 1, 1))
        for n, node in enumerate(nodes):
            if self._parent[n] < 0 and hierarchy.parents[node] >= 0:
                above[n] = hierarchy.world[hierarchy.parents[node]][:3]
        self._above, self._still = above, np.ascontiguousarray(hierarchy.local[nodes][:, :3])
        # What carries nothing may still be something to hang things on.
        probes = [hierarchy.probes[node] if len(hierarchy.probes[node]) else np.zeros((1, 3)) for node in nodes]
        self._first = np.cumsum([0, *(len(points) for points in probes)])
        self._probes = np.concatenate(probes) if probes else np.zeros((0, 3))
        self._before = self._matrices(curves)

    def _matrices(self, curves: Sequence[Curve | None]) -> Floats:
        move, turn, scale = self._hierarchy.rest
        by_part = {(curve.node, curve.path): curve for curve in curves if curve is not None}
        out = np.empty((len(self._rows), len(self._times), 3, 4))
        count = len(self._times)

        def place(start: int, stop: int) -> None:
            for node, row in list(self._rows.items())[start:stop]:
                held = [
                    by_part[node, path].at(self._times) if (node, path) in by_part else np.tile(rest[node], (count, 1))
                    for path, rest in (("translation", move), ("rotation", turn), ("scale", scale))
                ]
                placements_at(*held, out[row])

        each_chunk(place, len(self._rows), 8)
        return out

    def compare(self, curves: Sequence[Curve | None]) -> tuple[Floats, Floats, NDArray[np.int64]]:
        """Return how far other curves lead what they move: metres, radians, and the node, at each time."""
        after, count = self._matrices(curves), len(self._times)
        distance, angle, worst = np.zeros(count), np.zeros(count), np.full(count, -1, np.int64)

        def work(start: int, stop: int) -> None:
            movement_apart(
                self._parent, self._moved, self._above, self._still, self._before, after, self._first, self._probes, start,
                stop, distance, angle, worst,
            )  # fmt: skip

        if self._nodes:
            each_chunk(work, count, _CHUNK)
        nodes = np.array([*self._nodes, -1], np.int64)
        return distance, angle, nodes[worst]


class _Track:
    """A curve with the weight of its keys, and what its node may be off."""

    def __init__(self, curve: Curve, hierarchy: Hierarchy, bound: MotionBound) -> None:
        self.curve = curve
        dense = _straight(curve)
        self.times, self.values = dense.times, dense.values
        self.turn = curve.path == "rotation"
        reach = max(hierarchy.reach[curve.node], 1e-6)
        parent = hierarchy.parents[curve.node]
        size = float(np.abs(np.linalg.det(hierarchy.world[parent][:3, :3])) ** (1 / 3)) if parent >= 0 else 1.0
        metres = bound.millimetres / 1000
        if self.turn:
            self.tolerance = min(metres / reach, radians(bound.degrees))
        else:
            self.tolerance = metres / max(size, 1e-9) if curve.path == "translation" else metres / reach
        self.rest = hierarchy.rest[list(_WIDTHS).index(curve.path)][curve.node]
        first = self.values[0]
        off = np.square(self.values - first).sum(axis=1)
        if self.turn:
            off = np.minimum(off, np.square(self.values + first).sum(axis=1))
        self.spread = float(np.sqrt(off.max())) * (2 if self.turn else 1)
        self.weight = np.full(len(self.times), inf)
        if curve.interpolation != "STEP" and len(self.times) > 2 and self.spread > _SAME:
            weigh_keys(self.times, self.values, self.turn, self.tolerance * _LEAST, self.weight)

    def with_tolerance(self, factor: float, short: bool) -> Curve | None:
        """Return the curve with the keys that it needs; None where it says what the rest says."""
        tolerance, curve = self.tolerance * factor, self.curve
        if self.spread <= max(tolerance, 1e-12):
            kept = np.zeros(1, np.int64)
        elif curve.interpolation == "STEP":
            changed = np.any(np.diff(self.values, axis=0) != 0, axis=1)
            kept = np.flatnonzero(np.concatenate([[True], changed]))
        else:
            kept = np.flatnonzero(self.weight > tolerance) if tolerance else np.arange(len(self.times))
        values = self.values[kept]
        if self.turn and short:
            values = np.rint(values * _SHORT) / _SHORT
        if len(kept) == 1:
            off = np.abs(values[0] - self.rest).max()
            off = min(off, np.abs(values[0] + self.rest).max()) if self.turn else off
            if self.spread <= _SAME and off <= _SAME * (_SHORT / 10 if short and self.turn else 1):
                return None
        interpolation = "STEP" if curve.interpolation == "STEP" else "LINEAR"
        made = Curve(curve.node, curve.path, self.times[kept], values, interpolation)
        return curve if _stored(made, short) >= _stored(curve, False) else made


def _straight(curve: Curve) -> Curve:
    """Return a curve in straight pieces: itself, or a cubic one at so many times that it is as good as that."""
    if curve.interpolation != "CUBICSPLINE":
        values = curve.values
        if curve.path == "rotation":
            values = values / np.maximum(np.linalg.norm(values, axis=1, keepdims=True), 1e-12)
        return Curve(curve.node, curve.path, curve.times, values, curve.interpolation)
    parts = np.arange(_PIECES) / _PIECES
    times = np.concatenate([(curve.times[:-1, None] + np.diff(curve.times)[:, None] * parts).ravel(), curve.times[-1:]])
    # As they are stored.
    times = np.unique(times.astype(np.float32)).astype(np.float64)
    return Curve(curve.node, curve.path, times, curve.at(times), "LINEAR")


def _stored(curve: Curve, short: bool) -> int:
    """Return the bytes of a curve's times and values."""
    each = 2 if short and curve.path == "rotation" and curve.interpolation != "CUBICSPLINE" else 4
    return curve.times.size * 4 + curve.values.size * each


def compared_at(curves: Sequence[Curve]) -> Floats:
    """Return the times at which movements are compared: all keys, and halfway between."""
    keys = np.unique(np.concatenate([curve.times for curve in curves]))
    return np.unique(np.concatenate([keys, (keys[1:] + keys[:-1]) / 2]))


def reduce_motion(curves: Sequence[Curve], hierarchy: Hierarchy, bound: MotionBound) -> Reduced:
    """Return a clip's curves with the fewest keys that keep within a bound.

    Where even all keys, as they are stored, would not keep within it, they stay as they are.
    """
    times = compared_at(curves)
    movement = Movement(hierarchy, curves, times)
    tracks: list[_Track | None] = [None] * len(curves)

    def weigh(start: int, stop: int) -> None:
        for place in range(start, stop):
            tracks[place] = _Track(curves[place], hierarchy, bound)

    each_chunk(weigh, len(curves), 8)
    before = sum(len(curve.times) for curve in curves)

    def attempt(factor: float, short: bool) -> tuple[float, Reduced]:
        """Return how much of the bound a factor takes, and what it makes."""
        made = tuple(track.with_tolerance(factor, short) for track in tracks if track is not None)
        distance, angle, nodes = movement.compare(made)
        taken = max(float(distance.max()) * 1000 / bound.millimetres, float(angle.max()) / radians(bound.degrees))
        after = sum(len(curve.times) for curve in made if curve is not None)
        return taken, Reduced(made, short, before, after, times, distance, angle, nodes)

    for short in (True, False):
        best: Reduced | None = None
        low, high, factor = 0.0, _MOST, _BEGIN
        for _ in range(_ATTEMPTS):
            taken, found = attempt(factor, short)
            if taken <= 1:
                best, low = (found, factor) if factor > low else (best, low)
                if taken >= _NEAR or factor >= high:
                    break
            else:
                high = factor
            # What is off grows about as the factor does.
            nearer = factor * 0.97 / max(taken, 1e-3)
            factor = nearer if low < nearer < high else (max(low, high / 16) * high) ** 0.5
            if factor < _LEAST:
                break
        if best is None:
            taken, found = attempt(0.0, short)
            best = found if taken <= 1 else None
        if best is not None:
            return best
    nothing = np.zeros(len(times))
    return Reduced(tuple(curves), False, before, before, times, nothing, nothing, np.full(len(times), -1, np.int64))
