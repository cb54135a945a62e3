"""Cuts of sounds: what becomes of rate, channels, codec, silence at the ends, and length."""

from __future__ import annotations

from typing import get_args

import msgspec

from oaktrim.core.sounds.codecs import CODECS, MAX_RATE, MIN_RATE, SoundCodec, fault_of_quality

MOST_SECONDS = 24 * 3600.0
_QUIETEST, _LOUDEST = -120.0, -20.0


class SetRate(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="rate", tag_field="kind"):
    """At most this many frames a second; the sound is filtered down."""

    rate: int

    def __post_init__(self) -> None:
        if not MIN_RATE <= self.rate <= MAX_RATE:
            raise ValueError(f"a rate is {MIN_RATE} to {MAX_RATE} Hz, not {self.rate}")

    @property
    def label(self) -> str:
        return f"Rate {self.rate / 1000:g} kHz"


class SetMono(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="mono", tag_field="kind"):
    """All channels are mixed into one, or kept."""

    on: bool

    @property
    def label(self) -> str:
        return "Mono" if self.on else "Channels as they are"


class SetCodec(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="codec", tag_field="kind"):
    """The sound is encoded with this codec; `quality` as that counts it, 0 where it has none."""

    codec: SoundCodec
    quality: float = 0.0

    def __post_init__(self) -> None:
        fault = fault_of_quality(self.codec, self.quality)
        if fault:
            raise ValueError(fault)

    @property
    def label(self) -> str:
        return CODECS[self.codec].words(self.quality)


def codec_change(text: str) -> SetCodec:
    """Return the change that a text such as `vorbis:0.3`, `opus:48` or `flac` says; without a quality, the usual one.

    Raises
    ------
    ValueError : there is no such codec, or it has no such quality
    """
    name, _, quality = text.partition(":")
    known = [codec.value for codec in SoundCodec]
    if name not in known:
        raise ValueError(f"a codec is {', '.join(known)}, not {name!r}")
    codec = SoundCodec(name)
    traits = CODECS[codec].quality
    if not quality:
        return SetCodec(codec, 0.0 if traits is None else traits[1])
    try:
        value = float(quality)
    except ValueError:
        raise ValueError(f"a quality is a number, not {quality!r}") from None
    return SetCodec(codec, value)


class TrimSilence(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="trim-silence", tag_field="kind"):
    """Ends that stay under a level are left off, dB of full scale."""

    decibels: float

    def __post_init__(self) -> None:
        if not _QUIETEST <= self.decibels <= _LOUDEST:
            raise ValueError(f"silence is {_QUIETEST:g} to {_LOUDEST:g} dB, not {self.decibels:g}")

    @property
    def label(self) -> str:
        return f"Ends under {self.decibels:g} dB trimmed"


class SetLongest(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="longest", tag_field="kind"):
    """What is longer is cut off after so many seconds, and faded out."""

    seconds: float

    def __post_init__(self) -> None:
        if not 0.05 <= self.seconds <= MOST_SECONDS:
            raise ValueError(f"a longest length is 0.05 to {MOST_SECONDS:g} s, not {self.seconds:g}")

    @property
    def label(self) -> str:
        return f"At most {self.seconds:g} s"


SoundChange = TrimSilence | SetLongest | SetMono | SetRate | SetCodec
# In the order in which they act on a sound.
SOUND_KINDS: tuple[type[SoundChange], ...] = get_args(SoundChange)
