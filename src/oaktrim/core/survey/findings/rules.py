"""The list of rules, and running them over an inventory for several targets at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oaktrim.core.survey.findings.content import constant_image, duplicate_pixels, grey_as_colour, opaque_alpha
from oaktrim.core.survey.findings.finding import Finding, Ground, Rule, Severity
from oaktrim.core.survey.findings.hardware import format_not_on_hardware
from oaktrim.core.survey.findings.sizes import not_power_of_two, over_longest_side
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Target

RULES: tuple[Rule, ...] = (
    format_not_on_hardware,
    over_longest_side,
    not_power_of_two,
    duplicate_pixels,
    constant_image,
    grey_as_colour,
    opaque_alpha,
)


@dataclass(frozen=True)
class Merged:
    """One finding with what it says on each target."""

    code: str
    severity: Severity
    path: str
    message: str
    bytes: int
    remedy: str
    targets: tuple[str, ...]


def findings_on(inventory: Inventory, target: Target) -> list[Finding]:
    """Return all findings on one target: unreadable files first, then the rules in their order."""
    ground = Ground(inventory, target)
    unreadable = [
        ground.finding("unreadable", Severity.ERROR, row.path, row.error, 0, "mend or replace the file")
        for row in inventory.unreadable
    ]
    return unreadable + [finding for rule in RULES for finding in rule(ground)]


def merge(found: Sequence[Sequence[Finding]]) -> list[Merged]:
    """Return the findings of several targets with one entry for each code and path, dearest first within a code.

    The gravest severity and the most bytes stand; messages that differ follow each other.
    """
    grave = list(Severity)
    groups: dict[tuple[str, str], list[Finding]] = {}
    for finding in (finding for rows in found for finding in rows):
        groups.setdefault((finding.code, finding.path), []).append(finding)
    merged = [
        Merged(
            code=code,
            severity=min((f.severity for f in rows), key=grave.index),
            path=path,
            message="; ".join(dict.fromkeys(f.message for f in rows)),
            bytes=max(f.bytes for f in rows),
            remedy=rows[0].remedy,
            targets=tuple(f.target for f in rows),
        )
        for (code, path), rows in groups.items()
    ]
    return sorted(merged, key=lambda m: (grave.index(m.severity), m.code, -m.bytes, m.path))
