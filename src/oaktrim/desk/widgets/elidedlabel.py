"""A label that ends in an ellipsis where it has no room, with all of its text in the tooltip."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QSize, Qt
from PySide6.QtGui import QHelpEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel, QToolTip


class ElidedLabel(QLabel):
    """One line of text."""

    def minimumSizeHint(self) -> QSize:
        return QSize(30, super().minimumSizeHint().height())

    def _shown(self) -> str:
        return self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip and self._shown() != self.text():
            QToolTip.showText(event.globalPos(), "\n".join(filter(None, (self.text(), self.toolTip()))), self)
            return True
        return super().event(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self._shown())
        painter.end()
