"""The dark foot: the cut list of the job, its totals, undo and redo, and the way to shipping."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.units import bytes_text
from oaktrim.desk.look.icons import icon
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.historystrip import HistoryStrip


class CutList(QWidget):
    """A line of totals that opens into the list of cuts."""

    ship_wanted = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.list = QListWidget()
        self.list.setAccessibleName("Cuts of the job")
        self.list.setFixedHeight(168)
        self.list.hide()
        self.list.itemDoubleClicked.connect(self._select_assets)
        foot = with_properties(QFrame(), objectName="foot")
        row = QHBoxLayout(foot)
        row.setContentsMargins(14, 7, 14, 7)
        row.setSpacing(8)
        self.opener = with_properties(QPushButton("Cut list"), checkable=True, toolTip="Show the cuts (Ctrl+L)")
        self.opener.toggled.connect(self.list.setVisible)
        self.opener.toggled.connect(self._show_remove)
        self.words = QLabel()
        self.remove = with_properties(QPushButton("Remove cut"), visible=False)
        self.remove.clicked.connect(self._remove)
        self.strip = HistoryStrip(session.total_at, self.state_words)
        self.strip.wanted.connect(session.go_to)
        self.undo = QPushButton("Undo")
        self.redo = QPushButton("Redo")
        self.ship = with_properties(QPushButton("Ship"), objectName="primary")
        self.undo.clicked.connect(session.undo)
        self.redo.clicked.connect(session.redo)
        self.ship.clicked.connect(self.ship_wanted)
        row.addWidget(self.opener)
        row.addWidget(self.words, 1)
        row.addWidget(self.strip)
        for button in (self.remove, self.undo, self.redo, self.ship):
            row.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.list)
        column.addWidget(foot)
        self.list.itemSelectionChanged.connect(self._show_remove)
        session.job_changed.connect(self.refresh)
        session.plans_changed.connect(self._say_totals)
        session.watched_changed.connect(self.strip.update)
        self.dress()
        self.refresh()

    def dress(self) -> None:
        """Paint the icons in the theme in use."""
        for button, name in ((self.undo, "undo"), (self.redo, "redo"), (self.remove, "remove")):
            button.setIcon(icon(name, tokens().foot_text))

    def refresh(self) -> None:
        """Show the cuts as they now are."""
        session = self._session
        history = session.history
        if history is not None:
            self.strip.show_states(len(history.states), history.at)
        self.undo.setEnabled(history is not None and history.undo_name is not None)
        self.redo.setEnabled(history is not None and history.redo_name is not None)
        if history is None:
            self.words.setText("Open a folder or a job to begin.")
            self.ship.setEnabled(False)
            return
        self.ship.setEnabled(True)
        self.undo.setToolTip(f"Undo {history.undo_name} (Ctrl+Z)" if history.undo_name else "")
        self.redo.setToolTip(f"Redo {history.redo_name} (Ctrl+Shift+Z)" if history.redo_name else "")
        kept = self.list.currentRow()
        self.list.clear()
        names = {target.id: target.name for target in session.targets}
        for place, cut in enumerate(session.job.cuts, 1):
            where = ", ".join(names.get(t, t) for t in cut.targets) or "all targets"
            item = QListWidgetItem(f"{place}.  {cut.label}  ·  {where}")
            item.setToolTip("\n".join(cut.assets[:24]) + ("\n…" if len(cut.assets) > 24 else ""))
            self.list.addItem(item)
        self.list.setCurrentRow(min(kept, self.list.count() - 1))
        self._say_totals()
        self._show_remove()

    def state_words(self, state: int) -> str:
        session = self._session
        history = session.history
        assert history is not None
        edit = history.edits[state - 1] if state else "as it was opened"
        return f"{edit}\n{bytes_text(session.total_at(state))} on {session.watched.name}; click to return here"

    def _say_totals(self) -> None:
        session = self._session
        if not session.is_open or session.trying:
            return
        count = len(session.job.cuts)
        if not count:
            self.words.setText("No cuts yet: select textures and move a control.")
            return
        parts = [f"{count} cut{'' if count == 1 else 's'}"]
        parts += [f"{bytes_text(session.saved_by_cuts(target))} off {target.name}" for target in session.targets]
        self.words.setText("  ·  ".join(parts))

    def _show_remove(self) -> None:
        self.remove.setVisible(self.opener.isChecked() and self.list.currentRow() >= 0)

    def _remove(self) -> None:
        if self.list.currentRow() >= 0:
            self._session.remove_cut(self.list.currentRow())

    def _select_assets(self) -> None:
        inventory = self._session.inventory
        if inventory is not None and self.list.currentRow() >= 0:
            rows = inventory.rows(self._session.job.cuts[self.list.currentRow()].assets)
            self._session.select(tuple(int(row) for row in rows))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.list.hasFocus():
            self._remove()
        else:
            super().keyPressEvent(event)
