"""A chart of bytes against what is seen: points that can be chosen, and the best trade-offs joined."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import ceil, log2

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetrics, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from oaktrim.core.units import bytes_text
from oaktrim.desk.look.tokens import tokens

_LEFT, _RIGHT, _TOP, _BOTTOM = 44, 14, 10, 30
_NEAR = 10.0
# How far apart figures of bytes stand at least.
_APART = 56


@dataclass(frozen=True)
class Point:
    """One choice: bytes, JND, a short name, and all there is to say of it."""

    bytes: int
    jnd: float
    name: str
    about: str


class TradeChart(QWidget):
    """Bytes to the right, on a scale of doublings; what is seen downwards, so that the best lies high and left.

    Signals
    -------
    chosen : place of a point
    """

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._points: list[Point] = []
        self._best: list[int] = []
        self._present = -1
        self._lit = -1
        self.setMinimumSize(240, 130)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Chart of bytes against visible difference")

    def sizeHint(self) -> QSize:
        return QSize(420, 190)

    def show_points(self, points: Sequence[Point], best: Sequence[int], present: int) -> None:
        """Show points; `best` are joined, and `present` is what ships now, -1 for none."""
        self._points, self._best, self._present = list(points), list(best), present
        self._lit = -1
        self.update()

    def _room(self) -> QRectF:
        return QRectF(_LEFT, _TOP, max(1, self.width() - _LEFT - _RIGHT), max(1, self.height() - _TOP - _BOTTOM))

    def _spans(self) -> tuple[float, float, float]:
        sizes = [log2(max(1, point.bytes)) for point in self._points]
        most = max((point.jnd for point in self._points), default=1.0)
        low, high = min(sizes, default=0.0), max(sizes, default=1.0)
        room = max(0.5, (high - low) * 0.08)
        return low - room, high + room, max(0.25, most * 1.1)

    def place_of(self, point: Point) -> QPointF:
        """Return where a point stands in the widget."""
        low, high, most = self._spans()
        room = self._room()
        across = (log2(max(1, point.bytes)) - low) / (high - low)
        # The root brings apart what is nearly as good as the source.
        down = (max(0.0, point.jnd) / most) ** 0.5
        return QPointF(room.left() + across * room.width(), room.top() + down * room.height())

    def _near(self, where: QPointF) -> int:
        apart = [(self.place_of(point) - where).manhattanLength() for point in self._points]
        nearest = min(range(len(apart)), key=apart.__getitem__, default=-1)
        return nearest if nearest >= 0 and apart[nearest] <= _NEAR else -1

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        lit = self._near(event.position())
        if lit != self._lit:
            self._lit = lit
            self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = self._near(event.position())
        if place >= 0:
            self.chosen.emit(place)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self._best:
            at = self._best.index(self._lit) if self._lit in self._best else -1
            self._lit = self._best[(at + (1 if key == Qt.Key.Key_Right else -1)) % len(self._best)]
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self._lit >= 0:
            self.chosen.emit(self._lit)
        else:
            super().keyPressEvent(event)

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent):
            place = self._near(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), self._points[place].about if place >= 0 else "", self)
            return True
        return super().event(event)  # type: ignore[arg-type]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        font = QFont(self.font())
        font.setPixelSize(10)
        painter.setFont(font)
        if self._points:
            self._paint_axes(painter)
            self._paint_points(painter)
        painter.end()

    def _paint_axes(self, painter: QPainter) -> None:
        now, room = tokens(), self._room()
        low, high, most = self._spans()
        painter.setPen(QPen(QColor(now.line), 1))
        for tick in _ticks(most):
            y = room.top() + (tick / most) ** 0.5 * room.height()
            painter.setPen(QPen(QColor(now.line), 1))
            painter.drawLine(QPointF(room.left(), y), QPointF(room.right(), y))
            painter.setPen(QColor(now.soft))
            label = QRectF(0, y - 7, _LEFT - 6, 14)
            painter.drawText(label, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{tick:g}")
        every = max(1, ceil(_APART * (high - low) / room.width()))
        for power in range(int(low) + 1, int(high) + 1, every):
            x = room.left() + (power - low) / (high - low) * room.width()
            painter.setPen(QPen(QColor(now.line), 1))
            painter.drawLine(QPointF(x, room.top()), QPointF(x, room.bottom()))
            painter.setPen(QColor(now.soft))
            label = QRectF(x - 30, room.bottom() + 2, 60, 13)
            if label.right() <= self.width():
                painter.drawText(label, Qt.AlignmentFlag.AlignCenter, bytes_text(1 << power))
        painter.setPen(QColor(now.soft))
        foot = QRectF(room.left(), room.bottom() + 15, room.width(), 13)
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight, "memory on the target")
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, "JND, 0 at the top")

    def _paint_points(self, painter: QPainter) -> None:
        now = tokens()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(now.oak), 2))
        joined = [self.place_of(self._points[place]) for place in self._best]
        for one, other in pairwise(joined):
            painter.drawLine(one, other)
        for place in self._in_order():
            at = self.place_of(self._points[place])
            fill = now.oak if place == self._present else now.oak_pale if place in self._best else now.sheet
            painter.setPen(QPen(QColor(now.ink), 2 if place == self._lit else 1))
            painter.setBrush(QColor(fill))
            painter.drawRect(QRectF(at.x() - 4, at.y() - 4, 8, 8))
        painter.setPen(QColor(now.ink))
        for place, label in self.names_shown(QFontMetrics(painter.font())):
            alignment = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(label, alignment, self._points[place].name)

    def _in_order(self) -> list[int]:
        """Return the places of points, those that matter most first."""
        return sorted(
            range(len(self._points)), key=lambda p: (p not in (self._present, self._lit), p not in self._best)
        )

    def names_shown(self, metrics: QFontMetrics) -> list[tuple[int, QRectF]]:
        """Return which points have their names beside them, and where.

        A name stands where fewest joining lines cross it; where other names or points are in its way, it is left out.
        """
        places = [self.place_of(point) for point in self._points]
        taken = [QRectF(at.x() - 5, at.y() - 5, 10, 10) for at in places]
        lines = [
            one + (other - one) * (step / 32)
            for one, other in pairwise(places[place] for place in self._best)
            for step in range(33)
        ]
        inside, found = QRectF(_LEFT, 0, self.width() - _LEFT - 2, self._room().bottom()), []
        for place in self._in_order():
            if place not in (self._present, self._lit) and place not in self._best:
                break
            at, width = places[place], metrics.horizontalAdvance(self._points[place].name) + 2
            free = [
                label
                for left in (at.x() + 8, at.x() - 8 - width)
                for top in (at.y() - 14, at.y() + 1)
                if inside.contains(label := QRectF(left, top, width, 13)) and not any(map(label.intersects, taken))
            ]
            if free:
                found.append((place, min(free, key=lambda label: sum(map(label.contains, lines)))))
                taken.append(found[-1][1])
        return found


def _ticks(most: float) -> list[float]:
    """Return a few round values from 0 to `most`, which stand apart on a scale of roots."""
    found = [0.0]
    for tick in (0.01, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 20, 50, 100):
        if tick <= most and (tick / most) ** 0.5 - (found[-1] / most) ** 0.5 > 0.14:
            found.append(tick)
    return found
