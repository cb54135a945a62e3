"""What F1 shows: every action with its shortcut, and what hands can do in pictures, tables and lanes."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QDialog, QFrame, QGridLayout, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from oaktrim.desk.look.properties import with_properties

_MANNERS = (
    ("In a picture", "wheel zooms, drag pans, 0 fits, 1 shows pixels, Shift+arrows move the split"),
    ("In the ledger", "Ctrl+C copies rows as tab-separated text; Ctrl+V pastes a column of values; heads sort"),
    ("In planks", "arrows walk, Enter zooms in, Backspace out; a board chooses what lies under it"),
    ("In packs", "drop a picture on a lane; an edit is on every selected row"),
    ("In patches", "arrows move the rectangle, Shift+arrows resize it, with Ctrl by 16 pixels; C shows it large"),
    ("In a scene", "drag orbits, wheel goes nearer, W A S D fly, F shows all of it again"),
)


class HelpPanel(QDialog):
    """Two columns: actions with their shortcuts, and the manners of the widgets."""

    def __init__(self, actions: Mapping[str, QAction], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Shortcuts")
        rows = [
            (action.shortcut().toString(QKeySequence.SequenceFormat.NativeText), name)
            for name, action in actions.items()
            if not action.shortcut().isEmpty()
        ]
        whole = with_properties(QWidget(), objectName="sheet")
        whole.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        across = QHBoxLayout(whole)
        across.setContentsMargins(20, 14, 20, 14)
        across.setSpacing(32)
        across.addLayout(_column("Actions", rows))
        across.addLayout(_column("By hand", list(_MANNERS), wrapped=True))
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setWidget(whole)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(scroll)
        self.resize(820, 560)


def _column(title: str, rows: list[tuple[str, str]], wrapped: bool = False) -> QVBoxLayout:
    column, grid = QVBoxLayout(), QGridLayout()
    column.addWidget(with_properties(QLabel(title), objectName="heading"))
    grid.setHorizontalSpacing(16)
    grid.setVerticalSpacing(6)
    for place, (key, words) in enumerate(rows):
        # What is looked for stands at the left: a key, or a place.
        grid.addWidget(with_properties(QLabel(key), objectName="key"), place, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(QLabel(words, wordWrap=wrapped), place, 1, Qt.AlignmentFlag.AlignTop)
    grid.setColumnStretch(1, 1)
    column.addLayout(grid)
    column.addStretch(1)
    return column
