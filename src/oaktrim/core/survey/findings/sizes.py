"""Sizes that a target does not take as they are."""

from __future__ import annotations

from collections.abc import Iterator

from oaktrim.core.survey.findings.finding import Finding, Ground, Severity
from oaktrim.core.targets.arrival import is_power_of_two
from oaktrim.core.targets.target import Oversize, SizeRule


def not_power_of_two(ground: Ground) -> Iterator[Finding]:
    """A side is no power of two, and the target minds."""
    inventory, target = ground.inventory, ground.target
    if target.size_rule is SizeRule.FREE:
        return
    odd = ~(is_power_of_two(inventory.width) & is_power_of_two(inventory.height))
    arrival = ground.arrival
    for row, texture in ground.flagged(odd):
        size = f"{texture.width}x{texture.height}"
        ships = f"{arrival.width[row]}x{arrival.height[row]}"
        severity, at_stake = Severity.WARNING, 0
        if target.size_rule is SizeRule.NEEDED_FOR_LEVELS:
            if not arrival.levels_lost[row]:
                continue
            message = (
                f"{size} is no power of two: on {target.name} it loses its mip levels, is never streamed "
                "and shimmers in the distance"
            )
        elif target.size_rule is SizeRule.RESAMPLED:
            message = f"{size} is no power of two: on upload {target.name} resamples it to {ships}"
            at_stake = max(0, ground.memory(row) - ground.memory_at(row, texture.width, texture.height))
        else:
            severity = Severity.NOTE
            message = f"{size} is no power of two, which {target.name} would rather have for streaming"
        yield ground.finding(
            "not-power-of-two",
            severity,
            texture.path,
            message,
            at_stake,
            "give it sides that are powers of two, or turn its levels off",
        )


def over_longest_side(ground: Ground) -> Iterator[Finding]:
    """A side is longer than the target takes."""
    target, arrival = ground.target, ground.arrival
    limit = target.limits.longest_side
    for row, texture in ground.flagged(arrival.shrunk | arrival.refused):
        longest = max(texture.width, texture.height)
        ships = f"{arrival.width[row]}x{arrival.height[row]}"
        what = {
            Oversize.HALVED: f"its upper levels are left out and it arrives at {ships}",
            Oversize.RESAMPLED: f"it is resampled to {ships} on upload",
            Oversize.REFUSED: "it is refused",
        }[target.oversize]
        yield ground.finding(
            "over-longest-side",
            Severity.ERROR if target.oversize is Oversize.REFUSED else Severity.WARNING,
            texture.path,
            f"{longest} pixels on the longest side, over the {limit} of {target.name}: {what}",
            ground.memory(row) * 3 // 4 if target.oversize is Oversize.REFUSED else 0,
            f"cap it at {limit}",
        )
