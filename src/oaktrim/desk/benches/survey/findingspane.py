"""The findings pane: kinds of findings with their counts, what one means here, where it shows, and its fix for all of them."""

from __future__ import annotations

from collections import defaultdict

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.plan.checks import label_of
from oaktrim.core.plan.cuts import Change, Cut
from oaktrim.core.plan.verdict import change_of
from oaktrim.core.survey.findings.finding import Finding, Remedy, Severity
from oaktrim.core.survey.findings.marked import marked
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.models.thumbnails import Thumbnails
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.faultstrip import PICTURE, FaultStrip, Faulty
from oaktrim.desk.widgets.tables import right_heads

# What makers fix, and the key that opens their bench.
_MADE = {
    Remedy.PATCH: "Open in Channels",
    Remedy.PACK: "Open in Channels",
    Remedy.ATLAS: "Open in Atlas",
    Remedy.IMPOSTER: "Open in Imposters",
    Remedy.SURFACE: "Open in Surface",
}
_SIGNS = {Severity.ERROR: "▲ error", Severity.WARNING: "! warning", Severity.NOTE: "· note"}


class FindingsPane(QWidget):
    """A row for each kind of finding; choosing one filters the ledger to what has it.

    Signals
    -------
    kind_chosen : the code of a kind, empty for none
    maker_wanted : a remedy that a maker does, on what is selected now
    """

    kind_chosen = Signal(str)
    maker_wanted = Signal(object)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._groups: dict[str, list[Finding]] = {}
        self.kinds = with_properties(QTableWidget(0, 4), accessibleName="Kinds of findings")
        self._words = QLabel(wordWrap=True, textFormat=Qt.TextFormat.PlainText)
        self._words.setAccessibleName("What the findings say")
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.strip = FaultStrip()
        self._pictures = Thumbnails(session.cache, self, PICTURE)
        self.fix = with_properties(QPushButton("Fix"), objectName="primary")
        self.suppressing = with_properties(
            QPushButton("Suppress…"), toolTip="This finding does not count on these files; the job keeps the reason"
        )
        self.restore = with_properties(QPushButton("Restore"), toolTip="These findings count again")
        self.show_suppressed = with_properties(QPushButton(), checkable=True)
        self.fix.clicked.connect(self._fix)
        self.suppressing.clicked.connect(self._ask_reason)
        self.restore.clicked.connect(self._restore)
        self.show_suppressed.toggled.connect(lambda _: self.refresh())
        self.strip.chosen.connect(self._picture_chosen)
        self._pictures.ready.connect(lambda _: self._show_pictures())
        self._build()
        session.findings_changed.connect(self.refresh)
        session.selection_changed.connect(self._say)
        session.opened.connect(self._use)

    def _build(self) -> None:
        table = self.kinds
        table.setHorizontalHeaderLabels(["Finding", "", "Files", "At stake"])
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        right_heads(table, (2, 3))
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(24)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setShowGrid(False)
        table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column, width in ((1, 78), (2, 46), (3, 76)):
            table.setColumnWidth(column, width)
        table.itemSelectionChanged.connect(self._chosen)
        table.setMinimumWidth(360)
        keys = QHBoxLayout()
        for key in (self.fix, self.suppressing, self.restore):
            keys.addWidget(key)
        keys.addStretch(1)
        keys.addWidget(self.show_suppressed)
        right = QVBoxLayout()
        right.setContentsMargins(12, 4, 12, 6)
        right.addWidget(self._words, 1)
        right.addWidget(self.strip)
        right.addLayout(keys)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(table, 5)
        row.addLayout(right, 6)

    @property
    def code(self) -> str:
        """The kind that is chosen; empty for none."""
        rows = self.kinds.selectionModel().selectedRows()
        return self._code_at(rows[0].row()) if rows else ""

    def _code_at(self, row: int) -> str:
        item = self.kinds.item(row, 0)
        return "" if item is None else str(item.data(Qt.ItemDataRole.UserRole))

    def refresh(self) -> None:
        """Show what is wrong now, the gravest first."""
        groups: dict[str, list[Finding]] = defaultdict(list)
        quiet = len(self._session.job.suppressed) if self._session.history is not None else 0
        with QSignalBlocker(self.show_suppressed):
            self.show_suppressed.setText(f"Show suppressed ({quiet})")
            self.show_suppressed.setVisible(quiet > 0)
            self.show_suppressed.setChecked(self.show_suppressed.isChecked() and quiet > 0)
        for finding in self._suppressed() if self.show_suppressed.isChecked() else self._session.findings():
            groups[finding.code].append(finding)
        kept = self.code
        self._groups = dict(groups)
        grave, stake = list(Severity), {code: sum(f.bytes for f in rows) for code, rows in groups.items()}
        order = sorted(groups, key=lambda code: (grave.index(groups[code][0].severity), -stake[code]))
        with QSignalBlocker(self.kinds):
            self.kinds.setRowCount(len(order))
            for row, code in enumerate(order):
                severity = groups[code][0].severity
                count = len({f.path for f in groups[code]})
                cells = (label_of(code), _SIGNS[severity], str(count), bytes_text(stake[code]) if stake[code] else "")
                for column, text in enumerate(cells):
                    item = QTableWidgetItem(text)
                    item.setData(Qt.ItemDataRole.UserRole, code)
                    right = Qt.AlignmentFlag.AlignRight if column > 1 else Qt.AlignmentFlag.AlignLeft
                    item.setTextAlignment(right | Qt.AlignmentFlag.AlignVCenter)
                    self.kinds.setItem(row, column, item)
            if kept in order:
                self.kinds.selectRow(order.index(kept))
        self._say()
        if kept and kept not in order:
            self.kind_chosen.emit("")

    def _suppressed(self) -> list[Finding]:
        """Return what does not count in this job, with the reason in the place of the message."""
        session, rows = self._session, self._session.job.suppressed
        return [Finding(r.code, Severity.NOTE, r.path, r.reason, 0, "", session.watched_id) for r in rows]

    def choose(self, code: str) -> None:
        """Choose a kind, or none."""
        for row in range(self.kinds.rowCount()):
            if self._code_at(row) == code:
                self.kinds.selectRow(row)
                return
        self.kinds.clearSelection()

    def _chosen(self) -> None:
        self._say()
        self.kind_chosen.emit(self.code)

    def _meant(self) -> list[Finding]:
        """The findings of the chosen kind on what is selected, or on everything where nothing of it is."""
        rows = self._groups.get(self.code, [])
        if not rows or len(self._session.selected) < 2:
            return rows
        selected = {self._session.asset_path(asset) for asset in self._session.selected}
        return [f for f in rows if f.path in selected] or rows

    def _say(self) -> None:
        session, listed = self._session, self.show_suppressed.isChecked()
        rows, meant = self._groups.get(self.code, []), self._meant()
        self._show_pictures()
        self.suppressing.setVisible(bool(rows) and not listed)
        self.restore.setVisible(bool(rows) and listed)
        if not rows:
            total = sum(len(found) for found in self._groups.values())
            self._words.setText(
                f"{total} findings on {session.watched.name}. Choose a kind to see what has it, why it matters there, and "
                "how to fix it."
                if total
                else "Nothing is wrong."
                if session.is_open
                else ""
            )
        else:
            first = {session.asset_path(a) for a in session.selected[:1]}
            shown = next((f for f in rows if f.path in first), rows[0])
            said = f"suppressed: {shown.message}" if listed else f"{shown.message}. What to do: {shown.remedy}."
            self._words.setText(f"{shown.path}\n{said}")
        changes = {id(f): change_of(f.fix) for f in meant}
        can = [f for f in meant if changes[id(f)] is not None]
        files = len({f.path for f in can})
        self.fix.setText("Fix" if files == 1 else f"Fix all {files}")
        self.fix.setEnabled(bool(can))
        maker = self._maker()
        self.fix.setVisible(bool(rows) and not listed and (bool(can) or maker is not None))
        if not can and maker is not None:
            self.fix.setText(_MADE[maker])
            self.fix.setEnabled(True)

    def _show_pictures(self) -> None:
        """Show the pictures that have it, what is selected first."""
        inventory = self._session.inventory
        if inventory is None or not self.isVisible() or not self.code:
            self.strip.setVisible(False)
            return
        files = [
            path for path in dict.fromkeys(f.path for f in self._groups.get(self.code, [])) if path in self._rows()
        ]
        self.strip.setVisible(bool(files))
        rows = []
        for path in files[: self.strip.room]:
            row = inventory.row_of[path]
            codes = self._pictures.codes_of(row)
            picture = None if codes is None else marked(self.code, inventory.textures[row], codes)
            rows.append(Faulty(inventory.names[row], path, picture))
        self.strip.show_faulty(rows, len(files))

    def _use(self) -> None:
        assert self._session.inventory is not None
        self._pictures.use(self._session.inventory)
        self.refresh()

    def _picture_chosen(self, path: str) -> None:
        if path in self._rows():
            self._session.select((self._rows()[path],))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_pictures()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._show_pictures()

    def stop(self) -> None:
        """Make no more pictures."""
        self._pictures.stop()

    def _rows(self) -> dict[str, int]:
        return self._session.inventory.row_of if self._session.inventory is not None else {}

    def _maker(self) -> Remedy | None:
        """Return the remedy of what is meant that a maker does."""
        kinds = [f.fix.kind for f in self._meant() if f.fix is not None and f.fix.kind in _MADE]
        return kinds[0] if kinds else None

    def _fix(self) -> None:
        """Make the cuts that fix what is meant, as one edit on the watched target, or open the maker that does."""
        kind = self._maker()
        if kind is not None:
            session = self._session
            places = {session.asset_path(asset): asset for asset in range(session.asset_count)}
            session.select(tuple(dict.fromkeys(places[f.path] for f in self._meant() if f.path in places)))
            self.maker_wanted.emit(kind)
            return
        session, wanted = self._session, defaultdict[Change, list[str]](list)
        for finding in self._meant():
            change = change_of(finding.fix)
            if change is not None:
                wanted[change].append(finding.path)
        job = session.job
        for change, paths in wanted.items():
            job = job.with_cut(Cut(change, tuple(dict.fromkeys(paths)), (session.watched_id,)))
        if wanted:
            session.edit(job, f"fix {label_of(self.code).lower()}")

    def _ask_reason(self) -> None:
        paths = tuple(dict.fromkeys(f.path for f in self._meant()))
        words = f"Suppress “{label_of(self.code)}” on {len(paths)} file{'' if len(paths) == 1 else 's'}, because:"
        reason, said = QInputDialog.getText(self, "Suppress", words)
        if said and reason.strip():
            self.suppress(reason.strip())

    def suppress(self, reason: str) -> None:
        """Have the chosen kind not count on what is meant."""
        code, paths = self.code, tuple(dict.fromkeys(f.path for f in self._meant()))
        self._session.edit(
            self._session.job.with_suppression(code, paths, reason), f"suppress {label_of(code).lower()}"
        )

    def _restore(self) -> None:
        """Have what is meant count again."""
        job, meant = self._session.job, self._meant()
        for finding in meant:
            job = job.without_suppression(finding.code, finding.path)
        self._session.edit(job, f"restore {label_of(self.code).lower()}")
