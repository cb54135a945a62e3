"""Sightlines as cameras: what each of them looks from, in each model."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from math import tan

import numpy as np
import scipy
from numpy.typing import NDArray

from oaktrim.core.render.camera import Camera, Triple, framing, of_lens
from oaktrim.core.sight.sightlines import YFOV, Nearest, Portrait, Screen, Sightlines, Station, Zone
from oaktrim.core.survey.drawables import Loaded
from oaktrim.core.survey.inventory import Inventory

Flags = NDArray[np.bool_]
Points = NDArray[np.float64]
# Directions that a nearest rule is answered from; RENDER.md's trial found the 95th percentile of the error 0.2 levels with 16.
DIRECTIONS = 16
_PORTRAIT_TURNS = 12
# Objects that one nearest rule looks at one by one.
_MOST_OBJECTS = 64


@dataclass(frozen=True, eq=False)
class View:
    """One look.

    Parameters
    ----------
    name : what it is called, of the sightline that it comes from
    only : triangles that are drawn; all without
    nearest : what is nearer than that is not there
    """

    name: str
    camera: Camera
    screen: Screen
    only: Flags | None = None


def station_camera(station: Station) -> Camera:
    """Return what a station sees."""
    distance = float(np.linalg.norm(np.subtract(station.target, station.eye)))
    return Camera(station.eye, station.target, station.yfov, near=max(1e-6, min(0.05, distance * 0.01)))


def largest_scene(inventory: Inventory) -> int:
    """Return the place of the model with the most triangles, -1 without any."""
    counts = [sum(row.triangles for row in model.objects) for model in inventory.models]
    return int(np.argmax(counts)) if counts else -1


def scene_of(inventory: Inventory, path: str) -> int:
    """Return the place of the model that a sightline names, the largest without a name, -1 where it is not there."""
    if not path:
        return largest_scene(inventory)
    # A model that a maker put in the place of another is seen from the same places.
    path = next((d.replaces[path] for d in inventory.made.values() if path in d.replaces), path)
    return next((place for place, model in enumerate(inventory.models) if model.path == path), -1)


def cameras_of(loaded: Loaded, path: str) -> list[Station]:
    """Return the perspective cameras of a model as stations."""
    found: list[Station] = []
    matrices = loaded.model.world_matrices()
    low, high = loaded.draws.box()
    ahead = max(1e-3, float(np.linalg.norm(high - low)) / 4)
    for place in sorted(matrices):
        lens = loaded.model.nodes[place].camera
        if lens is None or lens.yfov <= 0:
            continue
        camera = of_lens(lens, matrices[place], ahead)
        name = loaded.model.nodes[place].name or f"camera {place}"
        taken = {row.name for row in found}
        name = name if name not in taken else f"{name} {place}"
        found.append(Station(name, camera.eye, camera.target, camera.yfov, None, path))
    return found


def has_cameras(inventory: Inventory, place: int) -> bool:
    """Say whether a survey found a perspective camera in a model."""
    return any(row.largest >= 0 for row in inventory.models[place].objects)


def views_of(
    sightlines: Sightlines, inventory: Inventory, loaded: Loaded, screen: Screen, selected: Callable[[str], Flags]
) -> Iterator[View]:
    """Yield every look at a model but those of zones, which go on until their answer is stable.

    Parameters
    ----------
    screen : of the target
    selected : returns which textures of the inventory a filter keeps

    Raises
    ------
    QueryError : a filter cannot be understood
    """
    for station in sightlines.stations:
        if scene_of(inventory, station.scene) == loaded.place:
            yield View(station.name, station_camera(station), station.screen or screen)
    for rule in sightlines.nearest:
        yield from _nearest(rule, loaded, screen, selected(rule.where))
    path = inventory.models[loaded.place].path
    for portrait in sightlines.portraits:
        if portrait.model in path:
            yield from _portraits(portrait, loaded, screen)


def directions(count: int) -> Points:
    """Return directions (count, 3) evenly over a sphere, along a Fibonacci spiral (Á. González 2010)."""
    steps = np.arange(count) + 0.5
    up = 1 - 2 * steps / count
    turn = np.pi * (1 + np.sqrt(5)) * steps
    flat = np.sqrt(1 - up * up)
    return np.stack([flat * np.cos(turn), up, flat * np.sin(turn)], axis=1)


def _nearest(rule: Nearest, loaded: Loaded, screen: Screen, textures: Flags) -> Iterator[View]:
    draws = loaded.draws
    wearing = {material for (material, _), row in loaded.rows.items() if textures[row]}
    mine = np.isin(draws.materials, sorted(wearing))
    # The objects that have the most of it, each looked at from around.
    objects, counts = np.unique(draws.objects[mine], return_counts=True)
    for place in objects[np.argsort(-counts, kind="stable")][:_MOST_OBJECTS]:
        only = mine & (draws.objects == place)
        points = draws.positions[np.unique(draws.triangles[only])].astype(np.float64)
        points = points[np.isfinite(points).all(axis=1)]
        if not len(points):
            continue
        for turn, way in enumerate(directions(DIRECTIONS)):
            # The part that is farthest out that way is what is met first.
            first = points[int(np.argmax(points @ way))]
            eye = first + way * rule.metres
            camera = Camera(_triple(eye), _triple(first), YFOV, near=rule.metres * 0.5)
            yield View(f"{rule.metres:g} m from {draws.names[int(place)]} ({turn + 1})", camera, screen, only)


def _portraits(rule: Portrait, loaded: Loaded, screen: Screen) -> Iterator[View]:
    low, high = loaded.draws.box()
    centre = (low + high) / 2
    for turn in range(_PORTRAIT_TURNS):
        angle = 2 * np.pi * turn / _PORTRAIT_TURNS
        towards = np.array([np.sin(angle), 0.15 if turn % 2 else 0.0, np.cos(angle)])
        towards /= np.linalg.norm(towards)
        if rule.metres is not None:
            distance = rule.metres
        else:
            assert rule.height is not None
            distance = max(1e-6, float(high[1] - low[1])) / (2 * tan(YFOV / 2) * rule.height)
        camera = Camera(_triple(centre + towards * distance), _triple(centre), YFOV, near=max(1e-6, distance * 1e-3))
        yield View(f"portrait {turn + 1} of {_PORTRAIT_TURNS}", camera, screen)


def zone_places(zone: Zone, loaded: Loaded, count: int) -> Points:
    """Return the first places (count, 3) of eyes in a zone, evenly by a Halton sequence (1960); none without that ground."""
    if not zone.ground:
        spread = _spread(count)
        inside: Points = np.array(zone.low) + spread * (np.array(zone.high) - np.array(zone.low))
        return inside
    draws = loaded.draws
    walked = np.array([zone.ground.lower() in name.lower() for name in draws.names], np.bool_)
    mine = walked[draws.objects] if len(walked) else np.zeros(0, np.bool_)
    corners = draws.positions[draws.triangles[mine]].astype(np.float64)
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(normals, axis=1)
    # What leans more than 45 degrees is no floor.
    floor = (length > 0) & (normals[:, 1] > 0.7071 * length)
    if not floor.any():
        return np.zeros((0, 3))
    ends = np.cumsum(length[floor])
    spread = _spread(count)
    rows = np.minimum(np.searchsorted(ends, spread[:, 0] * ends[-1]), len(ends) - 1)
    a, b = np.sqrt(spread[:, 1:2]), spread[:, 2:3]
    triangle = corners[floor][rows]
    points: Points = triangle[:, 0] * (1 - a) + triangle[:, 1] * (a * (1 - b)) + triangle[:, 2] * (a * b)
    points[:, 1] += zone.eye_height
    return points


def _spread(count: int) -> Points:
    return np.asarray(scipy.stats.qmc.Halton(3, scramble=False).random(count), np.float64)


def zone_views(zone: Zone, places: Points, screen: Screen) -> list[View]:
    """Return looks in four directions from each place; what is nearer than the zone's nearest is not there."""
    found = []
    for number, eye in enumerate(places):
        for turn in range(4):
            angle = np.pi / 2 * turn + number * 0.7
            target = eye + np.array([np.sin(angle), -0.1, np.cos(angle)])
            camera = Camera(_triple(eye), _triple(target), YFOV, near=zone.nearest)
            found.append(View(zone.name, camera, screen))
    return found


def on_path(sightlines: Sightlines, name: str, seconds: float) -> Camera:
    """Return the camera on a path at a time, between its stations.

    Raises
    ------
    KeyError : there is no such path
    """
    path = next((row for row in sightlines.paths if row.name == name), None)
    if path is None:
        raise KeyError(name)
    times = np.array([step.time for step in path.steps])
    stations = [sightlines.station(step.station) for step in path.steps]
    rows = np.array([[*s.eye, *s.target, s.yfov] for s in stations if s is not None])
    found = [float(np.interp(seconds, times, rows[:, column])) for column in range(7)]
    first = next(s for s in stations if s is not None)
    eye, target = (found[0], found[1], found[2]), (found[3], found[4], found[5])
    if np.allclose(eye, target):
        return replace(station_camera(first), eye=eye)
    return station_camera(Station(name, eye, target, found[6], first.screen, first.scene))


def path_scene(sightlines: Sightlines, name: str) -> tuple[str, Screen | None]:
    """Return the scene and the screen of a path's first station."""
    path = next(row for row in sightlines.paths if row.name == name)
    first = sightlines.station(path.steps[0].station)
    return (first.scene, first.screen) if first is not None else ("", None)


def framed(loaded: Loaded, mine: Flags | None = None, towards: Triple = (0.35, 0.3, 1.0)) -> Camera:
    """Return a camera that sees all of a model, or of some of its triangles."""
    return framing(*loaded.draws.box(mine if mine is not None and mine.any() else None), towards)


def _triple(values: Sequence[float] | Points) -> Triple:
    x, y, z = (float(v) for v in values)
    return x, y, z
