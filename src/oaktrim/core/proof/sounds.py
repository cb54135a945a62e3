"""A sound as it will ship beside its source: what was lost, in numbers and pictures, and both to listen to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.ship.sounds import made_sound
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.sounds.codecs import SoundCodec, SoundSettings
from oaktrim.core.sounds.compare import SoundLoss, compare, lined_up, reference_for, spectrogram, waveform
from oaktrim.core.sounds.encode import encode
from oaktrim.core.sounds.signal import Sound, decode
from oaktrim.core.survey.places import file_of

# Of the pictures, columns and rows.
COLUMNS, ROWS = 480, 160


@dataclass(frozen=True, eq=False)
class SoundPicture:
    """A sound to be looked at.

    Parameters
    ----------
    wave : least and greatest sample of each column, (COLUMNS, 2)
    levels : dB of full scale over frequency and time, the highest first, (ROWS, COLUMNS); rows go up to `top` hertz
    """

    wave: NDArray[np.float32]
    levels: NDArray[np.float32]
    seconds: float
    top: float


@dataclass(frozen=True, eq=False)
class SoundProof:
    """A sound against what ships of it.

    Parameters
    ----------
    before, after : pictures, both of what is still heard, at the source's rate
    loss : what is different; None where the file ships as it is
    source, result : what is heard of each; file_bytes : of the source's file, and of what ships
    """

    before: SoundPicture
    after: SoundPicture
    loss: SoundLoss | None
    source: Sound
    result: Sound
    file_bytes: tuple[int, int]


def prove_sound(plan: Plan, path: str, store: MadeStore | None = None) -> Task[SoundProof]:
    """Make a sound as it will ship, and compare it with its source.

    Raises
    ------
    OakTrimError : it cannot be read or made; names the file
    """
    inventory = plan.inventory
    facts = next((sound for sound in inventory.audio if sound.path == path), None)
    if facts is None:
        raise FileError(inventory.root / path, "is no sound of the survey")
    recipe = plan.others.recipes[path]
    file = file_of(inventory.root, path)
    yield Progress(0, 3, f"reading {path}")
    source = decode(read_bytes(file), file)
    yield Progress(1, 3, f"encoding {path}")
    data = made_sound(inventory.root, facts, recipe, store)
    yield Progress(2, 3, "comparing")
    if recipe.settings is None:
        picture = _picture(source)
        return SoundProof(picture, picture, None, source, source, (facts.file_bytes, len(data)))
    reference, result = reference_for(source, recipe.settings), decode(data, file)
    before, after = lined_up(reference, result)
    return SoundProof(
        _picture(before), _picture(after), compare(reference, result), reference, result, (facts.file_bytes, len(data))
    )


def _picture(sound: Sound) -> SoundPicture:
    return SoundPicture(waveform(sound, COLUMNS), spectrogram(sound, COLUMNS, ROWS), sound.seconds, sound.rate / 2)


def as_wav(sound: Sound) -> bytes:
    """Return a sound as a WAV file, to be played."""
    return encode(sound, SoundSettings(sound.rate, sound.channels, SoundCodec.PCM))
