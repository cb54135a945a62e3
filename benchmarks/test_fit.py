"""Fit to budget against its reach: the time to decide once everything is measured, and how far from the bound."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from tests.core.plan.test_budget import instance, limits_at

from benchmarks.conftest import report, seconds
from oaktrim.core.job.document import load_job, root_of
from oaktrim.core.plan.budget import solve
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.proof.fit import Fit, propose
from oaktrim.core.proof.problem import bounds_of
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan


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


def test_the_demonstration(demo: Path, tmp_path: Path, benchmark: pytest.FixtureRequest) -> None:
    """All of the demonstration, with nothing known beforehand."""
    job, cache = load_job(demo), SurveyCache(tmp_path)
    inventory, target = finish(scan(root_of(job, demo), job.scan_settings, cache)), job.target("pocket")
    ratios, found = CompressionRatios(inventory), []
    plan = resolve(inventory, target, job.cuts, ratios, job.rules)
    locked, bounds = np.zeros(len(plan.formats), np.bool_), bounds_of(job.role_rules, target)

    def fit() -> Fit:
        return finish(propose(plan, ratios, cache, dict(target.limit_bytes), locked, bounds))

    took = seconds(lambda: found.append(fit()), 1)
    assert found[-1].solution is not None
    gap = f"{found[-1].solution.gap * 100:.2f} % above the bound"
    report("fit the demonstration on Pocket, first time", "-", f"{took:.0f} s, {gap}", "0.5 %")
    benchmark.pedantic(lambda: None, rounds=1)
