"""The picture viewer: one picture, or the source against the cut, panned and zoomed together on a neutral canvas."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from enum import Enum
from math import cos, sin

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, QSizeF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.layerpainter import draw_layer
from oaktrim.desk.widgets.layers import Layer, Look
from oaktrim.desk.widgets.marks import draw_places, draw_plate, draw_scale
from oaktrim.desk.widgets.viewport import FAR, SplitLine, Viewport

_BLINK_MS = 500


_ARROWS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}


class Mode(Enum):
    """How two pictures are shown against each other."""

    SPLIT = "Split"
    BESIDE = "Beside"
    BLINK = "Blink"
    MAP = "Error map"


class PictureView(QWidget):
    """Shows one or two layers; both always cover the same frame, so that a smaller cut lies on its source.

    Signals
    -------
    zoom_changed : screen pixels to one of the source
    pointed : pixel of the source under the pointer, or (-1, -1)
    """

    zoom_changed = Signal(float)
    pointed = Signal(int, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._layers: tuple[Layer, ...] = ()
        self._map: tuple[Layer, float] | None = None
        self.places: tuple[tuple[float, float, float, float], ...] = ()
        self._place = -1
        self.port = Viewport()
        self._mode = Mode.SPLIT
        self.look = Look()
        self._level: int | None = None
        self.split = SplitLine()
        self._grip: str | None = None
        self._last = QPointF()
        self._blink_on = False
        self._words = ""
        self._blink = QTimer(self, interval=_BLINK_MS)
        self._blink.timeout.connect(self._next_blink)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(120, 90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Picture")

    def sizeHint(self) -> QSize:
        return QSize(280, 190)

    # What is shown

    def show_layers(self, layers: tuple[Layer, ...], keep_view: bool = False) -> None:
        """Show one layer, or the source and the cut."""
        self._layers = layers
        self._map, self.places, self._place = None, (), -1
        self._words = ""
        if layers:
            keep_view = keep_view and layers[0].size == self.port.frame
            self.port.frame = layers[0].size
        if not keep_view:
            self.fit()
        self.update()

    def show_difference(
        self, layer: Layer, most: float, places: Sequence[tuple[float, float, float, float]] = ()
    ) -> None:
        """Take the map of differences, its scale's end, and the worst places as parts of the frame: x, y, width, height."""
        self._map, self.places, self._place = (layer, most), tuple(places), -1
        self.update()

    def say(self, words: str) -> None:
        """Show words instead of pictures."""
        self._layers, self._map, self.places, self._words = (), None, (), words
        self.update()

    @property
    def layers(self) -> tuple[Layer, ...]:
        """What is shown: the source, and the cut if there is one."""
        return self._layers

    @property
    def place(self) -> int:
        """The worst place that was gone to last; -1 for none."""
        return self._place

    def set_mode(self, mode: Mode) -> None:
        self._mode = mode
        self._blink_on = False
        if mode is Mode.BLINK:
            self._blink.start()
        else:
            self._blink.stop()
        if self.port.fitted:
            self.fit()
        self.update()

    def set_blink(self, milliseconds: int) -> None:
        """Show each picture for so long when they blink."""
        self._blink.setInterval(milliseconds)

    def set_look(self, **changes: object) -> None:
        """Look at the pictures in another way; see `Look`."""
        self.look = replace(self.look, **changes)  # type: ignore[arg-type]
        self.update()

    def set_channels(self, channels: str) -> None:
        """Show RGBA, RGB or one of the letters."""
        self.set_look(channels=channels)

    def set_level(self, level: int | None) -> None:
        """Show one level, whatever the zoom; None for the one that suits it."""
        self._level = level
        self.update()

    def fit(self) -> None:
        """Show the whole frame."""
        self.port.fit(self._room(), self.look.tiled)
        self.zoom_changed.emit(self.port.zoom)
        self.update()

    def zoom_to(self, zoom: float, about: QPointF | None = None) -> None:
        """Zoom to so many screen pixels a source pixel, about a point of the widget."""
        room = self._room()
        self.port.zoom_to(zoom, about or room.center(), room)
        self.zoom_changed.emit(self.port.zoom)
        self.update()

    def go_to(self, place: int) -> None:
        """Bring one of the worst places to the middle, large enough to judge."""
        if not self.places:
            return
        self._place = place % len(self.places)
        self.port.centre_on(QRectF(*self.places[self._place]), self._room())
        self.zoom_changed.emit(self.port.zoom)
        self.update()

    # Geometry

    @property
    def _beside(self) -> bool:
        return self._mode is Mode.BESIDE and len(self._layers) == 2

    def _room(self) -> QRectF:
        """Return where one picture is shown: all, or the left half when two stand beside each other."""
        whole = QRectF(self.rect())
        return QRectF(0, 0, whole.width() / 2 - 1, whole.height()) if self._beside else whole

    def pixel_at(self, point: QPointF) -> tuple[int, int]:
        """Return the pixel of the source at a point of the widget, or (-1, -1)."""
        if not self._layers:
            return -1, -1
        room = self._room()
        if self._beside and point.x() > room.width():
            point = point - QPointF(room.width() + 2, 0)
        return self.port.pixel_at(point, room, self.look.tiled)

    def codes_at(self, layer: Layer, x: int, y: int) -> np.ndarray:
        """Return the four values of a layer under a pixel of the source."""
        width, height = layer.size
        return np.asarray(
            layer.levels[0][
                min(height - 1, y * height // self.port.frame[1]), min(width - 1, x * width // self.port.frame[0])
            ]
        )

    # Gestures

    def resizeEvent(self, event: QResizeEvent) -> None:
        if self.port.fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self._layers:
            self.zoom_to(self.port.zoom * 2 ** (event.angleDelta().y() / 240), event.position())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._last = event.position()
        self._grip = "pan"
        if self._mode is Mode.SPLIT and len(self._layers) == 2:
            self._grip = self.split.grip_at(event.position(), QSizeF(self.size())) or "pan"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        step = event.position() - self._last
        self._last = event.position()
        if self._grip == "split":
            self.split.move(step.x() / max(1, self.width()))
        elif self._grip == "turn":
            self.split.turn_to(event.position(), QSizeF(self.size()))
        elif self._grip == "pan" and self._layers:
            self.port.pan(step)
        elif self._grip is None:
            self._hover(event.position())
            return
        self.update()

    def _hover(self, point: QPointF) -> None:
        if self.look.lit:
            across, up = point.x() / max(1, self.width()), point.y() / max(1, self.height())
            self.look = replace(self.look, lamp=(2 * across - 1, 1 - 2 * up))
            self.update()
        self.pointed.emit(*self.pixel_at(point))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._grip = None

    def leaveEvent(self, event: object) -> None:
        self.pointed.emit(-1, -1)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.port.fitted:
            self.zoom_to(1.0, event.position())
        else:
            self.fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        shifted = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom_to(self.port.zoom * 2)
        elif key == Qt.Key.Key_Minus:
            self.zoom_to(self.port.zoom / 2)
        elif key == Qt.Key.Key_0:
            self.fit()
        elif key == Qt.Key.Key_1:
            self.zoom_to(1.0)
        elif key == Qt.Key.Key_N:
            self.go_to(self._place + (-1 if shifted else 1))
        elif key in _ARROWS:
            across, down = _ARROWS[key]
            if self._mode is Mode.SPLIT and shifted:
                self.split.move(0.02 * across)
                self.split.turn(-0.05 * down)
            else:
                self.port.pan(QPointF(-40 * across, -40 * down))
            self.update()
        else:
            super().keyPressEvent(event)

    def _next_blink(self) -> None:
        self._blink_on = not self._blink_on
        self.update()

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(tokens().canvas))
        if not self._layers:
            painter.setPen(QColor("#FFFFFF"))
            painter.drawText(
                QRectF(self.rect()).adjusted(12, 12, -12, -12),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                self._words,
            )
        elif len(self._layers) == 1:
            self._draw(painter, self._layers[0], self._room())
        else:
            self._paint_both(painter)
        painter.end()

    def _paint_both(self, painter: QPainter) -> None:
        whole = QRectF(self.rect())
        source, cut = self._layers
        if self._mode is Mode.BESIDE:
            self._paint_beside(painter)
            return
        if self._mode is Mode.MAP:
            if self._map is not None:
                self._draw(painter, self._map[0], self._room(), plain=True)
                draw_scale(painter, whole, self._map[1])
        elif self._mode is Mode.BLINK:
            self._draw(painter, cut if self._blink_on else source, self._room())
            draw_plate(painter, (cut if self._blink_on else source).words, whole, left=not self._blink_on)
        else:
            self._paint_split(painter)
        if self._mode is not Mode.BLINK:
            draw_plate(painter, source.words, whole, left=True)
            draw_plate(painter, cut.words, whole, left=False)
        self._paint_places(painter, self._room())

    def _paint_places(self, painter: QPainter, room: QRectF) -> None:
        frame = self.port.rect(room)
        boxes = [
            QRectF(
                frame.left() + x * frame.width(),
                frame.top() + y * frame.height(),
                w * frame.width(),
                h * frame.height(),
            )
            for x, y, w, h in self.places
        ]
        draw_places(painter, boxes, self._place)

    def _paint_beside(self, painter: QPainter) -> None:
        room = self._room()
        for place, layer in enumerate(self._layers):
            half = room.translated(place * (room.width() + 2), 0)
            painter.save()
            painter.setClipRect(half)
            self._draw(painter, layer, half)
            if place == 1:
                self._paint_places(painter, half)
            painter.restore()
            draw_plate(painter, layer.words, QRectF(self.rect()), left=place == 0)
        painter.fillRect(QRectF(room.right(), 0, 2, self.height()), QColor("#FFFFFF"))

    def _paint_split(self, painter: QPainter) -> None:
        top, middle, bottom = self.split.points(QSizeF(self.size()))
        side = QPointF(cos(self.split.lean), sin(self.split.lean)) * FAR
        for way, layer in zip((-side, side), self._layers, strict=True):
            half = QPainterPath()
            half.addPolygon(QPolygonF([top, top + way, bottom + way, bottom]))
            painter.save()
            painter.setClipPath(half)
            self._draw(painter, layer, self._room())
            painter.restore()
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor("#FFFFFF"), 2))
        painter.drawLine(top, bottom)
        painter.setBrush(QColor("#FFFFFF"))
        painter.setPen(QPen(QColor("#26231F"), 1.5))
        painter.drawEllipse(middle, 9, 9)
        painter.drawLine(middle - QPointF(5, 0), middle + QPointF(5, 0))
        painter.restore()

    def _draw(self, painter: QPainter, layer: Layer, room: QRectF, plain: bool = False) -> None:
        """Draw a layer; `plain` leaves out how pictures are looked at."""
        look, level = (Look(tiled=self.look.tiled), None) if plain else (self.look, self._level)
        draw_layer(painter, layer, room, self.port.rect(room), look, level, self.port.zoom)
