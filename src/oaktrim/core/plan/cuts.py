"""Cuts: the planned changes of a job, each on a set of textures, sounds, clips or models, for one target or for all.

Every kind of change to textures has a `code`, the number that stands for it in columns of a plan. Those that set a field of the
encode settings name it in `setting`, and give its value back from the code.
"""

from __future__ import annotations

from typing import ClassVar, get_args

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.errors import Unsupported
from oaktrim.core.fields import MAX_SIDE, FilePath
from oaktrim.core.formats.catalogue import FORMATS, ORDER, format_named
from oaktrim.core.pixels.resample import Filter
from oaktrim.core.plan.modelcuts import MODEL_KINDS, LeaveOut, ModelChange, ReduceMotion
from oaktrim.core.plan.soundcuts import SOUND_KINDS, SoundChange
from oaktrim.core.survey.facts import CLIP_MARK

MAX_LOSS = 6.0
# Losses are held in hundredths of a dB in columns.
_LOSS_UNIT = 100


class Cap(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="cap", tag_field="kind"):
    """The longest side is at most this many pixels; the picture is filtered down in proportion."""

    side: int

    def __post_init__(self) -> None:
        if not 1 <= self.side <= MAX_SIDE:
            raise ValueError(f"a cap is 1 to {MAX_SIDE} pixels, not {self.side}")

    @property
    def label(self) -> str:
        return f"Cap {self.side}"

    @property
    def code(self) -> int:
        return self.side


class Drop(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="drop", tag_field="kind"):
    """The largest levels are left out; each halves the size."""

    levels: int

    def __post_init__(self) -> None:
        if not 0 <= self.levels <= 16:
            raise ValueError(f"0 to 16 levels can be dropped, not {self.levels}")

    @property
    def label(self) -> str:
        return f"Drop {self.levels} {'level' if self.levels == 1 else 'levels'}"

    @property
    def code(self) -> int:
        return self.levels


class SetFormat(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="format", tag_field="kind"):
    """The texture is encoded in this format."""

    format: str

    def __post_init__(self) -> None:
        try:
            format_named(self.format)
        except Unsupported as error:
            raise ValueError(str(error)) from error

    @property
    def label(self) -> str:
        return f"Format {FORMATS[self.format].label}"

    @property
    def code(self) -> int:
        return ORDER.index(self.format)


class SetLevels(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="levels", tag_field="kind"):
    """Mip levels are shipped, or only the largest picture."""

    on: bool

    @property
    def label(self) -> str:
        return "Levels on" if self.on else "Levels off"

    @property
    def code(self) -> int:
        return int(self.on)


class SetEffort(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="effort", tag_field="kind"):
    """How hard the encoder searches."""

    effort: Effort
    setting: ClassVar[str] = "effort"

    @property
    def label(self) -> str:
        return f"Effort {self.effort.value}"

    @property
    def code(self) -> int:
        return list(Effort).index(self.effort)

    @staticmethod
    def value_of(code: int) -> Effort:
        return list(Effort)[code]


ERROR_METRIC_WORDS = {
    ErrorMetric.COLOUR: "colour",
    ErrorMetric.PERCEPTUAL: "by eye",
    ErrorMetric.NORMALS: "angles",
    ErrorMetric.DATA: "values",
}


class SetErrorMetric(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="error-metric", tag_field="kind"):
    """What the encoder counts errors on, in place of what the role says."""

    error_metric: ErrorMetric
    setting: ClassVar[str] = "error_metric"

    @property
    def label(self) -> str:
        return f"Error metric: {ERROR_METRIC_WORDS[self.error_metric]}"

    @property
    def code(self) -> int:
        return list(ErrorMetric).index(self.error_metric)

    @staticmethod
    def value_of(code: int) -> ErrorMetric:
        return list(ErrorMetric)[code]


class SetFilter(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="filter", tag_field="kind"):
    """The filter that makes the picture smaller."""

    filter: Filter
    setting: ClassVar[str] = "filter"

    @property
    def label(self) -> str:
        return f"Filter {self.filter.value}"

    @property
    def code(self) -> int:
        return list(Filter).index(self.filter)

    @staticmethod
    def value_of(code: int) -> Filter:
        return list(Filter)[code]


class SetLoss(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="loss", tag_field="kind"):
    """So many dB of quality may go for a smaller package; memory stays as it is."""

    decibels: float
    setting: ClassVar[str] = "loss"

    def __post_init__(self) -> None:
        if not 0 <= self.decibels <= MAX_LOSS:
            raise ValueError(f"a loss is 0 to {MAX_LOSS:g} dB, not {self.decibels}")

    @property
    def label(self) -> str:
        return f"Up to {self.decibels:g} dB for the download"

    @property
    def code(self) -> int:
        return round(self.decibels * _LOSS_UNIT)

    @staticmethod
    def value_of(code: int) -> float:
        return code / _LOSS_UNIT


def losses_of(codes: NDArray[np.int64]) -> NDArray[np.float64]:
    """Return the losses in dB of a column of codes, 0 where none is set."""
    return np.maximum(codes, 0) / _LOSS_UNIT


class KeepCoverage(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="coverage", tag_field="kind"):
    """Levels keep as much as the first of what a cut-out at this alpha of 255 shows; 0 leaves them as they are filtered."""

    threshold: int
    setting: ClassVar[str] = "coverage"

    def __post_init__(self) -> None:
        if not 0 <= self.threshold <= 255:
            raise ValueError(f"a cut-out begins at 1 to 255, not {self.threshold}")

    @property
    def label(self) -> str:
        return f"Levels keep the cut-out at {self.threshold}" if self.threshold else "Levels as filtered"

    @property
    def code(self) -> int:
        return self.threshold

    @staticmethod
    def value_of(code: int) -> int:
        return code


SettingChange = SetEffort | SetFilter | SetLoss | KeepCoverage | SetErrorMetric
TextureChange = Cap | Drop | SetFormat | SetLevels | SettingChange
Change = TextureChange | SoundChange | ModelChange | LeaveOut
# In the order in which they act on a texture.
KINDS: tuple[type[TextureChange], ...] = get_args(TextureChange)
SETTING_KINDS: tuple[type[SettingChange], ...] = get_args(SettingChange)


def thing_of(kind: type[Change]) -> str:
    """Return what sort of asset a kind of change is of, in a word: a texture, a sound, a clip, a model, or a part of one."""
    if kind in SOUND_KINDS:
        return "sound"
    if kind is LeaveOut:
        return "part"
    if kind in MODEL_KINDS:
        return "clip" if kind is ReduceMotion else "model"
    return "texture"


class Cut(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One planned change.

    Parameters
    ----------
    assets : paths of what it is on, below the job's root; of other kinds of assets it says nothing
    targets : ids of the targets it is for; empty for all
    enabled : it counts; otherwise it is only kept
    """

    change: Change
    assets: tuple[FilePath, ...]
    targets: tuple[str, ...] = ()
    enabled: bool = True

    def is_for(self, target: str) -> bool:
        """Say whether the cut counts on a target."""
        return self.enabled and (not self.targets or target in self.targets)

    def supersedes(self, other: Cut) -> bool:
        """Say whether this cut makes an earlier one pointless: the same kind of change on the same textures."""
        return (
            type(self.change) is type(other.change)
            and self.targets == other.targets
            and (self.assets == other.assets or set(self.assets) == set(other.assets))
        )

    @property
    def label(self) -> str:
        """The cut in words."""
        return f"{self.change.label} · {self.subject}"

    @property
    def thing(self) -> str:
        """What it is a cut of."""
        return thing_of(type(self.change))

    @property
    def subject(self) -> str:
        """What the cut is on, in words."""
        if len(self.assets) > 1:
            return f"{len(self.assets)} {self.thing}s"
        path, clip, number = self.assets[0].partition(CLIP_MARK)
        name = path.rsplit("/", 1)[-1]
        return f"{name}, clip {int(number) + 1}" if clip and number.isdecimal() else name
