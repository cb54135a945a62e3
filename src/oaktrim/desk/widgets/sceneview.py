"""The scene viewer: one scene, or two against each other, under one camera that orbits, flies and frames."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray
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
# A hand that moved less than this between press and release has clicked.
_STILL = 5


@dataclass(frozen=True, eq=False)
class Shot:
    """One scene drawn in one way.

    Parameters
    ----------
    codes : (H, W, 4) uint8 as shown; ids : (H, W) triangles, -1 for none
    values : (H, W) what a pixel stands for, where the way of drawing has such a thing
    picture : the light, where it was shaded
    """

    codes: NDArray[np.uint8]
    ids: NDArray[np.int32]
    values: NDArray[np.float32] | None = None
    picture: Picture | None = None


# Draws a scene from a camera at a size; `quick` asks for less care.
Shading = Callable[[Drawable, Camera, tuple[int, int], bool], Task[Shot]]


def lit(lighting: Lighting = Lighting(), background: tuple[float, float, float, float] = (0, 0, 0, 0)) -> Shading:
    """Return the way to draw a scene as it is seen."""

    def shade(scene: Drawable, camera: Camera, size: tuple[int, int], quick: bool) -> Task[Shot]:
        fine = Settings(_FINE_SAMPLES, 8, background, ("ids",), lighting)
        picture = yield from draw(scene, camera, size, replace(fine, samples=1, anisotropy=1) if quick else fine)
        return Shot(picture.codes(), picture.ids, None, picture)

    return shade


def how_made(shown: Callable[[Drawable, Picture], NDArray[np.uint8]]) -> Shading:
    """Return a way to draw that shows what a scene is made of."""

    def shade(scene: Drawable, camera: Camera, size: tuple[int, int], quick: bool) -> Task[Shot]:
        picture = yield from draw(scene, camera, size, Settings(1, 1, buffers=("ids",)))
        return Shot(shown(scene, picture), picture.ids, None, picture)

    return shade


def _objects(scene: Drawable, picture: Picture) -> NDArray[np.uint8]:
    return in_colours(np.append(scene.draws.objects, -1)[picture.ids])


EDGES = how_made(lambda _, picture: edges(picture))
TRIANGLES = how_made(lambda _, picture: in_colours(picture.ids))
OBJECTS = how_made(_objects)


@dataclass(frozen=True, eq=False)
class Drawn:
    """All scenes drawn; `whole` when they are as fine as they get."""

    shots: tuple[Shot, ...]
    camera: Camera
    whole: bool


def _drawn(scenes: tuple[Drawable, ...], camera: Camera, size: tuple[int, int], shading: Shading) -> Task[Drawn]:
    """Draw all scenes, small ones first."""
    small = max(1, size[0] // _QUICK), max(1, size[1] // _QUICK)
    shots = []
    for scene in scenes:
        shots.append((yield from shading(scene, camera, small, True)))
    yield Progress(0, 1, "drawing", Drawn(tuple(shots), camera, False))
    shots = []
    for scene in scenes:
        shots.append((yield from shading(scene, camera, size, False)))
    return Drawn(tuple(shots), camera, True)


class SceneView(PictureView):
    """Draws in the background: at once a small picture, and a fine one while the camera is still.

    Signals
    -------
    settled : everything is drawn as finely as it gets (`Drawn`)
    moved : the camera was moved
    over, picked : row of the triangle of the first scene under the pointer, or that was clicked, -1 for none
    """

    settled = Signal(object)
    moved = Signal()
    over = Signal(int)
    picked = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._scenes: tuple[Drawable, ...] = ()
        self._plates: tuple[str, ...] = ()
        self.camera = Camera((0.0, 0.0, 3.0), (0.0, 0.0, 0.0))
        self.home = self.camera
        self.shading: Shading = lit()
        self._drawn: Drawn | None = None
        self._work: Work | None = None
        self._found_quick = False
        self._wanted = False
        self._hand, self._pressed = "", QPointF()
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

    def set_shading(self, shading: Shading) -> None:
        """Draw in another way."""
        self.shading = shading
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
        task = _drawn(self._scenes, self.camera, self._size(), self.shading)
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
        if not self._scenes or len(drawn.shots) != len(self._scenes):
            return
        self._drawn = drawn
        places, most, size = self.places, self._map, self._size()
        shots = zip(drawn.shots, self._plates, strict=True)
        self.show_layers(tuple(Layer((shot.codes,), words) for shot, words in shots), True)
        # The map stays until there is one of the picture that is seen now.
        self.places, self._map = places, most
        if self._size() != size:
            # One picture more or less leaves each another room.
            self.redraw()

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
        self._hand, self._pressed = "orbit", event.position()
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

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        super().mouseReleaseEvent(event)
        still = (event.position() - self._pressed).manhattanLength() < _STILL
        if still and event.button() == Qt.MouseButton.LeftButton:
            self.picked.emit(self.triangle_at(*self.pixel_at(event.position())))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.frame()

    def _hover(self, point: QPointF) -> None:
        x, y = self.pixel_at(point)
        self.pointed.emit(x, y)
        self.over.emit(self.triangle_at(x, y))

    def triangle_at(self, x: int, y: int) -> int:
        """Return the row of the first scene's triangle at a pixel of what is seen now, or -1."""
        if self._drawn is None or x < 0:
            return -1
        ids = self._drawn.shots[0].ids
        return int(ids[y, x]) if y < ids.shape[0] and x < ids.shape[1] else -1

    def value_at(self, x: int, y: int) -> float | None:
        """Return what the first scene's pixel stands for, or None."""
        values = self._drawn.shots[0].values if self._drawn is not None else None
        if values is None or x < 0 or y >= values.shape[0] or x >= values.shape[1]:
            return None
        return float(values[y, x])

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
