"""The codecs that sounds ship in, and the settings that decide what becomes of one; nothing here reads a sound.

Vorbis is Xiph.Org's Vorbis I in Ogg (RFC 5215, RFC 3533), Opus is RFC 6716 in Ogg (RFC 7845), both written by libsndfile.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import msgspec

MIN_RATE, MAX_RATE = 4_000, 192_000
# Of a cut that keeps a sound's own codec, where nothing tells how well that was encoded.
USUAL_VORBIS = 0.5
# Ends that are quieter are silence, dB below full scale, where nobody says otherwise.
USUAL_SILENCE = -60.0


class SoundKind(Enum):
    """Kinds of files that hold sounds: `ogg` holds Vorbis, `opus` is Ogg with Opus."""

    WAV = "wav"
    FLAC = "flac"
    OGG = "ogg"
    OPUS = "opus"
    MP3 = "mp3"


class SoundStorage(Enum):
    """How a target keeps sounds in memory: as their files are, or decoded to 16-bit PCM when they are loaded."""

    PACKED = "packed"
    DECODED = "decoded"

    def held_bytes(self, file: int, decoded: int) -> int:
        """Return what a sound takes of memory, from the bytes of its file and of its samples as 16-bit PCM."""
        return file if self is SoundStorage.PACKED else decoded


class SoundCodec(Enum):
    """Codecs that are written."""

    PCM = "pcm"
    FLAC = "flac"
    VORBIS = "vorbis"
    OPUS = "opus"


@dataclass(frozen=True)
class CodecTraits:
    """What is true of a codec.

    Parameters
    ----------
    kind : of the file that holds it
    quality : least, usual and greatest; None where there is nothing to choose. Vorbis's own scale, and kbit/s a channel of Opus
    unit : of the quality, in words
    rates : frames a second that it takes; empty for any
    """

    label: str
    kind: SoundKind
    quality: tuple[float, float, float] | None = None
    unit: str = ""
    rates: tuple[int, ...] = ()

    @property
    def ending(self) -> str:
        """Of its files, with the dot."""
        return f".{self.kind.value}"

    def rate_for(self, rate: int) -> int:
        """Return the least rate it takes that is not under another, or its greatest."""
        if not self.rates:
            return rate
        return next((known for known in self.rates if known >= rate), self.rates[-1])

    def words(self, quality: float) -> str:
        """Return the codec with a quality, in words."""
        return self.label if self.quality is None else f"{self.label} {quality:g}{self.unit}"


CODECS: dict[SoundCodec, CodecTraits] = {
    SoundCodec.PCM: CodecTraits("PCM 16", SoundKind.WAV),
    SoundCodec.FLAC: CodecTraits("FLAC", SoundKind.FLAC),
    SoundCodec.VORBIS: CodecTraits("Vorbis", SoundKind.OGG, (0.0, USUAL_VORBIS, 1.0)),
    SoundCodec.OPUS: CodecTraits(
        "Opus", SoundKind.OPUS, (6.0, 48.0, 256.0), " kbit/s a channel", (8_000, 12_000, 16_000, 24_000, 48_000)
    ),
}


def fault_of_quality(codec: SoundCodec, quality: float) -> str:
    """Return what is wrong with a quality of a codec, in words; empty where nothing is."""
    traits = CODECS[codec]
    if traits.quality is None:
        return "" if quality == 0 else f"{traits.label} has no quality to choose"
    low, _, high = traits.quality
    return "" if low <= quality <= high else f"{traits.label} is {low:g} to {high:g}{traits.unit}, not {quality:g}"


class SoundSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """All that decides what a sound holds once it is made.

    Parameters
    ----------
    rate : frames a second; channels : 1, or as many as the source has
    quality : as its codec counts it, 0 where that has none
    silence : ends that stay under it are trimmed, dB of full scale; None for none
    longest : seconds; None for all
    """

    rate: int
    channels: int
    codec: SoundCodec
    quality: float = 0.0
    silence: float | None = None
    longest: float | None = None

    @property
    def key(self) -> str:
        """All of it as text."""
        ends = f"{self.silence} {self.longest}"
        return f"{self.rate} {self.channels} {self.codec.value} {self.quality:g} {ends}"

    @property
    def label(self) -> str:
        """The result in words."""
        channels = {1: "mono", 2: "stereo"}.get(self.channels, f"{self.channels} channels")
        return f"{CODECS[self.codec].words(self.quality)}, {self.rate / 1000:g} kHz {channels}"
