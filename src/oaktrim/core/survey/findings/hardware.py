"""Formats that a target's hardware does not decode."""

from __future__ import annotations

from collections.abc import Iterator

from oaktrim.core.formats.catalogue import FORMATS, format_named
from oaktrim.core.survey.findings.finding import Finding, Ground, Severity


def format_not_on_hardware(ground: Ground) -> Iterator[Finding]:
    """A file holds a GPU format that the target lacks."""
    arrival, target = ground.arrival, ground.target
    for row, texture in ground.flagged(arrival.expanded):
        row_format = format_named(texture.natural_format)
        stored, memory = int(arrival.stored[row]), int(arrival.memory[row])
        yield ground.finding(
            "format-not-on-hardware",
            Severity.ERROR,
            texture.path,
            f"{target.name} has no hardware for {row_format.label}: it is expanded to "
            f"{FORMATS[row_format.expands_to].label} at load, slower and {memory / stored:.1f} times the memory",
            memory - stored,
            f"choose a format that {target.name} has",
        )
