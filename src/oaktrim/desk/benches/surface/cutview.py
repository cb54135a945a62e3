"""The source with its cuts: their dots can be dragged, and places marked that no cut runs through."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QWidget

from oaktrim.core.makers.surface.settings import Stroke
from oaktrim.core.proof.surfacedraft import SurfaceDraft
from oaktrim.desk.benches.surface.uploadpane import pixmap_of

_KEEP_RADIUS = 0.06
_DOTS, _GRIP = 7, 7.0


class CutView(QWidget):
    """Shows both cuts where they lie on the source.

    Signals
    -------
    kept : a place to keep, or one to let go of (`Stroke`)
    drawn : `across` or `down`, and the places of that cut by hand, 0 to 1 through the overlap; empty for the best one
    """

    kept = Signal(object)
    drawn = Signal(str, object)

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(80)
        self.setAccessibleName("The source, with its cuts and with places that no cut runs through")
        self.setToolTip("Drag the dots of a cut; a right click gives up what was dragged")
        self._picture: QPixmap | None = None
        self._strokes: tuple[Stroke, ...] = ()
        # Of each cut: the share of the side that the overlap takes, and places through it at even steps.
        self._cuts: dict[str, tuple[float, list[float]]] = {}
        self._held: tuple[str, int] | None = None

    def show_draft(self, now: SurfaceDraft) -> None:
        """Show another draft."""
        self._picture = pixmap_of(now.before)
        self._strokes = now.settings.tile.keep if now.settings.tile is not None else ()
        self._cuts = {}
        for name, cut in (("across", now.made.across), ("down", now.made.down)):
            if cut is not None:
                places = np.interp(np.linspace(0, 1, _DOTS), np.linspace(0, 1, len(cut.path)), cut.path)
                self._cuts[name] = cut.share, [float(place) for place in places]
        self.update()

    def _room(self) -> QRectF:
        if self._picture is None:
            return QRectF()
        scale = min(self.width() / self._picture.width(), self.height() / self._picture.height())
        return QRectF(0, 0, self._picture.width() * scale, self._picture.height() * scale)

    def dots(self, name: str) -> list[QPointF]:
        """Return where the dots of a cut are."""
        share, places = self._cuts.get(name, (0.0, []))
        room, found = self._room(), []
        for number, place in enumerate(places):
            along, through = number / (_DOTS - 1), place * share
            x, y = (through, along) if name == "across" else (along, through)
            found.append(QPointF(x * room.width(), y * room.height()))
        return found

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self._picture is not None:
            room = self._room()
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawPixmap(room, self._picture, QRectF(self._picture.rect()))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for colour, width in (("#000000", 3), ("#FFFFFF", 1)):
                painter.setPen(QPen(QColor(colour), width))
                for stroke in self._strokes:
                    radius = stroke.radius * min(room.width(), room.height())
                    painter.drawEllipse(QPointF(stroke.x * room.width(), stroke.y * room.height()), radius, radius)
                for name in self._cuts:
                    points = self.dots(name)
                    painter.drawPolyline(QPolygonF(points))
                    for point in points:
                        painter.drawEllipse(point, 3, 3)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if event.button() != Qt.MouseButton.LeftButton or not self._room().contains(at):
            return
        for name in self._cuts:
            for number, dot in enumerate(self.dots(name)):
                if (dot - at).manhattanLength() < _GRIP:
                    self._held = name, number
                    return
        room = self._room()
        self.kept.emit(Stroke(at.x() / room.width(), at.y() / room.height(), _KEEP_RADIUS))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held is None:
            return
        name, number = self._held
        share, places = self._cuts[name]
        room, at = self._room(), event.position()
        part = at.x() / room.width() if name == "across" else at.y() / room.height()
        places[number] = min(1.0, max(0.0, part / share))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held is not None:
            name, _ = self._held
            self._held = None
            self.drawn.emit(name, tuple(round(place, 4) for place in self._cuts[name][1]))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        for name in self._cuts:
            self.drawn.emit(name, ())
