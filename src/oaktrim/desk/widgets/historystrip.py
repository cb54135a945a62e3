"""The history strip: a notch for each edit, as high as the total there; a click goes back to it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from oaktrim.desk.look.tokens import tokens

_NOTCH = 9


class HistoryStrip(QWidget):
    """Shows the latest states of a job; `total` tells what one weighs, when it is drawn."""

    wanted = Signal(int)

    def __init__(self, total: Callable[[int], int], words: Callable[[int], str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._total, self._words = total, words
        self._count = self._at = 0
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("History of the job: left and right go through its edits")

    def show_states(self, count: int, at: int) -> None:
        """Show so many states, with the present one marked."""
        self._count, self._at = count, at
        self.setVisible(count > 1)
        self.updateGeometry()
        self.update()

    def _first(self) -> int:
        return max(0, min(self._at - 8, self._count - 20))

    def sizeHint(self) -> QSize:
        return QSize(min(20, max(1, self._count)) * _NOTCH + 4, 26)

    def _state_at(self, x: float) -> int:
        state = self._first() + int((x - 2) // _NOTCH)
        return state if 0 <= state < self._count else -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        state = self._state_at(event.position().x())
        if state >= 0:
            self.wanted.emit(state)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if step and 0 <= self._at + step < self._count:
            self.wanted.emit(self._at + step)
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip:
            state = self._state_at(event.pos().x())  # type: ignore[attr-defined]
            if state >= 0:
                QToolTip.showText(event.globalPos(), self._words(state), self)  # type: ignore[attr-defined]
            return True
        return super().event(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        first = self._first()
        states = range(first, min(self._count, first + 20))
        totals = [self._total(state) for state in states]
        most = max([*totals, 1])
        for place, (state, total) in enumerate(zip(states, totals, strict=True)):
            height = max(3.0, 20.0 * total / most)
            bar = QRectF(2 + place * _NOTCH, 23 - height, _NOTCH - 3, height)
            past = QColor(now.foot_text)
            past.setAlphaF(1.0 if state <= self._at else 0.4)
            painter.fillRect(bar, QColor(now.oak) if state == self._at else past)
        if self.hasFocus():
            painter.setPen(QColor(now.oak))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.end()
