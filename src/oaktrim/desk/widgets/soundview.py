"""A sound before and after: waveforms over spectrograms side by side, and below them what was lost in each band."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.proof.sounds import SoundPicture, SoundProof
from oaktrim.desk.look.tokens import tokens

_LOW, _HIGH = -100.0, -10.0
_GAP, _HEAD, _AXIS = 12, 18, 16
# Heights of the waveform and of the bands, as parts of the whole.
_WAVE, _BANDS = 0.22, 0.3


class SoundView(QWidget):
    """Shows a proof of a sound, or words in its place."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._proof: SoundProof | None = None
        self._words = ""
        self._images: list[QImage] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("The sound before and after")

    def minimumSizeHint(self) -> QSize:
        return QSize(420, 260)

    @property
    def proof(self) -> SoundProof | None:
        """What is shown."""
        return self._proof

    def say(self, words: str) -> None:
        """Show words in the place of a sound."""
        self._proof, self._words, self._images = None, words, []
        self.setAccessibleDescription(words)
        self.update()

    def show_proof(self, proof: SoundProof) -> None:
        """Show a sound against what ships of it."""
        self._proof, self._words = proof, ""
        self._images = [_image(picture.levels) for picture in (proof.before, proof.after)]
        loss = proof.loss
        said = "the file ships as it is" if loss is None else f"{loss.segmental:.1f} dB, {loss.audible:.2f} steps heard"
        self.setAccessibleDescription(said)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
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
        below = whole.height() * _BANDS if self._proof.loss is not None else 0.0
        width = (whole.width() - _GAP) / 2
        for number, (name, picture) in enumerate((("Source", self._proof.before), ("As it ships", self._proof.after))):
            left = whole.left() + number * (width + _GAP)
            room = QRectF(left, whole.top(), width, whole.height() - below)
            self._paint_one(painter, room, name, picture, self._images[number])
        if below:
            self._paint_bands(painter, QRectF(whole.left(), whole.bottom() - below + 8, whole.width(), below - 8))
        painter.end()

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

    def _paint_bands(self, painter: QPainter, room: QRectF) -> None:
        """Paint the level of each third octave: source and result as lines, what was lost as an area."""
        assert self._proof is not None and self._proof.loss is not None
        now, loss = tokens(), self._proof.loss
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
