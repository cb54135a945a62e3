"""What the window shows while nothing is open: what it is for, and the keys that start it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.desk.look.icons import icon


class Welcome(QWidget):
    """One key to open a folder, and what was opened lately.

    Signals
    -------
    folder_wanted : a folder is to be asked for
    chosen : a path that was opened before
    """

    folder_wanted = Signal()
    chosen = Signal(Path)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        column = QVBoxLayout(self)
        column.addStretch(2)
        column.addWidget(
            QLabel("What does your art weigh?", objectName="title", alignment=Qt.AlignmentFlag.AlignCenter)
        )
        words = QLabel(
            "Open the folder that holds a game's textures: Oak Trim reads it, weighs it against each target's "
            "limits,\nand changes nothing in it. Or drop a folder or a job here.",
            objectName="soft",
            alignment=Qt.AlignmentFlag.AlignCenter,
        )
        column.addWidget(words)
        opener = QPushButton("Open a folder…", objectName="primary")
        opener.clicked.connect(self.folder_wanted)
        self._recent = QVBoxLayout()
        column.addSpacing(12)
        column.addWidget(opener, alignment=Qt.AlignmentFlag.AlignCenter)
        column.addSpacing(12)
        column.addLayout(self._recent)
        column.addStretch(3)

    def show_recent(self, rows: list[str]) -> None:
        """Offer paths that were opened before."""
        while self._recent.count():
            item = self._recent.takeAt(0)
            if item.widget() is not None:
                item.widget().deleteLater()
        for row in rows:
            key = QPushButton(row, icon=icon("folder"))
            key.setObjectName("plain")
            key.clicked.connect(partial(lambda path, _=False: self.chosen.emit(path), Path(row)))
            self._recent.addWidget(key, alignment=Qt.AlignmentFlag.AlignCenter)
