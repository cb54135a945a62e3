"""A clip with fewer keys: how far what it moves is off over time, and the worst moment before and after."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.proof.motion import MotionProof
from oaktrim.desk.look.tokens import tokens

_HEAD, _AXIS, _CURVE = 18, 16, 0.34


class MotionView(QWidget):
    """Shows a proof of a clip, or words in its place."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._proof: MotionProof | None = None
        self._words = ""
        self._images: list[QImage] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("How far the clip is off over time, and its worst moment")

    def minimumSizeHint(self) -> QSize:
        return QSize(420, 260)

    @property
    def proof(self) -> MotionProof | None:
        """What is shown."""
        return self._proof

    def say(self, words: str) -> None:
        """Show words in the place of a clip."""
        self._proof, self._words, self._images = None, words, []
        self.setAccessibleDescription(words)
        self.update()

    def show_proof(self, proof: MotionProof) -> None:
        """Show a clip against what ships of it."""
        self._proof, self._words = proof, ""
        self._images = [_image(codes) for codes in proof.moments]
        most = float(proof.reduced.distance.max()) * 1000
        self.setAccessibleDescription(f"at most {most:.2f} mm off, at {proof.seconds:.2f} s")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), QColor(now.linen))
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        if self._proof is None:
            painter.setPen(QColor(now.soft))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._words)
            painter.end()
            return
        whole = QRectF(self.rect()).adjusted(12, 4, -12, -6)
        below = whole.height() * _CURVE
        self._paint_moments(painter, QRectF(whole.left(), whole.top(), whole.width(), whole.height() - below - 8))
        self._paint_curve(painter, QRectF(whole.left(), whole.bottom() - below, whole.width(), below))
        painter.end()

    def _paint_moments(self, painter: QPainter, room: QRectF) -> None:
        assert self._proof is not None
        now, width = tokens(), (room.width() - 12) / 2
        for number, (name, image) in enumerate(zip(("Source", "With fewer keys"), self._images, strict=True)):
            left = room.left() + number * (width + 12)
            painter.setPen(QColor(now.ink))
            words = f"{name}, at {self._proof.seconds:.2f} s"
            painter.drawText(QRectF(left, room.top(), width, _HEAD), Qt.AlignmentFlag.AlignVCenter, words)
            frame = QRectF(left, room.top() + _HEAD, width, room.height() - _HEAD)
            painter.fillRect(frame, QColor(now.canvas))
            side = min(frame.width(), frame.height())
            square = QRectF(0, 0, side, side)
            square.moveCenter(frame.center())
            painter.drawImage(square, image)

    def _paint_curve(self, painter: QPainter, room: QRectF) -> None:
        assert self._proof is not None
        now, reduced = tokens(), self._proof.reduced
        millimetres, bound = reduced.distance * 1000, self._proof.bound.millimetres
        head = QRectF(room.left(), room.top(), room.width(), _HEAD)
        graph = QRectF(room.left(), head.bottom(), room.width(), room.height() - _HEAD - _AXIS)
        painter.fillRect(graph, QColor(now.sheet))
        painter.setPen(QColor(now.ink))
        mean = float(millimetres.mean())
        words = f"Millimetres off: at most {millimetres.max():.2f}, {mean:.2f} in the mean; the line is the bound of {bound:g}"
        painter.drawText(head, Qt.AlignmentFlag.AlignVCenter, words)
        top = max(bound, float(millimetres.max())) * 1.1
        start, span = float(reduced.times[0]), max(1e-9, float(reduced.times[-1] - reduced.times[0]))

        def point(seconds: float, value: float) -> QPointF:
            x = graph.left() + (seconds - start) / span * graph.width()
            return QPointF(x, graph.bottom() - value / top * graph.height())

        painter.setPen(QPen(QColor(now.brick), 1, Qt.PenStyle.DashLine))
        painter.drawLine(point(start, bound), point(start + span, bound))
        shown = np.linspace(0, len(millimetres) - 1, min(len(millimetres), 2 * int(graph.width()) or 1)).astype(
            np.int64
        )
        painter.setPen(QPen(QColor(now.dusk), 1.4))
        painter.drawPolyline(QPolygonF([point(float(reduced.times[n]), float(millimetres[n])) for n in shown]))
        painter.setBrush(QColor(now.brick))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawEllipse(point(self._proof.seconds, float(millimetres.max())), 3.5, 3.5)
        painter.setPen(QColor(now.soft))
        foot = QRectF(graph.left(), graph.bottom(), graph.width(), _AXIS)
        painter.drawText(foot, Qt.AlignmentFlag.AlignVCenter, f"{start:.2f} s")
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(foot, side, f"{start + span:.2f} s")


def _image(codes: NDArray[np.uint8]) -> QImage:
    height, width = codes.shape[:2]
    held = np.ascontiguousarray(codes)
    return QImage(held.data, width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
