"""The Sightlines bench: a scene seen from its stations, texels to spare or lacking, and what a streaming budget blurs."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.plan.cuts import Cap
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.picture import Settings, draw, footprints
from oaktrim.core.sight.advice import caps_to_spare
from oaktrim.core.sight.demand import Stage, least_levels, stage_of, with_cameras
from oaktrim.core.sight.ramp import fit_picture
from oaktrim.core.sight.report import fits_of
from oaktrim.core.sight.scenes import checked, dressed, object_costs, rows_of_object
from oaktrim.core.sight.sightlines import Sightlines, Station
from oaktrim.core.sight.views import framed, has_cameras, largest_scene, on_path, scene_of, station_camera
from oaktrim.core.survey.drawables import Loaded, TextureCache
from oaktrim.core.units import bytes_text, point_of, size_text
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.sightlines.asking import StationAsking, ZoneAsking
from oaktrim.desk.benches.sightlines.edits import Edits
from oaktrim.desk.benches.sightlines.objectpane import ObjectPane, TextureLine
from oaktrim.desk.benches.sightlines.stationlist import SHOT, StationList
from oaktrim.desk.benches.sightlines.streamingpane import StreamingPane
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.fitmark import FitRuler, fit_text
from oaktrim.desk.widgets.layers import Look, developed
from oaktrim.desk.widgets.sceneview import EDGES, SceneView, Shading, Shot, how_made, lit
from oaktrim.desk.work.tasks import Work, start

_SKY = (0.33, 0.38, 0.43, 1.0)
_SEEN, _FIT, _CHECK, _COST, _EDGES = "As seen", "Fit", "Check", "Cost", "Edges"
_ABOUT = {
    _SEEN: "As a player sees it, with textures as large as they ship",
    _FIT: "Levels to spare or lacking, of the texture that lacks most at each pixel",
    _CHECK: "Squares of eight texels of what ships",
    _COST: "Objects by the texture memory that they ask for on the watched target",
    _EDGES: "Triangles",
}
_EMPTY = (
    "Sightlines say from where things are seen, and so how large each texture needs to be. "
    "There is no model here yet: add a glTF or OBJ scene to the folder."
)


@dataclass(frozen=True, eq=False)
class Scenes:
    """A model as the bench shows it: before the cuts, and after them."""

    stage: Stage
    before: Drawable
    after: Drawable
    check: Drawable
    costs: NDArray[np.int64]
    faults: tuple[str, ...]


def make_scenes(plan: Plan, place: int, cache: TextureCache, stages: dict[int, Stage]) -> Task[Scenes]:
    """Make a model ready to be shown."""
    stage = stages.get(place)
    if stage is None:
        stage = stages[place] = yield from stage_of(plan.inventory, place, plan.inventory.sources(1 << 28), cache)
    before, faults = yield from dressed(plan, stage, cache, shipped=False)
    after, _ = yield from dressed(plan, stage, cache, shipped=True)
    yield Progress(0, 1, "weighing objects")
    return Scenes(stage, before, after, checked(plan, stage), object_costs(plan, stage), faults)


def draw_shots(scene: Drawable, stations: tuple[Station, ...], ratio: float) -> Task[None]:
    """Bring the little picture of each station: its place and codes."""
    size = int(SHOT.width() * ratio), int(SHOT.height() * ratio)
    for place, station in enumerate(stations):
        picture = yield from draw(scene, station_camera(station), size, Settings(4, background=_SKY))
        yield Progress(place, len(stations), "drawing stations", (place, picture.codes()))


class SightlinesBench(Bench):
    """Shows one model at a time, from its stations."""

    title = "Sightlines"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._scenes: Scenes | None = None
        self._key: tuple[object, ...] = ()
        self._work: Work | None = None
        self._edits = Edits(session)
        self._object = -1
        self._row = -1
        self._stations: tuple[Station, ...] = ()
        self._name = with_properties(QLabel("Sightlines"), objectName="title")
        self._about = with_properties(QLabel(), objectName="caption", accessibleName="What is looked from")
        self.models = with_properties(QComboBox(), accessibleName="Model that is looked at")
        self.stations = StationList()
        self.view = SceneView()
        self.view.setAccessibleName("The scene")
        self.ways: dict[str, QPushButton] = {}
        self.after = with_properties(QPushButton("after the cuts"), checkable=True, checked=True)
        self.before = with_properties(QPushButton("before"), checkable=True)
        self.ruler = FitRuler()
        # The picture keeps its size whichever way it is looked at.
        policy = self.ruler.sizePolicy()
        policy.setRetainSizeWhenHidden(True)
        self.ruler.setSizePolicy(policy)
        self.readout = with_properties(QLabel(), objectName="caption", accessibleName="Under the pointer")
        self.streaming = StreamingPane(session)
        self.pane = ObjectPane()
        self._nothing = with_properties(QLabel(_EMPTY, wordWrap=True), objectName="caption")
        self._pages = QStackedWidget()
        self._build()
        self._wait = QTimer(self, singleShot=True, interval=250)
        self._wait.timeout.connect(self._begin)
        self._connect()

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        empty = QWidget()
        middle = QVBoxLayout(empty)
        self._nothing.setAlignment(Qt.AlignmentFlag.AlignCenter)
        middle.addWidget(self._nothing)
        self._pages.addWidget(empty)
        self._pages.addWidget(self._room())
        column.addWidget(self._pages)

    def _room(self) -> QWidget:
        room = QWidget()
        across = QHBoxLayout(room)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        main = QVBoxLayout()
        main.setSpacing(0)
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 4)
        top.addWidget(self._name)
        top.addSpacing(8)
        top.addWidget(self._about, 1)
        top.addWidget(self.models)
        main.addLayout(top)
        inner = QHBoxLayout()
        inner.setSpacing(0)
        inner.addWidget(self.stations)
        scene = QVBoxLayout()
        scene.setSpacing(0)
        scene.addLayout(self._keys())
        scene.addWidget(self.view, 1)
        scene.addWidget(self.ruler)
        scene.addWidget(self.streaming)
        inner.addLayout(scene, 1)
        main.addLayout(inner, 1)
        across.addLayout(main, 1)
        across.addWidget(self.pane)
        return room

    def _keys(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(4, 2, 12, 6)
        row.setSpacing(4)
        group, sides = QButtonGroup(self), QButtonGroup(self)
        for way, about in _ABOUT.items():
            key = with_properties(QPushButton(way), checkable=True, checked=way == _FIT, toolTip=about)
            key.setObjectName("chip")
            key.clicked.connect(partial(self.show_as, way))
            group.addButton(key)
            row.addWidget(key)
            self.ways[way] = key
        row.addSpacing(12)
        for key in (self.before, self.after):
            key.setObjectName("chip")
            sides.addButton(key)
            key.clicked.connect(lambda _: self._show_scene(True))
            row.addWidget(key)
        row.addSpacing(12)
        self.readout.setMinimumWidth(40)
        row.addWidget(self.readout, 1)
        return row

    def _connect(self) -> None:
        session = self._session
        for signal in (session.opened, session.job_changed, session.plans_changed, session.watched_changed):
            signal.connect(self.refresh)
        session.sights.changed.connect(self.refresh)
        session.selection_changed.connect(self._take_selection)
        self.stations.chosen.connect(self.go_to_station)
        self.stations.renamed.connect(lambda place, name: self._edits.rename(self._mine()[place], name))
        self.stations.here.clicked.connect(self.add_station)
        self.stations.remove.clicked.connect(self._remove_station)
        self.stations.walk.clicked.connect(self._walk_all)
        self.stations.typed.clicked.connect(self.type_station)
        self.stations.zone.clicked.connect(self.add_zone)
        self.stations.rule.clicked.connect(self._ask_rule)
        self.stations.ruled_out.connect(self._edits.remove_rule)
        self.view.picked.connect(self._pick)
        self.view.pointed.connect(self._point)
        self.pane.chosen.connect(self._choose_texture)
        self.pane.go.clicked.connect(self.go_where_most)
        self.pane.capped.connect(self._cap)
        self.pane.spare.clicked.connect(self.cap_to_spare)
        self.models.currentIndexChanged.connect(lambda _: self.refresh())
        self.streaming.chosen.connect(self._go_along)

    def actions_here(self) -> list[Action]:
        return [
            Action("Keep this view as a station", self.add_station),
            Action("A station by its numbers", self.type_station),
            Action("A zone that somebody looks around in", self.add_zone),
            Action("Look from where most is asked for", self.go_where_most, "G"),
            Action("Cap what has two levels to spare", self.cap_to_spare),
            Action("Levels to spare on the scene", partial(self.show_as, _FIT)),
            Action("The scene as it is seen", partial(self.show_as, _SEEN)),
        ]

    def showEvent(self, event: object) -> None:
        self._session.sights.want()
        self.refresh()

    # What is shown

    @property
    def _lines(self) -> Sightlines:
        return self._session.job.sightlines

    def refresh(self) -> None:
        """Show the scene as it is now, once the hand is still."""
        session = self._session
        if not session.is_open or session.inventory is None or not self.isVisible():
            return
        models = session.inventory.models
        self._pages.setCurrentIndex(1 if models else 0)
        if not models:
            return
        paths = [model.path for model in models]
        if [self.models.itemText(n) for n in range(self.models.count())] != paths:
            with QSignalBlocker(self.models):
                self.models.clear()
                self.models.addItems(paths)
                self.models.setCurrentIndex(self._first_model())
        self.models.setVisible(len(paths) > 1)
        self._show_figures()
        self._wait.start()

    def _mine(self) -> tuple[Station, ...]:
        """Return the stations of the model that is shown, or its cameras."""
        inventory, scenes = self._session.inventory, self._scenes
        if scenes is None or inventory is None:
            return ()
        lines, place = with_cameras(self._lines, inventory, scenes.stage.loaded), scenes.stage.loaded.place
        return tuple(row for row in lines.stations if scene_of(inventory, row.scene) == place)

    def _first_model(self) -> int:
        inventory = self._session.inventory
        assert inventory is not None
        with_one = [place for place in range(len(inventory.models)) if has_cameras(inventory, place)]
        return with_one[0] if with_one and not self._lines.stations else max(0, largest_scene(inventory))

    def _begin(self) -> None:
        session = self._session
        if not session.is_open or session.inventory is None or not self.isVisible() or session.trying:
            return
        plan, place = session.plan(), max(0, self.models.currentIndex())
        if place >= len(session.inventory.models):
            return
        sizes = plan.footprint
        key = (
            session.inventory,
            place,
            sizes.width.tobytes(),
            sizes.height.tobytes(),
            sizes.levels.tobytes(),
            session.watched_id,
        )
        if key == self._key:
            self._show_stations()
            return
        new_model = self._key[:2] != key[:2]
        self._key = key
        if self._work is not None:
            self._work.cancel()
        if new_model:
            self._scenes, self._object = None, -1
            self.view.say("reading the scene …")
            self.pane.say("Click an object in the scene")

        def done(scenes: Scenes) -> None:
            if key == self._key:
                self._scenes = scenes
                self._show_stations(new_model)
                self._show_scene(not new_model)
                self._show_figures()

        def failed(error: Exception) -> None:
            if key == self._key:
                self.view.say(str(error) if isinstance(error, OakTrimError) else f"The scene cannot be drawn: {error}")

        work = self._work = start(
            make_scenes(plan, place, session.sights.cache, session.sights.stages), self, done, failed
        )
        work.ended.connect(partial(self._ended, work))

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None

    def _show_stations(self, first: bool = False) -> None:
        """List what is looked from in this model, with its shots."""
        scenes, inventory = self._scenes, self._session.inventory
        if scenes is None or inventory is None:
            return
        mine = self._mine()
        changed = mine != self._stations or first
        self._stations = mine
        self.stations.show_lines(mine, self._lines, bool(self._lines.stations))
        screen = self._session.watched.screen
        about = [f"{len(mine)} station{'s' if len(mine) != 1 else ''}", f"seen on {size_text(*screen)}"]
        if scenes.faults:
            about.append(f"hatched: {scenes.faults[0]}")
        self._about.setText(" · ".join(about))
        if changed and mine:
            task = draw_shots(scenes.after, mine, self.devicePixelRatioF())
            work = start(task, self, lambda _: None, lambda _: None)
            work.found.connect(lambda found: self.stations.show_shot(found[0], developed(found[1], Look())))
        self.streaming.walk(scenes.stage, self._lines)

    def show_as(self, way: str, _: bool = True) -> None:
        """Look at the scene in one of the ways."""
        self.ways[way].setChecked(True)
        self._show_scene(True)

    def way(self) -> str:
        """Return the way that the scene is looked at."""
        return next(way for way, key in self.ways.items() if key.isChecked())

    def _show_scene(self, keep_camera: bool) -> None:
        scenes = self._scenes
        if scenes is None:
            return
        way = self.way()
        home = station_camera(self._stations[0]) if self._stations else framed(scenes.stage.loaded)
        scene = scenes.before if self.before.isChecked() else scenes.after
        scene = scenes.check if way == _CHECK else scene
        self.view.shading = self._shading(way, scenes)
        self.view.show_scenes((scene,), ("",), home, keep_camera)
        self.ruler.setVisible(way == _FIT)

    def _shading(self, way: str, scenes: Scenes) -> Shading:
        if way == _FIT:
            return self._fit_shading(scenes)
        if way == _COST:
            costs = np.append(scenes.costs, 0)
            objects = np.append(scenes.stage.loaded.draws.objects, -1)
            return how_made(lambda _, picture: _in_cost(objects[picture.ids], costs))
        return EDGES if way == _EDGES else lit(background=_SKY)

    def _fit_shading(self, scenes: Scenes) -> Shading:
        plan = self._session.plan(cut=not self.before.isChecked())
        stage, filtering, screen = scenes.stage, plan.target.filtering, plan.target.screen
        sizes = np.stack([plan.footprint.width, plan.footprint.height], axis=1)[stage.reads.rows].astype(np.float64)

        def shade(scene: Drawable, camera: Camera, size: tuple[int, int], quick: bool) -> Task[Shot]:
            seen = yield from footprints(replace(stage.scene, draws=stage.loaded.draws), camera, size)
            levels = least_levels(seen, stage.loaded, stage.reads, filtering, sizes)
            # The target's screen has more pixels than this picture.
            levels -= np.float32(np.log2(screen[1] / size[1]))
            return Shot(fit_picture(levels), seen.ids, levels)

        return shade

    # Moving about

    def go_to_station(self, place: int) -> None:
        """Look from a station."""
        if 0 <= place < len(self._stations):
            self.view.set_camera(station_camera(self._stations[place]))

    def go_where_most(self) -> None:
        """Look from where most is asked for of the chosen texture."""
        demand = self._session.demand()
        if demand is None or self._row < 0 or not demand.seen[self._row]:
            return
        name = demand.views[int(demand.view[self._row])]
        found = next((row for row in self._stations if row.name == name), None)
        if found is not None:
            self.view.set_camera(station_camera(found))

    def _go_along(self, seconds: float) -> None:
        if self._lines.paths:
            self.view.set_camera(on_path(self._lines, self._lines.paths[0].name, seconds))

    def _point(self, x: int, y: int) -> None:
        """Say what is under the pointer."""
        scenes = self._scenes
        triangle = self.view.triangle_at(x, y)
        value = self.view.value_at(x, y)
        self.ruler.show_value(value)
        if scenes is None or triangle < 0:
            self.readout.setText("")
            return
        draws = scenes.stage.loaded.draws
        place = int(draws.objects[triangle])
        words = draws.names[place]
        if self.way() == _COST:
            words += f" · {bytes_text(int(scenes.costs[place]))}"
        elif value is not None and np.isfinite(value):
            corner = draws.positions[draws.triangles[triangle]].mean(axis=0)
            away = float(np.linalg.norm(corner - np.array(self.view.camera.eye)))
            words += f" · {value:+.1f} · {away:.1f} m".replace("-", "−")
        self.readout.setText(words)

    # The object

    def _pick(self, triangle: int) -> None:
        scenes = self._scenes
        if scenes is None or triangle < 0:
            return
        draws = scenes.stage.loaded.draws
        self._object = int(draws.objects[triangle])
        material = int(draws.materials[triangle])
        rows = [row for (number, _), row in scenes.stage.loaded.rows.items() if number == material]
        if rows:
            self._session.select((rows[0],))
            self._row = rows[0]
        self._show_figures()

    def _take_selection(self) -> None:
        """Show the object that wears what was selected elsewhere."""
        chosen = self._session.chosen
        if not chosen or self._scenes is None:
            return
        self._row = chosen[0]
        stage = self._scenes.stage
        if self._object < 0 or self._row not in rows_of_object(stage, self._object):
            mine = stage.loaded.reading(self._row)
            self._object = int(stage.loaded.draws.objects[int(np.argmax(mine))]) if mine.any() else self._object
        self._show_figures()

    def _choose_texture(self, row: int) -> None:
        self._row = row
        self._session.select((row,))
        self._show_figures()

    def _show_figures(self) -> None:
        session, scenes = self._session, self._scenes
        if scenes is None or session.inventory is None or not self.isVisible():
            return
        plan, demand = session.plan(), session.demand()
        self._show_spare(plan)
        loaded = scenes.stage.loaded
        if self._object < 0 or self._object >= len(loaded.draws.names):
            self.pane.say("Click an object in the scene")
            self.pane.show_cap(None)
            return
        fits = fits_of(plan, demand) if demand is not None else np.full(len(session.inventory.textures), np.nan)
        materials: dict[str, list[TextureLine]] = {}
        draws = loaded.draws
        mine = draws.objects == self._object
        for number in np.unique(draws.materials[mine]).tolist():
            if 0 <= number < len(loaded.materials):
                rows = dict.fromkeys(row for (n, _), row in loaded.rows.items() if n == number)
                materials[loaded.materials[number].name or f"material {number}"] = [
                    self._line(plan, row, float(fits[row])) for row in rows
                ]
        cost = bytes_text(int(scenes.costs[self._object]))
        about = f"{int(mine.sum()):,} triangles · {cost} of textures on {session.watched.name}"
        self.pane.show_object(draws.names[self._object], about, materials, self._row)
        self._show_place()

    def _line(self, plan: Plan, row: int, fit: float) -> TextureLine:
        inventory, demand = plan.inventory, self._session.demand()
        texture = inventory.textures[row]
        wants, estimated = "", False
        if demand is not None and demand.seen[row]:
            wants = f"{demand.side(row, max(texture.width, texture.height))}"
            estimated = bool(demand.estimated[row])
        ships = size_text(int(plan.footprint.width[row]), int(plan.footprint.height[row]))
        cost = bytes_text(int(plan.footprint.memory[row]))
        levels = "" if plan.footprint.levels[row] > 1 else "\nwithout levels: far away it shimmers, whatever its size"
        tip = f"{texture.path}\n{cost} on {plan.target.name}{levels}"
        name = inventory.roles[row].role.label.split()[0].lower()
        return TextureLine(
            row, name + ("" if plan.footprint.levels[row] > 1 else " ▲"), ships, fit, wants, tip, estimated
        )

    def _show_place(self) -> None:
        session, demand = self._session, self._session.demand()
        inventory = session.inventory
        if inventory is None or not 0 <= self._row < len(inventory.textures):
            self.pane.show_place("")
            self.pane.show_cap(None)
            return
        plan, row = session.plan(), self._row
        self.pane.show_cap(int(max(plan.footprint.width[row], plan.footprint.height[row])))
        if demand is None:
            self.pane.show_place("asking …" if session.sights.wanted else "")
        elif not demand.seen[row]:
            self.pane.show_place(
                "never seen from any sightline" if demand.looked[row] else "not in any scene that was looked at"
            )
        else:
            far = float(demand.distance[row])
            near = f", at {far:.1f} m" if np.isfinite(far) else ""
            name = inventory.names[row]
            fit = float(fits_of(plan, demand)[row])
            self.pane.show_place(
                f"{name}: {demand.views[int(demand.view[row])]}{near}, {int(demand.pixels[row]):,} pixels in all, "
                f"{fit_text(fit, bool(demand.estimated[row]))}"
            )

    # Cuts

    def _cap(self, exponent: int, done: bool) -> None:
        session = self._session
        if self._row >= 0:
            if session.chosen != (self._row,):
                session.select((self._row,))
            session.cut(Cap(1 << exponent), everywhere=False, keep=done)

    def _show_spare(self, plan: Plan) -> None:
        demand = self._session.demand()
        caps = caps_to_spare(plan, demand) if demand is not None else {}
        count = sum(map(len, caps.values()))
        if not count:
            self.pane.show_spare(0, "")
            return
        job = self._session.job
        for side, paths in caps.items():
            job = job.with_changes(plan.target.id, paths, Cap(side))
        saved = plan.total("memory") - self._session.plan_of(job).total("memory")
        self.pane.show_spare(count, bytes_text(max(0, saved)))

    def cap_to_spare(self) -> None:
        """Cap everything that has two levels or more to spare on the watched target, as one edit."""
        session, demand = self._session, self._session.demand()
        if demand is None:
            return
        plan, job = session.plan(), session.job
        caps = caps_to_spare(plan, demand)
        for side, paths in caps.items():
            job = job.with_changes(plan.target.id, paths, Cap(side))
        if caps:
            session.edit(job, f"cap {sum(map(len, caps.values()))} textures with levels to spare")

    # Sightlines

    @property
    def _loaded(self) -> Loaded | None:
        """The geometry that is shown."""
        return None if self._scenes is None or self._session.inventory is None else self._scenes.stage.loaded

    def add_station(self) -> None:
        """Keep the present view as a station of the job."""
        if self._loaded is not None:
            self._edits.add_station(self._edits.station_of(self.view.camera, self._loaded), self._loaded)

    def type_station(self) -> None:
        """Ask for a station by its numbers, beginning with the chosen one or the present view."""
        loaded, place, mine = self._loaded, self.stations.shots.currentRow(), self._mine()
        if loaded is None:
            return
        first = mine[place] if 0 <= place < len(mine) else self._edits.station_of(self.view.camera, loaded)
        station = StationAsking(first, self._session.watched.screen, self).ask()
        if station is not None:
            self._edits.add_station(station, loaded)

    def add_zone(self) -> None:
        """Ask for a zone that somebody looks around in."""
        loaded, inventory = self._loaded, self._session.inventory
        if loaded is None or inventory is None:
            return
        low, high = (point_of(",".join(map(str, corner))) for corner in loaded.draws.box())
        objects = list(dict.fromkeys(loaded.draws.names))
        name = self._edits.own(loaded).free_name("zone")
        zone = ZoneAsking(name, objects, low, high, inventory.models[loaded.place].path, self).ask()
        if zone is not None:
            self._edits.add_zone(zone, loaded)

    def _remove_station(self) -> None:
        place, mine = self.stations.shots.currentRow(), self._mine()
        if 0 <= place < len(mine):
            self._edits.remove(mine[place].name)

    def _walk_all(self) -> None:
        if len(self._mine()) > 1:
            self._edits.walk_through(self._mine())

    def _ask_rule(self) -> None:
        texture = (
            self._session.inventory.textures[self._row].path if self._session.inventory and self._row >= 0 else "*"
        )
        folder = texture.rpartition("/")[0]
        text, done = QInputDialog.getText(
            self,
            "Never nearer than",
            "Metres, and a filter for the textures:",
            text=f"2 path:{folder + '/*' if folder else texture}",
        )
        if done and text.strip():
            self.add_rule(text)

    def add_rule(self, text: str) -> None:
        """Add a rule such as "6 path:reeds/*"."""
        if self._loaded is not None:
            self._edits.add_rule(text, self._loaded)

    def stop(self) -> None:
        self.streaming.stop()
        if self._work is not None:
            self._work.cancel()


def _in_cost(objects: NDArray[np.integer], costs: NDArray[np.int64]) -> NDArray[np.uint8]:
    """Return objects by cost, from paper to oak, with a line around each."""
    share = np.sqrt(costs / max(1, int(costs.max())))[objects][..., None]
    out = np.full((*objects.shape, 4), 255, np.uint8)
    low, high = np.array([235.0, 230.0, 218.0]), np.array([126.0, 80.0, 26.0])
    out[..., :3] = np.where((objects >= 0)[..., None], low + (high - low) * share, (207, 208, 202))
    border = np.zeros(objects.shape, np.bool_)
    border[:, :-1] |= objects[:, :-1] != objects[:, 1:]
    border[:-1] |= objects[:-1] != objects[1:]
    out[border, :3] = (38, 35, 31)
    return out
