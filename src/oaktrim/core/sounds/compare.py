"""How far a sound is from the one it was made of: by eye, in dB, and by what of the difference can be heard.

Segmental signal-to-noise ratio after Quackenbush, Barnwell and Clements, "Objective Measures of Speech Quality" (1988), its frames
held to -10 to 35 dB as in Hansen and Pellom, "An effective quality evaluation protocol for speech enhancement algorithms" (1998).
What masks what after Schroeder, Atal and Hall, "Optimizing digital speech coders by exploiting masking properties of the human ear"
(1979), and Johnston, "Transform coding of audio signals using perceptual noise criteria" (1988); the threshold in quiet after
Terhardt, "Calculating virtual pitch" (1979).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.sounds.codecs import SoundSettings
from oaktrim.core.sounds.signal import Sound, resampled, shortened, trimmed

Floats = NDArray[np.float64]

_FRAME_SECONDS = 0.02
_LEAST, _MOST = -10.0, 35.0
# Frames of a source that are quieter than this say nothing of noise, dB of full scale.
_SAID_NOTHING = -70.0
_WINDOW = 2048
# What full scale plays at, dB of sound pressure, and how far under a sound lies what it masks in its own band.
_FULL_SCALE, _UNDER = 90.0, 12.0
# The most windows that are judged, spread evenly.
_JUDGED = 600
_BARKS = 24
# Third octaves (IEC 61260-1), from 31.5 Hz up.
_FIRST_BAND, _LAST_BAND = -15, 13
FLOOR = -120.0


@dataclass(frozen=True)
class SoundLoss:
    """What a sound lost.

    Parameters
    ----------
    segmental : signal-to-noise ratio, dB, the mean of frames, each -10 to 35; 35 where nothing is different
    audible : how loud the difference is over what masks it, steps of 3 dB, the mean over the sound; 0 where nothing is heard
    bands : centres of third octaves, hertz; before, after, lost : mean level in each, dB of full scale; what was lost is their
        difference as a sound
    """

    segmental: float
    audible: float
    bands: Floats
    before: Floats
    after: Floats
    lost: Floats


def reference_for(source: Sound, settings: SoundSettings) -> Sound:
    """Return what of a source is still heard, all else as it was: what a result is compared with."""
    kept = source if settings.silence is None else trimmed(source, settings.silence)
    return kept if settings.longest is None else shortened(kept, settings.longest)


def lined_up(reference: Sound, result: Sound) -> tuple[Sound, Sound]:
    """Return both at the reference's rate, with its channels, equally long."""
    back = resampled(result, reference.rate).samples
    if back.shape[1] != reference.channels:
        back = np.repeat(back[:, :1], reference.channels, axis=1)
    count = min(len(back), len(reference.samples))
    return replace(reference, samples=reference.samples[:count]), Sound(back[:count], reference.rate)


def compare(reference: Sound, result: Sound) -> SoundLoss:
    """Return what of a reference was lost in a result, which may have another rate and fewer channels."""
    before, after = lined_up(reference, result)
    gone = Sound(before.samples - after.samples, before.rate)
    bands, levels = third_octaves(before)
    return SoundLoss(
        _segmental(before, gone),
        audible_steps(before, gone),
        bands,
        levels,
        third_octaves(after)[1],
        third_octaves(gone)[1],
    )


def _segmental(before: Sound, gone: Sound) -> float:
    size = max(1, round(_FRAME_SECONDS * before.rate))
    signal, noise = (_frame_power(sound.samples, size) for sound in (before, gone))
    said = signal > 10 ** (_SAID_NOTHING / 10)
    if not said.any():
        return _MOST if not noise.any() else _LEAST
    ratio = 10 * np.log10(np.maximum(signal[said], 1e-20) / np.maximum(noise[said], 1e-20))
    return float(np.clip(ratio, _LEAST, _MOST).mean())


def _frame_power(samples: NDArray[np.float32], size: int) -> Floats:
    """Return the mean square of each frame of some samples, over all channels."""
    squares = np.square(samples).mean(axis=1, dtype=np.float64)
    starts = np.arange(0, len(squares), size)
    sums = np.add.reduceat(squares, starts)
    found: Floats = sums / np.diff([*starts, len(squares)])
    return found


def windows_of(samples: NDArray[np.float32], most: int, size: int = _WINDOW) -> Floats:
    """Return the power spectra of at most so many windows of mono samples, evenly spread, (W, bins); full scale at 1."""
    padded = np.pad(samples, (0, max(0, size - len(samples))))
    count = max(1, min(most, 1 + (len(padded) - size) // (size // 2)))
    starts = np.linspace(0, len(padded) - size, count).astype(np.int64)
    shape = np.hanning(size).astype(np.float32)
    norm = size * float(np.square(shape).sum())
    found = np.empty((count, size // 2 + 1))
    for at in range(0, count, 64):
        pieces = np.stack([padded[start : start + size] for start in starts[at : at + 64]]) * shape
        found[at : at + 64] = 2 * np.square(np.abs(np.fft.rfft(pieces, axis=1))) / norm
    return found


def third_octaves(sound: Sound) -> tuple[Floats, Floats]:
    """Return the centres of third octaves below half the rate, hertz, and the mean level in each, dB of full scale."""
    centres = 1000 * 2.0 ** (np.arange(_FIRST_BAND, _LAST_BAND + 1) / 3)
    centres = centres[centres * 2 ** (1 / 6) <= sound.rate / 2]
    power = np.mean([windows_of(channel, _JUDGED).mean(axis=0) for channel in sound.samples.T], axis=0)
    edges = np.concatenate([centres * 2 ** (-1 / 6), centres[-1:] * 2 ** (1 / 6)])
    sums = np.concatenate([[0.0], np.cumsum(power)])
    # Bands that are narrower than a bin take their part of it.
    at = np.interp(edges * _WINDOW / sound.rate, np.arange(len(sums)) - 0.5, sums)
    return centres, np.maximum(FLOOR, 10 * np.log10(np.maximum(np.diff(at), 1e-30)))


def _bark(frequency: Floats) -> Floats:
    """Return critical-band rates (Traunmüller, 1990), Bark."""
    return 26.81 * frequency / (1960 + frequency) - 0.53


def _spreading() -> Floats:
    """Return how much of a band's power reaches each other (Schroeder et al., 1979), (to, from)."""
    apart = np.arange(_BARKS)[:, None] - np.arange(_BARKS)[None, :] + 0.474
    level = 15.81 + 7.5 * apart - 17.5 * np.sqrt(1 + np.square(apart))
    power: Floats = 10 ** (level / 10)
    return power


def audible_steps(before: Sound, gone: Sound) -> float:
    """Return how loud a difference is over what masks it, in steps of 3 dB, the mean over the sound and its channels."""
    frequency = np.arange(_WINDOW // 2 + 1) * before.rate / _WINDOW
    band = np.clip(_bark(frequency), 0, _BARKS - 1).astype(np.int64)
    spread, quiet = _spreading(), _quiet(frequency, band)
    found = []
    for signal, noise in zip(before.samples.T, gone.samples.T, strict=True):
        powers = []
        for samples in (signal, noise):
            spectra = windows_of(samples, _JUDGED)
            powers.append(np.stack([np.bincount(band, row, _BARKS) for row in spectra]))
        mask = np.maximum(powers[0] @ spread.T * 10 ** (-_UNDER / 10), quiet)
        over = (powers[1] / mask).max(axis=1)
        found.append(float((10 * np.log10(np.maximum(1.0, over)) / 3).mean()))
    return float(np.mean(found))


def _quiet(frequency: Floats, band: NDArray[np.int64]) -> Floats:
    """Return the power that is just heard in quiet in each band, full scale at 1."""
    kilohertz = np.maximum(frequency, 20) / 1000
    level = 3.64 * kilohertz**-0.8 - 6.5 * np.exp(-0.6 * np.square(kilohertz - 3.3)) + 1e-3 * kilohertz**4
    least = np.full(_BARKS, np.inf)
    np.minimum.at(least, band, np.minimum(level, 200.0))
    return 10 ** ((np.where(np.isfinite(least), least, 200.0) - _FULL_SCALE) / 10)


def spectrogram(sound: Sound, columns: int, rows: int) -> NDArray[np.float32]:
    """Return levels over time and frequency, dB of full scale, (rows, columns), the highest frequency first.

    Rows are equal parts of 0 to half the rate; of several channels it is the mean power, which is not that of their mean: what they
    hold in opposite phases counts too.
    """
    spectra = np.mean([windows_of(channel, columns, 1024) for channel in sound.samples.T], axis=0)
    bins = spectra.shape[1]
    edges = np.unique(np.linspace(0, bins, rows + 1).astype(np.int64))
    peaks = np.maximum.reduceat(spectra, edges[:-1], axis=1)
    level = np.maximum(FLOOR, 10 * np.log10(np.maximum(peaks, 1e-30)))
    picked = np.linspace(0, len(level) - 1, columns).round().astype(np.int64)
    tall = np.linspace(0, level.shape[1] - 1, rows).round().astype(np.int64)
    found: NDArray[np.float32] = level[picked][:, tall].T[::-1].astype(np.float32)
    return found


def waveform(sound: Sound, columns: int) -> NDArray[np.float32]:
    """Return the least and greatest sample of equal parts of a sound, over all channels, (columns, 2)."""
    edges = np.linspace(0, len(sound.samples), columns + 1).astype(np.int64)[:-1]
    edges = np.minimum(edges, len(sound.samples) - 1)
    low = np.minimum.reduceat(sound.samples.min(axis=1), edges)
    high = np.maximum.reduceat(sound.samples.max(axis=1), edges)
    return np.stack([low, high], axis=1)
