"""What an upload by the watched target's own rules makes of the picture, beside a cut here of the same size."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.proof.rehearse import Rehearsal
from oaktrim.core.units import size_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.terms import JND_TIP

_SIDE = 88


def pixmap_of(image: Image) -> QPixmap:
    """Return a picture as the window paints it."""
    codes = np.ascontiguousarray(to_rgba(image))
    height, width = codes.shape[:2]
    picture = QImage(codes.data, width, height, 4 * width, QImage.Format.Format_RGBA8888)
    return QPixmap.fromImage(picture.copy())


class UploadPane(QWidget):
    """A button that rehearses, and what came of it.

    Signals
    -------
    wanted : the upload is to be rehearsed
    """

    wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.key = with_properties(
            QPushButton("Rehearse"), toolTip="Make it as the target's own rules would, and as a cut of the same size"
        )
        self.words = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="What the upload makes of it"
        )
        self._pictures = QWidget()
        grid = QGridLayout(self._pictures)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(3)
        self._cells = [with_properties(QLabel(), objectName="cell") for _ in range(2)]
        self.errors = [with_properties(QLabel(), objectName="caption", toolTip=JND_TIP) for _ in range(2)]
        for place, (cell, error) in enumerate(zip(self._cells, self.errors, strict=True)):
            cell.setFixedSize(QSize(_SIDE, _SIDE))
            grid.addWidget(cell, 0, place)
            grid.addWidget(error, 1, place)
        top = QHBoxLayout()
        top.addWidget(with_properties(QLabel("As an upload"), objectName="heading"), 1)
        top.addWidget(self.key)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(top)
        column.addWidget(self.words)
        column.addWidget(self._pictures)
        self._pictures.setVisible(False)
        self.key.clicked.connect(self.wanted)

    def forget(self) -> None:
        """Show nothing: the picture is another one."""
        self._pictures.setVisible(False)
        self.words.setText("")

    def say(self, words: str) -> None:
        """Say what is under way, or why nothing came of it."""
        self._pictures.setVisible(False)
        self.words.setText(words)

    def show_rehearsal(self, found: Rehearsal, target: str) -> None:
        """Show what came of it."""
        size = size_text(*found.becomes)
        what = f"{size_text(*found.sent)} becomes {size}" if found.changed else f"{size} stays"
        enough = f" {found.advised} is enough." if found.advised else " No smaller size goes unnoticed."
        self.words.setText(f"{target}: {what}, {FORMATS[found.format].label}.{enough}")
        for cell, error, trial, name in (
            (self._cells[0], self.errors[0], found.upload, "upload"), (self._cells[1], self.errors[1], found.by_hand, "cut here"),
        ):  # fmt: skip
            picture = pixmap_of(trial.shipped())
            cell.setPixmap(
                picture.scaled(
                    QSize(_SIDE, _SIDE), Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
                )
            )
            error.setText(f"{name} {trial.quality.jnd:.2f} JND")
        self._pictures.setVisible(True)
