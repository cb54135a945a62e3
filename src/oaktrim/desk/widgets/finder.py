"""The finder: Ctrl+K finds assets and actions by what they are called."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLabel, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from oaktrim.desk.look.properties import with_properties

_MOST = 60


@dataclass(frozen=True)
class Findable:
    """Something that can be found: its name, a word on what it is, and what happens."""

    name: str
    what: str
    act: Callable[[], object]


def ranked(wanted: str, rows: list[Findable]) -> list[Findable]:
    """Return what holds every word that was typed, names that begin with them first."""
    words = wanted.lower().split()
    hits = [row for row in rows if all(word in row.name.lower() for word in words)]

    def place(row: Findable) -> tuple[bool, bool, int]:
        name = row.name.lower()
        stem = name.rsplit("/", 1)[-1]
        starts = bool(words) and (name.startswith(words[0]) or stem.startswith(words[0]))
        return (not starts, row.what == "texture", len(name))

    return sorted(hits, key=place)[:_MOST]


class Finder(QDialog):
    """A line to type in and what it finds below; Enter does it."""

    def __init__(self, rows: list[Findable], parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("finder")
        self._rows = rows
        self.line = QLineEdit(placeholderText="Find a texture or an action")
        self.line.setAccessibleName("Find a texture or an action")
        self.list = QListWidget()
        self.list.setAccessibleName("Found")
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.addWidget(self.line)
        column.addWidget(self.list)
        self.nothing = with_properties(QLabel(wordWrap=True), visible=False, accessibleName="What was not found")
        column.addWidget(self.nothing)
        self.line.textChanged.connect(self._find)
        self.line.installEventFilter(self)
        self.list.itemActivated.connect(lambda _: self._do())
        self.list.itemClicked.connect(lambda _: self._do())
        self._found: list[Findable] = []
        self._find("")

    def _find(self, wanted: str) -> None:
        self._found = ranked(wanted, self._rows)
        self.list.clear()
        for row in self._found:
            self.list.addItem(QListWidgetItem(f"{row.name}   —   {row.what}"))
        self.list.setCurrentRow(0)
        self.list.setVisible(bool(self._found))
        self.nothing.setVisible(not self._found)
        self.nothing.setText(
            f"Nothing is called “{wanted}”: no texture, no folder, no action. All words must occur in the name."
        )

    def _do(self) -> None:
        place = self.list.currentRow()
        if 0 <= place < len(self._found):
            act = self._found[place].act
            self.close()
            act()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            steps = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}
            key = Qt.Key(event.key())
            if key in steps:
                place = self.list.currentRow() + steps[key]
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, place)))
                return True
            if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._do()
                return True
        return super().eventFilter(watched, event)
