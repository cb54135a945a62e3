"""Movement that weighs more than it needs."""

from __future__ import annotations

from collections.abc import Iterator

from oaktrim.core.survey.facts import CLIP_MARK
from oaktrim.core.survey.findings.finding import Finding, RuleContext, Severity
from oaktrim.core.units import bytes_text

_HEAVY_CLIP, _MANY_KEYS, _ENOUGH_KEYS = 1 << 16, 30.0, 15.0


def heavy_animation(context: RuleContext) -> Iterator[Finding]:
    """A clip with more keys than movement needs."""
    for model in context.inventory.models:
        for number, clip in enumerate(model.clips):
            rate = clip.keys / max(1, clip.channels) / clip.seconds if clip.seconds > 0 else 0.0
            if clip.data_bytes < _HEAVY_CLIP or rate <= _MANY_KEYS:
                continue
            saved = int(clip.data_bytes * (1 - _ENOUGH_KEYS / rate))
            yield context.finding(
                "heavy-animation",
                Severity.NOTE,
                f"{model.path}{CLIP_MARK}{number}",
                f"{clip.name}: {rate:.0f} keys a second on each of {clip.channels} channels over {clip.seconds:.1f} s; "
                f"{_ENOUGH_KEYS:.0f} a second would save {bytes_text(saved)}",
                saved,
                "reduce its keys, or shorten it",
            )
