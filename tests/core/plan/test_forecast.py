"""The forecast of packages: it moves towards what comes out, and nine of ten final figures lie within what is stated."""

import numpy as np
import pytest

from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.plan.forecast import forecast, half_width

PLAIN, BC7 = ORDER.index("rgba8"), ORDER.index("bc7")


def made_up(rng, count, together, alone):
    """Sizes that come out, and estimates of them that miss together and each alone, by so much (of logarithms)."""
    sizes = np.exp(rng.normal(11, 1.5, count))
    miss = rng.normal(0, together) + rng.normal(0, alone, count)
    return np.maximum(1, sizes).astype(np.int64), np.maximum(1.0, sizes * np.exp(miss))


@pytest.mark.parametrize(("together", "alone", "sampled"), [(0.08, 0.25, True), (0.3, 0.5, False)])
def test_nine_of_ten_final_figures_lie_within(together, alone, sampled):
    """Whatever part of a tree is measured, the largest first, as the window does."""
    rng, within = np.random.default_rng(4), []
    for _ in range(300):
        count = int(rng.integers(5, 200))
        sizes, estimates = made_up(rng, count, together, alone)
        known = np.full(count, -1, np.int64)
        largest = np.argsort(-estimates)[: int(rng.choice([0, 0.2, 0.5, 0.9]) * count)]
        known[largest] = sizes[largest]
        found = forecast(estimates, np.full(count, PLAIN), np.full(count, sampled), known)
        within.append(abs(int(found.package.sum()) - int(sizes.sum())) <= half_width(found.spread, ()))
    assert np.mean(within) >= 0.9


def test_what_was_measured_of_a_kind_corrects_the_rest_of_it():
    rng = np.random.default_rng(1)
    sizes = np.full(60, 40_000)
    estimates = sizes * 0.8 * np.exp(rng.normal(0, 0.05, 60))
    known = np.where(np.arange(60) < 30, sizes, -1)
    formats, sampled = np.where(np.arange(60) % 2, BC7, PLAIN), np.ones(60, np.bool_)
    before = forecast(estimates, formats, sampled, np.full(60, -1))
    after = forecast(estimates, formats, sampled, known)
    assert after.measured.sum() == 30 and (after.package[:30] == 40_000).all()
    assert abs(after.package[30:].mean() / 40_000 - 1) < 0.08 < abs(before.package[30:].mean() / 40_000 - 1)
    assert after.spread < 0.6 * before.spread
    # One kind says nothing of another.
    apart = forecast(estimates, np.where(np.arange(60) < 30, PLAIN, BC7), sampled, known)
    alone = forecast(estimates[30:], np.full(30, BC7), sampled[30:], np.full(30, -1))
    assert (apart.package[30:] == alone.package).all()


def test_nothing_is_left_open_when_all_is_measured():
    sizes = np.arange(1, 9) * 1000
    found = forecast(sizes * 0.5, np.full(8, PLAIN), np.zeros(8, np.bool_), sizes)
    assert (found.package == sizes).all() and found.spread == 0 == half_width(found.spread, ())
    assert half_width(0.0, (1000, 2000)) > 0
