"""Sounds that weigh more than is heard of them, that clip, or that a target does not play."""

from __future__ import annotations

from collections.abc import Iterator

from oaktrim.core.sounds.codecs import USUAL_SILENCE, USUAL_VORBIS, SoundKind
from oaktrim.core.sounds.traits import envelope_peaks, heard_seconds
from oaktrim.core.survey.facts import AudioFacts
from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity, ShippedSound
from oaktrim.core.units import bytes_text

# Rates that engines play everywhere, and the part of half a rate that its filter leaves whole.
_RATES, _LEFT_WHOLE = (8_000, 11_025, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 96_000), 0.9
# A difference of left and right that is never heard, dB beside what they have in common.
_SAME = -60.0
# Silence that is worth a word: at the ends and in one piece within, seconds.
_SILENT_ENDS, _SILENT_WITHIN = 0.25, 2.0
_LONG_SECONDS, _LONG_BYTES = 20.0, 1 << 20
# Clipping that is heard is more than a moment, seconds.
_CLIPPED = 0.005


def _each(context: RuleContext) -> Iterator[tuple[AudioFacts, ShippedSound]]:
    for sound in context.inventory.audio:
        shipped = context.sounds.get(sound.path)
        if shipped is not None:
            yield sound, shipped


def _saved(shipped: ShippedSound, share: float) -> int:
    """Return the bytes that are saved where a share of a sound's samples goes: of its file, where that is not packed."""
    lossy = shipped.kind in (SoundKind.OGG, SoundKind.OPUS, SoundKind.MP3)
    return int((shipped.held_bytes if lossy else shipped.file_bytes) * share)


def kind_not_played(context: RuleContext) -> Iterator[Finding]:
    """A file of a kind that the target's engine does not play."""
    target = context.target
    for sound, shipped in _each(context):
        if shipped.kind in target.sound_kinds:
            continue
        played = ", ".join(kind.value for kind in target.sound_kinds) or "none"
        fix = next((_CODECS[kind] for kind in _CODECS if kind in target.sound_kinds), None)
        yield context.finding(
            "sound-kind", Severity.ERROR, sound.path,
            f"ships as {shipped.kind.value}; {target.name} plays {played}", 0,
            "encode it as one of these", None if fix is None else Fix(Remedy.CODEC, fix),
        )  # fmt: skip


# What is written of a kind, the one to take first.
_CODECS = {
    SoundKind.OGG: f"vorbis:{USUAL_VORBIS:g}", SoundKind.OPUS: "opus:48", SoundKind.FLAC: "flac:0", SoundKind.WAV: "pcm:0",
}  # fmt: skip


def rate_to_spare(context: RuleContext) -> Iterator[Finding]:
    """A rate that the sound has no use for: nothing of it lies above half of a lower one."""
    for sound, shipped in _each(context):
        enough = next((rate for rate in _RATES if rate / 2 * _LEFT_WHOLE >= sound.bandwidth), shipped.rate)
        if enough > shipped.rate * 0.8:
            continue
        saved = _saved(shipped, 1 - enough / shipped.rate)
        yield context.finding(
            "rate-to-spare", Severity.WARNING, sound.path,
            f"{shipped.rate:,} Hz, and nothing is heard above {sound.bandwidth:,.0f} Hz: {enough:,} Hz lose nothing and save "
            f"{bytes_text(saved)}", saved, f"lower its rate to {enough:,} Hz", Fix(Remedy.RATE, enough),
        )  # fmt: skip


def stereo_is_mono(context: RuleContext) -> Iterator[Finding]:
    """Two channels that say the same."""
    for sound, shipped in _each(context):
        if shipped.channels == 2 and sound.side <= _SAME:
            saved = _saved(shipped, 0.5)
            yield context.finding(
                "stereo-is-mono", Severity.WARNING, sound.path,
                f"left and right are the same: one channel loses nothing and saves {bytes_text(saved)}", saved,
                "mix it to one channel", Fix(Remedy.MONO, 1),
            )  # fmt: skip


def long_silence(context: RuleContext) -> Iterator[Finding]:
    """Silence at the ends, which is data all the same, or for long in the middle."""
    for sound, shipped in _each(context):
        start, stop = heard_seconds(sound.envelope, sound.step, sound.seconds, USUAL_SILENCE)
        if start >= stop:
            yield context.finding(
                "long-silence", Severity.WARNING, sound.path, f"{sound.seconds:.1f} s of silence", shipped.file_bytes,
                "leave it out",
            )  # fmt: skip
            continue
        # What is trimmed already is not silent any more.
        ends = shipped.seconds - (stop - start)
        if ends >= _SILENT_ENDS and shipped.seconds > stop - start + _SILENT_ENDS:
            saved = _saved(shipped, ends / shipped.seconds)
            yield context.finding(
                "long-silence", Severity.NOTE, sound.path,
                f"{start:.2f} s of silence before and {sound.seconds - stop:.2f} s after what is heard: without them "
                f"{bytes_text(saved)} less", saved, "trim its ends", Fix(Remedy.TRIM, int(USUAL_SILENCE)),
            )  # fmt: skip
        longest = _longest_pause(sound)
        if longest >= _SILENT_WITHIN:
            yield context.finding(
                "long-silence", Severity.NOTE, sound.path,
                f"{longest:.1f} s of silence within: two sounds in one file, of which the pause is data too",
                _saved(shipped, longest / sound.seconds), "make two sounds of it",
            )  # fmt: skip


def _longest_pause(sound: AudioFacts) -> float:
    """Return the longest silence between two parts that are heard, seconds."""
    heard = (envelope_peaks(sound.envelope) >= 10 ** (USUAL_SILENCE / 20)).nonzero()[0]
    return float((heard[1:] - heard[:-1] - 1).max() * sound.step) if len(heard) > 1 else 0.0


def long_audio(context: RuleContext) -> Iterator[Finding]:
    """A long sound that is held whole, which could be read while it plays."""
    for sound, shipped in _each(context):
        if shipped.seconds < _LONG_SECONDS or shipped.held_bytes < _LONG_BYTES:
            continue
        yield context.finding(
            "long-audio", Severity.NOTE, sound.path,
            f"{shipped.seconds:.0f} s at {shipped.rate:,} Hz take {bytes_text(shipped.held_bytes)} of memory on "
            f"{context.target.name} where they are held whole: {bytes_text(shipped.file_bytes)} as a file, which could be "
            "streamed", shipped.held_bytes, "stream it in the engine, shorten it to a loop, or lower its rate",
        )  # fmt: skip


def clipped(context: RuleContext) -> Iterator[Finding]:
    """Peaks that are cut flat."""
    for sound, _ in _each(context):
        if sound.clipped >= _CLIPPED * sound.rate * sound.channels:
            yield context.finding(
                "clipped", Severity.NOTE, sound.path,
                f"{sound.clipped:,} samples stand at full scale or over it in a row: the source has its peaks cut off", 0,
                "record or mix it again at a lower level",
            )  # fmt: skip
