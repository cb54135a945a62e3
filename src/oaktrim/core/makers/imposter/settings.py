"""The settings of an imposter, as a job holds them."""

from __future__ import annotations

import re
from enum import Enum
from typing import Annotated

import msgspec
from msgspec import Meta

from oaktrim.core.fields import FilePath, NewPath
from oaktrim.core.scene.read import SUFFIXES as MODELS

_Part = Annotated[float, Meta(ge=0, le=1)]
_Lift = Annotated[float, Meta(ge=-89, le=89)]
_AXES = re.compile(r"[xyz]{1,3}|star:(?:[2-9]|1[0-6])")


class Family(Enum):
    """What an imposter is made of."""

    CARDS = "cards"
    CLOUD = "cloud"
    RING = "ring"
    SPHERE = "sphere"
    DOME = "dome"

    @property
    def of_frames(self) -> bool:
        """It is drawn from frames by a shader, and not from cards."""
        return self in (Family.RING, Family.SPHERE, Family.DOME)


class Steps(Enum):
    """How often a look into a frame is corrected by its depth."""

    NONE = "0"
    ONE = "1"
    TWO = "2"
    MARCH = "march"


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


class ChainForm(Enum):
    """How the levels of a chain stand in a file: by MSFT_lod, or as nodes beside each other that are told by their names."""

    LEVELS = "levels"
    NAMED = "named"


class Chain(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """From where on an imposter stands for its model; all in shares of the screen's height that the thing takes.

    Parameters
    ----------
    switch : below it the imposter is drawn; vanish : below it nothing is, 0 for an imposter that is always drawn
    fade : of the switch, over which the one goes over into the other, half of it on either side
    """

    switch: Annotated[float, Meta(gt=0, le=4)]
    vanish: Annotated[float, Meta(ge=0, le=4)] = 0.0
    fade: Annotated[float, Meta(ge=0, le=1)] = 0.1
    form: ChainForm = ChainForm.LEVELS

    def __post_init__(self) -> None:
        if self.vanish >= self.switch:
            raise ValueError(
                f"an imposter that is drawn from {self.switch:g} of the screen down vanishes below that, "
                f"not at {self.vanish:g}"
            )


class Moment(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """When something that moves is baked: a time of a clip, seconds; before its first key and after its last these stay."""

    clip: str
    seconds: Annotated[float, Meta(ge=0, le=1e6)] = 0.0


class HandOutline(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The outline of one card, dragged by hand.

    Parameters
    ----------
    card : its place; corners : x and y in parts of the card's rectangle, from its upper left corner
    """

    card: Annotated[int, Meta(ge=0, le=1 << 12)]
    corners: Annotated[tuple[tuple[_Part, _Part], ...], Meta(min_length=3, max_length=16)]


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
    frames : of a sphere or a dome, to a side; of a ring, in a row; rows : of a ring
    rise : elevations of a ring's lowest and of its highest row, degrees; one row stands at their middle
    sector : where a ring's row begins, degrees from +Z towards +X, and how far it goes; 360 for all round
    frame_size : of a frame, texels to a side, a power of two
    steps : how often the look into a frame is corrected by its depth
    outlines : of single cards, by hand; one that leaves out what is covered is not taken
    maps : of the sheet, beside the base colour with alpha
    moment : at which it is baked, of a model that moves; at rest without
    chain : the model with its imposter as one of its levels takes its place; without, the imposter stands beside it
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
    frames: Annotated[int, Meta(ge=2, le=32)] = 12
    rows: Annotated[int, Meta(ge=1, le=8)] = 2
    rise: tuple[_Lift, _Lift] = (-15.0, 15.0)
    sector: tuple[Annotated[float, Meta(ge=-360, le=360)], Annotated[float, Meta(ge=1, le=360)]] = (0.0, 360.0)
    frame_size: Annotated[int, Meta(ge=16, le=512)] = 128
    steps: Steps = Steps.TWO
    outlines: tuple[HandOutline, ...] = ()
    pivot: Pivot = Pivot.ORIGIN
    maps: tuple[SheetMap, ...] = (SheetMap.BASE, SheetMap.NORMAL)
    moment: Moment | None = None
    chain: Chain | None = None

    def __post_init__(self) -> None:
        if not self.source_model.lower().endswith(tuple(MODELS)):
            raise ValueError(f"{self.source_model!r} is no model")
        if not _AXES.fullmatch(self.axes) or (len(set(self.axes)) < len(self.axes) and ":" not in self.axes):
            raise ValueError(f"{self.axes!r} are no axes; they are x, y, z, two or three of them, or star:2 to star:16")
        if 0 < self.outline < 3:
            raise ValueError(f"an outline has at least 3 corners, not {self.outline}")
        if self.frame_size & (self.frame_size - 1):
            raise ValueError(f"a frame is a power of two wide, not {self.frame_size}")
        if self.rise[0] > self.rise[1] or (self.rows > 1 and self.rise[0] == self.rise[1]):
            raise ValueError(
                f"rows of a ring rise from their lowest to their highest, not {self.rise[0]:g} to {self.rise[1]:g}"
            )
        if SheetMap.BASE not in self.maps:
            raise ValueError("a sheet has a base colour, with whatever other maps")

    @property
    def inputs(self) -> tuple[str, ...]:
        return (self.source_model,)

    @property
    def sheet_maps(self) -> tuple[SheetMap, ...]:
        """The maps of its sheet: frames are never without their depth."""
        return tuple(dict.fromkeys((*self.maps, SheetMap.DEPTH))) if self.family.of_frames else self.maps
