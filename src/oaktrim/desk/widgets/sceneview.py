"""The scene viewer: one scene, or two against each other, under one camera that orbits, flies and frames."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from enum import Enum
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from oaktrim.core.progress import Progress, Task
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.inspect import edges, in_colours
from oaktrim.core.render.lighting import Lighting
from oaktrim.core.render.picture import Picture, Settings, draw
from oaktrim.desk.widgets.layers import Layer, Look, developed
from oaktrim.desk.widgets.picture import Mode, PictureView
from oaktrim.desk.work.tasks import Work, start

# Pictures while the camera moves are so many times smaller along each side.
_QUICK = 4
_FINE_SAMPLES = 4
_TURN = 0.008
_KEY_TURN = 0.08


class Shows(Enum):
    """What of a scene is shown."""

    LIT = "As seen"
    EDGES = "Edges"
    TRIANGLES = "Triangles"
    OBJECTS = "Objects"


@dataclass(frozen=True, eq=False)
class Drawn:
    """Pictures of all scenes; `whole` when they are as fine as they get."""

    pictures: tuple[Picture, ...]
    camera: Camera
    whole: bool


def _drawn(
    scenes: tuple[Drawable, ...], camera: Camera, size: tuple[int, int], settings: Settings, quick: bool
) -> Task[Drawn]:
    """Draw all scenes, small ones first where `quick`."""
    if quick:
        small = max(1, size[0] // _QUICK), max(1, size[1] // _QUICK)
        rough = replace(settings, samples=1, anisotropy=1)
        pictures = []
        for scene in scenes:
            pictures.append((yield from draw(scene, camera, small, rough)))
        yield Progress(0, 1, "drawing", Drawn(tuple(pictures), camera, False))
    pictures = []
    for scene in scenes:
        pictures.append((yield from draw(scene, camera, size, settings)))
    return Drawn(tuple(pictures), camera, True)


class SceneView(PictureView):
    """Draws in the background: at once a small picture, and a fine one while the camera is still.

    Signals
    -------
    settled : everything is drawn as finely as it gets (`Drawn`)
    moved : the camera was moved
    over : row of the triangle of the first scene under the pointer, -1 for none
    """

    settled = Signal(object)
    moved = Signal()
    over = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._scenes: tuple[Drawable, ...] = ()
        self._plates: tuple[str, ...] = ()
        self.camera = Camera((0.0, 0.0, 3.0), (0.0, 0.0, 0.0))
        self.home = self.camera
        self.shows = Shows.LIT
        self.lighting = Lighting()
        self._drawn: Drawn | None = None
        self._work: Work | None = None
        self._found_quick = False
        self._wanted = False
        self._hand = ""
        self._wait = QTimer(self, singleShot=True, interval=0)
        self._wait.timeout.connect(self._begin)
        self.setAccessibleName("Scene")

    # What is shown

    def show_scenes(
        self, scenes: tuple[Drawable, ...], words: tuple[str, ...], home: Camera, keep_camera: bool = False
    ) -> None:
        """Show one scene, or two against each other.

        Parameters
        ----------
        words : on the plate of each; home : the camera that frames them
        """
        self._scenes, self._plates, self.home = scenes, words, home
        if not keep_camera:
            self.camera = home
        self.redraw()

    def say(self, words: str) -> None:
        self._scenes, self._drawn = (), None
        if self._work is not None:
            self._work.cancel()
        super().say(words)

    def set_shows(self, shows: Shows) -> None:
        """Show it as it is seen, or how it is made."""
        self.shows = shows
        self.redraw()

    def set_lighting(self, lighting: Lighting) -> None:
        self.lighting = lighting
        self.redraw()

    def set_camera(self, camera: Camera) -> None:
        """Look from elsewhere."""
        self.camera = camera
        self.moved.emit()
        self.redraw()

    def frame(self) -> None:
        """See all of it again."""
        self.set_camera(self.home)

    def set_mode(self, mode: Mode) -> None:
        before = self._room().size()
        super().set_mode(mode)
        if self._room().size() != before:
            self.redraw()

    # Drawing

    def redraw(self) -> None:
        """Draw again as soon as what is under way has brought something to see."""
        self._wanted = True
        self._wait.start()

    def _settings(self) -> Settings:
        samples = _FINE_SAMPLES if self.shows is Shows.LIT else 1
        return Settings(samples, 8 if self.shows is Shows.LIT else 1, buffers=("ids",), lighting=self.lighting)

    def _size(self) -> tuple[int, int]:
        room, ratio = self._room(), self.devicePixelRatioF()
        return max(8, int(room.width() * ratio)), max(8, int(room.height() * ratio))

    def _begin(self) -> None:
        if not self._scenes or not self._wanted:
            return
        if self._work is not None:
            # A hand that never rests would else never see anything.
            if self._found_quick:
                self._work.cancel()
            return
        self._wanted, self._found_quick = False, False
        task = _drawn(self._scenes, self.camera, self._size(), self._settings(), quick=True)
        work = self._work = start(task, self, self._finished, self._failed)
        work.found.connect(self._quick)
        work.ended.connect(partial(self._ended, work))

    def _quick(self, drawn: Drawn) -> None:
        self._found_quick = True
        self._take(drawn)
        if self._wanted and self._work is not None:
            self._work.cancel()

    def _finished(self, drawn: Drawn) -> None:
        self._take(drawn)
        if not self._wanted:
            self.settled.emit(drawn)

    def _failed(self, error: Exception) -> None:
        self.say(f"It cannot be drawn: {error}")

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None
            self._begin()

    def _take(self, drawn: Drawn) -> None:
        if not self._scenes or len(drawn.pictures) != len(self._scenes):
            return
        self._drawn = drawn
        places, most = self.places, self._map
        layers = zip(self._scenes, drawn.pictures, self._plates, strict=True)
        self.show_layers(tuple(Layer((self._codes(scene, picture),), words) for scene, picture, words in layers), True)
        # The map stays until there is one of the picture that is seen now.
        self.places, self._map = places, most

    def _codes(self, scene: Drawable, picture: Picture) -> Any:
        if self.shows is Shows.LIT or not picture.ids.size:
            return picture.codes()
        if self.shows is Shows.EDGES:
            return edges(picture)
        if self.shows is Shows.TRIANGLES:
            return in_colours(picture.ids)
        objects = np.append(scene.draws.objects, -1)
        return in_colours(objects[picture.ids])

    @property
    def drawn(self) -> Drawn | None:
        """What is seen now."""
        return self._drawn

    # Gestures

    def fit(self) -> None:
        room = self._room()
        self.port.zoom = max(1e-6, room.width() / self.port.frame[0])
        self.port.centre, self.port.fitted = QPointF(0.5, 0.5), True
        self.update()

    def zoom_to(self, zoom: float, about: QPointF | None = None) -> None:
        """Come nearer: `zoom` is against how near it is now."""
        self.set_camera(self.camera.dollied(self.port.zoom / zoom))

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.fit()
        self.redraw()

    def showEvent(self, event: object) -> None:
        if self._wanted:
            self._wait.start()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self._scenes:
            self.set_camera(self.camera.dollied(2 ** (-event.angleDelta().y() / 480)))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        shifted = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._hand = "orbit"
        if event.button() == Qt.MouseButton.MiddleButton or shifted:
            self._hand = "pan"
        elif event.button() == Qt.MouseButton.RightButton:
            self._hand = "turn"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._grip != "pan" or not self._scenes:
            super().mouseMoveEvent(event)
            return
        step = event.position() - self._last
        self._last = event.position()
        self.set_camera(self._moved(step))

    def _moved(self, step: QPointF) -> Camera:
        if self._hand == "pan":
            tall = max(1.0, self._room().height())
            return self.camera.panned(-step.x() / tall, step.y() / tall)
        if self._hand == "turn":
            return self.camera.turned(step.x() * _TURN / 2, step.y() * _TURN / 2)
        return self.camera.orbited(step.x() * _TURN, step.y() * _TURN)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.frame()

    def _hover(self, point: QPointF) -> None:
        x, y = self.pixel_at(point)
        self.pointed.emit(x, y)
        self.over.emit(self.triangle_at(x, y))

    def triangle_at(self, x: int, y: int) -> int:
        """Return the row of the first scene's triangle at a pixel, or -1."""
        if self._drawn is None or x < 0:
            return -1
        ids = self._drawn.pictures[0].ids
        return int(ids[y, x]) if y < ids.shape[0] and x < ids.shape[1] else -1

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        step = self.camera.distance * 0.05
        moves: dict[Qt.Key, Callable[[], Camera]] = {
            Qt.Key.Key_W: lambda: self.camera.flown(0, 0, step),
            Qt.Key.Key_S: lambda: self.camera.flown(0, 0, -step),
            Qt.Key.Key_A: lambda: self.camera.flown(-step, 0, 0),
            Qt.Key.Key_D: lambda: self.camera.flown(step, 0, 0),
            Qt.Key.Key_E: lambda: self.camera.flown(0, step, 0),
            Qt.Key.Key_Q: lambda: self.camera.flown(0, -step, 0),
            Qt.Key.Key_Left: lambda: self.camera.orbited(-_KEY_TURN, 0),
            Qt.Key.Key_Right: lambda: self.camera.orbited(_KEY_TURN, 0),
            Qt.Key.Key_Up: lambda: self.camera.orbited(0, -_KEY_TURN),
            Qt.Key.Key_Down: lambda: self.camera.orbited(0, _KEY_TURN),
            Qt.Key.Key_Plus: lambda: self.camera.dollied(1 / 1.2),
            Qt.Key.Key_Equal: lambda: self.camera.dollied(1 / 1.2),
            Qt.Key.Key_Minus: lambda: self.camera.dollied(1.2),
            Qt.Key.Key_F: lambda: self.home,
            Qt.Key.Key_0: lambda: self.home,
        }
        shifted = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key in moves and not (shifted and self._mode is Mode.SPLIT):
            self.set_camera(moves[key]())
        else:
            super().keyPressEvent(event)

    # Painting

    def _draw(self, painter: QPainter, layer: Layer, room: QRectF, plain: bool = False) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self._drawn is not None and self._drawn.whole)
        painter.drawImage(room, developed(layer.levels[0], Look() if plain else self.look))
