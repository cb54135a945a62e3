"""Fit to budget against its reach: the time to decide once everything is measured, and how far from the bound."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.plan.test_budget import instance, limits_at

from benchmarks.conftest import report, seconds
from oaktrim.core.plan.budget import solve


@pytest.mark.parametrize("options", [12, 20])
def test_two_thousand_textures(benchmark: pytest.FixtureRequest, options: int) -> None:
    choices = instance(1, 2000, options, 3)
    times, gaps = [], []
    for share in (0.7, 0.4, 0.2):
        limits = limits_at(choices, share)
        times.append(seconds(lambda limits=limits: solve(choices, limits), 2))
        found = solve(choices, limits)
        assert found is not None
        assert (choices.totals(found.picks) <= limits).all()
        gaps.append(found.gap)
    worst = f"{max(times):.2f} s, {np.max(gaps) * 100:.4f} % above the bound"
    report(f"fit 2,000 textures, {options} choices, three limits", "-", worst, "2 s, 0.5 %")
    benchmark.pedantic(lambda: solve(choices, limits_at(choices, 0.4)), rounds=1)
