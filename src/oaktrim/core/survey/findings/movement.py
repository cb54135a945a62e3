"""Movement that weighs more than it needs, that does nothing, or that nothing uses."""

from __future__ import annotations

from collections.abc import Iterator
from statistics import median

from oaktrim.core.survey.facts import CLIP_MARK, ClipFacts
from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity
from oaktrim.core.units import bytes_text

_HEAVY_CLIP, _MANY_KEYS, _ENOUGH_KEYS = 1 << 16, 30.0, 15.0
# Fewer keys are worth a word where at least half go.
_FEW = 0.5
# A clip is long beside the others: so many times their median, and so many seconds.
_TIMES, _SECONDS = 5.0, 20.0


def _clips(context: RuleContext) -> Iterator[tuple[str, ClipFacts]]:
    for model in context.inventory.models:
        for number, clip in enumerate(model.clips):
            yield f"{model.path}{CLIP_MARK}{number}", clip


def heavy_animation(context: RuleContext) -> Iterator[Finding]:
    """A clip with more keys than its movement needs."""
    for path, clip in _clips(context):
        if clip.needed >= 0:
            if clip.needed > clip.keys * _FEW or path in context.trimmed:
                continue
            saved = int(clip.data_bytes * (1 - clip.needed / max(1, clip.keys)))
            yield context.finding(
                "heavy-animation", Severity.NOTE, path,
                f"{clip.name}: {clip.keys:,} keys, of which {clip.needed:,} keep all that it moves within 1 mm and 1°: the others "
                f"take about {bytes_text(saved)}", saved, "reduce its keys", Fix(Remedy.KEYS, 1),
            )  # fmt: skip
            continue
        rate = clip.keys / max(1, clip.channels) / clip.seconds if clip.seconds > 0 else 0.0
        if clip.data_bytes >= _HEAVY_CLIP and rate > _MANY_KEYS:
            saved = int(clip.data_bytes * (1 - _ENOUGH_KEYS / rate))
            yield context.finding(
                "heavy-animation", Severity.NOTE, path,
                f"{clip.name}: {rate:.0f} keys a second on each of {clip.channels} channels over {clip.seconds:.1f} s; "
                f"{_ENOUGH_KEYS:.0f} a second would save {bytes_text(saved)}", saved, "reduce its keys, or shorten it",
            )  # fmt: skip


def idle_motion(context: RuleContext) -> Iterator[Finding]:
    """Channels of a clip that leave their node where it stands without them."""
    for path, clip in _clips(context):
        if clip.idle and path not in context.trimmed:
            saved = clip.data_bytes * clip.idle // max(1, clip.channels)
            yield context.finding(
                "idle-motion", Severity.NOTE, path,
                f"{clip.name}: {clip.idle} of {clip.channels} channels leave their nodes where they stand, for up to "
                f"{bytes_text(saved)}", saved, "leave them out", Fix(Remedy.KEYS, 1),
            )  # fmt: skip


def unused_clip(context: RuleContext) -> Iterator[Finding]:
    """A clip that moves no node."""
    for path, clip in _clips(context):
        if clip.moves == 0:
            yield context.finding(
                "unused-clip", Severity.WARNING, path, f"{clip.name}: it moves no node of the model", clip.data_bytes,
                "leave it out", Fix(Remedy.LEAVE_OUT, 1),
            )  # fmt: skip


def long_clip(context: RuleContext) -> Iterator[Finding]:
    """A clip that is longer by far than the others."""
    clips = list(_clips(context))
    lengths = [clip.seconds for _, clip in clips if clip.seconds > 0]
    if len(lengths) < 3:
        return
    usual = median(lengths)
    for path, clip in clips:
        if clip.seconds > max(_SECONDS, _TIMES * usual):
            yield context.finding(
                "long-clip", Severity.NOTE, path,
                f"{clip.name}: {clip.seconds:.0f} s, where half of all clips take no more than {usual:.1f} s", clip.data_bytes,
                "shorten it to a loop, or leave it out",
            )  # fmt: skip
