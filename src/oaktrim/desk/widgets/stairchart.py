"""The distance ruler of an imposter: how like it is above, and below it a model's levels as a stair whose risers are dragged."""

from __future__ import annotations

from math import log2

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.makers.imposter.chain import Level
from oaktrim.core.makers.imposter.settings import Chain
from oaktrim.core.proof.imposterlikeness import UNNOTICED, ImposterLikeness
from oaktrim.desk.look.tokens import tokens

# Pixels of height at the two ends of the ruler.
_NEAR, _FAR = 512.0, 6.0
_MOST_JND, _MOST_LOST = 4.0, 0.4
_GRIP = 7
_CURVES, _RULER, _STAIR = 92, 18, 52
# What an arrow key moves a riser by, in doublings.
_STEP = 1 / 8


class StairChart(QWidget):
    """Shows a likeness and a chain over the height on the screen.

    Signals
    -------
    switch_changed, vanish_changed : share of the screen's height, and whether the hand has let go
    looked : a height in pixels that somebody wants to see
    """

    switch_changed = Signal(float, bool)
    vanish_changed = Signal(float, bool)
    looked = Signal(float)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.likeness: ImposterLikeness | None = None
        self.chain: Chain | None = None
        self.levels: tuple[Level, ...] = ()
        self.lines = 1080
        self.here: float | None = None
        self._grip = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("How like it is, and from where")
        self.setToolTip(
            "Drag a riser: from where on the imposter is drawn, and from where on nothing. Arrow keys do, too"
        )

    def sizeHint(self) -> QSize:
        return QSize(420, 6 + _CURVES + _RULER + _STAIR + 4)

    def minimumSizeHint(self) -> QSize:
        return QSize(240, 6 + _CURVES + _RULER + _STAIR + 4)

    def show_draft(
        self, likeness: ImposterLikeness | None, chain: Chain | None, levels: tuple[Level, ...], lines: int
    ) -> None:
        """Show another imposter.

        Parameters
        ----------
        levels : of the chain, the nearest first; without a chain the thing and its imposter
        lines : of the screen
        """
        self.likeness, self.chain, self.levels, self.lines = likeness, chain, levels, lines
        advised = (
            "" if likeness is None else f"advised from {likeness.switch} pixels on" if likeness.switch else "noticed"
        )
        now = "" if chain is None else f", switch at {chain.switch * lines:.0f} pixels"
        self.setAccessibleDescription(advised + now)
        self.update()

    def show_here(self, pixels: float | None) -> None:
        """Mark the height that is looked at now."""
        self.here = pixels
        self.update()

    # Where things are

    def _room(self) -> QRectF:
        return QRectF(10, 6, max(60.0, self.width() - 20.0), _CURVES)

    def x_of(self, pixels: float) -> float:
        """Return where a height in pixels stands."""
        room = self._room()
        part = log2(_NEAR / max(pixels, 1e-3)) / log2(_NEAR / _FAR)
        return room.left() + min(1.0, max(0.0, part)) * room.width()

    def _pixels(self, x: float) -> float:
        room = self._room()
        part = min(1.0, max(0.0, (x - room.left()) / room.width()))
        return _NEAR / 2 ** (part * log2(_NEAR / _FAR))

    def _risers(self) -> dict[str, float]:
        if self.chain is None:
            return {}
        found = {"switch": self.x_of(self.chain.switch * self.lines)}
        # A chain that ends nowhere has its last riser at the far end, to be drawn in from there.
        found["vanish"] = self.x_of(self.chain.vanish * self.lines) if self.chain.vanish else self._room().right()
        return found

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = event.position()
        below = point.y() > self._room().bottom()
        near = [name for name, x in self._risers().items() if abs(x - point.x()) < _GRIP]
        self._grip = near[0] if below and near else "look"
        self._drag(point, False)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._drag(event.position(), False)
            return
        near = any(abs(x - event.position().x()) < _GRIP for x in self._risers().values())
        below = event.position().y() > self._room().bottom()
        self.setCursor(Qt.CursorShape.SplitHCursor if near and below else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag(event.position(), True)
        self._grip = ""

    def _drag(self, point: QPointF, done: bool) -> None:
        pixels = self._pixels(point.x())
        if self._grip == "look":
            self.looked.emit(pixels)
        elif self._grip:
            self._say(self._grip, pixels, done)

    def _say(self, riser: str, pixels: float, done: bool) -> None:
        assert self.chain is not None
        share = pixels / self.lines
        if riser == "switch":
            self.switch_changed.emit(max(share, self.chain.vanish * 1.01, 1e-4), done)
        else:
            share = 0.0 if pixels <= _FAR * 1.02 else min(share, self.chain.switch * 0.99)
            self.vanish_changed.emit(share, done)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ways = {Qt.Key.Key_Left: _STEP, Qt.Key.Key_Right: -_STEP}
        key = Qt.Key(event.key())
        if key not in ways or self.chain is None:
            super().keyPressEvent(event)
            return
        shifted = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        share = (self.chain.vanish or _FAR / self.lines) if shifted else self.chain.switch
        self._say("vanish" if shifted else "switch", share * self.lines * 2 ** ways[key], True)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        self._paint_curves(painter)
        self._paint_ruler(painter)
        self._paint_stair(painter)
        if self.here is not None and _FAR <= self.here <= _NEAR:
            x = self.x_of(self.here)
            painter.setPen(QPen(QColor(tokens().soft), 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, self._room().top()), QPointF(x, self.height() - 4.0))
        painter.end()

    def _paint_curves(self, painter: QPainter) -> None:
        now, room = tokens(), self._room()
        painter.fillRect(room, QColor(now.sheet))
        painter.setPen(QPen(QColor(now.line), 1))
        painter.drawRect(room)
        if self.likeness is None:
            painter.setPen(QColor(now.soft))
            painter.drawText(room, Qt.AlignmentFlag.AlignCenter, "looking at it from afar …")
            return
        rows = self.likeness.rows
        noticed = room.bottom() - UNNOTICED / _MOST_JND * room.height()
        painter.setPen(QPen(QColor(now.line), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(room.left(), noticed), QPointF(room.right(), noticed))
        painter.setPen(QColor(now.soft))
        painter.drawText(QRectF(room.right() - 108, noticed - 15, 104, 14), Qt.AlignmentFlag.AlignRight, "just noticed")
        curves = (
            (now.slate, [1 - row.overlap for row in rows], [1 - row.ceiling for row in rows], _MOST_LOST, "silhouette"),
            (now.oak, [row.jnd for row in rows], [row.own_jnd for row in rows], _MOST_JND, "colour"),
        )
        across = [self.x_of(row.pixels) for row in rows]
        for place, (colour, values, own, most, words) in enumerate(curves):
            for style, heights in ((Qt.PenStyle.SolidLine, values), (Qt.PenStyle.DashLine, own)):
                painter.setPen(QPen(QColor(colour), 1.8 if style is Qt.PenStyle.SolidLine else 1, style))
                painter.drawPolyline(
                    QPolygonF([
                        QPointF(x, room.bottom() - min(1.0, value / most) * (room.height() - 4))
                        for x, value in zip(across, heights, strict=True)
                    ])
                )  # fmt: skip
            painter.setPen(QColor(colour))
            painter.drawText(QRectF(room.left() + 6, room.top() + 3 + 14 * place, 120, 14), 0, words)

    def _paint_ruler(self, painter: QPainter) -> None:
        now, room = tokens(), self._room()
        ruler = QRectF(room.left(), room.bottom(), room.width(), _RULER)
        painter.fillRect(ruler, QColor(now.oak_pale))
        painter.setPen(QColor(now.ink))
        pixels = _NEAR
        while pixels >= _FAR:
            x = self.x_of(pixels)
            painter.drawLine(QPointF(x, ruler.top()), QPointF(x, ruler.top() + 5))
            words = f"{pixels:.0f} px" if pixels == _NEAR else f"{pixels:.0f}"
            painter.drawText(QRectF(x + 3, ruler.top() + 2, 50, 14), 0, words)
            pixels /= 2
        if self.likeness is not None and self.likeness.switch:
            x = self.x_of(self.likeness.switch)
            painter.setBrush(QColor(now.ink))
            painter.drawPolygon(
                [QPointF(x, ruler.top()), QPointF(x - 5, ruler.top() - 8), QPointF(x + 5, ruler.top() - 8)]
            )
            painter.drawLine(QPointF(x, room.top()), QPointF(x, ruler.top()))
            right = x > room.center().x()
            box = QRectF(x - 148 if right else x + 6, room.top() + 4, 142, 14)
            side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
            painter.drawText(box, side, f"advised: {self.likeness.switch} px")

    def _paint_stair(self, painter: QPainter) -> None:
        now, room = tokens(), self._room()
        top, bottom = room.bottom() + _RULER + 2, self.height() - 4.0
        if not self.levels:
            painter.setPen(QColor(now.soft))
            words = "The imposter stands beside its model" if self.likeness is not None else ""
            painter.drawText(QRectF(room.left(), top, room.width(), bottom - top), Qt.AlignmentFlag.AlignCenter, words)
            return
        most = max(level.triangles for level in self.levels)
        starts = [room.left(), *(self.x_of(level.share * self.lines) for level in self.levels)]
        starts[-1] = self._risers().get("vanish", room.right())
        for place, level in enumerate(self.levels):
            left, right = starts[place], starts[place + 1]
            last = place == len(self.levels) - 1
            part = log2(max(2, level.triangles)) / log2(max(4, most))
            y = bottom - (0.25 + 0.7 * part) * (bottom - top)
            tread = QRectF(left, y, max(0.0, right - left), bottom - y)
            painter.fillRect(tread, QColor(now.slate if last else now.oak_pale))
            painter.setPen(QPen(QColor(now.ink), 1.4))
            painter.drawLine(tread.topLeft(), tread.topRight())
            name = "imposter" if last else f"level {place}"
            words = f"{name} · {level.triangles:,} △"
            painter.setPen(QColor(now.sheet if last else now.ink))
            if tread.width() > 28:
                text = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(tread.width()) - 8)
                painter.drawText(tread.adjusted(5, 1, -3, 0), Qt.AlignmentFlag.AlignLeft, text)
        if starts[-1] < room.right() - 40:
            painter.setPen(QColor(now.soft))
            box = QRectF(starts[-1] + 6, bottom - 16, room.right() - starts[-1], 14)
            painter.drawText(box, Qt.AlignmentFlag.AlignLeft, "nothing")
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(now.ink))
        for x in self._risers().values():
            for side in (-3.5, 1.0):
                painter.drawRect(QRectF(x + side, (top + bottom) / 2 - 9, 2.5, 18))
