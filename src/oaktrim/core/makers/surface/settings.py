"""The settings of a surface, as a job holds them: a short stack of steps, each there or not."""

from __future__ import annotations

from enum import Enum
from typing import Annotated

import msgspec
from msgspec import Meta

from oaktrim.core.fields import FilePath, NewPath

_Part = Annotated[float, Meta(ge=0, le=1)]


class Axes(Enum):
    """Along which axes a picture is to repeat."""

    X = "x"
    Y = "y"
    BOTH = "both"

    @property
    def across(self) -> bool:
        """It repeats from left to right."""
        return self is not Axes.Y

    @property
    def down(self) -> bool:
        """It repeats from top to bottom."""
        return self is not Axes.X


class Flatten(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Large-scale shading taken out.

    Parameters
    ----------
    strength : of all of it, 0 to 1
    radius : of what counts as large, as a share of the shorter side
    shadows, highlights : of what is darker and of what is brighter than the whole, 0 to 1
    cast : of the light from one side, 0 to 1
    """

    strength: _Part = 1.0
    radius: Annotated[float, Meta(ge=0.02, le=0.5)] = 0.18
    shadows: _Part = 1.0
    highlights: _Part = 1.0
    cast: _Part = 1.0


class Calm(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Contrast calmed: lightness from the 5th to the 95th percentile, OKLab, is brought to `spread`; less stays as it is."""

    spread: Annotated[float, Meta(ge=0.01, le=1)] = 0.3


class Match(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Mean, spread and colour brought to those of another texture.

    Parameters
    ----------
    path : of the other texture; strength : how far, 0 to 1
    """

    path: FilePath
    strength: _Part = 1.0


class Stroke(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A place that is kept whole: a disc, all in parts of the picture's width and height, the radius of the shorter side."""

    x: _Part
    y: _Part
    radius: Annotated[float, Meta(gt=0, le=0.5)]


class Tile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Made to repeat.

    Parameters
    ----------
    overlap : of the side, in which the cut runs; blend : width over which both sides of it mix, texels of the base colour
    across, down : places of the cut by hand, 0 to 1 through the overlap at even steps along it; empty for the best
    keep : places that no cut runs through
    """

    axes: Axes = Axes.BOTH
    overlap: Annotated[float, Meta(ge=0.02, le=0.45)] = 0.15
    blend: Annotated[int, Meta(ge=0, le=256)] = 8
    across: tuple[_Part, ...] = ()
    down: tuple[_Part, ...] = ()
    keep: tuple[Stroke, ...] = ()


class Surface(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="surface", tag_field="kind"):
    """A texture, and the other maps of its material, made usable.

    Parameters
    ----------
    name : path of what is made of the source, without ending; followers get theirs after it
    source : the base colour that decides; followers : maps that go through the same cut
    """

    name: NewPath
    source: FilePath
    followers: tuple[FilePath, ...] = ()
    flatten: Flatten | None = None
    calm: Calm | None = None
    match: Match | None = None
    tile: Tile | None = None

    def __post_init__(self) -> None:
        paths = (self.source, *self.followers)
        if len(set(paths)) < len(paths):
            raise ValueError(f"{self.source!r} is named twice among the maps of a surface")

    @property
    def inputs(self) -> tuple[str, ...]:
        return (self.source, *self.followers, *(() if self.match is None else (self.match.path,)))
