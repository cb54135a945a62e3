"""What the benchmarks share: yardsticks timed in the same run, and the table printed at the end."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import pytest

from oaktrim.core.progress import finish
from oaktrim.core.warm import warm
from oaktrim.demo.heronmere import make_demo

_ROWS: list[tuple[str, str, str, str]] = []


def seconds(work: Callable[[], object], rounds: int = 5) -> float:
    """Return the least time that some work takes; the least is what other load on the machine disturbs least."""
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


def turns(one: Callable[[], object], other: Callable[[], object], rounds: int = 5) -> tuple[float, float]:
    """Return the least times of two pieces of work, taken in turns so that load falls on both."""
    both = [(seconds(one, 1), seconds(other, 1)) for _ in range(rounds)]
    return min(a for a, _ in both), min(b for _, b in both)


def report(what: str, against: str, ratio: str, reach: str) -> None:
    """Put one line into the table."""
    _ROWS.append((what, against, ratio, reach))


@pytest.fixture(scope="session", autouse=True)
def warmed() -> None:
    finish(warm())


@pytest.fixture(scope="session")
def demo() -> Path:
    return finish(make_demo())


def pytest_terminal_summary(terminalreporter: object) -> None:
    if _ROWS:
        width = max(len(row[0]) for row in _ROWS)
        print("\n")
        for what, against, ratio, reach in _ROWS:
            print(f"{what:{width}}  {ratio:>24}  of {against}  (reach: {reach})")
