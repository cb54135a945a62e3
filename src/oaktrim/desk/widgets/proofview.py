"""Ground of the views that prove what is no picture: words in its place until it is there, and a painter ready to draw it."""

from __future__ import annotations

from typing import Generic, TypeVar

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QFont, QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.desk.look.tokens import tokens

Proof = TypeVar("Proof")


class ProofView(QWidget, Generic[Proof]):
    """Shows a proof, or words in its place; what is shown is painted by `paint_proof`."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.proof: Proof | None = None
        self.images: list[QImage] = []
        self._words = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(name)

    def minimumSizeHint(self) -> QSize:
        return QSize(420, 260)

    def say(self, words: str) -> None:
        """Show words in the place of a proof."""
        self.proof, self._words, self.images = None, words, []
        self.setAccessibleDescription(words)
        self.update()

    def take(self, proof: Proof, images: list[QImage], description: str) -> None:
        """Show a proof with its pictures."""
        self.proof, self.images, self._words = proof, images, ""
        self.setAccessibleDescription(description)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), QColor(now.linen))
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        if self.proof is None:
            painter.setPen(QColor(now.soft))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._words)
        else:
            self.paint_proof(painter, self.proof)
        painter.end()

    def paint_proof(self, painter: QPainter, proof: Proof) -> None:
        """Paint what is shown.

        Raises
        ------
        NotImplementedError : by this ground itself
        """
        raise NotImplementedError
