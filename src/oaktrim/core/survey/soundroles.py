"""What a sound is used as, told by its name and folder, or by its length."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from enum import Enum

import msgspec

from oaktrim.core.fields import Name
from oaktrim.core.survey.facts import AudioFacts

# A sound whose name says nothing and that is at least so long is heard as music or a place is, seconds.
_LONG = 45.0


class SoundRole(Enum):
    """Uses of a sound."""

    SPEECH = "speech"
    MUSIC = "music"
    AMBIENCE = "ambience"
    EFFECT = "effect"

    @property
    def label(self) -> str:
        """The role in words, as a user reads it."""
        return self.value.capitalize()


class SoundPattern(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A pattern of paths below the root, without ending and in lower case, with `*` and `?`, and the role that it says."""

    pattern: Name
    role: SoundRole


_WORDS = {
    SoundRole.SPEECH: ("voice", "voices", "vo", "dialog", "dialogue", "speech", "spoken", "talk", "narration", "narrator",
                       "line", "lines", "bark", "barks"),
    SoundRole.MUSIC: ("music", "bgm", "song", "songs", "theme", "themes", "track", "tracks", "score", "jingle", "jingles"),
    SoundRole.AMBIENCE: ("ambience", "ambient", "amb", "atmosphere", "atmo", "loop", "loops", "wind", "rain", "background"),
    SoundRole.EFFECT: ("sfx", "fx", "effect", "effects"),
}  # fmt: skip
_ROLE_OF = {word: role for role, words in _WORDS.items() for word in words}


def sound_role(sound: AudioFacts, patterns: Sequence[SoundPattern] = ()) -> tuple[SoundRole, str]:
    """Return a sound's role and why: by the first pattern that fits, by a word of its name or a folder, or by its length."""
    stem = sound.path.rpartition(".")[0].lower()
    for row in patterns:
        if fnmatch.fnmatchcase(stem, row.pattern) or fnmatch.fnmatchcase(stem.rpartition("/")[2], row.pattern):
            return row.role, f"the pattern {row.pattern}"
    for part in reversed(stem.split("/")):
        for word in _words_of(part):
            if word in _ROLE_OF:
                return _ROLE_OF[word], f"named {word}"
    if sound.seconds >= _LONG:
        return SoundRole.MUSIC, f"{sound.seconds:.0f} s long"
    return SoundRole.EFFECT, "short"


def _words_of(name: str) -> list[str]:
    return "".join(letter if letter.isalpha() else " " for letter in name).split()
