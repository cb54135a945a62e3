"""One texture proved on an object that wears it: its source against what will ship, under one camera and one light."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from math import cos, radians, sin

from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QLabel, QPushButton, QSlider, QVBoxLayout, QWidget

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.resolve import Recipe
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.onmodel import Compared, OnModel, compared, on_model, users
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.drawlist import DrawList
from oaktrim.core.render.lighting import Lighting, Sun
from oaktrim.core.units import decibels_text, size_text
from oaktrim.desk.benches.proof.against import Against
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.terms import JND_TIP
from oaktrim.desk.models.trials import trial_key
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.layers import Layer, difference_layer
from oaktrim.desk.widgets.sceneview import EDGES, OBJECTS, TRIANGLES, Drawn, SceneView, Shading, lit
from oaktrim.desk.work.tasks import Work, start

_SCALES = (1.0, 2.0, 5.0, 10.0, 20.0, 50.0)
_HEIGHT = radians(38)


# Ways to look at the object, after that which the lamp has a part in.
_MADE: dict[str, Shading] = {"Edges": EDGES, "Triangles": TRIANGLES, "Objects": OBJECTS}
_SEEN = "As seen"


def _compare(drawn: Drawn) -> Task[tuple[Compared, Layer, float]]:
    yield Progress(0, 1, "comparing")
    before, after = (shot.picture for shot in drawn.shots)
    assert before is not None and after is not None
    found = compared(before, after)
    most = next((scale for scale in _SCALES if scale >= float(found.steps.max(initial=0.0))), _SCALES[-1])
    return found, difference_layer(found.steps, most, ""), most


class ModelPage(QWidget):
    """Shows the first selected texture, on the watched target, on a model that uses it."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._key: tuple[object, ...] = ()
        self._place = -1
        self._shown: OnModel | None = None
        self._work: Work | None = None
        self._comparing: Work | None = None
        self._label = ""
        self._plates: tuple[str, str] = ("", "")
        self._alone = True
        self._draws: DrawList | None = None
        self.view = SceneView()
        self.view.setAccessibleName("The object with source and cut")
        self.against = Against(self.view)
        self.shows: dict[str, QPushButton] = {}
        self._lit = lit()
        self.models = with_properties(QComboBox(), accessibleName="Model that wears the texture")
        self.lamp = with_properties(
            QSlider(Qt.Orientation.Horizontal), accessibleName="Where the lamp stands", toolTip="Turn the lamp around"
        )
        self.wearing = with_properties(
            QPushButton("What wears it"),
            checkable=True,
            checked=True,
            toolTip="Only the objects that wear the texture, from where most of it is seen (F)",
        )
        self.whole = with_properties(QPushButton("Whole model"), checkable=True, toolTip="See all of the model")
        self.words = with_properties(
            QLabel(), objectName="caption", accessibleName="How far they are apart in this view", toolTip=JND_TIP
        )
        self._under = with_properties(QLabel(), objectName="caption", accessibleName="What is under the pointer")
        self._build()
        self._wait = QTimer(self, singleShot=True, interval=200)
        self._wait.timeout.connect(self._begin)
        self.view.settled.connect(self._compare)
        self.view.moved.connect(self._moved)
        self.view.over.connect(self._point)
        self.models.currentIndexChanged.connect(lambda _: self.refresh())
        self.lamp.valueChanged.connect(self._turn_lamp)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        ways = QHBoxLayout()
        ways.setContentsMargins(12, 2, 12, 6)
        ways.setSpacing(4)
        group = QButtonGroup(self)
        for shows in (_SEEN, *_MADE):
            key = with_properties(QPushButton(shows), checkable=True, checked=shows == _SEEN)
            key.setObjectName("chip")
            key.clicked.connect(partial(self._show_as, shows))
            group.addButton(key)
            ways.addWidget(key)
            self.shows[shows] = key
        ways.addSpacing(8)
        parts = QButtonGroup(self)
        for key in (self.wearing, self.whole):
            key.setObjectName("chip")
            parts.addButton(key)
            ways.addWidget(key)
        self.wearing.clicked.connect(lambda: self._look_at(alone=True))
        self.whole.clicked.connect(lambda: self._look_at(alone=False))
        ways.addSpacing(8)
        ways.addWidget(with_properties(QLabel("lamp"), objectName="caption"))
        self.lamp.setRange(-180, 180)
        self.lamp.setValue(-37)
        self.lamp.setFixedWidth(110)
        ways.addWidget(self.lamp)
        ways.addStretch(1)
        self.models.setMinimumWidth(80)
        ways.addWidget(self.models)
        column.addLayout(ways)
        column.addWidget(self.view, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(12, 4, 12, 4)
        self.words.setMinimumWidth(60)
        foot.addWidget(self.words, 1)
        foot.addSpacing(12)
        foot.addWidget(self._under)
        column.addLayout(foot)

    def _show_as(self, shows: str, _: bool = True) -> None:
        self.shows[shows].setChecked(True)
        self.view.set_shading(_MADE.get(shows, self._lit))

    def _look_at(self, alone: bool) -> None:
        """Show only what wears the texture, or all of the model."""
        self._alone = alone
        self._show_scenes(keep_camera=False)

    def _turn_lamp(self, degrees: int) -> None:
        around = radians(degrees)
        towards = (sin(around) * cos(_HEIGHT), sin(_HEIGHT), cos(around) * cos(_HEIGHT))
        self._lit = lit(Lighting(suns=(Sun(towards),)))
        if self.shows[_SEEN].isChecked():
            self.view.set_shading(self._lit)

    # Proving

    def forget(self) -> None:
        """Take nothing for shown any more."""
        self._key, self._shown = (), None

    def refresh(self) -> None:
        """Draw the texture now selected, once the hand is still."""
        if self.isVisible() and self._session.is_open and self._session.chosen:
            self._wait.start()

    def say(self, words: str) -> None:
        """Show words in the place of a scene."""
        self._key, self._shown = (), None
        self.words.setText("")
        self._under.setText("")
        self.view.say(words)

    def _begin(self) -> None:
        session = self._session
        if not session.is_open or not session.chosen or session.inventory is None or not self.isVisible():
            return
        inventory, row = session.inventory, session.chosen[0]
        places = users(inventory, row)
        if not places:
            self._list_models(())
            self.say("No model uses this texture, so there is nothing to see it on.")
            return
        self._list_models(tuple(inventory.models[place].path for place in places))
        place = places[max(0, min(self.models.currentIndex(), len(places) - 1))]
        plan = session.plan()
        recipe = plan.recipe(row)
        key = (
            inventory.models[place].path,
            inventory.textures[row].path,
            trial_key(plan, row, recipe),
            session.watched_id,
        )
        if key == self._key:
            return
        same = self._shown if self._shown is not None and self._key[:2] == key[:2] else None
        self._key = key
        if self._work is not None:
            self._work.cancel()
        session.rest()
        self.words.setText("reading the model …")
        if same is None:
            self._shown = None
            self.view.say("reading the model …")

        def done(shown: OnModel) -> None:
            if key == self._key:
                keep = self._shown is not None
                self._show(shown, recipe, row, keep)

        def failed(error: Exception) -> None:
            if key == self._key:
                self.say(str(error) if isinstance(error, OakTrimError) else f"The model cannot be drawn: {error}")

        work = self._work = start(
            on_model(plan, row, recipe, place, session.sights.cache, session.store, same), self, done, failed
        )
        work.ended.connect(partial(self._ended, work))
        if same is None:
            work.found.connect(done)

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None
        self._session.go_on()

    def _list_models(self, paths: tuple[str, ...]) -> None:
        if tuple(self.models.itemText(n) for n in range(self.models.count())) != paths:
            with QSignalBlocker(self.models):
                self.models.clear()
                self.models.addItems(list(paths))
        self.models.setVisible(len(paths) > 1)

    def _show(self, shown: OnModel, recipe: Recipe, row: int, keep_camera: bool) -> None:
        assert self._session.inventory is not None
        self._shown = shown
        texture, settings = self._session.inventory.textures[row], recipe.settings
        left = f"Source  {size_text(texture.width, texture.height)}  {FORMATS[texture.natural_format].label}"
        right = f"Cut  {size_text(settings.width, settings.height)}  {FORMATS[settings.format].label}"
        self._label = ""
        if shown.faults:
            more = f" and {len(shown.faults) - 1} more" if len(shown.faults) > 1 else ""
            self._label = f" · hatched: {shown.faults[0]}{more}"
        self.words.setText("drawing …" if shown.cut else "encoding …")
        self._plates = left, right
        self._show_scenes(keep_camera)

    def _show_scenes(self, keep_camera: bool) -> None:
        shown = self._shown
        if shown is None:
            return
        scenes: tuple[Drawable, ...] = (shown.source,) if shown.cut is None else (shown.source, shown.cut)
        if self._alone:
            scenes = tuple(replace(scene, draws=scene.draws.without(shown.others)) for scene in scenes)
        self._draws = scenes[0].draws
        home = shown.camera if self._alone else shown.whole
        self.view.show_scenes(scenes, self._plates[: len(scenes)], home, keep_camera)

    def _compare(self, drawn: Drawn) -> None:
        if len(drawn.shots) != 2:
            return
        if self._comparing is not None:
            self._comparing.cancel()

        def done(found: tuple[Compared, Layer, float]) -> None:
            if self.view.drawn is not drawn:
                return
            difference, layer, most = found
            self.view.show_difference(layer, most)
            apart = f"{difference.jnd:.2f} JND · {decibels_text(difference.psnr)}"
            self.words.setText(f"In this view: {apart}, over what shows the object{self._label}")

        work = self._comparing = start(_compare(drawn), self, done, lambda error: self.words.setText(str(error)))
        work.ended.connect(partial(self._compared, work))

    def _compared(self, work: Work) -> None:
        if self._comparing is work:
            self._comparing = None

    def _moved(self) -> None:
        if self._shown is not None and self._shown.cut is not None:
            self.words.setText("drawing …")

    def _point(self, triangle: int) -> None:
        """Name what is under the pointer."""
        shown = self._shown
        draws = self._draws
        if shown is None or draws is None or not 0 <= triangle < len(draws.triangles):
            self._under.setText("")
            return
        material = int(draws.materials[triangle])
        names = [draws.names[int(draws.objects[triangle])]]
        if 0 <= material < len(shown.loaded.materials):
            names.append(shown.loaded.materials[material].name or f"material {material}")
        self._under.setText(" > ".join(names))
