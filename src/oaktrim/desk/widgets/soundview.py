"""A sound before and after: waveforms over spectrograms side by side, and below them what was lost in each band."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from oaktrim.core.proof.sounds import SoundPicture, SoundProof
from oaktrim.core.sounds.compare import SoundLoss
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.proofview import ProofView

_LOW, _HIGH = -100.0, -10.0
_GAP, _HEAD, _AXIS = 12, 18, 16
# Heights of the waveform and of the bands, as parts of the whole.
_WAVE, _BANDS = 0.22, 0.3


class SoundView(ProofView[SoundProof]):
    """Shows a proof of a sound."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("The sound before and after", parent)

    def show_proof(self, proof: SoundProof) -> None:
        """Show a sound against what ships of it."""
        loss = proof.loss
        said = "the file ships as it is" if loss is None else f"{loss.segmental:.1f} dB, {loss.audible:.2f} steps heard"
        self.take(proof, [_image(picture.levels) for picture in (proof.before, proof.after)], said)

    def paint_proof(self, painter: QPainter, proof: SoundProof) -> None:
        whole = QRectF(self.rect()).adjusted(12, 4, -12, -6)
        below = whole.height() * _BANDS if proof.loss is not None else 0.0
        width = (whole.width() - _GAP) / 2
        for number, (name, picture) in enumerate((("Source", proof.before), ("As it ships", proof.after))):
            left = whole.left() + number * (width + _GAP)
            room = QRectF(left, whole.top(), width, whole.height() - below)
            self._paint_one(painter, room, name, picture, self.images[number])
        if proof.loss is not None:
            self._paint_bands(
                painter, QRectF(whole.left(), whole.bottom() - below + 8, whole.width(), below - 8), proof.loss
            )

    @staticmethod
    def _paint_one(painter: QPainter, room: QRectF, name: str, picture: SoundPicture, image: QImage) -> None:
        now = tokens()
        painter.setPen(QColor(now.ink))
        head = QRectF(room.left(), room.top(), room.width(), _HEAD)
        painter.drawText(head, Qt.AlignmentFlag.AlignVCenter, f"{name}  {picture.seconds:.2f} s")
        wave = QRectF(room.left(), head.bottom(), room.width(), room.height() * _WAVE)
        painter.fillRect(wave, QColor(now.sheet))
        painter.setPen(QPen(QColor(now.teal), 1))
        middle, count = wave.center().y(), len(picture.wave)
        for column, (low, high) in enumerate(np.clip(picture.wave, -1, 1).tolist()):
            x = wave.left() + (column + 0.5) * wave.width() / count
            reach = wave.height() / 2
            painter.drawLine(QPointF(x, middle - high * reach), QPointF(x, middle - low * reach + 0.5))
        under = wave.bottom() + 4
        levels = QRectF(room.left(), under, room.width(), room.bottom() - under - _AXIS)
        painter.drawImage(levels, image)
        painter.setPen(QColor(now.soft))
        axis = QRectF(room.left(), levels.bottom(), room.width(), _AXIS)
        painter.drawText(axis, Qt.AlignmentFlag.AlignVCenter, f"0 to {picture.top / 1000:g} kHz upwards")
        painter.drawText(
            axis,
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            f"{_LOW:g} to {_HIGH:g} dB, dark to bright",
        )

    @staticmethod
    def _paint_bands(painter: QPainter, room: QRectF, loss: SoundLoss) -> None:
        """Paint the level of each third octave: source and result as lines, what was lost as an area."""
        now = tokens()
        head = QRectF(room.left(), room.top(), room.width(), _HEAD)
        graph = QRectF(room.left(), head.bottom(), room.width(), room.height() - _HEAD - _AXIS)
        painter.fillRect(graph, QColor(now.sheet))
        painter.setPen(QColor(now.ink))
        painter.drawText(head, Qt.AlignmentFlag.AlignVCenter, "Level in third octaves")
        across = np.linspace(graph.left(), graph.right(), len(loss.bands))

        def y(level: float) -> float:
            part = min(1.0, max(0.0, (level - _LOW) / (0.0 - _LOW)))
            return graph.bottom() - part * graph.height()

        def line(values: NDArray[np.float64]) -> list[QPointF]:
            return [QPointF(x, y(v)) for x, v in zip(across.tolist(), values.tolist(), strict=True)]

        area = QPolygonF(
            [QPointF(graph.left(), graph.bottom()), *line(loss.lost), QPointF(graph.right(), graph.bottom())]
        )
        painter.setPen(Qt.PenStyle.NoPen)
        fill = QColor(now.brick)
        fill.setAlphaF(0.35)
        painter.setBrush(fill)
        painter.drawPolygon(area)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        named = (
            ("source", loss.before, now.ink),
            ("as it ships", loss.after, now.teal),
            ("lost", loss.lost, now.brick),
        )
        right = head.right()
        for name, values, colour in reversed(named):
            style = Qt.PenStyle.DashLine if name == "as it ships" else Qt.PenStyle.SolidLine
            painter.setPen(QPen(QColor(colour), 1.6, style))
            painter.drawPolyline(QPolygonF(line(values)))
            wide = painter.fontMetrics().horizontalAdvance(name) + 30
            painter.drawLine(
                QPointF(right - wide + 6, head.center().y()), QPointF(right - wide + 24, head.center().y())
            )
            painter.setPen(QColor(now.soft))
            painter.drawText(
                QRectF(right - wide + 28, head.top(), wide, head.height()), Qt.AlignmentFlag.AlignVCenter, name
            )
            right -= wide + 8
        foot = QRectF(graph.left(), graph.bottom(), graph.width(), _AXIS)
        for hertz in (63, 250, 1000, 4000, 16_000):
            if loss.bands[0] <= hertz <= loss.bands[-1]:
                part = np.log2(hertz / loss.bands[0]) / np.log2(loss.bands[-1] / loss.bands[0])
                x = graph.left() + part * graph.width()
                text = f"{hertz} Hz" if hertz < 1000 else f"{hertz // 1000} kHz"
                painter.drawText(QRectF(x - 30, foot.top(), 60, foot.height()), Qt.AlignmentFlag.AlignCenter, text)


def _image(levels: NDArray[np.float32]) -> QImage:
    """Return levels as a picture, from dark to bright."""
    part = np.clip((levels - _LOW) / (_HIGH - _LOW), 0, 1)[..., None]
    stops = np.array([[20, 18, 16], [52, 74, 84], [110, 140, 120], [222, 190, 110], [255, 246, 222]], np.float32)
    at = part * (len(stops) - 1)
    low = np.minimum(at.astype(np.int64), len(stops) - 2)
    mixed = stops[low[..., 0]] * (1 - (at - low)) + stops[low[..., 0] + 1] * (at - low)
    codes = np.ascontiguousarray(np.concatenate([mixed, np.full_like(part, 255)], axis=-1).astype(np.uint8))
    height, width = levels.shape
    return QImage(codes.data, width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
