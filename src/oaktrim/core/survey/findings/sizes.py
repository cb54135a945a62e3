"""Sizes that a target does not take as they are, or that cost more than they need."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from oaktrim.core.survey.findings.finding import Finding, Fix, Ground, Remedy, Severity
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.arrival import BLOCK_HEIGHT, BLOCK_WIDTH, is_power_of_two
from oaktrim.core.targets.target import Oversize, SizeRule
from oaktrim.core.units import bytes_text


def not_power_of_two(ground: Ground) -> Iterator[Finding]:
    """A side is no power of two, and the target minds."""
    inventory, target = ground.inventory, ground.target
    if target.size_rule is SizeRule.FREE:
        return
    arrival = ground.arrival
    if target.size_rule is SizeRule.RESAMPLED:
        flags = arrival.resampled
    elif target.size_rule is SizeRule.NEEDED_FOR_LEVELS:
        flags = arrival.levels_lost
    else:
        flags = ~(is_power_of_two(arrival.width) & is_power_of_two(arrival.height))
    for row, texture in ground.each(flags):
        ships = f"{arrival.width[row]}x{arrival.height[row]}"
        severity, at_stake, fix = Severity.WARNING, 0, None
        size = f"{texture.width}x{texture.height}" if target.size_rule is SizeRule.RESAMPLED else ships
        if target.size_rule is SizeRule.NEEDED_FOR_LEVELS:
            message = (
                f"{size} is no power of two: on {target.name} it loses its mip levels, is never streamed "
                "and shimmers in the distance"
            )
            fix = Fix(Remedy.LEVELS, 0)
        elif target.size_rule is SizeRule.RESAMPLED:
            message = f"{size} is no power of two: on upload {target.name} resamples it to {ships}"
            at_stake = max(0, ground.memory(row) - ground.memory_at(row, texture.width, texture.height))
        else:
            severity = Severity.NOTE
            message = f"{size} is no power of two, which {target.name} would rather have for streaming"
        yield ground.finding(
            "not-power-of-two",
            severity,
            inventory.textures[row].path,
            message,
            at_stake,
            "give it sides that are powers of two, or turn its levels off",
            fix,
        )


def over_longest_side(ground: Ground) -> Iterator[Finding]:
    """A side is longer than the target takes."""
    target, arrival = ground.target, ground.arrival
    limit = target.limits.longest_side
    for row, texture in ground.each(arrival.shrunk | arrival.refused):
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
            Fix(Remedy.CAP, int(limit or 0)),
        )


# Share of a texture's bytes from which the border of blocks that no power of two fits is spoken of.
_BORDER_NOTICED = 0.05


def not_block_multiple(ground: Ground) -> Iterator[Finding]:
    """A side is no multiple of the block of the format it ships in.

    No power of two is a multiple of five or six: blocks that are not powers of two are found only where their border
    is a noticeable part of the whole.
    """
    a = ground.arrival
    across, down = BLOCK_WIDTH[ground.formats], BLOCK_HEIGHT[ground.formats]
    for row, texture in ground.each((a.width % across != 0) | (a.height % down != 0)):
        held, (width, height) = ground.format(row), ground.size(row)
        exact = int(width * height * held.bits_a_pixel / 8)
        whole = held.level_bytes(width, height)
        if any(side & (side - 1) for side in held.block) and whole - exact < _BORDER_NOTICED * whole:
            continue
        yield ground.finding(
            "not-block-multiple",
            Severity.WARNING if held.name.startswith("bc") else Severity.NOTE,
            texture.path,
            f"{width}x{height} is no multiple of the {held.block[0]}x{held.block[1]} blocks of {held.label}: the border "
            "blocks are padded" + (", and some graphics interfaces refuse it" if held.name.startswith("bc") else ""),
            whole - exact,
            "give it sides that are multiples of the block",
        )


def heaviest_tenth(ground: Ground) -> Iterator[Finding]:
    """The dearest tenth of the textures."""
    memory = ground.arrival.memory
    count = len(memory) // 10
    if not count:
        return
    total = int(memory.sum())
    order = np.argsort(-memory, kind="stable")[:count]
    together = int(memory[order].sum())
    for row in order:
        held = int(memory[row])
        yield ground.finding(
            "heaviest-tenth",
            Severity.NOTE,
            ground.inventory.textures[row].path,
            f"one of the {count} dearest textures, which hold {together * 100 // max(1, total)} % of the texture memory on "
            f"{ground.target.name}; this one alone {held * 100 / max(1, total):.1f} %",
            held,
            "look at it first, and at how large it is ever seen",
        )


def over_role_share(ground: Ground) -> Iterator[Finding]:
    """A map of a material ships far larger than its role allows beside the base colour."""
    i, a = ground.inventory, ground.arrival
    longest = np.maximum(a.width, a.height)
    allowed_share = np.array([ground.shares.get(role, 1.0) for role in Role])[i.role_codes]
    allowed = longest[i.base_of] * allowed_share
    for row, texture in ground.each((i.base_of >= 0) & (longest >= 2 * allowed) & (longest > 64)):
        side = max(1, round(float(allowed[row])))
        base = i.textures[int(i.base_of[row])].path
        yield ground.finding(
            "over-role-share",
            Severity.WARNING,
            texture.path,
            f"ships at {longest[row]} as {i.roles[row].role.label.lower()}, where {side} would do beside "
            f"{base.rsplit('/', 1)[-1]} at {longest[i.base_of[row]]}",
            ground.saved_at_side(row, side),
            f"cap it at {side}, or set a role rule",
            Fix(Remedy.CAP, side),
        )


def without_levels(ground: Ground) -> Iterator[Finding]:
    """A large texture ships without levels, and the target streams."""
    if ground.target.limits.streaming is None:
        return
    a = ground.arrival
    lone = (a.levels == 1) & ~a.levels_lost & (np.maximum(a.width, a.height) >= 256)
    for row, texture in ground.each(lone):
        yield ground.finding(
            "no-levels",
            Severity.NOTE,
            texture.path,
            f"ships without mip levels: on {ground.target.name} all {bytes_text(ground.memory(row))} of it stay in memory, "
            "it is never streamed, and it shimmers in the distance",
            0,
            "turn its levels on, unless it is only ever drawn on the screen one to one",
            Fix(Remedy.LEVELS, 1),
        )
