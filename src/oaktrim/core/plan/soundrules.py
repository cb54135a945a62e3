"""What sounds ship as: rules by their role, cuts by hand over them, and the recipe of each that comes of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from math import ceil, gcd
from typing import Any

import msgspec
import numpy as np

from oaktrim.core.plan.soundcuts import SOUND_KINDS, SetCodec, SetLongest, SetMono, SetRate, SoundChange, TrimSilence
from oaktrim.core.sounds.codecs import CODECS, SoundCodec, SoundKind, SoundSettings
from oaktrim.core.sounds.traits import heard_seconds
from oaktrim.core.survey.facts import AudioFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.soundroles import SoundPattern, SoundRole, sound_role

# Ends that are shorter than this are not worth a new encode, seconds.
_WORTH_TRIMMING = 0.05
# Of a WAV file of PCM, before its samples.
WAV_HEAD = 44
PCM_BYTES = 2
# About what Vorbis takes, kbit/s a channel at 44.1 kHz, by tenths of its quality.
_VORBIS_RATES = (32.0, 38.0, 45.0, 52.0, 60.0, 75.0, 90.0, 105.0, 120.0, 150.0, 240.0)
_VORBIS_HEAD, _OPUS_HEAD, _FLAC_SHARE = 4000, 900, 0.6


class SoundRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What sounds of a role ship as when nobody says otherwise; what is left out stays as it is.

    Parameters
    ----------
    changes : one of a kind
    targets : ids of the targets it is for; empty for all
    """

    role: SoundRole
    changes: tuple[SoundChange, ...]
    targets: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if len({type(change) for change in self.changes}) < len(self.changes):
            raise ValueError("a rule says each thing of a sound once")

    def is_for(self, target: str) -> bool:
        """Say whether the rule counts on a target."""
        return not self.targets or target in self.targets

    @property
    def label(self) -> str:
        """The rule in words."""
        changes = sorted(self.changes, key=lambda change: SOUND_KINDS.index(type(change)))
        return ", ".join(map(_worded, changes)) or "as it is"


def _worded(change: SoundChange) -> str:
    """Return a change as it stands in a list: its label, without a capital that is no name's."""
    return change.label if isinstance(change, SetCodec) else change.label[:1].lower() + change.label[1:]


@dataclass(frozen=True)
class SoundRules:
    """All that a job says of sounds: rules by role, and patterns of names that say roles."""

    rules: tuple[SoundRule, ...] = ()
    patterns: tuple[SoundPattern, ...] = ()


@dataclass(frozen=True)
class SoundRecipe:
    """What one sound ships as.

    Parameters
    ----------
    role, reason : what it is used as, and what tells that
    settings : how it is made; None where its file ships as it is
    seconds, frames : of what ships, as its envelope tells where ends are trimmed
    changes : what was asked for, each with its place in the cuts, or of the rule as -1 - place
    """

    path: str
    role: SoundRole
    reason: str
    settings: SoundSettings | None
    seconds: float
    frames: int
    channels: int
    rate: int
    changes: tuple[tuple[SoundChange, int], ...] = field(default=())

    @property
    def decoded_bytes(self) -> int:
        """Bytes when decoded to 16-bit PCM."""
        return self.frames * self.channels * PCM_BYTES

    @property
    def kind(self) -> SoundKind | None:
        """The kind of file that is written; None where the source's own ships."""
        return None if self.settings is None else CODECS[self.settings.codec].kind


def sound_recipes(
    inventory: Inventory, target: str, cuts: Sequence[Any], rules: SoundRules = SoundRules()
) -> dict[str, SoundRecipe]:
    """Return what every sound ships as on a target, by path; cuts by hand win over rules, later ones over earlier ones."""
    asked: dict[str, dict[type, tuple[SoundChange, int]]] = {}
    for place, cut in enumerate(cuts):
        if type(cut.change) in SOUND_KINDS and cut.is_for(target):
            for path in cut.assets:
                asked.setdefault(path, {})[type(cut.change)] = (cut.change, place)
    ruled: dict[SoundRole, dict[type, tuple[SoundChange, int]]] = {}
    # What is said of one target stands over what is said of all.
    for place, rule in sorted(enumerate(rules.rules), key=lambda row: bool(row[1].targets)):
        if rule.is_for(target):
            ruled.setdefault(rule.role, {}).update({type(c): (c, -1 - place) for c in rule.changes})
    found = {}
    for sound in inventory.audio:
        role, reason = sound_role(sound, rules.patterns)
        changes = {**ruled.get(role, {}), **asked.get(sound.path, {})}
        found[sound.path] = _recipe(sound, role, reason, changes)
    return found


def _recipe(
    sound: AudioFacts, role: SoundRole, reason: str, changes: Mapping[type, tuple[SoundChange, int]]
) -> SoundRecipe:
    def asked(kind: type[Any], name: str) -> Any:
        row = changes.get(kind)
        return None if row is None else getattr(row[0], name)

    start, stop = 0.0, sound.seconds
    silence, longest = asked(TrimSilence, "decibels"), asked(SetLongest, "seconds")
    if silence is not None:
        start, stop = heard_seconds(sound.envelope, sound.step, sound.seconds, silence)
        if sound.seconds - (stop - start) < _WORTH_TRIMMING:
            silence, start, stop = None, 0.0, sound.seconds
    seconds = stop - start
    longest = longest if longest is not None and longest < seconds else None
    seconds = min(seconds, longest or seconds)
    channels = 1 if asked(SetMono, "on") else sound.channels
    rate = min(sound.rate, asked(SetRate, "rate") or sound.rate)
    codec, quality = _own_codec(sound)
    chosen = changes.get(SetCodec)
    again = False
    if chosen is not None and isinstance(chosen[0], SetCodec):
        # What is lossy already gains nothing from being encoded again as well or better.
        again = chosen[0].codec is not codec or chosen[0].quality < quality
        codec, quality = chosen[0].codec, chosen[0].quality
    rate = CODECS[codec].rate_for(rate)
    changed = again or rate < sound.rate or channels < sound.channels or silence is not None or longest is not None
    settings = SoundSettings(rate, channels, codec, quality, silence, longest) if changed else None
    if settings is None:
        rate, channels = sound.rate, sound.channels
    kept = tuple(changes[kind] for kind in SOUND_KINDS if kind in changes)
    frames = _frames(round(seconds * sound.rate), sound.rate, rate)
    return SoundRecipe(sound.path, role, reason, settings, seconds, frames, channels, rate, kept)


def _frames(count: int, before: int, after: int) -> int:
    """Return how many frames a sound has at another rate."""
    common = gcd(before, after)
    return max(1, ceil(count * (after // common) / (before // common)))


def _own_codec(sound: AudioFacts) -> tuple[SoundCodec, float]:
    """Return the codec that is nearest to what a sound's file holds, and about its quality."""
    if sound.kind in ("wav", "flac"):
        return (SoundCodec.PCM if sound.kind == "wav" else SoundCodec.FLAC), 0.0
    each = sound.file_bytes * 8 / 1000 / max(sound.seconds, 0.05) / sound.channels
    if sound.kind == "opus":
        return SoundCodec.OPUS, float(np.clip(round(each), 6, 256))
    quality = np.interp(each / _rate_share(sound.rate), _VORBIS_RATES, np.arange(11) / 10)
    return SoundCodec.VORBIS, float(np.round(quality, 1))


def _rate_share(rate: int) -> float:
    """Return about what share of its bits at 44.1 kHz a sound takes at another rate."""
    return float((rate / 44_100) ** 0.7)


def usual_bytes(recipe: SoundRecipe) -> tuple[int, bool]:
    """Return about how many bytes a made sound's file takes, from its settings alone, and whether that is exact."""
    settings = recipe.settings
    assert settings is not None
    if settings.codec is SoundCodec.PCM:
        return WAV_HEAD + recipe.decoded_bytes, settings.silence is None
    if settings.codec is SoundCodec.FLAC:
        return int(recipe.decoded_bytes * _FLAC_SHARE), False
    if settings.codec is SoundCodec.OPUS:
        return _OPUS_HEAD + int(recipe.seconds * settings.quality * recipe.channels * 125), False
    each = float(np.interp(settings.quality, np.arange(11) / 10, _VORBIS_RATES)) * _rate_share(settings.rate)
    return _VORBIS_HEAD + int(recipe.seconds * each * recipe.channels * 125), False
