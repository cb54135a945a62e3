"""Forecasts of sounds from parts of them that are really encoded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np
import soundfile

from oaktrim.core.errors import FileError
from oaktrim.core.plan.others import excerpt_key, file_key
from oaktrim.core.plan.packing import CompressionRatios, Measured, measure_each
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.soundrules import SoundRecipe, usual_bytes
from oaktrim.core.progress import Task
from oaktrim.core.sounds import ogg
from oaktrim.core.sounds.codecs import CODECS
from oaktrim.core.sounds.encode import brought_down, encode
from oaktrim.core.sounds.signal import SOUND_FAULTS, Sound, fault_words
from oaktrim.core.sounds.traits import heard_seconds
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.facts import AudioFacts
from oaktrim.core.survey.places import file_of

# Parts of a sound that are encoded, and how long each is, seconds; a sound that is not much longer is encoded whole.
_PARTS, _PART = 3, 0.7
_WHOLE = 3.0


@dataclass(frozen=True)
class Excerpt:
    """A sound of which a part is to be encoded."""

    facts: AudioFacts
    recipe: SoundRecipe

    @property
    def key(self) -> str:
        return excerpt_key(self.facts.content, self.recipe)


def missing_excerpts(plans: Sequence[Plan], ratios: CompressionRatios) -> list[Excerpt]:
    """Return the sounds of plans of whose encoded size nothing is measured, one for each content and recipe."""
    found: dict[str, Excerpt] = {}
    for facts, recipe in ((facts, plan.others.recipes[facts.path]) for plan in plans for facts in plan.inventory.audio):
        if recipe.settings is None or usual_bytes(recipe)[1]:
            continue
        row = Excerpt(facts, recipe)
        if ratios.size_of(file_key(facts.content, recipe)) is None and ratios.size_of(row.key) is None:
            found[row.key] = row
    return list(found.values())


def measure_excerpts(root: Path, rows: Sequence[Excerpt], cache: SurveyCache) -> Task[Measured]:
    """Encode parts of sounds, on all cores; return about how many bytes each file takes, see `measure_each`."""
    return measure_each(rows, lambda row: {row.key: _measured(root, row)}, lambda row: row.facts.path, cache)


def _measured(root: Path, row: Excerpt) -> int:
    recipe = row.recipe
    assert recipe.settings is not None
    # The ends are left off by choosing what lies between them.
    settings = msgspec.structs.replace(recipe.settings, silence=None, longest=None)
    part = brought_down(_parts(file_of(root, row.facts.path), row.facts, recipe), settings)
    data = encode(part, settings)
    head = ogg.header_bytes(data) if CODECS[settings.codec].quality is not None else 0
    return head + round((len(data) - head) * recipe.seconds / part.seconds)


def _parts(file: Path, facts: AudioFacts, recipe: SoundRecipe) -> Sound:
    """Return parts of what ships of a sound, one after the other, at the source's rate."""
    assert recipe.settings is not None
    start = 0.0
    if recipe.settings.silence is not None:
        start, _ = heard_seconds(facts.envelope, facts.step, facts.seconds, recipe.settings.silence)
    whole = recipe.seconds <= _WHOLE
    length = recipe.seconds if whole else _PART
    spread = (recipe.seconds - length) * (np.arange(_PARTS) + 0.5) / _PARTS
    begins = [start] if whole else [start + float(at) for at in spread]
    pieces = []
    try:
        with soundfile.SoundFile(file) as source:
            for begin in begins:
                source.seek(min(round(begin * source.samplerate), max(0, source.frames - 1)))
                pieces.append(source.read(max(1, round(length * source.samplerate)), dtype="float32", always_2d=True))
            rate = source.samplerate
    except SOUND_FAULTS as error:
        raise FileError(file, f"cannot be decoded: {fault_words(error)}") from error
    samples = np.concatenate(pieces)
    if not len(samples):
        raise FileError(file, "holds no samples where it states some")
    return Sound(samples, rate)
