"""The ladder of a texture: every step from its source to what it ships as, with what caused it, and what is to be warned of."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.format import Hardware
from oaktrim.core.plan.cuts import Cap, Drop, SetFormat, SetLevels
from oaktrim.core.plan.resolve import NOT_CUT, Plan
from oaktrim.core.targets.footprint import fit_side
from oaktrim.core.targets.target import Oversize


@dataclass(frozen=True)
class SizeStep:
    """One step of the ladder.

    Parameters
    ----------
    cause : what made the step, in words
    cut : its place in the job's cuts, if a cut made it; rule, format_rule : its place in these rules, if one did
    width, height : after the step
    memory : bytes on the target if this were the last step
    """

    cause: str
    width: int
    height: int
    memory: int
    cut: int | None = None
    rule: int | None = None
    format_rule: int | None = None


@dataclass(frozen=True)
class Ladder:
    """The steps of one texture on one target, and warnings, such as that two of them stack."""

    steps: tuple[SizeStep, ...]
    warnings: tuple[str, ...]


def ladder_of(plan: Plan, row: int) -> Ladder:
    """Return how a texture of a plan gets to what it ships as."""
    inventory, target, a = plan.inventory, plan.target, plan.footprint
    texture = inventory.textures[row]
    natural = FORMATS[texture.natural_format]
    levels_on = int(plan.settings[SetLevels][row]) != 0

    def weigh(width: int, height: int, name: str, one_level: bool = False) -> int:
        held = FORMATS[name] if target.decodes(FORMATS[name]) else FORMATS[FORMATS[name].expands_to]
        count = 1 if one_level else (texture.levels if texture.format else max(width, height).bit_length())
        return held.mip_chain_bytes(width, height, count, layers=texture.slices)

    width, height = texture.width, texture.height
    found = [SizeStep(f"Source, {natural.label}", width, height, weigh(width, height, natural.name))]
    steps = []
    for step, size in _by_hand(plan, row):
        cause, place = step
        if size != (width, height):
            steps.append(cause)
        width, height = size
        found.append(SizeStep(cause, width, height, weigh(width, height, natural.name), place))
    if plan.rule[row] != NOT_CUT:
        rule = int(plan.rule[row])
        width, height = int(plan.ruled_width[row]), int(plan.ruled_height[row])
        cause = f"Role: {plan.rules.sizes[rule].label}"
        found.append(SizeStep(cause, width, height, weigh(width, height, natural.name), rule=rule))
    if a.shrunk[row]:
        width, height = int(a.width[row]), int(a.height[row])
        how = "upper levels left out" if target.oversize is Oversize.HALVED else "resampled on upload"
        found.append(SizeStep(f"Over {target.longest_side}: {how}", width, height, weigh(width, height, natural.name)))
    if a.resampled[row]:
        width, height = int(a.width[row]), int(a.height[row])
        found.append(SizeStep("To powers of two on upload", width, height, weigh(width, height, natural.name)))
    if not levels_on or a.levels_lost[row]:
        place = int(plan.causes[SetLevels][row])
        cause = "No power of two: levels lost" if a.levels_lost[row] and levels_on else "Levels off"
        cut = place if place != NOT_CUT and not levels_on else None
        found.append(SizeStep(cause, width, height, weigh(width, height, natural.name, one_level=True), cut))
    shipped = FORMATS[ORDER[plan.formats[row]]]
    place, ruled = int(plan.causes[SetFormat][row]), int(plan.format_rule[row])
    if place != NOT_CUT or a.expanded[row] or (ruled != NOT_CUT and shipped.name != natural.name):
        cause = f"Format rule: {shipped.label}" if ruled != NOT_CUT else shipped.label
        if a.expanded[row]:
            cause = f"{cause}, not on {target.name}: as {FORMATS[shipped.expands_to].label}"
        by_rule = None if ruled == NOT_CUT else ruled
        found.append(
            SizeStep(cause, width, height, int(a.memory[row]), None if place == NOT_CUT else place, None, by_rule)
        )
    return Ladder(tuple(found), tuple(_warnings(plan, row, steps, max(width, height))))


def _by_hand(plan: Plan, row: int) -> Iterator[tuple[tuple[str, int], tuple[int, int]]]:
    """Yield the cap and the drop by hand: what it is called, its place in the cuts, and the size after it."""
    texture = plan.inventory.textures[row]
    for kind in (Cap, Drop):
        place = int(plan.causes[kind][row])
        if place == NOT_CUT:
            continue
        size = int(plan.cut_width[row]), int(plan.cut_height[row])
        if kind is Cap:
            fitted = fit_side(*(np.array([v]) for v in (*texture.size, plan.settings[Cap][row])))
            size = int(fitted[0][0]), int(fitted[1][0])
        yield (plan.cuts[place].change.label, place), size


def _warnings(plan: Plan, row: int, steps: list[str], longest: int) -> list[str]:
    """Return what is to be warned of: steps that stack, and what the target does that nobody asked for."""
    target, a = plan.target, plan.footprint
    width, height = int(a.width[row]), int(a.height[row])
    shipped = FORMATS[ORDER[plan.formats[row]]]
    warnings = []
    if len(steps) > 1:
        asked = plan.settings[Cap][row]
        warnings.append(f"{steps[0]} and {steps[1].lower()} both apply: this ships at {longest}, not {asked}.")
    if plan.overruled[row]:
        warnings.append("Cut by hand: the role rule for it does not count here.")
    if plan.format_overruled[row]:
        warnings.append("Format by hand: the format rule for it does not count here.")
    if a.levels_lost[row]:
        warnings.append(f"{width}x{height} is no power of two: no mip levels on {target.name}.")
    if a.refused[row]:
        warnings.append(f"{target.name} refuses sides over {target.longest_side}.")
    if shipped.hardware is Hardware.UNIVERSAL and (width % 4 or height % 4):
        warnings.append(f"{width}x{height}: loaders of {shipped.label} want sides that are multiples of four.")
    if a.expanded[row]:
        warnings.append(f"{target.name} has no hardware for {shipped.label}: it takes raw pixels in memory.")
    return warnings
