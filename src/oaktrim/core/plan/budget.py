"""Choosing for each of many textures one of its choices, so that all limits hold and the loss is least.

A multiple-choice knapsack with several limits. H. Everett, "Generalized Lagrange multiplier method" (1963): prices on the
limits part the whole into choices that each texture makes alone, on the convex hull of its own; the best prices bound the loss from
below. They leave few textures undecided. Those are then decided exactly, together with the ones whose second choice is nearly
as good as their first; what that search rules out raises the bound.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import Bounds, LinearConstraint, linprog, milp
from scipy.sparse import csr_array

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

# Choices that the exact step looks at beside the first of each texture, and where it stops: a loss above the best possible,
# which may be ten times as much where textures are many, whose last steps are small and take long.
_CORE, _GAP, _NODES = 600, 1e-4, 4000
_MANY = 500
# The loss of what cannot be chosen.
NEVER = 1e12
# Prices that are tried at most.
_PLANES = 200


@dataclass(frozen=True, eq=False)
class Choices:
    """What textures can choose of, one after the other.

    Parameters
    ----------
    first : place of each texture's first choice, ascending, and at its end the count of all; shape (N + 1,)
    loss : of each choice, (C,)
    cost : bytes of each choice on each line, (L, C) int64
    """

    first: Ints
    loss: Floats
    cost: Ints

    @property
    def count(self) -> int:
        """Textures."""
        return len(self.first) - 1

    @cached_property
    def texture(self) -> Ints:
        """The texture of each choice."""
        return np.repeat(np.arange(self.count), np.diff(self.first))

    def totals(self, picks: Ints) -> Ints:
        """Return the bytes of picked choices on each line."""
        sums: Ints = self.cost[:, picks].sum(axis=1)
        return sums

    def least(self, values: Floats) -> Ints:
        """Return each texture's choice with the least of some values, the first of equals."""
        low = np.minimum.reduceat(values, self.first[:-1])
        places = np.flatnonzero(values == low[self.texture])
        _, kept = np.unique(self.texture[places], return_index=True)
        return places[kept]


@dataclass(frozen=True, eq=False)
class Solution:
    """A choice for each texture.

    Parameters
    ----------
    picks : places of the choices, (N,)
    loss : of all; bound : what no choices within the limits can lose less than
    prices : loss that one byte more on each line would spare, (L,)
    """

    picks: Ints
    loss: float
    bound: float
    prices: Floats

    @property
    def gap(self) -> float:
        """How far the loss may be above the best possible, as a part of the bound."""
        return (self.loss - self.bound) / self.bound if self.bound > 1e-12 else 0.0 if self.loss < 1e-9 else 1.0


def shortfalls(choices: Choices, limits: Ints) -> Ints:
    """Return by how many bytes each limit is missed even where every texture takes what costs least on that line."""
    least = np.array([np.minimum.reduceat(row, choices.first[:-1]).sum() for row in choices.cost])
    return np.maximum(0, least - limits)


def solve(choices: Choices, limits: Ints) -> Solution | None:
    """Return the choices with the least loss whose bytes are within the limits (L,), or None where there are none."""
    if not choices.count:
        return Solution(np.zeros(0, np.int64), 0.0, 0.0, np.zeros(len(limits)))
    free = choices.least(choices.loss + 1e-15 * choices.cost.sum(axis=0))
    if (choices.totals(free) <= limits).all():
        loss = float(choices.loss[free].sum())
        return Solution(free, loss, loss, np.zeros(len(limits)))
    relaxed = _relax(choices, limits)
    if relaxed is None:
        return None
    bound, prices = relaxed
    priced = choices.loss + prices @ choices.cost
    picks, least = _decide(choices, _undominated(choices), limits, priced, bound)
    if picks is None:
        picks = _repair(choices, limits, choices.least(priced))
    if picks is None:
        return None
    picks = _improve(choices, limits, picks)
    loss = float(choices.loss[picks].sum())
    return Solution(picks, loss, min(loss, max(bound, least)), prices)


def _undominated(choices: Choices) -> Ints:
    """Return the places of choices that no other of their texture beats in loss and on every line."""
    kept = []
    for start, stop in zip(choices.first[:-1], choices.first[1:], strict=True):
        values = np.vstack([choices.loss[start:stop], choices.cost[:, start:stop]])
        no_worse = (values[:, :, None] <= values[:, None, :]).all(axis=0)
        better = no_worse & ((values[:, :, None] < values[:, None, :]).any(axis=0) | _earlier(stop - start))
        kept.append(start + np.flatnonzero(~better.any(axis=0)))
    return np.concatenate(kept)


def _earlier(count: int) -> NDArray[np.bool_]:
    """Of equal choices the first stands for all."""
    return np.triu(np.ones((count, count), np.bool_), 1)


def _relax(choices: Choices, limits: Ints) -> tuple[float, Floats] | None:
    """Return the best bound on the loss that prices on the lines give, and the prices; None where no prices are enough.

    J. E. Kelley, "The cutting-plane method for solving convex programs" (1960): each price tried gives a plane over the bound.
    """
    scale = np.maximum(limits, 1).astype(np.float64)
    cost, room = choices.cost / scale[:, None], limits / scale
    most = float(np.maximum.reduceat(choices.loss, choices.first[:-1]).sum()) + 1e-9
    ceiling = 1e6 * most
    prices, best, found = np.zeros(len(limits)), -np.inf, np.zeros(len(limits))
    slopes, heights = [], []
    for _ in range(_PLANES):
        picks = choices.least(choices.loss + prices @ cost)
        over = cost[:, picks].sum(axis=1) - room
        loss = float(choices.loss[picks].sum())
        if loss + prices @ over > best:
            best, found = loss + float(prices @ over), prices
        # The bound is at most loss + price * over for every price: maximise the least of those.
        slopes.append(np.append(-over, 1.0))
        heights.append(loss)
        plan = linprog(
            np.append(np.zeros(len(limits)), -1.0),
            A_ub=np.array(slopes),
            b_ub=np.array(heights),
            bounds=[(0, ceiling)] * len(limits) + [(None, 2 * most)],
            method="highs",
        )
        if plan.status != 0 or -plan.fun - best <= _GAP * 0.1 * max(abs(best), 1e-12):
            break
        prices = plan.x[:-1]
    return (best, found / scale) if best <= most * (1 + 1e-9) else None


def _decide(choices: Choices, kept: Ints, limits: Ints, priced: Floats, bound: float) -> tuple[Ints | None, float]:
    """Return choices within the limits, exactly the best among those nearly as good as each texture's first, and what no
    choices at all can lose less than.

    Whatever takes one of those that are left out loses at least the bound that the prices give, and by how much that
    choice is worse than its texture's first at these prices.
    """
    texture = choices.texture[kept]
    picks = choices.least(priced)
    regret = priced[kept] - priced[picks][texture]
    near = kept[np.argsort(regret, kind="stable")[: choices.count + _CORE]]
    near = np.union1d(near, picks)
    counts = np.bincount(choices.texture[near], minlength=choices.count)
    near = near[counts[choices.texture[near]] > 1]
    left_out = np.isin(kept, np.union1d(near, picks), invert=True)
    otherwise = bound + float(regret[left_out].min(initial=np.inf))
    if not len(near):
        return _repair(choices, limits, picks), bound
    open_, place = np.unique(choices.texture[near], return_inverse=True)
    fixed = np.delete(picks, open_)
    scale = np.maximum(limits, 1).astype(np.float64)
    one = csr_array((np.ones(len(near)), (place, np.arange(len(near)))), shape=(len(open_), len(near)))
    room = limits - choices.totals(fixed)
    found = milp(
        choices.loss[near],
        constraints=[
            LinearConstraint(one, 1, 1),
            LinearConstraint(choices.cost[:, near] / scale[:, None], -np.inf, room / scale),
        ],
        integrality=np.ones(len(near)),
        bounds=Bounds(0, 1),
        options={"mip_rel_gap": _GAP if choices.count < _MANY else 10 * _GAP, "node_limit": _NODES},
    )
    if found.x is None:
        return None, bound
    taken = near[np.flatnonzero(found.x > 0.5)]
    if len(taken) != len(open_):
        return None, bound
    least = min(float(choices.loss[fixed].sum()) + float(found.mip_dual_bound), otherwise)
    picks[choices.texture[taken]] = taken
    # Solvers forgive a millionth of a limit; bytes do not.
    return _repair(choices, limits, picks), least


def _repair(choices: Choices, limits: Ints, picks: Ints) -> Ints | None:
    """Return picks within the limits, by the changes that cost least for each byte still over; None where none helps."""
    picks, texture = picks.copy(), choices.texture
    while (over := np.maximum(0, choices.totals(picks) - limits)).any():
        spared = np.minimum(over[:, None], choices.cost[:, picks][:, texture] - choices.cost)
        gain = (spared / np.maximum(limits, 1)[:, None]).sum(axis=0)
        dearer = choices.loss - choices.loss[picks][texture]
        if not (gain > 0).any():
            return None
        ratio = np.where(gain > 0, np.maximum(dearer, 1e-12) / np.maximum(gain, 1e-300), np.inf)
        best = int(np.argmin(ratio))
        picks[texture[best]] = best
    return picks


def _improve(choices: Choices, limits: Ints, picks: Ints) -> Ints:
    """Return picks with what room is left spent, on the greatest gain that fits, until nothing fits."""
    picks, texture = picks.copy(), choices.texture
    while True:
        room = limits - choices.totals(picks)
        spared = choices.loss[picks][texture] - choices.loss
        fits = ((choices.cost - choices.cost[:, picks][:, texture]) <= room[:, None]).all(axis=0)
        gain = np.where(fits, spared, 0.0)
        best = int(np.argmax(gain))
        if gain[best] <= 1e-12:
            return picks
        picks[texture[best]] = best


@dataclass(frozen=True, eq=False)
class Tradeoff:
    """What can be had for what: bytes of the first line, loss, and picks, from all kept to the least there is.

    Parameters
    ----------
    knee : place of the point that lies farthest under the line between both ends
    """

    bytes: Ints
    loss: Floats
    picks: tuple[Ints, ...]
    knee: int


def tradeoff(choices: Choices, prices: Floats | None = None, count: int = 48) -> Tradeoff:
    """Return points of the lower hull of all choices together, at most `count`.

    Parameters
    ----------
    prices : how the lines weigh against each other; the first alone where left out
    """
    weigh = prices if prices is not None and prices.any() else np.eye(len(choices.cost))[0]
    cost = weigh @ choices.cost
    picks = choices.least(choices.loss + 1e-15 * cost)
    found = [picks]
    for price in np.geomspace(1e-6, 1e6, 4 * count) * _typical_price(choices, cost):
        picks = choices.least(choices.loss + price * cost)
        if not np.array_equal(picks, found[-1]):
            found.append(picks)
    if len(found) > count:
        # Evenly over the bytes, both ends kept.
        totals = np.array([choices.cost[0, p].sum() for p in found])
        wanted = np.linspace(totals[0], totals[-1], count)
        places = sorted({int(np.abs(totals - w).argmin()) for w in wanted})
        found = [found[place] for place in places]
    sizes = np.array([choices.cost[0, p].sum() for p in found], np.int64)
    losses = np.array([choices.loss[p].sum() for p in found])
    return Tradeoff(sizes, losses, tuple(found), _knee(sizes, losses))


def _typical_price(choices: Choices, cost: Floats) -> float:
    can = choices.loss < NEVER
    spread = float(np.ptp(cost[can])) if can.any() else 0.0
    return float(np.ptp(choices.loss[can])) / spread if spread > 0 else 1.0


def _knee(sizes: Ints, losses: Floats) -> int:
    """Return the point farthest under the chord, with the loss on the scale that eyes judge it by: its root."""
    roots = np.sqrt(np.maximum(losses, 0))
    wide, high = float(sizes[0] - sizes[-1]), float(roots[-1] - roots[0])
    if wide <= 0 or high <= 0:
        return 0
    x, y = (sizes[0] - sizes) / wide, (roots - roots[0]) / high
    return int(np.argmax(x - y))
