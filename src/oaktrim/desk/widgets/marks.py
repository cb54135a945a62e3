"""What is drawn over pictures: name plates, outlines of the worst places, the scale of the map, and the grid of pixels."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetrics, QLinearGradient, QPainter, QPen

from oaktrim.desk.widgets.layers import ramp_colours

_DARK, _PALE = "#26231F", "#F7F4EE"


def _bold(painter: QPainter, size: int) -> QFont:
    font = QFont(painter.font())
    font.setPixelSize(size)
    font.setBold(True)
    return font


def draw_plate(painter: QPainter, words: str, room: QRectF, left: bool) -> None:
    """Draw words on a plate at a lower corner of a room."""
    if not words:
        return
    font = _bold(painter, 11)
    metrics = QFontMetrics(font)
    words = metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(room.width() / 2 - 32))
    width = metrics.horizontalAdvance(words) + 16
    plate = QRectF(room.left() + 8 if left else room.right() - 8 - width, room.bottom() - 32, width, 24)
    painter.fillRect(plate, QColor(_DARK))
    painter.setFont(font)
    painter.setPen(QColor(_PALE))
    painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, words)


def draw_places(painter: QPainter, places: Sequence[QRectF], chosen: int) -> None:
    """Outline and number the worst places, on screen."""
    font = _bold(painter, 10)
    painter.setFont(font)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for number, place in enumerate(places):
        # A place is never drawn so small that its number hides it.
        box = place.adjusted(-1, -1, 1, 1)
        if box.width() < 14:
            box = QRectF(box.center().x() - 7, box.center().y() - 7, 14, 14)
        painter.setPen(QPen(QColor(_DARK), 4 if number == chosen else 3))
        painter.drawRect(box)
        painter.setPen(QPen(QColor("#FFFFFF"), 2 if number == chosen else 1))
        painter.drawRect(box)
        tag = QRectF(box.left() - 1, box.top() - 16, 16, 15)
        painter.fillRect(tag, QColor("#9C6B30" if number == chosen else _DARK))
        painter.setPen(QColor("#FFFFFF"))
        painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, str(number + 1))


def draw_scale(painter: QPainter, room: QRectF, most: float) -> None:
    """Draw the scale of the map of differences at the top of a room."""
    plate = QRectF(room.right() - 228, room.top() + 8, 220, 34)
    painter.fillRect(plate, QColor(_DARK))
    bar = QRectF(plate.left() + 8, plate.top() + 18, plate.width() - 16, 8)
    ramp = QLinearGradient(bar.topLeft(), bar.topRight())
    colours = ramp_colours()
    for place, colour in enumerate(colours):
        ramp.setColorAt(place / (len(colours) - 1), QColor(colour))
    painter.fillRect(bar, ramp)
    painter.setPen(QPen(QColor(_PALE), 1))
    painter.drawRect(bar)
    font = QFont(painter.font())
    font.setPixelSize(10)
    painter.setFont(font)
    words = QRectF(bar.left(), plate.top() + 3, bar.width(), 13)
    painter.drawText(words, Qt.AlignmentFlag.AlignLeft, "0")
    painter.drawText(words, Qt.AlignmentFlag.AlignHCenter, "JND")
    painter.drawText(words, Qt.AlignmentFlag.AlignRight, f"{most:g}+")


def draw_grid(painter: QPainter, frame: QRectF, seen: QRectF, across: int, down: int) -> None:
    """Draw lines between pixels, where they are large enough to tell apart."""
    painter.setPen(QPen(QColor(0, 0, 0, 70), 1))
    step_x, step_y = frame.width() / across, frame.height() / down
    first, last = int((seen.left() - frame.left()) / step_x), int((seen.right() - frame.left()) / step_x) + 1
    for place in range(first, last + 1):
        x = frame.left() + place * step_x
        painter.drawLine(QPointF(x, seen.top()), QPointF(x, seen.bottom()))
    first, last = int((seen.top() - frame.top()) / step_y), int((seen.bottom() - frame.top()) / step_y) + 1
    for place in range(first, last + 1):
        y = frame.top() + place * step_y
        painter.drawLine(QPointF(seen.left(), y), QPointF(seen.right(), y))
