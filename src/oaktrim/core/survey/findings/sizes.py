"""Sizes that a target does not take as they are, or that cost more than they need."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.footprint import BLOCK_HEIGHT, BLOCK_WIDTH, is_power_of_two
from oaktrim.core.targets.target import Oversize, SizeRule
from oaktrim.core.units import bytes_text


def not_power_of_two(context: RuleContext) -> Iterator[Finding]:
    """A side is no power of two, and the target minds."""
    inventory, target = context.inventory, context.target
    if target.size_rule is SizeRule.FREE:
        return
    footprint = context.footprint
    if target.size_rule is SizeRule.RESAMPLED:
        flags = footprint.resampled
    elif target.size_rule is SizeRule.NEEDED_FOR_LEVELS:
        flags = footprint.levels_lost
    else:
        flags = ~(is_power_of_two(footprint.width) & is_power_of_two(footprint.height))
    for row, texture in context.each(flags):
        ships = f"{footprint.width[row]}x{footprint.height[row]}"
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
            at_stake = max(0, context.memory(row) - context.memory_at(row, texture.width, texture.height))
        else:
            severity = Severity.NOTE
            message = f"{size} is no power of two, which {target.name} would rather have for streaming"
        yield context.finding(
            "not-power-of-two",
            severity,
            inventory.textures[row].path,
            message,
            at_stake,
            "give it sides that are powers of two, or turn its levels off",
            fix,
        )


def over_longest_side(context: RuleContext) -> Iterator[Finding]:
    """A side is longer than the target takes."""
    target, footprint = context.target, context.footprint
    limit = target.longest_side
    for row, texture in context.each(footprint.shrunk | footprint.refused):
        longest = max(texture.width, texture.height)
        ships = f"{footprint.width[row]}x{footprint.height[row]}"
        what = {
            Oversize.HALVED: f"its upper levels are left out and it arrives at {ships}",
            Oversize.RESAMPLED: f"it is resampled to {ships} on upload",
            Oversize.REFUSED: "it is refused",
        }[target.oversize]
        yield context.finding(
            "over-longest-side",
            Severity.ERROR if target.oversize is Oversize.REFUSED else Severity.WARNING,
            texture.path,
            f"{longest} pixels on the longest side, over the {limit} of {target.name}: {what}",
            context.memory(row) * 3 // 4 if target.oversize is Oversize.REFUSED else 0,
            f"cap it at {limit}",
            Fix(Remedy.CAP, int(limit or 0)),
        )


# Share of a texture's bytes from which the border of blocks that no power of two fits is spoken of.
_BORDER_NOTICED = 0.05


def not_block_multiple(context: RuleContext) -> Iterator[Finding]:
    """A side is no multiple of the block of the format it ships in.

    No power of two is a multiple of five or six: blocks that are not powers of two are found only where their border
    is a noticeable part of the whole.
    """
    a = context.footprint
    across, down = BLOCK_WIDTH[context.formats], BLOCK_HEIGHT[context.formats]
    for row, texture in context.each((a.width % across != 0) | (a.height % down != 0)):
        held, (width, height) = context.format(row), context.size(row)
        exact = int(width * height * held.bits_per_pixel / 8)
        whole = held.level_bytes(width, height)
        if any(side & (side - 1) for side in held.block) and whole - exact < _BORDER_NOTICED * whole:
            continue
        yield context.finding(
            "not-block-multiple",
            Severity.WARNING if held.name.startswith("bc") else Severity.NOTE,
            texture.path,
            f"{width}x{height} is no multiple of the {held.block[0]}x{held.block[1]} blocks of {held.label}: the border "
            "blocks are padded" + (", and some graphics interfaces refuse it" if held.name.startswith("bc") else ""),
            whole - exact,
            "give it sides that are multiples of the block",
        )


def heaviest_tenth(context: RuleContext) -> Iterator[Finding]:
    """The dearest tenth of the textures."""
    memory = context.footprint.memory
    count = len(memory) // 10
    if not count:
        return
    total = int(memory.sum())
    order = np.argsort(-memory, kind="stable")[:count]
    together = int(memory[order].sum())
    for row in order:
        held = int(memory[row])
        yield context.finding(
            "heaviest-tenth",
            Severity.NOTE,
            context.inventory.textures[row].path,
            f"one of the {count} dearest textures, which hold {together * 100 // max(1, total)} % of the texture memory on "
            f"{context.target.name}; this one alone {held * 100 / max(1, total):.1f} %",
            held,
            "look at it first, and at how large it is ever seen",
        )


def over_role_share(context: RuleContext) -> Iterator[Finding]:
    """A map of a material ships far larger than its role allows beside the base colour."""
    i, a = context.inventory, context.footprint
    longest = np.maximum(a.width, a.height)
    allowed_share = np.array([context.shares.get(role, 1.0) for role in Role])[i.role_codes]
    allowed = longest[i.base_of] * allowed_share
    for row, texture in context.each((i.base_of >= 0) & (longest >= 2 * allowed) & (longest > 64)):
        side = max(1, round(float(allowed[row])))
        base = i.textures[int(i.base_of[row])].path
        yield context.finding(
            "over-role-share",
            Severity.WARNING,
            texture.path,
            f"ships at {longest[row]} as {i.roles[row].role.label.lower()}, where {side} would do beside "
            f"{base.rsplit('/', 1)[-1]} at {longest[i.base_of[row]]}",
            context.saved_at_side(row, side),
            f"cap it at {side}, or set a role rule",
            Fix(Remedy.CAP, side),
        )


def without_levels(context: RuleContext) -> Iterator[Finding]:
    """A large texture ships without levels, and the target streams."""
    if context.target.limits.of("streaming") is None:
        return
    a = context.footprint
    lone = (a.levels == 1) & ~a.levels_lost & (np.maximum(a.width, a.height) >= 256)
    for row, texture in context.each(lone):
        yield context.finding(
            "no-levels",
            Severity.NOTE,
            texture.path,
            f"ships without mip levels: on {context.target.name} all {bytes_text(context.memory(row))} of it stay in memory, "
            "it is never streamed, and it shimmers in the distance",
            0,
            "turn its levels on, unless it is only ever drawn on the screen one to one",
            Fix(Remedy.LEVELS, 1),
        )
