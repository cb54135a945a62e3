"""A wall of pairs: of each texture its worst part before and after, with a name and a figure, to be judged in one look."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetrics, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from oaktrim.desk.look.tokens import tokens

# A pair is so wide at least and at most; its pictures are nearly square, with two lines below.
_WIDE, _WIDEST, _GAP, _WORDS = 212, 900, 10, 48


@dataclass(frozen=True, eq=False)
class Pair:
    """One texture on the wall: rows below its name, and both pictures once they are there."""

    name: str
    words: str
    more: str = ""
    before: QImage | None = None
    after: QImage | None = None


class PairWall(QWidget):
    """Pairs in rows; one can be chosen by mouse and keys.

    Signals
    -------
    chosen : place of a pair
    """

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._pairs: list[Pair] = []
        self._lit = 0
        self._wide = _WIDE
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Worst parts before and after")

    def show_pairs(self, pairs: Sequence[Pair]) -> None:
        """Show pairs in this order."""
        self._pairs = list(pairs)
        self._lit = min(self._lit, max(0, len(self._pairs) - 1))
        self._settle()

    def _high(self) -> int:
        return (self._wide - 18) * 19 // 40 + _WORDS

    def _across(self) -> int:
        return max(1, (self.width() - _GAP) // (self._wide + _GAP))

    def _settle(self) -> None:
        """Make pairs as large as lets all of them be seen at once, where that is large enough."""
        outside = self.parentWidget()
        room = outside.height() if outside is not None else self.height()
        self._wide = _WIDE
        for across in range(max(1, (self.width() - _GAP) // (_WIDE + _GAP)), 0, -1):
            down = -(-len(self._pairs) // across)
            wide = min(_WIDEST, (self.width() - _GAP) // across - _GAP)
            self._wide, held = max(_WIDE, wide), self._wide
            if down * (self._high() + _GAP) + _GAP > room:
                self._wide = held
                break
        self.setMinimumHeight(-(-len(self._pairs) // self._across()) * (self._high() + _GAP) + _GAP)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(680, 320)

    def resizeEvent(self, event: object) -> None:
        self._settle()

    def box(self, place: int) -> QRectF:
        """Return where a pair stands in the widget."""
        down, across = divmod(place, self._across())
        return QRectF(
            _GAP + across * (self._wide + _GAP), _GAP + down * (self._high() + _GAP), self._wide, self._high()
        )

    def _at(self, where: QPointF) -> int:
        return next((place for place in range(len(self._pairs)) if self.box(place).contains(where)), -1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = self._at(event.position())
        if place >= 0:
            self._lit = place
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        place = self._at(event.position())
        if place >= 0:
            self.chosen.emit(place)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self._across(),
            Qt.Key.Key_Down: self._across(),
        }
        if key in steps and self._pairs:
            self._lit = max(0, min(len(self._pairs) - 1, self._lit + steps[key]))
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._pairs:
            self.chosen.emit(self._lit)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        font = QFont(self.font())
        font.setPixelSize(11)
        for place, pair in enumerate(self._pairs):
            box = self.box(place)
            if box.intersects(QRectF(event.rect())):
                self._paint(painter, box, pair, place == self._lit, font)
        painter.end()

    def _paint(self, painter: QPainter, box: QRectF, pair: Pair, lit: bool, font: QFont) -> None:
        now = tokens()
        painter.fillRect(box, QColor(now.sheet))
        painter.setPen(QPen(QColor(now.ink if lit and self.hasFocus() else now.line), 1))
        painter.drawRect(box)
        half, high = (box.width() - 18) / 2, self._high() - _WORDS
        for number, picture in enumerate((pair.before, pair.after)):
            room = QRectF(box.left() + 8 + number * (half + 2), box.top() + 8, half, high)
            painter.fillRect(room, QColor(now.canvas))
            if picture is not None:
                scale = max(room.width() / picture.width(), room.height() / picture.height())
                part = QRectF(0, 0, room.width() / scale, room.height() / scale)
                part.moveCenter(QRectF(picture.rect()).center())
                painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, scale < 2)
                painter.drawImage(room, picture, part)
        metrics = QFontMetrics(font)
        font.setBold(True)
        painter.setFont(font)
        painter.setPen(QColor(now.ink))
        line = QRectF(box.left() + 8, box.top() + high + 12, box.width() - 16, 16)
        figure = metrics.horizontalAdvance(pair.more) + 12
        name = metrics.elidedText(pair.name, Qt.TextElideMode.ElideMiddle, int(line.width() - figure - 14))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, name)
        painter.drawText(line, Qt.AlignmentFlag.AlignRight, pair.more)
        font.setBold(False)
        painter.setFont(font)
        painter.setPen(QColor(now.soft))
        words = metrics.elidedText(pair.words, Qt.TextElideMode.ElideRight, int(line.width()))
        painter.drawText(line.translated(0, 17), Qt.AlignmentFlag.AlignLeft, words)
