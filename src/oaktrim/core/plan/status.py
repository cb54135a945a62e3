"""How totals stand against the limits of a target."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from oaktrim.core.plan.resolve import Plan
from oaktrim.core.targets.lines import LINES, Line, Unit
from oaktrim.core.targets.target import Target
from oaktrim.core.units import bytes_like


@dataclass(frozen=True)
class BudgetStatus:
    """A total against its limit."""

    line: Line
    value: int
    limit: int

    @property
    def over(self) -> bool:
        return self.value > self.limit

    def words(self, target: Target) -> tuple[str, str, str, str]:
        """Return its line, value, limit and verdict in words, bytes in the unit that the target states."""
        if not self.line.in_bytes:
            unit = f" {self.line.unit.value}".rstrip()
            verdict = "over" if self.over else "within"
            return self.line.label, f"{self.value:,}{unit}", f"{self.limit:,}{unit}", verdict
        stated = str(target.limits.stated(self.line.name))
        gap = bytes_like(abs(self.limit - self.value), stated)
        return (
            self.line.label,
            bytes_like(self.value, stated),
            stated,
            f"{gap} over" if self.over else f"{gap} to spare",
        )


def limits_of(plan: Plan) -> list[BudgetStatus]:
    """Return how a plan stands against each limit of its target."""
    sides = np.maximum(plan.footprint.width, plan.footprint.height)[~plan.left_out]
    return statuses_of(plan, plan.total, int(sides.max()) if len(sides) else 0)


def statuses_of(plan: Plan, total: Callable[[str], int], longest_side: int) -> list[BudgetStatus]:
    """Return how totals stand against each limit of a plan's target that is watched.

    Parameters
    ----------
    total : returns the sum of a line counted in bytes
    longest_side : of what ships, pixels
    """
    found = []
    for line in LINES.values():
        limit = plan.target.limits.of(line.name)
        if limit is None:
            continue
        if line.in_bytes:
            found.append(BudgetStatus(line, total(line.name), limit))
        elif plan.inventory.models if line.unit is Unit.COUNT else longest_side:
            counts = replace(plan.others.models.counts, longest_side=longest_side)
            found.append(BudgetStatus(line, line.count(counts), limit))
    return found
