"""The picture viewer: one picture, or the source against the cut, panned and zoomed together on a neutral canvas."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from math import log2

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QFont,
    QFontMetrics,
    QImage,
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

from oaktrim.core.pixels.image import Image, Transfer, to_rgba
from oaktrim.core.pixels.transfer import linear_to_srgb
from oaktrim.desk.look.tokens import tokens

Codes = NDArray[np.uint8]

_BLINK_MS = 500
_PIXELS_SHOW_FROM = 3.0
_SLANT = 0.28


class Mode(Enum):
    """How two pictures are shown against each other."""

    SPLIT = "Split"
    BESIDE = "Beside"
    BLINK = "Blink"


@dataclass(frozen=True, eq=False)
class Layer:
    """A picture ready to be shown: RGBA codes (H, W, 4) of each halving, and a few words about it."""

    levels: tuple[Codes, ...]
    words: str = ""

    @property
    def size(self) -> tuple[int, int]:
        return int(self.levels[0].shape[1]), int(self.levels[0].shape[0])


def make_layer(image: Image, words: str = "") -> Layer:
    """Return a picture ready to be shown; light beyond 1 is cut. For a background thread."""
    if image.is_float and image.transfer is Transfer.LINEAR:
        stop = len(image.channels) - 1 if image.has_alpha else len(image.channels)
        pixels = image.pixels.astype(np.float32)
        pixels[..., :stop] = linear_to_srgb(np.clip(pixels[..., :stop], 0, 1))
        image = image.with_pixels(pixels)
    levels = [to_rgba(image)]
    while max(levels[-1].shape[:2]) > 64:
        above = levels[-1]
        height, width = (max(1, side // 2) for side in above.shape[:2])
        rows = above[: height * 2 or 1].astype(np.uint16)
        rows = rows[0::2][:height] + rows[1::2][:height] if above.shape[0] > 1 else rows * 2
        columns = rows[:, 0::2][:, :width] + rows[:, 1::2][:, :width] if above.shape[1] > 1 else rows * 2
        levels.append(((columns + 2) >> 2).astype(np.uint8))
    return Layer(tuple(levels), words)


def seen_as(codes: Codes, channels: str) -> QImage:
    """Return codes (H, W, 4) as a picture of all channels ("RGBA"), of the colours ("RGB"), or of one in grey."""
    height, width = codes.shape[:2]
    if channels == "RGBA":
        out = np.ascontiguousarray(codes)
        return QImage(out.data, width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
    if channels == "RGB":
        out = np.ascontiguousarray(codes[..., :3])
        return QImage(out.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
    out = np.ascontiguousarray(codes[..., "RGBA".index(channels)])
    return QImage(out.data, width, height, width, QImage.Format.Format_Grayscale8).copy()


class PictureView(QWidget):
    """Shows one or two layers; both always cover the same frame, so that a smaller cut lies on its source."""

    zoom_changed = Signal(float)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._layers: tuple[Layer, ...] = ()
        self._frame = (1, 1)
        self._mode = Mode.SPLIT
        self._channels = "RGBA"
        self._level: int | None = None
        self._zoom = 1.0
        self._centre = QPointF(0.5, 0.5)
        self._fitted = True
        self._split = 0.5
        self._grip: str | None = None
        self._last = QPointF()
        self._blink_on = False
        self._words = ""
        self._blink = QTimer(self, interval=_BLINK_MS)
        self._blink.timeout.connect(self._next_blink)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(120, 90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Picture")

    def sizeHint(self) -> QSize:
        return QSize(280, 190)

    # What is shown

    def show_layers(self, layers: tuple[Layer, ...], keep_view: bool = False) -> None:
        """Show one layer, or the source and the cut."""
        self._layers = layers
        self._words = ""
        if layers:
            keep_view = keep_view and layers[0].size == self._frame
            self._frame = layers[0].size
        if not keep_view:
            self.fit()
        self.update()

    def say(self, words: str) -> None:
        """Show words instead of pictures."""
        self._layers, self._words = (), words
        self.update()

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

    def set_channels(self, channels: str) -> None:
        """Show RGBA, RGB or one of the letters."""
        self._channels = channels
        self.update()

    def set_level(self, level: int | None) -> None:
        """Show one halving of a single layer, whatever the zoom; None for the one that suits it."""
        self._level = level
        self.update()

    def fit(self) -> None:
        """Show the whole frame."""
        room = self._room()
        self._zoom = min(room.width() / self._frame[0], room.height() / self._frame[1]) * 0.96
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
        middle = QPointF(self.width() * self._split, self.height() / 2)
        lean = self.height() * _SLANT / 2
        return QPointF(middle.x() + lean, 0), middle, QPointF(middle.x() - lean, self.height())

    # Gestures

    def resizeEvent(self, event: QResizeEvent) -> None:
        if self._fitted:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self._layers:
            self.zoom_to(self._zoom * 2 ** (event.angleDelta().y() / 240), event.position())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._last = event.position()
        _, middle, _ = self._split_line()
        near = (event.position() - middle).manhattanLength() < 28
        splitting = self._mode is Mode.SPLIT and len(self._layers) == 2
        self._grip = "split" if splitting and near else "pan"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        step = event.position() - self._last
        self._last = event.position()
        if self._grip == "split":
            self._split = max(0.02, min(0.98, self._split + step.x() / max(1, self.width())))
        elif self._grip == "pan" and self._layers:
            self._fitted = False
            self._centre -= QPointF(step.x() / (self._frame[0] * self._zoom), step.y() / (self._frame[1] * self._zoom))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._grip = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._fitted:
            self.zoom_to(1.0, event.position())
        else:
            self.fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom_to(self._zoom * 2)
        elif key == Qt.Key.Key_Minus:
            self.zoom_to(self._zoom / 2)
        elif key == Qt.Key.Key_0:
            self.fit()
        elif key == Qt.Key.Key_1:
            self.zoom_to(1.0)
        elif key in steps and self._mode is Mode.SPLIT and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._split = max(0.02, min(0.98, self._split + 0.02 * steps[key][0]))
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
        elif self._mode is Mode.BESIDE:
            self._paint_beside(painter)
        elif self._mode is Mode.BLINK:
            layer = self._layers[1] if self._blink_on else self._layers[0]
            self._draw(painter, layer, self._room())
            self._plate(painter, layer.words, left=not self._blink_on)
        else:
            self._paint_split(painter)
        painter.end()

    def _paint_beside(self, painter: QPainter) -> None:
        room = self._room()
        for place, layer in enumerate(self._layers):
            half = room.translated(place * (room.width() + 2), 0)
            painter.save()
            painter.setClipRect(half)
            self._draw(painter, layer, half)
            painter.restore()
            self._plate(painter, layer.words, left=place == 0)
        painter.fillRect(QRectF(room.right(), 0, 2, self.height()), QColor("#FFFFFF"))

    def _paint_split(self, painter: QPainter) -> None:
        top, middle, bottom = self._split_line()
        right = QPainterPath()
        right.addPolygon(
            QPolygonF([top, QPointF(self.width() + 400, 0), QPointF(self.width() + 400, self.height()), bottom])
        )
        left = QPainterPath()
        left.addPolygon(QPolygonF([top, QPointF(-400, 0), QPointF(-400, self.height()), bottom]))
        for path, layer in zip((left, right), self._layers, strict=True):
            painter.save()
            painter.setClipPath(path)
            self._draw(painter, layer, self._room())
            painter.restore()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor("#FFFFFF"), 2))
        painter.drawLine(top, bottom)
        painter.setBrush(QColor("#FFFFFF"))
        painter.setPen(QPen(QColor("#26231F"), 1.5))
        painter.drawEllipse(middle, 9, 9)
        painter.drawLine(middle - QPointF(5, 0), middle + QPointF(5, 0))
        self._plate(painter, self._layers[0].words, left=True)
        self._plate(painter, self._layers[1].words, left=False)

    def _plate(self, painter: QPainter, words: str, left: bool) -> None:
        if not words:
            return
        font = QFont(self.font())
        font.setPixelSize(11)
        font.setBold(True)
        metrics = QFontMetrics(font)
        room = self.width() / 2 - 16
        words = metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(room - 16))
        width = metrics.horizontalAdvance(words) + 16
        plate = QRectF(8 if left else self.width() - 8 - width, self.height() - 32, width, 24)
        painter.fillRect(plate, QColor("#26231F"))
        painter.setFont(font)
        painter.setPen(QColor("#F7F4EE"))
        painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, words)

    def _draw(self, painter: QPainter, layer: Layer, room: QRectF) -> None:
        """Draw the part of a layer that is seen, from the halving that suits the zoom."""
        frame = self._frame_rect(room)
        seen = frame.intersected(room)
        if seen.isEmpty():
            return
        scale = frame.width() / layer.size[0]
        level = max(0, min(len(layer.levels) - 1, int(-log2(scale)) if scale < 1 else 0))
        if self._level is not None and len(self._layers) == 1:
            level = min(self._level, len(layer.levels) - 1)
        codes = layer.levels[level]
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
        coarse = frame.width() / width >= _PIXELS_SHOW_FROM and (
            self._zoom >= _PIXELS_SHOW_FROM or self._level is not None
        )
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, not coarse)
        painter.save()
        painter.setClipRect(frame, Qt.ClipOperation.IntersectClip)
        painter.drawImage(target, seen_as(codes[y0:y1, x0:x1], self._channels))
        painter.restore()
