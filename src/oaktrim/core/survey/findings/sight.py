"""Sizes against what is ever seen, where sightlines or cameras say it."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity

_SPARE = 2


def levels_to_spare(context: RuleContext) -> Iterator[Finding]:
    """From everywhere, two levels or more of what ships are never shown."""
    demand, inventory = context.demand, context.inventory
    if demand is None:
        return
    for row in np.flatnonzero(demand.spare(_longest(context), _sources(context)) >= _SPARE).tolist():
        texture, (width, height) = inventory.textures[row], context.size(row)
        side = demand.kept_side(row, max(texture.width, texture.height))
        scale = min(1.0, side / max(width, height))
        smaller = max(1, round(width * scale)), max(1, round(height * scale))
        spare = int(demand.spare(_longest(context), _sources(context))[row])
        yield context.finding(
            "levels-to-spare",
            Severity.WARNING,
            texture.path,
            f"{spare} levels to spare from everywhere: it ships at {width}x{height}, and {side} is all that is ever shown "
            f"({_where(context, row)})",
            max(0, context.memory(row) - context.memory_at(row, *smaller)),
            f"cap it at {side}",
            Fix(Remedy.CAP, side),
        )


def levels_short(context: RuleContext) -> Iterator[Finding]:
    """Somewhere a level more would be shown than ships."""
    demand, inventory = context.demand, context.inventory
    if demand is None:
        return
    fits = demand.fit(_longest(context), _sources(context))
    for row in np.flatnonzero(fits <= -1).tolist():
        texture, (width, height) = inventory.textures[row], context.size(row)
        side, whole = demand.side(row, max(texture.width, texture.height)), max(texture.width, texture.height)
        short = int(-fits[row])
        mended = min(side, 1 << (whole.bit_length() - 1))
        better = mended > max(width, height)
        yield context.finding(
            "levels-short",
            Severity.WARNING if short > 1 else Severity.NOTE,
            texture.path,
            f"{short} level{'s' if short > 1 else ''} short at {_where(context, row)}: it ships at {width}x{height}, and {side} "
            "would be shown",
            0,
            f"let it ship at {mended}" if better else "make it larger, or keep its distance",
            Fix(Remedy.CAP, mended) if better else None,
        )


def never_seen(context: RuleContext) -> Iterator[Finding]:
    """No sightline shows any of it."""
    demand = context.demand
    if demand is None:
        return
    for row in np.flatnonzero(demand.unseen).tolist():
        yield context.finding(
            "never-seen",
            Severity.NOTE,
            context.inventory.textures[row].path,
            "it is never seen from any sightline: what uses it is hidden, behind everything, or turned away",
            context.memory(row),
            "leave it out, or add a sightline that sees it",
        )


def _longest(context: RuleContext) -> np.ndarray:
    return np.maximum(context.footprint.width, context.footprint.height)


def _sources(context: RuleContext) -> np.ndarray:
    return np.maximum(context.inventory.width, context.inventory.height)


def _where(context: RuleContext, row: int) -> str:
    demand = context.demand
    assert demand is not None
    place = demand.views[int(demand.view[row])]
    distance = float(demand.distance[row])
    near = f", {distance:.1f} away" if np.isfinite(distance) else ", estimated"
    return f"{place}{near}"
