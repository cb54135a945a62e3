"""A sound as samples: decoded, cut to length, mixed down and resampled.

Rates change by a polyphase filter: Crochiere and Rabiner, "Multirate Digital Signal Processing" (1983), chapter 3, with a low-pass
after Kaiser, "Nonrecursive digital filter design using the I0-sinh window function" (1974).
"""

from __future__ import annotations

import io
from dataclasses import dataclass, replace
from functools import lru_cache
from math import gcd
from pathlib import Path

import numpy as np
import scipy
import soundfile
from numpy.typing import NDArray

from oaktrim.core.errors import FileError

Samples = NDArray[np.float32]

# Decoded at a time.
BLOCK = 1 << 18
# The most samples that a sound may state, all channels together: four hours of stereo at 48 kHz, 5.5 GB.
MOST_SAMPLES = 1 << 31
# What is left around what is heard when silence is trimmed, and how long a sound that is cut off takes to fade, seconds.
_MARGIN, _FADE = 0.01, 0.02
# The low-pass: zero crossings to each side, and how far it holds what would fold back, dB.
_CROSSINGS, _HELD = 56, 90.0


@dataclass(frozen=True, eq=False)
class Sound:
    """A sound: `samples` (N, channels) float32, full scale at 1, `rate` frames a second."""

    samples: Samples
    rate: int

    @property
    def channels(self) -> int:
        return int(self.samples.shape[1])

    @property
    def seconds(self) -> float:
        return len(self.samples) / self.rate


def fault_words(error: Exception) -> str:
    """Return what libsndfile says of a fault, without the file's name."""
    text = getattr(error, "error_string", "") or str(error)
    return text.rpartition(": ")[2].strip(" .").lower() or type(error).__name__


SOUND_FAULTS = (soundfile.SoundFileError, RuntimeError, OSError, ValueError, TypeError, OverflowError)


def decode(data: bytes, path: Path) -> Sound:
    """Return a sound file's bytes as samples.

    Raises
    ------
    FileError : it cannot be decoded to its end, is longer than is worked on, or holds what is no number
    """
    try:
        with soundfile.SoundFile(io.BytesIO(data)) as file:
            if file.frames < 1 or file.frames * file.channels > MOST_SAMPLES:
                raise FileError(path, f"states {file.frames} frames of {file.channels} channels")
            samples = file.read(dtype="float32", always_2d=True)
            stated, rate = file.frames if file.format not in ("MP3", "MPEG") else 0, file.samplerate
    except FileError:
        raise
    except SOUND_FAULTS as error:
        raise FileError(path, f"cannot be decoded: {fault_words(error)}") from error
    if len(samples) < stated:
        raise FileError(path, f"ends after {len(samples)} of {stated} frames")
    if not np.isfinite(samples).all():
        raise FileError(path, "holds samples that are no numbers")
    return Sound(samples, rate)


def trimmed(sound: Sound, silence: float) -> Sound:
    """Return a sound without what stays under a level at its ends, dB of full scale; what is all silence keeps a moment."""
    start, stop = heard_span(sound, silence)
    margin = round(_MARGIN * sound.rate)
    if start >= stop:
        return replace(sound, samples=sound.samples[: max(1, margin)])
    return replace(sound, samples=sound.samples[max(0, start - margin) : stop + margin])


def heard_span(sound: Sound, silence: float) -> tuple[int, int]:
    """Return the first frame that reaches a level and the one after the last, both 0 where none does."""
    level, first, stop = np.float32(10 ** (silence / 20)), -1, 0
    for at in range(0, len(sound.samples), BLOCK):
        hits = np.flatnonzero((np.abs(sound.samples[at : at + BLOCK]) >= level).any(axis=1))
        if len(hits):
            first, stop = (at + int(hits[0]) if first < 0 else first), at + int(hits[-1]) + 1
    return max(0, first), stop


def shortened(sound: Sound, longest: float) -> Sound:
    """Return the first seconds of a sound, faded out where something is left off."""
    count = max(1, round(longest * sound.rate))
    if count >= len(sound.samples):
        return sound
    kept = sound.samples[:count].copy()
    fade = min(count, round(_FADE * sound.rate))
    kept[count - fade :] *= np.linspace(1, 0, fade, dtype=np.float32)[:, None]
    return replace(sound, samples=kept)


def mixed(sound: Sound, channels: int) -> Sound:
    """Return a sound as mono, the mean of its channels; any other number of channels has to be its own."""
    if channels == sound.channels:
        return sound
    if channels != 1:
        raise ValueError(f"{sound.channels} channels can be mixed to one, not to {channels}")
    return replace(sound, samples=sound.samples.mean(axis=1, keepdims=True, dtype=np.float32))


def resampled(sound: Sound, rate: int) -> Sound:
    """Return a sound at another rate; at the first and last frame it is taken to be silent beyond."""
    if rate == sound.rate:
        return sound
    common = gcd(rate, sound.rate)
    up, down = rate // common, sound.rate // common
    # SciPy loads its part for signals here: that takes a second, and most commands change no rate.
    samples = scipy.signal.resample_poly(sound.samples, up, down, axis=0, window=_low_pass(up, down))
    samples = samples.astype(np.float32, copy=False)
    return Sound(np.ascontiguousarray(samples), rate)


@lru_cache(maxsize=16)
def _low_pass(up: int, down: int) -> Samples:
    """Return the low-pass for a change of rate: what would fold back is held, and nine tenths of the lower band passes."""
    widest = max(up, down)
    half = _CROSSINGS * widest
    # Kaiser's formula for the width of the transition, as a part of the Nyquist frequency; it ends at the lower rate's own.
    width = (_HELD - 7.95) / (2.285 * 2 * half * np.pi)
    taps = scipy.signal.firwin(2 * half + 1, 1 / widest - width / 2, window=("kaiser", scipy.signal.kaiser_beta(_HELD)))
    kept: Samples = taps.astype(np.float32)
    return kept
