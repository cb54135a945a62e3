"""What the sheets and models of an atlas are called, and how one names the other."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import PurePosixPath

from oaktrim.core.makers.atlas.contents import Gathered
from oaktrim.core.makers.atlas.mapkinds import MapKind
from oaktrim.core.makers.atlas.settings import Atlas
from oaktrim.core.makers.atlas.sheets import kinds_of
from oaktrim.core.makers.names import safe


@dataclass(frozen=True)
class SheetName:
    """Which map of an atlas a sheet is; `path` is its name, without ending."""

    group: int
    sheet: int
    kind: MapKind
    path: str


def sheets_in(gathered: Gathered, place: int, settings: Atlas) -> int:
    """Return how many sheets a group has: as many as asked for, where it has so many islands."""
    return max(1, min(settings.sheets, sum(gathered.contents[row].charts for row in gathered.groups[place].contents)))


def sheet_names(gathered: Gathered, settings: Atlas) -> tuple[SheetName, ...]:
    """Return the maps that an atlas has."""
    found = []
    for place, group in enumerate(gathered.groups):
        ending = group.name.removeprefix(settings.name.rpartition("/")[2]).strip().replace(" ", "_")
        stem = f"{settings.name}_{ending}" if ending else settings.name
        count = sheets_in(gathered, place, settings)
        for sheet in range(count):
            numbered = f"{stem}_{sheet + 1}" if count > 1 else stem
            for kind in kinds_of(gathered, group):
                found.append(SheetName(place, sheet, kind, f"{numbered}_{kind.ending}"))
    return tuple(found)


def model_names(settings: Atlas) -> list[str]:
    """Return what the models of an atlas are called, without ending, in the order of their sources."""
    stems = [safe(PurePosixPath(path).stem) for path in settings.source_models]
    if len(stems) == 1:
        return [settings.name]
    found: list[str] = []
    for number, stem in enumerate(stems):
        name = f"{settings.name}_{stem}"
        found.append(name if stems.count(stem) == 1 else f"{name}_{number + 1}")
    return found


def sheet_uri(model: str, path: str, ending: str = "") -> str:
    """Return the way from a model's folder to a sheet, both below one root."""
    here, there = PurePosixPath(model).parent.parts, PurePosixPath(path).parts
    shared = 0
    while shared < len(here) and shared < len(there) - 1 and here[shared] == there[shared]:
        shared += 1
    return "/".join([".."] * (len(here) - shared) + list(there[shared:])) + ending
