"""Fit to budget as a problem of numbers: bounds that hold, limits that are kept to the byte, and the best there is."""

import itertools
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oaktrim.core.plan.budget import NEVER, Choices, shortfalls, solve, tradeoff


def instance(seed, textures, options, lines):
    """Textures that get cheaper and worse, each in its own way; the first choice of each loses nothing."""
    rng = np.random.default_rng(seed)
    share = -np.sort(-rng.random((textures, options)), axis=1)
    share[:, 0] = 1
    loss = rng.random((textures, 1)) ** 2 * (1 - share) ** 2 * (0.5 + rng.random((textures, options)))
    size = np.exp2(rng.uniform(14, 24, (textures, 1))) * share
    cost = np.stack([size * (0.2 + 0.8 * rng.random(size.shape)) if k else size for k in range(lines)])
    first = np.arange(0, textures * options + 1, options)
    return Choices(first, loss.reshape(-1), cost.reshape(lines, -1).astype(np.int64))


def limits_at(choices, share):
    return (choices.totals(choices.first[:-1]) * share).astype(np.int64)


def best_by_trying_all(choices, limits):
    spans = [range(a, b) for a, b in itertools.pairwise(choices.first)]
    fits = (p for p in itertools.product(*spans) if (choices.cost[:, p].sum(axis=1) <= limits).all())
    return min((choices.loss[list(p)].sum() for p in fits), default=None)


@pytest.mark.slow
@given(st.integers(0, 10**6), st.integers(1, 6), st.integers(1, 4), st.integers(1, 4), st.floats(0.02, 1.1))
@settings(max_examples=150, deadline=None)
def test_small_ones_are_solved_as_trying_all_solves_them(seed, textures, options, lines, share):
    choices = instance(seed, textures, options, lines)
    limits = limits_at(choices, share)
    least, found = best_by_trying_all(choices, limits), solve(choices, limits)
    if least is None:
        assert found is None
        return
    assert found is not None
    assert (choices.totals(found.picks) <= limits).all()
    assert found.loss == pytest.approx(choices.loss[found.picks].sum())
    assert found.loss == pytest.approx(least, rel=2e-4, abs=1e-12)
    assert found.bound <= least * (1 + 1e-9) + 1e-12


@pytest.mark.parametrize("lines", [1, 3, 4])
def test_two_thousand_textures(lines):
    choices = instance(lines, 2000, 20, lines)
    for share in (0.6, 0.3, 0.15):
        limits = limits_at(choices, share)
        started = time.perf_counter()
        found = solve(choices, limits)
        assert time.perf_counter() - started < 10, "the benchmark is stricter"
        assert (choices.totals(found.picks) <= limits).all()
        assert found.gap < 0.005
        again = solve(choices, limits)
        assert np.array_equal(again.picks, found.picks), "the same answer each time"


def test_what_cannot_be_met_is_told_by_line():
    choices = instance(3, 10, 5, 2)
    least = np.array([np.minimum.reduceat(row, choices.first[:-1]).sum() for row in choices.cost])
    assert shortfalls(choices, least).tolist() == [0, 0]
    assert shortfalls(choices, least - [7, 0]).tolist() == [7, 0]
    assert solve(choices, least - [7, 0]) is None
    exact = solve(choices, np.array([least[0], limits_at(choices, 1)[1]]))
    assert exact is not None
    assert choices.totals(exact.picks)[0] == least[0]


def test_a_budget_with_room_changes_nothing():
    choices = instance(4, 30, 6, 2)
    found = solve(choices, limits_at(choices, 1))
    assert np.array_equal(found.picks, choices.first[:-1])
    assert found.gap == 0


def test_the_tradeoff_goes_down_and_bends():
    curve = tradeoff(instance(5, 300, 12, 1))
    assert (np.diff(curve.bytes) < 0).all()
    assert (np.diff(curve.loss) >= 0).all()
    assert 0 < curve.knee < len(curve.bytes) - 1
    slopes = np.diff(curve.loss) / -np.diff(curve.bytes)
    assert (np.diff(slopes) > -1e-12).all(), "each byte less costs more than the one before"


def test_what_cannot_be_chosen_does_not_bend_the_tradeoff():
    choices = instance(5, 300, 12, 1)
    barred = choices.loss.copy()
    barred[5::12] = NEVER
    curve = tradeoff(Choices(choices.first, barred, choices.cost))
    assert len(curve.bytes) > 20 and curve.loss.max() < NEVER
