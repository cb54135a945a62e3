"""Encoding a sound by its settings: brought down in order, and written by libsndfile with nothing left to chance."""

from __future__ import annotations

import io
import zlib
from typing import Any

import soundfile

from oaktrim.core.errors import Unsupported
from oaktrim.core.sounds import ogg
from oaktrim.core.sounds.codecs import CODECS, SoundCodec, SoundSettings
from oaktrim.core.sounds.signal import Sound, fault_words, mixed, resampled, shortened, trimmed

# libsndfile's Vorbis keeps a block of all frames that it is given at once on the stack.
_WRITTEN = 1 << 12
_MOST_CHANNELS = 8
_FORMATS: dict[SoundCodec, dict[str, Any]] = {
    SoundCodec.PCM: {"format": "WAV", "subtype": "PCM_16"},
    SoundCodec.FLAC: {"format": "FLAC", "subtype": "PCM_16"},
    SoundCodec.VORBIS: {"format": "OGG", "subtype": "VORBIS"},
    SoundCodec.OPUS: {"format": "OGG", "subtype": "OPUS"},
}


def brought_down(sound: Sound, settings: SoundSettings) -> Sound:
    """Return what of a sound is encoded: trimmed, cut to length, mixed down, resampled."""
    if settings.silence is not None:
        sound = trimmed(sound, settings.silence)
    if settings.longest is not None:
        sound = shortened(sound, settings.longest)
    return resampled(mixed(sound, settings.channels), settings.rate)


def encode(sound: Sound, settings: SoundSettings) -> bytes:
    """Return a file of a sound that has been brought down.

    Raises
    ------
    Unsupported : the codec takes no sound of this rate or so many channels
    """
    traits = CODECS[settings.codec]
    if traits.rates and sound.rate not in traits.rates:
        rates = ", ".join(f"{rate / 1000:g}" for rate in traits.rates)
        raise Unsupported(f"{traits.label} takes {rates} kHz, not {sound.rate / 1000:g}")
    if sound.channels > _MOST_CHANNELS:
        raise Unsupported(f"{traits.label} is written with up to {_MOST_CHANNELS} channels, not {sound.channels}")
    out = io.BytesIO()
    try:
        with soundfile.SoundFile(
            out, "w", sound.rate, sound.channels, compression_level=_level(settings), **_FORMATS[settings.codec]
        ) as file:
            for at in range(0, len(sound.samples), _WRITTEN):
                file.write(sound.samples[at : at + _WRITTEN])
    except (soundfile.SoundFileError, RuntimeError, ValueError) as error:
        raise Unsupported(f"{settings.label} cannot be written: {fault_words(error)}") from error
    data = out.getvalue()
    if traits.quality is None:
        return data
    return ogg.with_serial(data, zlib.crc32(settings.key.encode()))


def _level(settings: SoundSettings) -> float | None:
    """Return a quality as libsndfile counts it: 0 for the best, 1 for the smallest."""
    scale = CODECS[settings.codec].quality
    if scale is None:
        return None
    least, _, most = scale
    return (most - settings.quality) / (most - least)
