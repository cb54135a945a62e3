"""The ladder: from the source to the shipped size, each step with what caused it and what is left."""

from __future__ import annotations

from math import log2

from PySide6.QtCore import QEvent, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from oaktrim.core.plan.ladder import SizeStep
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.look.tokens import tokens

_RUNG, _CAUSE, _COST = 25, 112, 58


class Ladder(QWidget):
    """Steps from the top; a click, or Enter on the marked one, asks to change what caused it."""

    rung_chosen = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.steps: tuple[SizeStep, ...] = ()
        self._marked = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("Ladder from source to shipped size")

    def show_rungs(self, rungs: tuple[SizeStep, ...]) -> None:
        """Show another texture's steps."""
        self.steps, self._marked = rungs, -1
        steps = (f"{r.cause}: {size_text(r.width, r.height)}, {bytes_text(r.memory)}" for r in rungs)
        self.setAccessibleDescription("; ".join(steps))
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(280, max(1, len(self.steps)) * _RUNG)

    def minimumSizeHint(self) -> QSize:
        return QSize(200, max(1, len(self.steps)) * _RUNG)

    def _at(self, y: float) -> int:
        place = int(y // _RUNG)
        return place if 0 <= place < len(self.steps) else -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = self._at(event.position().y())
        if place >= 0:
            self._marked = place
            self.update()
            self.rung_chosen.emit(self.steps[place])

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip:
            place = self._at(event.pos().y())  # type: ignore[attr-defined]
            if place >= 0:
                rung = self.steps[place]
                text = f"{rung.cause}\n{rung.width} × {rung.height} pixels, {rung.memory:,} bytes on the target"
                QToolTip.showText(event.globalPos(), text, self)  # type: ignore[attr-defined]
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
        if step and self.steps:
            self._marked = max(0, min(len(self.steps) - 1, self._marked + step))
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._marked >= 0:
            self.rung_chosen.emit(self.steps[self._marked])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self.steps:
            return
        now, painter = tokens(), QPainter(self)
        plain, small = QFont(self.font()), QFont(self.font())
        small.setPixelSize(11)
        room = self.width() - _CAUSE - _COST
        longest = log2(max(2, *(max(r.width, r.height) for r in self.steps)))
        for place, rung in enumerate(self.steps):
            top = place * _RUNG
            last = place == len(self.steps) - 1
            share = max(0.3, log2(max(2, rung.width, rung.height)) / longest)
            words = size_text(rung.width, rung.height)
            plain.setBold(last)
            # Each step is a rung shorter than the one above, by what it takes off the logarithm of the side; its size fits on it.
            needed = QFontMetrics(plain).horizontalAdvance(words) + 12
            board = QRectF(_CAUSE, top + 3, min(room, max(room * share**2, needed)), _RUNG - 7)
            painter.fillRect(board, QColor(now.oak if last else now.oak_pale))
            if place == self._marked and self.hasFocus():
                painter.setPen(QPen(QColor(now.ink), 1.5))
                painter.drawRect(board)
            painter.setFont(small)
            painter.setPen(QColor(now.ink))
            cause = QFontMetrics(small).elidedText(rung.cause, Qt.TextElideMode.ElideRight, _CAUSE - 6)
            painter.drawText(QRectF(0, top, _CAUSE - 4, _RUNG), Qt.AlignmentFlag.AlignVCenter, cause)
            painter.setPen(QColor(now.soft))
            painter.drawText(
                QRectF(self.width() - _COST, top, _COST, _RUNG),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                bytes_text(rung.memory),
            )
            painter.setFont(plain)
            painter.setPen(QColor(now.on_oak if last else now.ink))
            painter.drawText(board.adjusted(6, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)
        painter.end()
