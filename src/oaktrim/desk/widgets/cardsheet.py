"""The sheet of an imposter: its cards over their picture, and the corners of the chosen one's outline to be dragged."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.makers.imposter.sheet import PlacedCard
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.layers import Layer, Look, developed

_GRIP = 8


class CardSheet(QWidget):
    """Shows one map of a sheet.

    Signals
    -------
    chosen : place of a card, -1 for none
    outlined : place of a card and its corners as parts of its rectangle, once the hand lets go
    """

    chosen = Signal(int)
    outlined = Signal(int, object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._picture: QImage | None = None
        self._size = (1, 1)
        self.cards: tuple[PlacedCard, ...] = ()
        self.frames: tuple[tuple[int, int, int, float], ...] = ()
        self.card = -1
        self._corner = -1
        self._moved: NDArray[np.float64] | None = None
        self.setMouseTracking(True)
        self.setMinimumSize(160, 120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("The sheet with its cards")
        self.setToolTip("Click a card, and drag the corners of its outline: what is covered is never left out")

    def sizeHint(self) -> QSize:
        return QSize(260, 240)

    def show_sheet(self, layer: Layer | None, size: tuple[int, int], cards: Sequence[PlacedCard]) -> None:
        """Show another map; `size` is the sheet's in texels."""
        self._picture = None if layer is None else developed(layer.levels[0], Look())
        self._size, self.cards = size, tuple(cards)
        self._moved = None
        if self.card >= len(self.cards):
            self.card = -1
        self.update()

    def show_frames(self, frames: tuple[tuple[int, int, int, float], ...]) -> None:
        """Mark frames: left, top and side in texels, and the weight that each has."""
        if frames != self.frames:
            self.frames = frames
            self.update()

    def _room(self) -> QRectF:
        width, height = self._size
        scale = min(self.width() / width, self.height() / height)
        return QRectF((self.width() - width * scale) / 2, 0, width * scale, height * scale)

    def point_of(self, x: float, y: float) -> QPointF:
        """Return where a texel of the sheet is shown."""
        room = self._room()
        return QPointF(
            room.left() + x / self._size[0] * room.width(), room.top() + y / self._size[1] * room.height()
        )  # fmt: skip

    def _texel(self, point: QPointF) -> tuple[float, float]:
        room = self._room()
        return (
            (point.x() - room.left()) / room.width() * self._size[0],
            (point.y() - room.top()) / room.height() * self._size[1],
        )

    def _outline(self, place: int) -> NDArray[np.float64]:
        return self._moved if place == self.card and self._moved is not None else self.cards[place].outline

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = event.position()
        if self.card >= 0:
            corners = [self.point_of(*corner) for corner in self.cards[self.card].outline.tolist()]
            away = [(corner - point).manhattanLength() for corner in corners]
            if min(away) < _GRIP:
                self._corner = int(np.argmin(away))
                return
        x, y = self._texel(point)
        inside = [
            n for n, c in enumerate(self.cards) if c.x <= x < c.x + c.width and c.y <= y < c.y + c.height
        ]  # fmt: skip
        self.card = inside[0] if inside else -1
        self.chosen.emit(self.card)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._corner < 0 or self.card < 0:
            return
        card = self.cards[self.card]
        x, y = self._texel(event.position())
        moved = card.outline.copy()
        moved[self._corner] = (
            min(card.x + card.width, max(card.x, x)), min(card.y + card.height, max(card.y, y)),
        )  # fmt: skip
        self._moved = moved
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._corner >= 0 and self._moved is not None:
            card = self.cards[self.card]
            parts = (self._moved - [card.x, card.y]) / [card.width, card.height]
            self.outlined.emit(self.card, tuple((float(x), float(y)) for x, y in np.clip(parts, 0, 1)))
        self._corner = -1

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = self._room()
        painter.fillRect(room, QColor(now.canvas))
        if self._picture is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(room, self._picture)
        for place in range(len(self.cards)):
            polygon = QPolygonF([self.point_of(*corner) for corner in self._outline(place).tolist()])
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(
                QPen(QColor(now.oak if place == self.card else "#FFFFFF"), 1.6 if place == self.card else 0.8)
            )
            painter.drawPolygon(polygon)
            if place == self.card:
                painter.setBrush(QColor("#FFFFFF"))
                painter.setPen(QPen(QColor(now.ink), 1))
                for corner in polygon.toList():
                    painter.drawRect(QRectF(corner.x() - 3, corner.y() - 3, 6, 6))
        for left, top, side, weight in self.frames:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(now.oak), 1.0 + 2.5 * weight))
            corner, far = self.point_of(left, top), self.point_of(left + side, top + side)
            painter.drawRect(QRectF(corner, far))
            words = QRectF(corner.x() - 4, far.y() + 1, far.x() - corner.x() + 8, 14)
            painter.drawText(words, Qt.AlignmentFlag.AlignHCenter, f"{weight:.2f}")
        painter.end()
