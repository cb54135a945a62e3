"""What the window shows while nothing is open: what it is for, and the keys that start it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.desk.look.icons import icon
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties


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
            with_properties(
                QLabel("What does your art weigh?", alignment=Qt.AlignmentFlag.AlignCenter), objectName="title"
            )
        )
        words = with_properties(
            QLabel(
                "Open the folder that holds a game's textures: Oak Trim reads it, weighs it against each target's "
                "limits,\nand changes nothing in it. Or drop a folder or a job here.",
                alignment=Qt.AlignmentFlag.AlignCenter,
            ),
            objectName="soft",
        )
        column.addWidget(words)
        opener = with_properties(QPushButton("Open a folder…"), objectName="primary")
        opener.clicked.connect(self.folder_wanted)
        self._recent = QVBoxLayout()
        column.addSpacing(12)
        column.addWidget(opener, alignment=Qt.AlignmentFlag.AlignCenter)
        column.addSpacing(12)
        column.addLayout(self._recent)
        column.addStretch(3)

    def show_recent(self, rows: list[str]) -> None:
        """Offer paths that were opened before."""
        clear_layout(self._recent)
        for row in rows:
            key = with_properties(QPushButton(row), icon=icon("folder"))
            key.setObjectName("plain")
            key.clicked.connect(partial(lambda path, _=False: self.chosen.emit(path), Path(row)))
            self._recent.addWidget(key, alignment=Qt.AlignmentFlag.AlignCenter)
