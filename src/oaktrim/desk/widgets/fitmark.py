"""The fit mark, a bar that leans to what is to spare or to what lacks, and the ruler of its colours."""

from __future__ import annotations

from math import isnan

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.sight.ramp import COLOURS, STOPS
from oaktrim.desk.look.tokens import tokens

_BAR, _MOST = 7, 3


def fit_text(fit: float, estimated: bool = False) -> str:
    """Return levels to spare as they are written: +2, fits, -1; nothing where it is not known."""
    if isnan(fit):
        return ""
    words = f"{int(fit):+d}".replace("-", "−") if fit else "fits"
    return f"about {words}" if estimated else words


class FitMark(QWidget):
    """A bar to the right of its line for levels to spare, to the left for levels that lack."""

    def __init__(self, fit: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._fit = fit
        self.setFixedSize(QSize(2 * _MOST * _BAR + 4, 16))
        self.setAccessibleName(f"fit {fit_text(fit)}" if fit_text(fit) else "not seen")

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        middle = self.width() / 2
        painter.fillRect(QRectF(middle - 0.5, 1, 1, self.height() - 2), QColor(now.soft))
        if not isnan(self._fit) and self._fit:
            length = min(abs(self._fit), _MOST) * _BAR
            left = middle if self._fit > 0 else middle - length
            painter.fillRect(
                QRectF(left, 4, length, self.height() - 8), QColor(now.slate if self._fit > 0 else now.oak)
            )
        painter.end()


class FitRuler(QWidget):
    """The colours of fit with what each stands for, and a mark where the pointer is."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._value: float | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Levels to spare by colour")

    def sizeHint(self) -> QSize:
        return QSize(360, 34)

    def show_value(self, value: float | None) -> None:
        """Mark a value, or none."""
        self._value = value
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(now.soft))
        painter.drawText(QRectF(12, 2, 60, 14), Qt.AlignmentFlag.AlignLeft, "levels")
        left, width = 72.0, max(60.0, self.width() - 96.0)
        step = width / len(COLOURS)
        for place, (stop, colour) in enumerate(zip(STOPS, COLOURS, strict=True)):
            painter.fillRect(QRectF(left + place * step, 2, step - 1, 13), QColor(*colour))
            words = "fits" if stop == 0 else f"{int(stop):+d}".replace("-", "−")
            if place == len(STOPS) - 1:
                words += " or more"
            elif place == 0:
                words += " or less"
            painter.setPen(QColor(now.ink))
            painter.drawText(QRectF(left + place * step - 20, 17, step + 40, 14), Qt.AlignmentFlag.AlignHCenter, words)
        if self._value is not None and not isnan(self._value):
            held = min(max(self._value, STOPS[0] - 0.5), STOPS[-1] + 0.49)
            x = left + (held - STOPS[0] + 0.5) * step
            painter.setBrush(QColor(now.ink))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawPolygon([QPointF(x - 5, 0), QPointF(x + 5, 0), QPointF(x, 7)])
        painter.end()
