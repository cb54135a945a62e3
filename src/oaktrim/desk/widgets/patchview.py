"""An overlay with what is used of it and the rectangle that is cut out, which can be moved and resized."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.makers.patch.patch import Rect
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.layerpainter import canvas_brush

_REACH = 7
# Which sides each handle moves: left, top, right, bottom.
_HANDLES = (
    (1, 1, 0, 0), (0, 1, 0, 0), (0, 1, 1, 0), (0, 0, 1, 0), (0, 0, 1, 1), (0, 0, 0, 1), (1, 0, 0, 1), (1, 0, 0, 0),
)  # fmt: skip
_CURSORS = (
    Qt.CursorShape.SizeFDiagCursor, Qt.CursorShape.SizeVerCursor, Qt.CursorShape.SizeBDiagCursor,
    Qt.CursorShape.SizeHorCursor,
) * 2  # fmt: skip
_STEPS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}


class PatchView(QWidget):
    """Arrows move the rectangle, with Shift they resize it, with Ctrl by 16 pixels.

    Signals
    -------
    moved : the rectangle as the hand has it; whether the hand has let go
    """

    moved = Signal(object, bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(160, 120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("The overlay and the rectangle that is cut out")
        self._picture: QImage | None = None
        self._size = (1, 1)
        self.rect_shown: Rect | None = None
        self._used: Sequence[Rect] = ()
        self._closer = False
        self._held: tuple[tuple[int, int, int, int], QPointF, Rect] | None = None

    def sizeHint(self) -> QSize:
        return QSize(420, 320)

    def show_overlay(self, picture: QImage | None, size: tuple[int, int]) -> None:
        """Show an overlay of a size in pixels; the picture may be smaller."""
        self._picture, self._size = picture, size
        self.rect_shown, self._used = None, ()
        self.update()

    def show_rect(self, rect: Rect | None, used: Sequence[Rect]) -> None:
        """Show the rectangle, and what is used."""
        self.rect_shown, self._used = rect, used
        self.update()

    def set_closer(self, on: bool) -> None:
        """Show the rectangle large, or the whole overlay."""
        self._closer = on
        self.update()

    def frame(self) -> QRectF:
        """Return where the overlay stands in the widget."""
        room = QRectF(self.rect()).adjusted(14, 14, -14, -14)
        near = self.rect_shown if self._closer and self._held is None else None
        if self._held is not None and self._closer:
            near = self._held[2]
        if near is not None:
            scale = min(room.width() / (near.width * 1.6), room.height() / (near.height * 1.6))
            middle = QPointF(near.x + near.width / 2, near.y + near.height / 2) * scale
            corner = room.center() - middle
            return QRectF(corner.x(), corner.y(), self._size[0] * scale, self._size[1] * scale)
        scale = min(room.width() / self._size[0], room.height() / self._size[1])
        wide, high = self._size[0] * scale, self._size[1] * scale
        return QRectF(room.center().x() - wide / 2, room.center().y() - high / 2, wide, high)

    def on_widget(self, rect: Rect) -> QRectF:
        """Return where a rectangle of the overlay stands in the widget."""
        frame = self.frame()
        scale = frame.width() / self._size[0]
        return QRectF(
            frame.x() + rect.x * scale, frame.y() + rect.y * scale, rect.width * scale, rect.height * scale
        )  # fmt: skip

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        painter.fillRect(self.rect(), QColor(now.canvas))
        if self._picture is None:
            painter.end()
            return
        frame = self.frame()
        painter.fillRect(frame, canvas_brush("check"))
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(frame, self._picture)
        for used in self._used:
            painter.setPen(QPen(QColor(255, 255, 255, 150), 1, Qt.PenStyle.DashLine))
            painter.drawRect(self.on_widget(used))
        if self.rect_shown is not None:
            area = self.on_widget(self.rect_shown)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(0, 0, 0, 110))
            for part in _around(frame, area):
                painter.drawRect(part)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(now.sheet), 3))
            painter.drawRect(area)
            painter.setPen(QPen(QColor(now.oak), 1.5))
            painter.drawRect(area)
            painter.setBrush(QColor(now.sheet))
            for spot in self._spots(area):
                painter.drawRect(QRectF(spot.x() - 3.5, spot.y() - 3.5, 7, 7))
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(now.oak), 2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        painter.end()

    @staticmethod
    def _spots(area: QRectF) -> list[QPointF]:
        middle = area.center()
        return [
            area.topLeft(), QPointF(middle.x(), area.top()), area.topRight(), QPointF(area.right(), middle.y()),
            area.bottomRight(), QPointF(middle.x(), area.bottom()), area.bottomLeft(), QPointF(area.left(), middle.y()),
        ]  # fmt: skip

    def _grip(self, spot: QPointF) -> tuple[tuple[int, int, int, int] | None, Qt.CursorShape]:
        """Return what a hand at a spot would move, and the pointer for it."""
        if self.rect_shown is None:
            return None, Qt.CursorShape.ArrowCursor
        area = self.on_widget(self.rect_shown)
        for sides, cursor, handle in zip(_HANDLES, _CURSORS, self._spots(area), strict=True):
            if abs(handle.x() - spot.x()) <= _REACH and abs(handle.y() - spot.y()) <= _REACH:
                return sides, cursor
        return (
            ((1, 1, 1, 1), Qt.CursorShape.SizeAllCursor) if area.contains(spot) else (None, Qt.CursorShape.ArrowCursor)
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        sides, _ = self._grip(event.position())
        if sides is not None and self.rect_shown is not None and event.button() == Qt.MouseButton.LeftButton:
            self._held = (sides, event.position(), self.rect_shown)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held is None:
            self.setCursor(self._grip(event.position())[1])
            return
        sides, start, before = self._held
        scale = self._size[0] / self.frame().width()
        gone = event.position() - start
        self._take(_pulled(before, sides, round(gone.x() * scale), round(gone.y() * scale)), False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held is not None:
            self._held = None
            self._take(self.rect_shown, True)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = _STEPS.get(Qt.Key(event.key()))
        if step is None or self.rect_shown is None:
            super().keyPressEvent(event)
            return
        times = 16 if event.modifiers() & Qt.KeyboardModifier.ControlModifier else 1
        sides = (0, 0, 1, 1) if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else (1, 1, 1, 1)
        self._take(_pulled(self.rect_shown, sides, step[0] * times, step[1] * times), True)

    def _take(self, rect: Rect | None, done: bool) -> None:
        if rect is not None:
            self.rect_shown = rect
            self.update()
            self.moved.emit(rect, done)


def _pulled(rect: Rect, sides: tuple[int, int, int, int], x: int, y: int) -> Rect:
    """Return a rectangle with some of its sides moved, at least a pixel wide and high."""
    left, top = rect.x + sides[0] * x, rect.y + sides[1] * y
    right, bottom = rect.right + sides[2] * x, rect.bottom + sides[3] * y
    if sides != (1, 1, 1, 1):
        left, top = min(left, rect.right - 1), min(top, rect.bottom - 1)
        right, bottom = max(right, rect.x + 1), max(bottom, rect.y + 1)
    return Rect(left, top, max(1, right - left), max(1, bottom - top))


def _around(frame: QRectF, area: QRectF) -> list[QRectF]:
    inside = area.intersected(frame)
    if inside.isEmpty():
        return [frame]
    return [
        QRectF(frame.left(), frame.top(), frame.width(), inside.top() - frame.top()),
        QRectF(frame.left(), inside.bottom(), frame.width(), frame.bottom() - inside.bottom()),
        QRectF(frame.left(), inside.top(), inside.left() - frame.left(), inside.height()),
        QRectF(inside.right(), inside.top(), frame.right() - inside.right(), inside.height()),
    ]
