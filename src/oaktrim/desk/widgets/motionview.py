"""A clip with fewer keys: how far what it moves is off over time, and the worst moment before and after."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from oaktrim.core.proof.motion import MotionProof
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.proofview import ProofView

_HEAD, _AXIS, _CURVE = 18, 16, 0.34


class MotionView(ProofView[MotionProof]):
    """Shows a proof of a clip."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("How far the clip is off over time, and its worst moment", parent)

    def show_proof(self, proof: MotionProof) -> None:
        """Show a clip against what ships of it."""
        most = float(proof.reduced.distance.max()) * 1000
        self.take(
            proof, [_image(codes) for codes in proof.moments], f"at most {most:.2f} mm off, at {proof.seconds:.2f} s"
        )

    def paint_proof(self, painter: QPainter, proof: MotionProof) -> None:
        whole = QRectF(self.rect()).adjusted(12, 4, -12, -6)
        below = whole.height() * _CURVE
        above = QRectF(whole.left(), whole.top(), whole.width(), whole.height() - below - 8)
        self._paint_moments(painter, above, proof)
        self._paint_curve(painter, QRectF(whole.left(), whole.bottom() - below, whole.width(), below), proof)

    def _paint_moments(self, painter: QPainter, room: QRectF, proof: MotionProof) -> None:
        now, width = tokens(), (room.width() - 12) / 2
        for number, (name, image) in enumerate(zip(("Source", "With fewer keys"), self.images, strict=True)):
            left = room.left() + number * (width + 12)
            painter.setPen(QColor(now.ink))
            words = f"{name}, at {proof.seconds:.2f} s"
            painter.drawText(QRectF(left, room.top(), width, _HEAD), Qt.AlignmentFlag.AlignVCenter, words)
            frame = QRectF(left, room.top() + _HEAD, width, room.height() - _HEAD)
            painter.fillRect(frame, QColor(now.canvas))
            side = min(frame.width(), frame.height())
            square = QRectF(0, 0, side, side)
            square.moveCenter(frame.center())
            painter.drawImage(square, image)

    @staticmethod
    def _paint_curve(painter: QPainter, room: QRectF, proof: MotionProof) -> None:
        now, reduced = tokens(), proof.reduced
        millimetres, bound = reduced.distance * 1000, proof.bound.millimetres
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
        painter.drawEllipse(point(proof.seconds, float(millimetres.max())), 3.5, 3.5)
        painter.setPen(QColor(now.soft))
        foot = QRectF(graph.left(), graph.bottom(), graph.width(), _AXIS)
        painter.drawText(foot, Qt.AlignmentFlag.AlignVCenter, f"{start:.2f} s")
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(foot, side, f"{start + span:.2f} s")


def _image(codes: NDArray[np.uint8]) -> QImage:
    height, width = codes.shape[:2]
    held = np.ascontiguousarray(codes)
    return QImage(held.data, width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
