"""From where sightlines see a thing, so that a ring of view frames holds no frame that nobody looks at."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from math import ceil
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.makers.imposter.kind import subject_in
from oaktrim.core.makers.imposter.settings import Family, Imposter
from oaktrim.core.makers.imposter.subject import Subject
from oaktrim.core.makers.sourcemodel import model_in
from oaktrim.core.progress import Task
from oaktrim.core.sight.demand import with_cameras
from oaktrim.core.sight.sightlines import Sightlines
from oaktrim.core.sight.views import on_path, path_scene, scene_of, views_of, zone_places
from oaktrim.core.survey.drawables import load
from oaktrim.core.survey.inventory import Inventory

Floats = NDArray[np.float64]
_ZONE_PLACES, _PATH_PLACES = 512, 128
# Degrees: what is seen is widened by this much; rows stand at most so far apart; steeper views show what no ring holds.
_MARGIN, _ROW, _STEEPEST = 3.0, 25.0, 75.0
# Of a turn, that has to be left out before it is worth it that a ring ends.
_WORTH = 60.0


@dataclass(frozen=True)
class SeenFrom:
    """The directions from a thing to where it is seen from, degrees.

    Parameters
    ----------
    rise : the lowest and the highest elevation; sector : where they begin, from +Z towards +X, and how far they go
    eyes : how many were looked at
    """

    rise: tuple[float, float]
    sector: tuple[float, float]
    eyes: int

    @property
    def words(self) -> str:
        """From where, in a few words."""
        around = "all round" if self.sector[1] >= 360 else f"{self.sector[1]:.0f}° around"
        return f"seen from {self.rise[0]:.0f}° to {self.rise[1]:.0f}° above, {around}"


def eyes_of(sightlines: Sightlines, inventory: Inventory, path: str, max_pixels: int) -> Task[Floats]:
    """Return where the eyes of all sightlines in a model can be, (N, 3); portraits and nearest rules look from all sides.

    Raises
    ------
    OakTrimError : the model cannot be read
    """
    place = next(number for number, model in enumerate(inventory.models) if model.path == path)
    loaded = yield from load(inventory, place, inventory.sources(max_pixels))
    lines = with_cameras(sightlines, inventory, loaded)
    nothing: Callable[[str], Any] = lambda _: np.zeros(len(inventory.textures), np.bool_)  # noqa: E731
    found = [view.camera.eye for view in views_of(lines, inventory, loaded, (16, 9), nothing)]
    for walk in lines.paths:
        if scene_of(inventory, path_scene(lines, walk.name)[0]) == place:
            times = np.linspace(walk.steps[0].time, walk.steps[-1].time, _PATH_PLACES)
            found += [on_path(lines, walk.name, float(time)).eye for time in times]
    for zone in lines.zones:
        if scene_of(inventory, zone.scene) == place:
            found += [(float(x), float(y), float(z)) for x, y, z in zone_places(zone, loaded, _ZONE_PLACES)]
    return np.array(found, np.float64).reshape(-1, 3)


def seen_in(found: Inventory, settings: Imposter, sightlines: Sightlines, max_pixels: int) -> Task[SeenFrom]:
    """Return from which directions sightlines see what an imposter is of; `seen_from`, `eyes_of`.

    Raises
    ------
    OakTrimError : its model cannot be read, is not surveyed, or nobody sees it
    """
    if all(model.path != settings.source_model for model in found.models):
        raise Unsupported(f"{settings.source_model}: it is none of the models of the job")
    eyes = yield from eyes_of(sightlines, found, settings.source_model, max_pixels)
    opened = model_in(found.root, settings.source_model)
    return seen_from(subject_in(opened, found.sources(max_pixels), settings), eyes)


def seen_from(subject: Subject, eyes: Floats) -> SeenFrom:
    """Return from which directions a thing is seen.

    Parameters
    ----------
    eyes : (N, 3) in the space of the model

    Raises
    ------
    Unsupported : nobody stands anywhere outside of it
    """
    ways = eyes - (subject.pivot + subject.centre)
    away = np.linalg.norm(ways, axis=1)
    ways = ways[away > subject.radius]
    if not len(ways):
        raise Unsupported("no sightline stands where it could see this from outside")
    lift = np.degrees(np.arctan2(ways[:, 1], np.hypot(ways[:, 0], ways[:, 2])))
    turns = np.sort(np.degrees(np.arctan2(ways[:, 0], ways[:, 2])) % 360)
    gaps = np.diff(np.append(turns, turns[0] + 360))
    widest = int(np.argmax(gaps))
    sector = (0.0, 360.0)
    if gaps[widest] - 2 * _MARGIN >= _WORTH:
        start = float(turns[(widest + 1) % len(turns)]) - _MARGIN
        sector = start, max(1.0, 360 - float(gaps[widest]) + 2 * _MARGIN)
    low, high = float(lift.min()) - _MARGIN, float(lift.max()) + _MARGIN
    return SeenFrom((max(-_STEEPEST, low), min(_STEEPEST, high)), sector, len(ways))


def ring_of(settings: Imposter, seen: SeenFrom) -> Imposter:
    """Return an imposter as a ring of those frames that are seen, turned by as much from one to the next as it was."""
    whole = settings.frames if settings.family is Family.RING and settings.sector[1] >= 360 else 16
    width = seen.sector[1]
    columns = whole if width >= 360 else max(2, ceil(whole * width / 360) + 1)
    rows = min(8, 1 + max(0, ceil((seen.rise[1] - seen.rise[0] - 3 * _MARGIN) / _ROW)))
    low, high = (round(value, 1) for value in seen.rise)
    sector = 0.0 if width >= 360 else round(seen.sector[0] % 360, 1), round(width, 1)
    return msgspec.structs.replace(
        settings, family=Family.RING, frames=columns, rows=rows, rise=(low, high), sector=sector, outlines=()
    )
