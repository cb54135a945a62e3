"""How loud a sound is over its length, in little room."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QSize
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.sounds.traits import envelope_peaks
from oaktrim.desk.look.tokens import tokens

_HEIGHT = 84


class WaveStrip(QWidget):
    """Shows the envelope of a sound; what is trimmed or cut off of it is pale."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._peaks = np.zeros(0)
        self._kept = (0.0, 1.0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("How loud the sound is over its length")

    def sizeHint(self) -> QSize:
        return QSize(200, _HEIGHT)

    def show_envelope(self, codes: bytes, kept: tuple[float, float]) -> None:
        """Show an envelope, and which part of its length ships, 0 to 1."""
        self._peaks, self._kept = envelope_peaks(codes), kept
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        painter.fillRect(self.rect(), QColor(now.sheet))
        width, middle = self.width(), self.height() / 2
        painter.setPen(QPen(QColor(now.line), 1))
        painter.drawLine(QPointF(0, middle), QPointF(width, middle))
        if len(self._peaks):
            edges = np.linspace(0, len(self._peaks), width + 1).astype(np.int64)[:-1]
            peaks = np.maximum.reduceat(self._peaks, np.minimum(edges, len(self._peaks) - 1))
            for x, peak in enumerate(peaks.tolist()):
                if not peak:
                    continue
                ships = self._kept[0] <= (x + 0.5) / width <= self._kept[1]
                painter.setPen(QPen(QColor(now.teal if ships else now.line), 1))
                reach = min(1.0, peak) * (middle - 2)
                painter.drawLine(QPointF(x + 0.5, middle - reach), QPointF(x + 0.5, middle + reach))
        painter.end()
