"""Sounds and movement that weigh more than they need."""

from __future__ import annotations

from collections.abc import Iterator

from oaktrim.core.survey.facts import CLIP_MARK
from oaktrim.core.survey.findings.finding import Finding, RuleContext, Severity
from oaktrim.core.units import bytes_text

_LONG_SECONDS, _HIGH_RATE = 20.0, 32_000
_HEAVY_CLIP, _MANY_KEYS, _ENOUGH_KEYS = 1 << 16, 30.0, 15.0


def long_audio(context: RuleContext) -> Iterator[Finding]:
    """A long sound, and what less of it would save."""
    for sound in context.inventory.audio:
        if sound.seconds < _LONG_SECONDS:
            continue
        savings = [f"half the length saves {bytes_text(sound.file_bytes // 2)}"]
        if sound.rate > _HIGH_RATE:
            savings.append(f"half the rate about {bytes_text(sound.file_bytes // 2)}")
        if sound.channels > 1:
            savings.append(f"one channel about {bytes_text(sound.file_bytes * (sound.channels - 1) // sound.channels)}")
        yield context.finding(
            "long-audio",
            Severity.NOTE,
            sound.path,
            f"{sound.seconds:.0f} s at {sound.rate:,} Hz in {sound.channels} channels, {bytes_text(sound.decoded_bytes)} when "
            f"decoded: {', '.join(savings)}",
            sound.file_bytes // 2,
            "shorten it to a loop, or lower its rate",
        )


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
