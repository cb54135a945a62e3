"""What a sound's samples say: how loud it is over time, what of its band is used, whether its channels differ, where it clips."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from oaktrim.core.errors import FileError
from oaktrim.core.sounds.signal import BLOCK, SOUND_FAULTS, fault_words

# The envelope: seconds of a step where the sound is short, the most steps, and steps of its codes in dB.
_STEP, _MOST_STEPS, _CODE = 0.05, 4096, 0.5
_QUIET = 255
# Windows of the spectrum, and how many of each block are looked at.
_WINDOW, _LOOKED_AT = 4096, 8
# What lies above the bandwidth stays under this in its loudest moment: dB of full scale, or under the loudest moment of all.
_FLOOR, _BELOW_LOUDEST = -78.0, -66.0
# A sample is clipped that stands at full scale with at least two neighbours.
_FULL, _RUN = 32766 / 32768, 3
SILENT = -200.0


@dataclass(frozen=True)
class SoundTraits:
    """What the samples say.

    Parameters
    ----------
    peak : dB of full scale
    clipped : frames that stand at full scale in a row
    side : the difference of left and right beside their sum, dB; `SILENT` where they are the same or there are not two
    bandwidth : hertz, above which there is nothing to be heard
    step : seconds of a step of the envelope
    envelope : peak of each step, half decibels under full scale, 255 for nothing
    """

    peak: float
    clipped: int
    side: float
    bandwidth: float
    step: float
    envelope: bytes


def decibels(power: float) -> float:
    """Return a power as dB, `SILENT` at least."""
    return max(SILENT, 10 * float(np.log10(power))) if power > 0 else SILENT


def sound_traits(data: bytes, path: Path) -> SoundTraits:
    """Return what a sound file's samples say, read a block at a time.

    Raises
    ------
    FileError : it cannot be decoded to its end, or holds what is no number
    """
    try:
        with soundfile.SoundFile(io.BytesIO(data)) as file:
            return _read(file, path)
    except SOUND_FAULTS as error:
        raise FileError(path, f"cannot be decoded: {fault_words(error)}") from error


def _read(file: soundfile.SoundFile, path: Path) -> SoundTraits:
    stated, rate = file.frames, file.samplerate
    step = max(1, round(_STEP * rate), -(-stated // _MOST_STEPS))
    # A block is whole steps.
    size = step * max(1, BLOCK // step)
    peaks: list[NDArray[np.float32]] = []
    above = np.zeros(_WINDOW // 2 + 1)
    loudest = mid = side = 0.0
    clipped = read = 0
    while len(block := file.read(size, dtype="float32", always_2d=True)):
        if not np.isfinite(block).all():
            raise FileError(path, "holds samples that are no numbers")
        level = np.abs(block)
        high = level.max(axis=1)
        peaks.append(np.maximum.reduceat(high, np.arange(0, len(high), step)))
        clipped += _clipped(level)
        if block.shape[1] == 2:
            mid += float(np.square(block[:, 0] + block[:, 1]).sum(dtype=np.float64))
            side += float(np.square(block[:, 0] - block[:, 1]).sum(dtype=np.float64))
        tail = _energy_above(block)
        above, loudest = np.maximum(above, tail.max(axis=0)), max(loudest, float(tail[:, 0].max()))
        read += len(block)
    # The length of an MP3 file is told from its first frames.
    if read < stated and file.format not in ("MP3", "MPEG"):
        raise FileError(path, f"ends after {read} of {stated} frames")
    envelope = np.concatenate(peaks)
    limit = max(10 ** (_FLOOR / 10), loudest * 10 ** (_BELOW_LOUDEST / 10))
    heard = np.flatnonzero(above >= limit)
    bandwidth = (int(heard[-1]) + 1 if len(heard) else 0) * rate / _WINDOW
    return SoundTraits(
        2 * decibels(float(envelope.max())), clipped, decibels(side / mid) if mid > 0 else 0.0 if side > 0 else SILENT,
        min(bandwidth, rate / 2), step / rate, envelope_codes(envelope).tobytes(),
    )  # fmt: skip


def envelope_codes(peaks: NDArray[np.float32]) -> NDArray[np.uint8]:
    """Return peaks as half decibels under full scale, 255 for nothing."""
    with np.errstate(divide="ignore"):
        under = -20 / _CODE * np.log10(peaks.astype(np.float64))
    return np.clip(np.where(np.isfinite(under), np.rint(under), _QUIET), 0, _QUIET).astype(np.uint8)


def envelope_peaks(codes: bytes) -> NDArray[np.float64]:
    """Return the peaks of an envelope, full scale at 1."""
    under = np.frombuffer(codes, np.uint8).astype(np.float64)
    return np.where(under == _QUIET, 0.0, 10 ** (-under * _CODE / 20))


def heard_seconds(envelope: bytes, step: float, seconds: float, silence: float) -> tuple[float, float]:
    """Return from when to when a sound reaches a level, dB of full scale, as its envelope tells; both 0 where it never does."""
    heard = np.flatnonzero(envelope_peaks(envelope) >= 10 ** (silence / 20))
    return (float(heard[0] * step), min(seconds, float((heard[-1] + 1) * step))) if len(heard) else (0.0, 0.0)


def _clipped(level: NDArray[np.float32]) -> int:
    """Return how many samples of a block stand at full scale in a row, over all channels."""
    count = 0
    for channel in level.T:
        full = np.flatnonzero(channel >= _FULL)
        if len(full) >= _RUN:
            runs = np.split(full, np.flatnonzero(np.diff(full) > 1) + 1)
            count += sum(len(run) for run in runs if len(run) >= _RUN)
    return count


def _energy_above(block: NDArray[np.float32]) -> NDArray[np.float64]:
    """Return the energy above each frequency of some windows of a block, full scale at 1, (W, bins)."""
    if len(block) < _WINDOW:
        block = np.pad(block, ((0, _WINDOW - len(block)), (0, 0)))
    starts = np.unique(np.linspace(0, len(block) - _WINDOW, _LOOKED_AT).astype(np.int64))
    shape = np.hanning(_WINDOW).astype(np.float32)[:, None]
    pieces = np.stack([block[start : start + _WINDOW] for start in starts]) * shape
    # Twice the power of one side, over the window's own: the mean square of what it shows.
    power = 2 * np.square(np.abs(np.fft.rfft(pieces, axis=1))) / (_WINDOW * float(np.square(shape).sum()))
    loudest: NDArray[np.float64] = power.max(axis=2)
    return np.cumsum(loudest[:, ::-1], axis=1)[:, ::-1]
