"""The settings of an imposter, as a job holds them."""

from __future__ import annotations

import re
from enum import Enum
from typing import Annotated

import msgspec
from msgspec import Meta

from oaktrim.core.fields import FilePath, NewPath
from oaktrim.core.scene.read import SUFFIXES as MODELS

_AXES = re.compile(r"[xyz]{1,3}|star:(?:[2-9]|1[0-6])")


class Family(Enum):
    """What an imposter is made of."""

    CARDS = "cards"
    CLOUD = "cloud"


class Pivot(Enum):
    """What of a model stands at the origin of its imposter."""

    CENTRE = "centre"
    GROUND = "ground"
    ORIGIN = "origin"


class SheetMap(Enum):
    """A map of an imposter's sheet."""

    BASE = "base"
    NORMAL = "normal"
    ORM = "orm"
    EMISSIVE = "emissive"
    DEPTH = "depth"


class Imposter(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="imposter", tag_field="kind"):
    """A model, or some of its nodes, as a few cards.

    Parameters
    ----------
    name : path of its sheet and its model, without ending
    source_model : path of the model; nodes : names of those that are baked with all that hangs on them, all where none is named
    axes : which way cards face: of x, y and z one or more, or star:N for N upright ones
    cards : of a cloud, at most
    upright : of a cloud, how far upright planes are preferred, 0 to 1
    size : longest side of the sheet, texels; gutter : texels between cards
    sides : 1, seen from behind as a mirror image, or 2, baked from both
    outline : corners of the polygon around what is covered; 0 for whole rectangles
    maps : of the sheet, beside the base colour with alpha
    """

    name: NewPath
    source_model: FilePath
    nodes: tuple[str, ...] = ()
    family: Family = Family.CARDS
    axes: str = "xz"
    cards: Annotated[int, Meta(ge=1, le=512)] = 24
    upright: Annotated[float, Meta(ge=0, le=1)] = 0.3
    size: Annotated[int, Meta(ge=32, le=1 << 13)] = 1024
    gutter: Annotated[int, Meta(ge=0, le=64)] = 8
    sides: Annotated[int, Meta(ge=1, le=2)] = 1
    outline: Annotated[int, Meta(ge=0, le=16)] = 0
    pivot: Pivot = Pivot.ORIGIN
    maps: tuple[SheetMap, ...] = (SheetMap.BASE, SheetMap.NORMAL)

    def __post_init__(self) -> None:
        if not self.source_model.lower().endswith(tuple(MODELS)):
            raise ValueError(f"{self.source_model!r} is no model")
        if not _AXES.fullmatch(self.axes) or (len(set(self.axes)) < len(self.axes) and ":" not in self.axes):
            raise ValueError(f"{self.axes!r} are no axes; they are x, y, z, two or three of them, or star:2 to star:16")
        if 0 < self.outline < 3:
            raise ValueError(f"an outline has at least 3 corners, not {self.outline}")
        if SheetMap.BASE not in self.maps:
            raise ValueError("a sheet has a base colour, with whatever other maps")

    @property
    def inputs(self) -> tuple[str, ...]:
        return (self.source_model,)
