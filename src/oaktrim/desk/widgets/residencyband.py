"""What is resident along a path: kept as a stack of family colours, wanted as a line, the limit as a notch."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QFont, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.sight.residency import Residency
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.tokens import tokens

_TOP, _NOTCH, _FAR = 1.12, 10, 1.6


class ResidencyBand(QWidget):
    """A ruler laid along a path; a click says at which time.

    Signals
    -------
    chosen : seconds
    """

    chosen = Signal(float)

    def __init__(self, title: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.title = title
        self.residency: Residency | None = None
        self._scale: float | None = None
        self._told = ""
        self._time: float | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName(f"Streaming along the path {title}".strip())

    def sizeHint(self) -> QSize:
        return QSize(200, 98)

    def show_residency(self, found: Residency | None, scale: float | None = None, told: str = "") -> None:
        """Show another walk.

        Parameters
        ----------
        scale : bytes at the upper edge, of what stands beside it; its own without
        told : is written beside the title
        """
        self.residency, self._scale, self._told = found, scale, told
        if found is not None:
            worst = found.worst
            self.setAccessibleDescription(
                f"at most {bytes_text(int(found.wanted[worst]))} wanted, {bytes_text(int(found.kept[worst]))} kept"
            )
        self.update()

    def _room(self) -> QRectF:
        top = 18 if self.title else 4
        return QRectF(12, top, max(20.0, self.width() - 12.0 - 12 - _NOTCH), self.height() - 16.0 - top)

    def most_of(self, found: Residency) -> float:
        """Return the bytes at the upper edge for a walk that stands alone."""
        wanted, limit = float(found.wanted.max()), float(found.limit or 0)
        # A limit far above all that is wanted stands at the edge.
        return max(1.0, wanted, min(limit, _FAR * wanted)) * _TOP

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._go(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._go(event.position())
            return
        found = self.residency
        if found is not None:
            step = int(np.argmin(np.abs(found.times - self._seconds(event.position()))))
            lacking = int(found.wanted[step] - found.kept[step])
            self.setToolTip(
                f"at {found.times[step]:.1f} s: {bytes_text(int(found.wanted[step]))} wanted, "
                f"{bytes_text(int(found.kept[step]))} kept"
                + (
                    f", {bytes_text(lacking)} blurred over {int(found.blurred_pixels[step]):,} pixels"
                    if lacking
                    else ""
                )
                + f", {bytes_text(int(found.loads[step]))} come in"
                + (f", the disk is {found.late[step]:.1f} s late" if found.late[step] > 0 else "")
            )

    def _seconds(self, point: QPointF) -> float:
        assert self.residency is not None
        room, times = self._room(), self.residency.times
        part = min(1.0, max(0.0, (point.x() - room.left()) / room.width()))
        return float(times[0] + part * (times[-1] - times[0]))

    def _go(self, point: QPointF) -> None:
        if self.residency is not None:
            self._time = self._seconds(point)
            self.chosen.emit(self._time)
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now, room = QPainter(self), tokens(), self._room()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(room, QColor(now.oak_pale))
        if self.residency is not None:
            self._paint(painter, self.residency, room)
        self._paint_title(painter, room)
        painter.end()

    def _paint(self, painter: QPainter, found: Residency, room: QRectF) -> None:
        now, most = tokens(), self._scale or self.most_of(found)
        span = max(1e-9, float(found.times[-1] - found.times[0]))
        across = room.left() + (found.times - found.times[0]) / span * room.width()

        def at(values: np.ndarray) -> np.ndarray:
            return room.bottom() - values / most * room.height()

        below = np.zeros(len(found.times))
        for column, family in enumerate(found.families):
            above = below + found.kept_by_family[:, column]
            if (above > below).any():
                outline = [*zip(across, at(above), strict=True), *zip(across[::-1], at(below)[::-1], strict=True)]
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(now.family(family))
                painter.drawPolygon(QPolygonF([QPointF(float(x), float(y)) for x, y in outline]))
            below = above
        lacking = found.wanted > found.kept
        if lacking.any():
            outline = [
                *zip(across, at(found.wanted), strict=True),
                *zip(across[::-1], at(found.kept)[::-1], strict=True),
            ]
            painter.setBrush(QBrush(QColor(now.brick), Qt.BrushStyle.DiagCrossPattern))
            painter.drawPolygon(QPolygonF([QPointF(float(x), float(y)) for x, y in outline]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(now.ink), 1.6))
        painter.drawPolyline(
            QPolygonF([QPointF(float(x), float(y)) for x, y in zip(across, at(found.wanted), strict=True)])
        )
        if found.limit is not None:
            beyond = found.limit > most
            y = room.top() + 5 if beyond else room.bottom() - found.limit / most * room.height()
            painter.setPen(QPen(QColor(now.ink), 1))
            if beyond:
                words = QRectF(room.right() - 126, y - 5, 120, 14)
                painter.drawText(words, Qt.AlignmentFlag.AlignRight, f"{bytes_text(found.limit)} ↑")
            else:
                painter.drawLine(QPointF(room.left(), y), QPointF(room.right(), y))
            painter.setBrush(QColor(now.ink))
            edge = room.right() + _NOTCH
            painter.drawPolygon([QPointF(edge, y), QPointF(edge - _NOTCH, y - 5), QPointF(edge - _NOTCH, y + 5)])
        self._paint_times(painter, found, room)

    def _paint_title(self, painter: QPainter, room: QRectF) -> None:
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(tokens().soft))
        words = f"{self.title}: {self._told}" if self._told else self.title
        shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(room.width()))
        painter.drawText(QRectF(room.left(), 0, room.width(), 16), Qt.AlignmentFlag.AlignLeft, shown)

    def _paint_times(self, painter: QPainter, found: Residency, room: QRectF) -> None:
        now, font = tokens(), QFont(self.font())
        font.setPixelSize(10)
        painter.setFont(font)
        painter.setPen(QColor(now.soft))
        span = float(found.times[-1] - found.times[0])
        for part in range(5):
            x = room.left() + room.width() * part / 4
            side = (Qt.AlignmentFlag.AlignLeft, *(Qt.AlignmentFlag.AlignHCenter,) * 3, Qt.AlignmentFlag.AlignRight)[
                part
            ]
            left = x if part == 0 else x - 60 if part == 4 else x - 30
            painter.drawText(QRectF(left, room.bottom() + 2, 60, 13), side, f"{found.times[0] + span * part / 4:.1f} s")
        if self._time is not None and span > 0:
            x = room.left() + (self._time - float(found.times[0])) / span * room.width()
            painter.setPen(QPen(QColor(now.ink), 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, room.top()), QPointF(x, room.bottom()))
