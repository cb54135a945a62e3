"""A strip of pictures that have a fault, with the place of the fault outlined."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QLineF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetrics, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.survey.findings.marked import Marked
from oaktrim.desk.look.tokens import tokens

PICTURE = 96
_GAP, _LINE = 8, 15


@dataclass(frozen=True, eq=False)
class Faulty:
    """One file: what it is called, its path, and its picture once it is there."""

    name: str
    path: str
    picture: Marked | None = None


class FaultStrip(QWidget):
    """Pictures from the left, as many as there is room for; one can be chosen by mouse and keys.

    Signals
    -------
    chosen : path of a file
    """

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._rows: list[Faulty] = []
        self._more = 0
        self._at = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Pictures that have it")

    def sizeHint(self) -> QSize:
        return QSize(3 * (PICTURE + _GAP), PICTURE + _LINE + 4)

    @property
    def room(self) -> int:
        """How many pictures there is room for."""
        return max(1, (self.width() + _GAP) // (PICTURE + _GAP))

    def show_faulty(self, rows: Sequence[Faulty], count: int) -> None:
        """Show pictures; `count` is how many files have the fault."""
        self._rows, self._more = list(rows)[: self.room], count - min(len(rows), self.room)
        self._at = min(self._at, max(0, len(self._rows) - 1))
        self.setAccessibleDescription(", ".join(row.path for row in self._rows))
        self.update()

    def _box(self, place: int) -> QRectF:
        return QRectF(place * (PICTURE + _GAP) + 1, 1, PICTURE, PICTURE)

    def _choose(self, place: int) -> None:
        if 0 <= place < len(self._rows):
            self._at = place
            self.update()
            self.chosen.emit(self._rows[place].path)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._choose(int(event.position().x() // (PICTURE + _GAP)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()), 0)
        if step:
            self._choose(max(0, min(len(self._rows) - 1, self._at + step)))
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        metrics = QFontMetrics(font)
        for place, row in enumerate(self._rows):
            box = self._box(place)
            painter.fillRect(box, QColor(now.canvas))
            if row.picture is not None:
                _paint_marked(painter, box, row.picture)
            if place == self._at and self.hasFocus():
                painter.setPen(QPen(QColor(now.ink), 2))
                painter.drawRect(box)
            last = place == len(self._rows) - 1 and self._more > 0
            words = f"and {self._more} more" if last else row.name
            painter.setPen(QColor(now.soft if last else now.ink))
            words = metrics.elidedText(words, Qt.TextElideMode.ElideMiddle, PICTURE)
            painter.drawText(QRectF(box.left(), box.bottom() + 1, PICTURE, _LINE), Qt.AlignmentFlag.AlignLeft, words)
        painter.end()


def _paint_marked(painter: QPainter, box: QRectF, picture: Marked) -> None:
    codes = np.ascontiguousarray(picture.codes)
    height, width = codes.shape[:2]
    image = QImage(codes.data, width, height, 4 * width, QImage.Format.Format_RGBA8888)
    scale = min(box.width() / width, box.height() / height)
    room = QRectF(0, 0, width * scale, height * scale)
    room.moveCenter(box.center())
    painter.drawImage(room, image)
    mask = picture.mask
    if mask is None:
        return
    # Only the border of the fault is drawn, so that the fault itself stays to be seen.
    painter.setPen(QPen(QColor(tokens().oak), 1.5))
    lines = []
    for axis in (0, 1):
        for y, x in np.argwhere(np.diff(mask, axis=axis)).tolist():
            left, top = room.left() + x * scale, room.top() + y * scale
            across = QLineF(left, top + scale, left + scale, top + scale)
            lines.append(QLineF(left + scale, top, left + scale, top + scale) if axis else across)
    painter.drawLines(lines)
