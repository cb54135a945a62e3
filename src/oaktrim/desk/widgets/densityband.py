"""Texels a metre of a model's surface, as a histogram, with a floor that is dragged."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.desk.look.tokens import tokens

_BARS = 64
_LOW, _HIGH = 16.0, 16384.0


class DensityBand(QWidget):
    """How much of the surface has how many texels a metre, on a scale of doublings.

    Signals
    -------
    floor_changed : texels a metre that nothing falls below, 0 for none, and whether the hand has let go
    ceiling_changed : texels a metre that nothing has more of, 0 for none, and the same; dragged with Shift
    """

    floor_changed = Signal(float, bool)
    ceiling_changed = Signal(float, bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._bars: NDArray[np.float64] = np.zeros(_BARS)
        self._range = (_LOW, _HIGH)
        self.floor = self.ceiling = 0.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Texels a metre")
        self.setToolTip(
            "Drag: no island falls below this, as long as its source has it. Drag with Shift: none has more than this"
        )

    def sizeHint(self) -> QSize:
        return QSize(300, 74)

    def show_densities(
        self, densities: NDArray[np.float64], areas: NDArray[np.float64], bounds: tuple[float, float]
    ) -> None:
        """Show the density of each island (N,), by its area on the model; `bounds` are the floor and the ceiling, 0 for none."""
        known = densities > 0
        self.floor, self.ceiling = bounds
        if known.any():
            low, high = float(densities[known].min()), float(densities[known].max())
            self._range = (2.0 ** np.floor(np.log2(low) - 1), 2.0 ** np.ceil(np.log2(high) + 1))
            place = np.clip((np.log2(densities[known]) - np.log2(self._range[0])) / self._span * _BARS, 0, _BARS - 1)
            self._bars = np.bincount(place.astype(np.int64), areas[known], _BARS).astype(np.float64)
            self.setAccessibleDescription(f"from {low:,.0f} to {high:,.0f} texels a metre")
        else:
            self._bars = np.zeros(_BARS)
        self.update()

    @property
    def _span(self) -> float:
        return float(np.log2(self._range[1] / self._range[0]))

    def _room(self) -> QRectF:
        return QRectF(8, 14, max(20.0, self.width() - 16.0), self.height() - 32.0)

    def _value(self, x: float) -> float:
        part = (x - self._room().left()) / self._room().width()
        return 0.0 if part <= 0 else float(self._range[0] * 2 ** (min(1.0, part) * self._span))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._drag(event, False)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._drag(event, False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag(event, True)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Right: 2**0.25, Qt.Key.Key_Left: 2**-0.25}
        key = Qt.Key(event.key())
        if key in steps:
            self.floor = max(self._range[0], self.floor) * steps[key]
            self.floor = 0.0 if self.floor <= self._range[0] else min(self.floor, self._range[1])
            self.floor_changed.emit(self.floor, True)
            self.update()
        else:
            super().keyPressEvent(event)

    def _drag(self, event: QMouseEvent, done: bool) -> None:
        value = self._value(event.position().x())
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.ceiling = 0.0 if value >= self._range[1] else value
            self.ceiling_changed.emit(self.ceiling, done)
        else:
            self.floor = value
            self.floor_changed.emit(self.floor, done)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now, room = QPainter(self), tokens(), self._room()
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        most, width = float(self._bars.max()), room.width() / _BARS
        floor = self._part(self.floor)
        if most > 0:
            for place, value in enumerate(self._bars):
                if not value:
                    continue
                # Small islands are seen, too.
                height = max(2.0, room.height() * float(value / most) ** 0.5)
                colour = now.oak_pale if (place + 1) / _BARS <= floor else now.oak
                painter.fillRect(
                    QRectF(room.left() + place * width, room.bottom() - height, max(1.0, width - 1), height),
                    QColor(colour),
                )
        painter.fillRect(QRectF(room.left(), room.bottom(), room.width(), 1), QColor(now.soft))
        self._paint_scale(painter, room)
        title = QRectF(room.right() - 160, room.top() - 13, 160, 14)
        painter.drawText(title, Qt.AlignmentFlag.AlignRight, "texels a metre")
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_notch(painter, room, floor, self.floor)
        if self.ceiling:
            self._paint_notch(painter, room, self._part(self.ceiling), self.ceiling)
        painter.end()

    def _paint_notch(self, painter: QPainter, room: QRectF, part: float, value: float) -> None:
        now, x = tokens(), room.left() + part * room.width()
        painter.setPen(QPen(QColor(now.ink), 1.5))
        painter.setBrush(QColor(now.ink))
        painter.drawLine(QPointF(x, room.top() - 4), QPointF(x, room.bottom()))
        top = room.top() - 12
        painter.drawPolygon(QPolygonF([QPointF(x - 5, top), QPointF(x + 5, top), QPointF(x, room.top() - 4)]))
        if value:
            left = x > room.right() - 60
            side = QRectF(x - 68 if left else x + 8, room.top() - 13, 60, 14)
            flag = Qt.AlignmentFlag.AlignRight if left else Qt.AlignmentFlag.AlignLeft
            painter.drawText(side, flag, f"{value:,.0f}")

    def _part(self, value: float) -> float:
        return 0.0 if value <= 0 else min(1.0, max(0.0, float(np.log2(value / self._range[0])) / self._span))

    def _paint_scale(self, painter: QPainter, room: QRectF) -> None:
        painter.setPen(QColor(tokens().soft))
        count = round(self._span)
        step = max(1, -(-count * 56 // max(1, int(room.width()))))
        for place in range(0, count + 1, step):
            x = room.left() + place / max(1, count) * room.width()
            if place and x > room.right() - 24:
                break
            box = QRectF(x - 30 if place else room.left() - 2, room.bottom() + 3, 60, 14)
            side = Qt.AlignmentFlag.AlignHCenter if place else Qt.AlignmentFlag.AlignLeft
            painter.drawText(box, side, f"{self._range[0] * 2**place:,.0f}")
