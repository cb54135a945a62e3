"""What an audio file says of itself: length, rate and channels, read by libsndfile without decoding it all."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

import soundfile

from oaktrim.core.errors import FileError

SUFFIXES = frozenset((".wav", ".ogg", ".oga", ".opus", ".flac", ".mp3"))
_PCM_BYTES = 2


@dataclass(frozen=True)
class AudioHead:
    """Facts of a sound.

    Parameters
    ----------
    kind : wav, ogg, opus, flac or mp3, by the file's own bytes
    rate : frames a second; frames : samples in each channel
    """

    kind: str
    rate: int
    channels: int
    frames: int

    @property
    def seconds(self) -> float:
        return self.frames / self.rate

    @property
    def decoded_bytes(self) -> int:
        """Bytes when decoded to 16-bit PCM, as engines hold it."""
        return self.frames * self.channels * _PCM_BYTES


_KINDS = {"WAV": "wav", "WAVEX": "wav", "RF64": "wav", "OGG": "ogg", "FLAC": "flac", "MP3": "mp3", "MPEG": "mp3"}


def audio_head(data: bytes, path: Path) -> AudioHead:
    """Return the facts of a sound in a file's bytes.

    Raises
    ------
    FileError : no sound of a kind that is read, or not whole
    """
    if not data:
        raise FileError(path, "is empty")
    try:
        info = soundfile.info(io.BytesIO(data))
    except (soundfile.SoundFileError, RuntimeError, OSError, ValueError, TypeError, OverflowError) as error:
        raise FileError(path, f"is not a sound that is read: {_reason(error)}") from error
    kind = "opus" if info.subtype == "OPUS" else _KINDS.get(info.format)
    if kind is None:
        raise FileError(path, f"is a sound of the kind {info.format}, which is not read")
    if info.frames < 1 or info.samplerate < 1 or info.frames > 1 << 40:
        raise FileError(path, "holds no sound, or its length is not stated")
    return AudioHead(kind, int(info.samplerate), int(info.channels), int(info.frames))


def _reason(error: Exception) -> str:
    text = getattr(error, "error_string", "") or str(error)
    return text.rpartition(": ")[2].strip(" .").lower() or type(error).__name__
