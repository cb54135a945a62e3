"""Shipping sounds: those that are cut are made by their settings, the others are copied, and each is read back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import content_hash, read_bytes, write_atomic
from oaktrim.core.files.audio import audio_head
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.soundrules import SoundRecipe
from oaktrim.core.ship.manifest import SoundEntry
from oaktrim.core.ship.reason import Reason, reason_of_output
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.sounds.codecs import CODECS
from oaktrim.core.sounds.encode import brought_down, encode
from oaktrim.core.sounds.signal import decode
from oaktrim.core.survey.facts import AudioFacts
from oaktrim.core.survey.packed import pack_bytes
from oaktrim.core.survey.places import file_of


@dataclass(frozen=True)
class SoundItem:
    """One sound to be shipped: where it goes, and why it is written or not."""

    facts: AudioFacts
    recipe: SoundRecipe
    output: str
    reason: Reason

    @property
    def samples(self) -> int:
        """About how long it takes to be made."""
        return 0 if self.recipe.settings is None else self.recipe.frames * self.recipe.channels


def sound_outputs(plan: Plan) -> list[str]:
    """Return where each sound goes: its own path, with the ending of its codec where it is made anew.

    Sounds that would meet in one name, on a disk that tells no letter case either, keep their own ending before it.
    """
    names = []
    for facts in plan.inventory.audio:
        settings = plan.others.recipes[facts.path].settings
        if settings is None:
            names.append((facts.path, facts.path))
        else:
            ending = CODECS[settings.codec].ending
            names.append((str(PurePosixPath(facts.path).with_suffix(ending)), f"{facts.path}{ending}"))
    count = Counter(short.lower() for short, _ in names)
    return [short if count[short.lower()] == 1 else long for short, long in names]


def made_sound(root: Path, facts: AudioFacts, recipe: SoundRecipe, store: MadeStore | None = None) -> bytes:
    """Return the bytes that a sound ships as, made by its settings, from the store where they are kept, or its own.

    Raises
    ------
    OakTrimError : it cannot be read, has changed since it was surveyed, or cannot be encoded so
    """
    file = file_of(root, facts.path)
    key = "" if recipe.settings is None else f"{facts.content} {recipe.settings.key}"
    kept = store.get_bytes(key) if store is not None and key else None
    if kept is not None:
        return kept
    data = read_bytes(file)
    if content_hash(data) != facts.content:
        raise FileError(file, "has changed since it was surveyed; ship again")
    if recipe.settings is None:
        return data
    made = encode(brought_down(decode(data, file), recipe.settings), recipe.settings)
    if store is not None:
        store.keep_bytes(key, made)
    return made


def ship_sound(plan: Plan, item: SoundItem, out: Path, store: MadeStore | None) -> SoundEntry:
    """Write one sound, read it back, and return its entry of the manifest."""
    data = made_sound(plan.inventory.root, item.facts, item.recipe, store)
    path = out / item.output
    write_atomic(path, data)
    head = audio_head(read_bytes(path), path)
    settings = item.recipe.settings
    if settings is not None and (head.rate, head.channels) != (settings.rate, settings.channels):
        raise FileError(path, "does not read back as it was written")
    return SoundEntry(
        source=item.facts.path,
        source_hash=item.facts.content,
        role=item.recipe.role.value,
        output=item.output,
        output_hash=content_hash(data),
        settings=settings,
        seconds=round(head.seconds, 3),
        file_bytes=len(data),
        memory=plan.target.sound_storage.held_bytes(len(data), head.decoded_bytes),
        package=min(len(data), pack_bytes(data, plan.target.packing)),
    )


def sound_items(plan: Plan, outputs: Sequence[str], out: Path, old: Mapping[str, SoundEntry]) -> list[SoundItem]:
    """Return what a run would write of sounds and why, without writing.

    Parameters
    ----------
    outputs : where each sound goes; old : what the run before shipped there, by source
    """
    items = []
    for facts, output in zip(plan.inventory.audio, outputs, strict=True):
        if facts.path in plan.others.models.left:
            continue
        recipe = plan.others.recipes[facts.path]
        items.append(SoundItem(facts, recipe, output, _why(facts, recipe, output, old.get(facts.path), out)))
    return items


def _why(facts: AudioFacts, recipe: SoundRecipe, output: str, old: SoundEntry | None, out: Path) -> Reason:
    if old is None:
        return Reason.NEW
    if old.source_hash != facts.content:
        return Reason.SOURCE
    if (old.output, old.settings) != (output, recipe.settings):
        return Reason.RECIPE
    return reason_of_output(out / old.output, old.output_hash)
