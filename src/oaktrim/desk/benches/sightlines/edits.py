"""Edits of a job's sightlines, each a step of undo."""

from __future__ import annotations

import msgspec

from oaktrim.core.errors import OakTrimError
from oaktrim.core.plan.query import parse
from oaktrim.core.render.camera import Camera
from oaktrim.core.sight.demand import with_cameras
from oaktrim.core.sight.sightlines import Nearest, Path, Sightlines, Station, Step, Zone
from oaktrim.core.survey.drawables import Loaded
from oaktrim.desk.session.session import Session

_PATH_SECONDS = 3.0


class Edits:
    """Makes edits of the open job's sightlines."""

    def __init__(self, session: Session) -> None:
        self._session = session

    @property
    def lines(self) -> Sightlines:
        """The sightlines as the job has them."""
        return self._session.job.sightlines

    def own(self, loaded: Loaded) -> Sightlines:
        """Return the job's sightlines; the cameras of the model become stations before the first edit."""
        inventory = self._session.inventory
        assert inventory is not None
        return self.lines or with_cameras(self.lines, inventory, loaded)

    def station_of(self, camera: Camera, loaded: Loaded) -> Station:
        """Return a station that sees what a camera does, under a name that is free."""
        inventory = self._session.inventory
        assert inventory is not None
        path = inventory.models[loaded.place].path
        return Station(self.own(loaded).free_name("station"), camera.eye, camera.target, camera.yfov, None, path)

    def add_station(self, station: Station, loaded: Loaded) -> None:
        """Add a station, or put it in the place of one of its name."""
        self._take(self.own(loaded).with_station(station), f"station {station.name}")

    def add_zone(self, zone: Zone, loaded: Loaded) -> None:
        """Add a zone."""
        lines = self.own(loaded)
        zone = msgspec.structs.replace(zone, name=lines.free_name(zone.name))
        self._take(msgspec.structs.replace(lines, zones=(*lines.zones, zone)), f"zone {zone.name}")

    def remove(self, name: str, kind: str = "station") -> None:
        """Take a station, a path or a zone away."""
        self._take(self.lines.without(name), f"no {kind} {name}")

    def rename(self, old: Station, name: str) -> None:
        """Give a station another name, in the paths too."""
        lines = self.lines
        free = lines.free_name(name)
        stations = tuple(msgspec.structs.replace(row, name=free) if row == old else row for row in lines.stations)
        paths = tuple(
            msgspec.structs.replace(
                path,
                steps=tuple(
                    msgspec.structs.replace(s, station=free) if s.station == old.name else s for s in path.steps
                ),
            )
            for path in lines.paths
        )
        self._take(msgspec.structs.replace(lines, stations=stations, paths=paths), f"station {free}")

    def walk_through(self, stations: tuple[Station, ...]) -> None:
        """Make a path through stations, in their order."""
        steps = tuple(Step(row.name, place * _PATH_SECONDS) for place, row in enumerate(stations))
        self._take(msgspec.structs.replace(self.lines, paths=(Path("walk", steps),)), "a path through the stations")

    def add_rule(self, text: str, loaded: Loaded) -> None:
        """Add a rule such as "6 path:reeds/*"; one that is not understood is an error shown."""
        metres, _, where = text.strip().partition(" ")
        try:
            parse(where)
            rule = msgspec.convert({"metres": float(metres.rstrip("m")), "where": where.strip()}, Nearest)
        except (ValueError, OakTrimError) as error:
            self._session.failed.emit(OakTrimError(f"The rule is not understood: {error}"))
            return
        lines = self.own(loaded)
        self._take(msgspec.structs.replace(lines, nearest=(*lines.nearest, rule)), f"never nearer than {rule.metres:g}")

    def remove_rule(self, place: int) -> None:
        """Take away what stands at a place of `rules_of`."""
        lines = self.lines
        if place < len(lines.zones):
            self.remove(lines.zones[place].name, "zone")
            return
        place -= len(lines.zones)
        field = "nearest" if place < len(lines.nearest) else "portraits"
        rows = getattr(lines, field)
        place -= 0 if field == "nearest" else len(lines.nearest)
        if 0 <= place < len(rows):
            self._take(msgspec.structs.replace(lines, **{field: (*rows[:place], *rows[place + 1 :])}), "no such rule")

    def _take(self, lines: Sightlines, words: str) -> None:
        self._session.edit(msgspec.structs.replace(self._session.job, sightlines=lines), words)


def rules_of(lines: Sightlines) -> list[str]:
    """Return zones and rules in words: zones first, then how near things are seen, then portraits."""
    words = [
        f"{row.name}: {f'on {row.ground}' if row.ground else 'in a box'}, {row.nearest:g} m or farther"
        for row in lines.zones
    ]
    words += [f"never nearer than {rule.metres:g} m: {rule.where}" for rule in lines.nearest]
    words += [
        f"{row.model or 'models'} seen whole "
        + (f"from {row.metres:g} m" if row.metres is not None else f"at {row.height or 0:.0%} of the height")
        for row in lines.portraits
    ]
    return words
