"""Where a picture lies in a widget: its frame panned and zoomed, and the line that splits two of them."""

from __future__ import annotations

from math import atan2, cos, hypot, pi, sin

from PySide6.QtCore import QPointF, QRectF, QSizeF

# The split line leans by this many radians from upright, until it is turned.
_LEAN = 0.28
FAR = 4000.0
_ZOOMS = (0.01, 64.0)
_EDGE = 0.02


class Viewport:
    """A frame of pixels seen in a room of the widget.

    Attributes
    ----------
    frame : width and height in pixels
    zoom : screen pixels to one of the frame
    centre : the part of the frame that is in the middle of the room
    fitted : the whole frame is seen, and stays so when the room changes
    """

    def __init__(self) -> None:
        self.frame = (1, 1)
        self.zoom = 1.0
        self.centre = QPointF(0.5, 0.5)
        self.fitted = True

    def fit(self, room: QRectF, tiled: bool = False) -> None:
        """See the whole frame, and half of its neighbours where it is tiled."""
        self.zoom = min(room.width() / self.frame[0], room.height() / self.frame[1]) * (0.48 if tiled else 0.96)
        self.centre, self.fitted = QPointF(0.5, 0.5), True

    def zoom_to(self, zoom: float, about: QPointF, room: QRectF) -> None:
        """Zoom to so many screen pixels a pixel; what is under a point of the widget stays there."""
        before = self.rect(room)
        zoom = max(_ZOOMS[0], min(_ZOOMS[1], zoom))
        part = QPointF((about.x() - before.left()) / before.width(), (about.y() - before.top()) / before.height())
        self.zoom, self.fitted = zoom, False
        away = about - room.center()
        self.centre = QPointF(part.x() - away.x() / self.width, part.y() - away.y() / self.height)

    def pan(self, step: QPointF) -> None:
        """Move what is seen by screen pixels."""
        self.fitted = False
        self.centre -= QPointF(step.x() / self.width, step.y() / self.height)

    def centre_on(self, part: QRectF, room: QRectF) -> None:
        """Bring a part of the frame, in 0..1, to the middle, large enough to judge."""
        across, down = part.width() * self.frame[0], part.height() * self.frame[1]
        zoom = min(room.width() / across, room.height() / down) / 3
        self.zoom_to(max(1.0, min(16.0, zoom)), room.center(), room)
        self.centre = part.center()

    @property
    def width(self) -> float:
        """Of the frame on the screen, pixels."""
        return self.frame[0] * self.zoom

    @property
    def height(self) -> float:
        """Of the frame on the screen, pixels."""
        return self.frame[1] * self.zoom

    def rect(self, room: QRectF) -> QRectF:
        """Return where the frame lies in the widget."""
        left = room.center().x() - self.centre.x() * self.width
        top = room.center().y() - self.centre.y() * self.height
        return QRectF(left, top, self.width, self.height)

    def pixel_at(self, point: QPointF, room: QRectF, tiled: bool = False) -> tuple[int, int]:
        """Return the pixel of the frame at a point of the widget, or (-1, -1)."""
        frame = self.rect(room)
        x = int((point.x() - frame.left()) // self.zoom)
        y = int((point.y() - frame.top()) // self.zoom)
        if tiled:
            x, y = x % self.frame[0], y % self.frame[1]
        return (x, y) if 0 <= x < self.frame[0] and 0 <= y < self.frame[1] else (-1, -1)


class SplitLine:
    """The line between two pictures, which can be moved along the widget's width and turned."""

    def __init__(self) -> None:
        self._part, self.lean = 0.5, _LEAN

    def points(self, size: QSizeF) -> tuple[QPointF, QPointF, QPointF]:
        """Return its upper end, its middle and its lower end, far beyond a widget of a size."""
        middle = QPointF(size.width() * self._part, size.height() / 2)
        way = QPointF(sin(self.lean), -cos(self.lean)) * FAR
        return middle + way, middle, middle - way

    def grip_at(self, point: QPointF, size: QSizeF) -> str:
        """Return what a press at a point takes hold of: "split" to move, "turn", or nothing."""
        apart = point - self.points(size)[1]
        along = apart.x() * sin(self.lean) - apart.y() * cos(self.lean)
        across = apart.x() * cos(self.lean) + apart.y() * sin(self.lean)
        if hypot(apart.x(), apart.y()) < 20:
            return "split"
        return "turn" if abs(across) < 7 and abs(along) > 40 else ""

    def move(self, step: float) -> None:
        """Move it by a part of the widget's width."""
        self._part = max(_EDGE, min(1 - _EDGE, self._part + step))

    def turn(self, angle: float) -> None:
        """Turn it by radians."""
        self.lean = (self.lean + angle + pi / 2) % pi - pi / 2

    def turn_to(self, point: QPointF, size: QSizeF) -> None:
        """Turn it so that it goes through a point."""
        apart = point - self.points(size)[1]
        self.lean = (atan2(apart.x(), -apart.y()) + pi / 2) % pi - pi / 2
