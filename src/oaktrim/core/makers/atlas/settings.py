"""The settings of an atlas, as a job holds them."""

from __future__ import annotations

from enum import Enum
from typing import Annotated

import msgspec
from msgspec import Meta

from oaktrim.core.fields import FilePath, NewPath
from oaktrim.core.scene.read import SUFFIXES as MODELS
from oaktrim.core.survey.derived import MATERIAL_MARK

_Levels = Annotated[float, Meta(ge=-16, le=16)]
_Cell = Annotated[int, Meta(ge=0, le=1 << 14)]
# Repeats of a texture that are written out; more make it a tiling texture, which no atlas can hold.
MOST_REPEATS = 8.0
# Sides in texels: of what is placed, so that all smaller levels down to the third are the same texels.
LATTICE = 8


class Weight(Enum):
    """What texels go to."""

    SEEN = "seen"
    AREA = "area"
    AS_IS = "as-is"


class Repeats(Enum):
    """What is done with UVs that leave one tile."""

    BAKE = "bake"
    SPLIT = "split"
    LEAVE = "leave"


class Rotation(Enum):
    """How islands may be turned."""

    QUARTER = "quarter"
    FREE = "free"
    NONE = "none"


class FactorUse(Enum):
    """What becomes of the factors of materials.

    Those that all materials have in common stay with the new one and others are multiplied into the sheets; all are multiplied
    in; or materials whose factors differ stay apart, so that none is.
    """

    COMMON = "common"
    BAKED = "baked"
    APART = "apart"


class Shrink(Enum):
    """At what scales islands that lose texels come out.

    By whole levels, so that what is left are the texels of a smaller level, unless free scales keep twice as many; or by any.
    """

    LEVELS = "levels"
    FREE = "free"


class Take(Enum):
    """Whether a material goes into an atlas, where that is said by hand."""

    TAKE = "take"
    LEAVE = "leave"


class MaterialChoice(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is said of one material by hand.

    Parameters
    ----------
    material : as `model.gltf#materials/name`
    take : into the atlas, or not; as it comes where neither is said
    repeats : of its UVs; as for all where nothing is said
    levels : more (or fewer) levels than its weight gives it
    keep : it loses no texel
    """

    material: str
    take: Take | None = None
    repeats: Repeats | None = None
    levels: _Levels = 0.0
    keep: bool = False


class Pin(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is said of one island by hand.

    Parameters
    ----------
    island : its place among the islands of the atlas, as `atlas.json` lists them
    levels : more (or fewer) levels than its weight gives it
    sheet, x, y, turn : where its corner stands, in texels, and its quarter turns; -1 where the packer places it
    """

    island: int
    levels: _Levels = 0.0
    sheet: Annotated[int, Meta(ge=-1, le=64)] = -1
    x: _Cell = 0
    y: _Cell = 0
    turn: Annotated[int, Meta(ge=0, le=3)] = 0


class VisibleScale(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How large a texture needs to be by the job's sightlines, noted when they were asked.

    Parameters
    ----------
    scale : of its own size; 0 where nothing shows it
    """

    picture: FilePath
    scale: Annotated[float, Meta(ge=0, le=64)]


class Atlas(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="atlas", tag_field="kind"):
    """Models whose materials become one.

    Parameters
    ----------
    name : path of its sheets, without the ending that says the map
    source_models : paths of the models
    objects : names of the nodes that it takes; all where none is named
    size : longest side of a sheet, at most, texels; 0 for one with no more texels than the sources. Sheets are the smallest on
        which nothing loses a texel, or else the largest
    longest : side that targets take, texels, where no size is said
    share_kept : of the sources' texels: the smallest sheet on which so many are kept is enough; 0 where none is stated
    sheets : at most; square : sheets are as high as wide
    gutter : texels between islands
    floor, ceiling : texels a metre that no island falls below while its source has them, or has more than; 0 for none
    sides_together : one-sided and two-sided materials become one, which shows both
    project : meshes without UVs get some, of the box around them
    seen : what sightlines said of textures, for `Weight.SEEN`; without any, texels go by area
    materials, pins : what is said by hand
    """

    name: NewPath
    source_models: Annotated[tuple[FilePath, ...], Meta(min_length=1)]
    objects: tuple[str, ...] = ()
    size: Annotated[int, Meta(ge=0, le=1 << 14)] = 0
    longest: Annotated[int, Meta(ge=16, le=1 << 14)] = 4096
    share_kept: Annotated[float, Meta(ge=0, le=1)] = 0.0
    sheets: Annotated[int, Meta(ge=1, le=16)] = 1
    weight: Weight = Weight.AREA
    repeats: Repeats = Repeats.BAKE
    rotate: Rotation = Rotation.QUARTER
    shrink: Shrink = Shrink.LEVELS
    factors: FactorUse = FactorUse.COMMON
    gutter: Annotated[int, Meta(ge=0, le=256)] = 8
    square: bool = False
    floor: Annotated[float, Meta(ge=0, le=1e6)] = 0.0
    ceiling: Annotated[float, Meta(ge=0, le=1e6)] = 0.0
    sides_together: bool = False
    project: bool = False
    seen: tuple[VisibleScale, ...] = ()
    materials: tuple[MaterialChoice, ...] = ()
    pins: tuple[Pin, ...] = ()

    def __post_init__(self) -> None:
        for path in self.source_models:
            if not path.lower().endswith(tuple(MODELS)):
                raise ValueError(f"{path!r} is no model")
        for row in self.materials:
            if MATERIAL_MARK not in row.material:
                raise ValueError(f"{row.material!r} is no material; one is named model.glb{MATERIAL_MARK}name")
        if self.size and self.size < 16:
            raise ValueError(f"a sheet has at least 16 texels across, not {self.size}")

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.source_models

    def choice(self, material: str) -> MaterialChoice:
        """Return what is said of a material by hand."""
        return next((row for row in self.materials if row.material == material), MaterialChoice(material))
