"""Sightlines as a job holds them: stations, paths, zones, and rules of how near anything is ever seen."""

from __future__ import annotations

from itertools import pairwise
from math import isfinite, pi
from typing import Annotated

import msgspec
from msgspec import Meta

from oaktrim.core.fields import FilePath, Name, Side, Text

Point = tuple[float, float, float]
Screen = tuple[Side, Side]
Angle = Annotated[float, Meta(gt=0.01, lt=pi - 0.01)]
Metres = Annotated[float, Meta(gt=0, le=1e9)]
Share = Annotated[float, Meta(gt=0, le=100)]
# Of a player's eye, where nothing says it: 57 degrees from the lower to the upper edge.
YFOV = 1.0
_FAR = 1e12


def _check_points(**points: Point) -> None:
    for name, point in points.items():
        if not all(isfinite(value) and abs(value) < _FAR for value in point):
            raise ValueError(f"{name} is three numbers")


class Station(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A place that somebody looks from.

    Parameters
    ----------
    eye, target : in the units of the scene
    yfov : vertical field of view in radians
    screen : pixels; the target's own where it is left out
    scene : path of the model that it stands in; the largest where it is left out
    """

    name: Name
    eye: Point
    target: Point
    yfov: Angle = YFOV
    screen: Screen | None = None
    scene: FilePath = ""

    def __post_init__(self) -> None:
        _check_points(eye=self.eye, target=self.target)
        if not self.name:
            raise ValueError("a station has a name")
        if self.eye == self.target:
            raise ValueError(f"station {self.name!r} looks at its own eye")


class Step(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """When a path comes through a station, seconds from its start."""

    station: Name
    time: Annotated[float, Meta(ge=0, le=1e6)]


class Path(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A walk through stations, in the order of their times."""

    name: Name
    steps: tuple[Step, ...]

    def __post_init__(self) -> None:
        times = [step.time for step in self.steps]
        if len(times) < 2 or any(b <= a for a, b in pairwise(times)):
            raise ValueError(f"path {self.name!r} needs two steps or more, each later than the one before")


class Zone(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A room that somebody may stand anywhere in.

    Parameters
    ----------
    low, high : corners of a box; or, with `ground`, that somebody walks on
    ground : part of the name of the objects that are walked on, with eyes at `eye_height` above
    nearest : to anything that is ever seen from there
    """

    name: Name
    nearest: Metres
    low: Point = (0.0, 0.0, 0.0)
    high: Point = (0.0, 0.0, 0.0)
    ground: Name = ""
    eye_height: Metres = 1.6
    scene: FilePath = ""

    def __post_init__(self) -> None:
        _check_points(low=self.low, high=self.high)
        if not self.ground and any(b < a for a, b in zip(self.low, self.high, strict=True)):
            raise ValueError(f"zone {self.name!r} has a lower corner above its higher one")


class Nearest(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a filter keeps is never seen nearer than so far."""

    metres: Metres
    where: Text


class Portrait(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a prop or an avatar without a scene is seen: whole, from a distance or at a height on the screen.

    Parameters
    ----------
    model : part of the paths of the models that it is about; all without
    metres : from the eye to the middle of it; height : the most that it takes of the picture's height, 1 for all of it
    """

    model: FilePath = ""
    metres: Metres | None = None
    height: Share | None = None

    def __post_init__(self) -> None:
        if (self.metres is None) == (self.height is None):
            raise ValueError("a portrait rule has a distance or a height on the screen")


class Sightlines(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """All that says from where things are seen.

    Parameters
    ----------
    percentile : of the pixels of a view that have to have what they can show
    """

    stations: tuple[Station, ...] = ()
    paths: tuple[Path, ...] = ()
    zones: tuple[Zone, ...] = ()
    nearest: tuple[Nearest, ...] = ()
    portraits: tuple[Portrait, ...] = ()
    percentile: Annotated[float, Meta(ge=50, le=100)] = 95.0

    def __post_init__(self) -> None:
        names = [*(row.name for row in self.stations), *(row.name for row in self.zones)]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"there are two sightlines called {twice!r}")
        known = {station.name for station in self.stations}
        for path in self.paths:
            lost = next((step.station for step in path.steps if step.station not in known), None)
            if lost is not None:
                raise ValueError(f"path {path.name!r} goes through {lost!r}, which is no station")

    def __bool__(self) -> bool:
        return bool(self.stations or self.zones or self.nearest or self.portraits)

    def station(self, name: str) -> Station | None:
        """Return a station by its name."""
        return next((row for row in self.stations if row.name == name), None)

    def with_station(self, station: Station) -> Sightlines:
        """Return them with a station, in the place of one of its name."""
        rows = tuple(station if row.name == station.name else row for row in self.stations)
        return msgspec.structs.replace(self, stations=rows if station in rows else (*rows, station))

    def without(self, name: str) -> Sightlines:
        """Return them without a station, a path or a zone; paths leave out a station that goes, or go with it."""
        paths = []
        for path in self.paths:
            steps = tuple(step for step in path.steps if step.station != name)
            if path.name != name and len(steps) > 1:
                paths.append(msgspec.structs.replace(path, steps=steps))
        return msgspec.structs.replace(
            self,
            stations=tuple(row for row in self.stations if row.name != name),
            zones=tuple(row for row in self.zones if row.name != name),
            paths=tuple(paths),
        )

    def free_name(self, name: str) -> str:
        """Return a name that no station has yet, made of another."""
        taken = {row.name for row in self.stations} | {row.name for row in self.zones}
        count = 1
        found = name
        while found in taken:
            count += 1
            found = f"{name} {count}"
        return found
