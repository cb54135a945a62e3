"""The picture viewer: one picture, or the source against the cut, panned and zoomed together on a neutral canvas."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from enum import Enum
from math import atan2, cos, hypot, log2, pi, sin

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.layers import Codes, Layer, Look, developed
from oaktrim.desk.widgets.marks import draw_grid, draw_places, draw_plate, draw_scale

_BLINK_MS = 500
_PIXELS_SHOW_FROM, _GRID_FROM = 3.0, 12.0
# The least part that a second level has to have to be drawn.
_LEVELS_BLEND_FROM = 0.02
# The split line leans by this many radians from upright, until it is turned.
_LEAN = 0.28
_FAR = 4000.0


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
        self._places: tuple[tuple[float, float, float, float], ...] = ()
        self._place = -1
        self._frame = (1, 1)
        self._mode = Mode.SPLIT
        self.look = Look()
        self._level: int | None = None
        self._zoom = 1.0
        self._centre = QPointF(0.5, 0.5)
        self._fitted = True
        self._split, self._lean = 0.5, _LEAN
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
        self._map, self._places, self._place = None, (), -1
        self._words = ""
        if layers:
            keep_view = keep_view and layers[0].size == self._frame
            self._frame = layers[0].size
        if not keep_view:
            self.fit()
        self.update()

    def show_difference(
        self, layer: Layer, most: float, places: Sequence[tuple[float, float, float, float]] = ()
    ) -> None:
        """Take the map of differences, its scale's end, and the worst places as parts of the frame: x, y, width, height."""
        self._map, self._places, self._place = (layer, most), tuple(places), -1
        self.update()

    def say(self, words: str) -> None:
        """Show words instead of pictures."""
        self._layers, self._map, self._places, self._words = (), None, (), words
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
        if self._fitted:
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
        room = self._room()
        self._zoom = min(room.width() / self._frame[0], room.height() / self._frame[1]) * 0.96
        if self.look.tiled:
            self._zoom /= 2
        self._centre = QPointF(0.5, 0.5)
        self._fitted = True
        self.zoom_changed.emit(self._zoom)
        self.update()

    def zoom_to(self, zoom: float, about: QPointF | None = None) -> None:
        """Zoom to so many screen pixels a source pixel, about a point of the widget."""
        room = self._room()
        about = about or room.center()
        before = self._frame_rect(room)
        zoom = max(0.01, min(64.0, zoom))
        part = QPointF((about.x() - before.left()) / before.width(), (about.y() - before.top()) / before.height())
        self._zoom, self._fitted = zoom, False
        width, height = self._frame[0] * zoom, self._frame[1] * zoom
        self._centre = QPointF(
            part.x() - (about.x() - room.center().x()) / width, part.y() - (about.y() - room.center().y()) / height
        )
        self.zoom_changed.emit(zoom)
        self.update()

    def go_to(self, place: int) -> None:
        """Bring one of the worst places to the middle, large enough to judge."""
        if not self._places:
            return
        self._place = place % len(self._places)
        x, y, wide, high = self._places[self._place]
        room = self._room()
        zoom = min(room.width() / (wide * self._frame[0]), room.height() / (high * self._frame[1])) / 3
        self.zoom_to(max(1.0, min(16.0, zoom)))
        self._centre = QPointF(x + wide / 2, y + high / 2)
        self.update()

    # Geometry

    def _room(self) -> QRectF:
        """Return where one picture is shown: all, or the left half when two stand beside each other."""
        whole = QRectF(self.rect())
        if self._mode is Mode.BESIDE and len(self._layers) == 2:
            return QRectF(0, 0, whole.width() / 2 - 1, whole.height())
        return whole

    def _frame_rect(self, room: QRectF) -> QRectF:
        width, height = self._frame[0] * self._zoom, self._frame[1] * self._zoom
        left = room.center().x() - self._centre.x() * width
        top = room.center().y() - self._centre.y() * height
        return QRectF(left, top, width, height)

    def _split_line(self) -> tuple[QPointF, QPointF, QPointF]:
        """Return the upper end, the middle and the lower end of the split line, far beyond the widget."""
        middle = QPointF(self.width() * self._split, self.height() / 2)
        way = QPointF(sin(self._lean), -cos(self._lean)) * _FAR
        return middle + way, middle, middle - way

    def pixel_at(self, point: QPointF) -> tuple[int, int]:
        """Return the pixel of the source at a point of the widget, or (-1, -1)."""
        room = self._room()
        if self._mode is Mode.BESIDE and len(self._layers) == 2 and point.x() > room.width():
            point = point - QPointF(room.width() + 2, 0)
        frame = self._frame_rect(room)
        x = int((point.x() - frame.left()) // self._zoom)
        y = int((point.y() - frame.top()) // self._zoom)
        if self.look.tiled:
            x, y = x % self._frame[0], y % self._frame[1]
        inside = self._layers and 0 <= x < self._frame[0] and 0 <= y < self._frame[1]
        return (x, y) if inside else (-1, -1)

    def codes_at(self, layer: Layer, x: int, y: int) -> np.ndarray:
        """Return the four values of a layer under a pixel of the source."""
        width, height = layer.size
        return np.asarray(
            layer.levels[0][min(height - 1, y * height // self._frame[1]), min(width - 1, x * width // self._frame[0])]
        )

    # Gestures

    def resizeEvent(self, event: QResizeEvent) -> None:
        if self._fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self._layers:
            self.zoom_to(self._zoom * 2 ** (event.angleDelta().y() / 240), event.position())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._last = event.position()
        self._grip = "pan"
        if self._mode is Mode.SPLIT and len(self._layers) == 2:
            _, middle, _ = self._split_line()
            apart = event.position() - middle
            along = apart.x() * sin(self._lean) - apart.y() * cos(self._lean)
            across = apart.x() * cos(self._lean) + apart.y() * sin(self._lean)
            if hypot(apart.x(), apart.y()) < 20:
                self._grip = "split"
            elif abs(across) < 7 and abs(along) > 40:
                self._grip = "turn"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        step = event.position() - self._last
        self._last = event.position()
        if self._grip == "split":
            self._split = max(0.02, min(0.98, self._split + step.x() / max(1, self.width())))
        elif self._grip == "turn":
            _, middle, _ = self._split_line()
            apart = event.position() - middle
            turned = atan2(apart.x(), -apart.y())
            self._lean = (turned + pi / 2) % pi - pi / 2
        elif self._grip == "pan" and self._layers:
            self._fitted = False
            self._centre -= QPointF(step.x() / (self._frame[0] * self._zoom), step.y() / (self._frame[1] * self._zoom))
        elif self._grip is None:
            if self.look.lit:
                across, up = event.position().x() / max(1, self.width()), event.position().y() / max(1, self.height())
                self.look = replace(self.look, lamp=(2 * across - 1, 1 - 2 * up))
                self.update()
            self.pointed.emit(*self.pixel_at(event.position()))
            return
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._grip = None

    def leaveEvent(self, event: object) -> None:
        self.pointed.emit(-1, -1)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._fitted:
            self.zoom_to(1.0, event.position())
        else:
            self.fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        shifted = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom_to(self._zoom * 2)
        elif key == Qt.Key.Key_Minus:
            self.zoom_to(self._zoom / 2)
        elif key == Qt.Key.Key_0:
            self.fit()
        elif key == Qt.Key.Key_1:
            self.zoom_to(1.0)
        elif key == Qt.Key.Key_N:
            self.go_to(self._place + (-1 if shifted else 1))
        elif key in steps and self._mode is Mode.SPLIT and shifted:
            across, down = steps[key]
            self._split = max(0.02, min(0.98, self._split + 0.02 * across))
            self._lean = (self._lean - 0.05 * down + pi / 2) % pi - pi / 2
            self.update()
        elif key in steps:
            self._fitted = False
            across, down = steps[key]
            self._centre += QPointF(
                40 * across / (self._frame[0] * self._zoom), 40 * down / (self._frame[1] * self._zoom)
            )
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
        frame = self._frame_rect(room)
        boxes = [
            QRectF(
                frame.left() + x * frame.width(),
                frame.top() + y * frame.height(),
                w * frame.width(),
                h * frame.height(),
            )
            for x, y, w, h in self._places
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
        top, middle, bottom = self._split_line()
        side = QPointF(cos(self._lean), sin(self._lean)) * _FAR
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
        """Draw a layer once, or three times three; `plain` leaves out how pictures are looked at."""
        frame = self._frame_rect(room)
        reach = range(-1, 2) if self.look.tiled else range(1)
        for across in reach:
            for down in reach:
                self._draw_one(
                    painter, layer, room, frame.translated(across * frame.width(), down * frame.height()), plain
                )

    def _draw_one(self, painter: QPainter, layer: Layer, room: QRectF, frame: QRectF, plain: bool) -> None:
        """Draw the part of a layer that is seen, from the level that suits the zoom.

        Between two levels that ship lies what a GPU shows there: both, by how near each is.
        """
        seen = frame.intersected(room)
        if seen.isEmpty():
            return
        last = len(layer.levels) - 1
        depth = min(max(0.0, log2(layer.size[0] / frame.width())), last)
        level, part = int(depth), depth % 1 if layer.real and not plain else 0.0
        if self._level is not None and not plain:
            level, part = min(self._level, last), 0.0
        painter.save()
        painter.setClipRect(frame, Qt.ClipOperation.IntersectClip)
        if self.look.canvas:
            painter.fillRect(seen, canvas_brush(self.look.canvas))
        look = Look() if plain else self.look
        self._draw_level(painter, layer.levels[level], look, frame, seen)
        if part > _LEVELS_BLEND_FROM:
            painter.setOpacity(part)
            self._draw_level(painter, layer.levels[level + 1], look, frame, seen)
        painter.restore()

    def _draw_level(self, painter: QPainter, codes: Codes, look: Look, frame: QRectF, seen: QRectF) -> None:
        height, width = codes.shape[:2]
        # Whole texels, one more on each side, so that filtering has its neighbours.
        x0 = max(0, int((seen.left() - frame.left()) / frame.width() * width) - 1)
        y0 = max(0, int((seen.top() - frame.top()) / frame.height() * height) - 1)
        x1 = min(width, int((seen.right() - frame.left()) / frame.width() * width) + 2)
        y1 = min(height, int((seen.bottom() - frame.top()) / frame.height() * height) + 2)
        target = QRectF(
            frame.left() + frame.width() * x0 / width,
            frame.top() + frame.height() * y0 / height,
            frame.width() * (x1 - x0) / width,
            frame.height() * (y1 - y0) / height,
        )
        texel = frame.width() / width
        coarse = texel >= _PIXELS_SHOW_FROM and (self._zoom >= _PIXELS_SHOW_FROM or self._level is not None)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, not coarse)
        painter.drawImage(target, developed(codes[y0:y1, x0:x1], look))
        if texel >= _GRID_FROM and self._level is None:
            draw_grid(painter, frame, seen, width, height)


def canvas_brush(name: str) -> QBrush:
    """Return what shows through where a picture is clear: a colour, or a fine check."""
    if name != "check":
        return QBrush(QColor(name))
    tile = QPixmap(16, 16)
    tile.fill(QColor("#8A8A8A"))
    painter = QPainter(tile)
    painter.fillRect(0, 0, 8, 8, QColor("#6C6C6C"))
    painter.fillRect(8, 8, 8, 8, QColor("#6C6C6C"))
    painter.end()
    return QBrush(tile)
