"""The dark foot: the cut list of the job, its totals, undo and redo, and the way to shipping."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.targets.lines import LINES
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.icons import icon
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.historystrip import HistoryStrip
from oaktrim.desk.widgets.tables import right_heads

_HEADS = ("", "Cut", "On", "Targets", "Saves")
_SAVES = 4
_HEAD, _ROW, _ROWS = 28, 24, 5


class CutList(QWidget):
    """A line of totals that opens into the list of cuts.

    Signals
    -------
    edit_wanted : place of a cut
    """

    edit_wanted = Signal(int)
    ship_wanted = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.list = with_properties(QTableWidget(0, len(_HEADS)), accessibleName="Cuts of the job")
        self._shown: object = None
        self._weighing = QTimer(self, interval=0)
        self._weighing.timeout.connect(self._weigh_next)
        self._unweighed: list[int] = []
        self._build_list()
        foot = with_properties(QFrame(), objectName="foot")
        row = QHBoxLayout(foot)
        row.setContentsMargins(14, 7, 14, 7)
        row.setSpacing(8)
        self.opener = with_properties(QPushButton("Cut list"), checkable=True, toolTip="Show the cuts (Ctrl+L)")
        self.opener.toggled.connect(self.list.setVisible)
        self.opener.toggled.connect(lambda _: self._opened())
        self.words = QLabel()
        self.edit = with_properties(
            QPushButton("Edit"), visible=False, toolTip="Select what the cut is on, and go to its control (Enter)"
        )
        self.remove = with_properties(QPushButton("Remove"), visible=False, toolTip="Remove the cut (Delete)")
        self.edit.clicked.connect(self._edit)
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
        for button in (self.edit, self.remove, self.undo, self.redo, self.ship):
            row.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.list)
        column.addWidget(foot)
        session.job_changed.connect(self.refresh)
        session.plans_changed.connect(self._say_totals)
        session.watched_changed.connect(self.strip.update)
        self.dress()
        self.refresh()

    def _build_list(self) -> None:
        table = self.list
        table.setHorizontalHeaderLabels(list(_HEADS))
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        table.horizontalHeader().setFixedHeight(_HEAD)
        right_heads(table, (_SAVES,))
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(_ROW)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setShowGrid(False)
        table.setTabKeyNavigation(False)
        table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        for column, width in ((0, 28), (1, 240), (3, 230), (_SAVES, 92)):
            table.setColumnWidth(column, width)
        table.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerItem)
        table.setFixedHeight(_HEAD + _ROWS * _ROW)
        table.hide()
        table.itemDoubleClicked.connect(lambda _: self._edit())
        table.itemChanged.connect(self._switched)
        table.itemSelectionChanged.connect(self._show_keys)

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
        self._fill()
        self._say_totals()
        self._show_keys()

    def _fill(self) -> None:
        """Write the rows anew where the cuts are others; the row that is marked stays, or the newest is."""
        session = self._session
        cuts = session.job.cuts
        if self._shown is not None and self._shown == cuts:
            return
        kept, grown = self.list.currentRow(), len(cuts) > self.list.rowCount()
        self._shown = cuts
        names = {target.id: target.name for target in session.targets}
        with QSignalBlocker(self.list):
            self.list.setRowCount(len(cuts))
            for place, cut in enumerate(cuts):
                where = ", ".join(names.get(t, t) for t in cut.targets) or "all targets"
                tip = "\n".join(cut.assets[:24]) + ("\n…" if len(cut.assets) > 24 else "")
                for column, text in enumerate(("", cut.change.label, cut.subject, where, "")):
                    item = QTableWidgetItem(text)
                    item.setToolTip(tip)
                    if not cut.enabled:
                        item.setForeground(QColor(tokens().soft))
                    if column == 0:
                        item.setCheckState(Qt.CheckState.Checked if cut.enabled else Qt.CheckState.Unchecked)
                        item.setToolTip("The cut counts, or is only kept")
                    self.list.setItem(place, column, item)
            row = len(cuts) - 1 if grown or kept < 0 else min(kept, len(cuts) - 1)
            self.list.setCurrentCell(row, 1)
        marked = self.list.item(row, 1)
        if marked is not None:
            self.list.scrollToItem(marked)

    def _opened(self) -> None:
        self._show_keys()
        self._weigh()

    # What each cut saves is weighed while the list is open, one a turn of the event loop

    def _weigh(self) -> None:
        self._unweighed = list(range(self.list.rowCount()))[::-1] if self.opener.isChecked() else []
        if self._unweighed:
            self._weighing.start()

    def _weigh_next(self) -> None:
        session = self._session
        if not self._unweighed or session.trying or session.history is None:
            self._weighing.stop()
            return
        place = self._unweighed.pop(0)
        item = self.list.item(place, _SAVES)
        if item is not None and place < len(session.job.cuts):
            target, (line, saved) = session.measured_on(place), session.saved_by_cut(place)
            with QSignalBlocker(self.list):
                known = "…" if saved is None else bytes_text(saved)
                item.setText(known if session.job.cuts[place].enabled else "off")
                item.setToolTip(f"{LINES[line].label.capitalize()} that comes back on {target.name} without this cut")
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)

    def _switched(self, item: QTableWidgetItem) -> None:
        place, on = item.row(), item.checkState() is Qt.CheckState.Checked
        if item.column() == 0 and self._session.job.cuts[place].enabled is not on:
            self._session.enable_cut(place, on)

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
        self._weigh()
        count = len(session.job.cuts)
        if not count:
            self.words.setText("No cuts yet: select textures and move a control.")
            return
        parts = [f"{count} cut{'' if count == 1 else 's'}"]
        parts += [f"{bytes_text(session.saved_by_cuts(target))} off {target.name}" for target in session.targets]
        self.words.setText("  ·  ".join(parts))

    def _show_keys(self) -> None:
        shown = self.opener.isChecked() and self.list.currentRow() >= 0
        self.edit.setVisible(shown)
        self.remove.setVisible(shown)

    def _remove(self) -> None:
        if self.list.currentRow() >= 0:
            self._session.remove_cut(self.list.currentRow())

    def _edit(self) -> None:
        if self._session.is_open and self.list.currentRow() >= 0:
            self.edit_wanted.emit(self.list.currentRow())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, place = event.key(), self.list.currentRow()
        if not self.list.hasFocus() or place < 0:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self._remove()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._edit()
        else:
            super().keyPressEvent(event)
