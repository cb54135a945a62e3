"""The outfits pane: parts of models that need not all be there, what each costs, and leaving them out of the watched target."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.job.document import Job
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.modelcuts import LeaveOut
from oaktrim.core.plan.outfits import Outfit, outfits_of, saved_without
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.elidedlabel import ElidedLabel
from oaktrim.desk.widgets.tables import right_heads
from oaktrim.desk.work.tasks import Work, start

_HEADS = ("Part", "Of", "Kind", "Triangles", "Draws", "Own textures", "Shared", "Memory", "Package", "Ships")
_FIGURES = (3, 4, 5, 6, 7, 8)
_LINES = ("memory", "package")
_MOST = 400


class OutfitsPane(QWidget):
    """A table of nodes, variants and scenes, those that save most first."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._rows: list[tuple[Outfit, dict[str, int]]] = []
        self._work: Work | None = None
        self._key: tuple[object, ...] = ()
        self.pattern = QLineEdit(placeholderText="Name or pattern: coat*", clearButtonEnabled=True)
        self.pattern.setAccessibleName("Which parts are listed")
        self.leave = with_properties(
            QPushButton("Leave out"), toolTip="Do not ship these parts on the watched target, nor what only they wear"
        )
        self.keep = with_properties(QPushButton("Ship again"), toolTip="Ship these parts on the watched target again")
        self.words = with_properties(ElidedLabel(), objectName="soft")
        self.table = with_properties(QTableWidget(0, len(_HEADS)), accessibleName="Parts of models")
        self._build()
        self.pattern.textChanged.connect(self.refresh)
        self.leave.clicked.connect(lambda: self._cut(True))
        self.keep.clicked.connect(lambda: self._cut(False))
        self.table.itemSelectionChanged.connect(self._show_keys)
        for signal in (session.opened, session.plans_changed, session.watched_changed):
            signal.connect(self.refresh)

    def _build(self) -> None:
        top = QHBoxLayout()
        top.setContentsMargins(12, 2, 12, 2)
        top.setSpacing(6)
        self.pattern.setFixedWidth(200)
        self.words.setMinimumWidth(20)
        top.addWidget(self.pattern)
        top.addWidget(self.words, 1)
        top.addWidget(self.leave)
        top.addWidget(self.keep)
        table = self.table
        table.setHorizontalHeaderLabels(list(_HEADS))
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        right_heads(table, _FIGURES)
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(24)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setShowGrid(False)
        table.setTabKeyNavigation(False)
        table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for place, width in ((1, 120), (2, 64), (3, 74), (4, 58), (5, 96), (6, 62), (7, 82), (8, 82), (9, 74)):
            table.setColumnWidth(place, width)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(table, 1)

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    def refresh(self) -> None:
        """List the parts that fit, and weigh each beside the window."""
        session = self._session
        if not session.is_open or session.trying or not self.isVisible():
            return
        plan, job, planner = session.plan(), session.job, session.planner()
        text = self.pattern.text().strip()
        pattern = text if any(sign in text for sign in "*?") else f"*{text}*"
        key = (id(plan), pattern)
        if key == self._key:
            return
        self._key = key
        if self._work is not None:
            self._work.cancel()

        def planned(cuts: Sequence[Cut]) -> Plan:
            other: Job = _with_cuts(job, cuts)
            return planner.plan_of(other, plan.target)

        def weigh() -> Task[list[tuple[Outfit, dict[str, int]]]]:
            outfits, found = outfits_of(plan, pattern)[:_MOST], []
            for done, outfit in enumerate(outfits):
                yield Progress(done, len(outfits), "weighing parts")
                found.append((outfit, saved_without(plan, outfit, _LINES, planned)))
            return sorted(found, key=lambda row: (-row[1]["memory"], row[0].path))

        self._work = start(weigh(), self, lambda found: self._show(key, found), session.failed.emit)

    def _show(self, key: tuple[object, ...], found: list[tuple[Outfit, dict[str, int]]]) -> None:
        if key != self._key:
            return
        chosen = {self._rows[row.row()][0].path for row in self.table.selectionModel().selectedRows()}
        self._rows = found
        self.table.setRowCount(len(found))
        for line, (outfit, saved) in enumerate(found):
            model = outfit.path.partition("#")[0].rsplit("/", 1)[-1]
            cells = (
                outfit.name, model, outfit.kind, f"{outfit.triangles:,}", str(outfit.draws), str(len(outfit.alone)),
                str(len(outfit.shared)), *(bytes_text(saved[name]) for name in _LINES), "left out" if outfit.left else "yes",
            )  # fmt: skip
            for column, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(outfit.path)
                side = Qt.AlignmentFlag.AlignRight if column in _FIGURES else Qt.AlignmentFlag.AlignLeft
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(line, column, item)
        for line, (outfit, _) in enumerate(found):
            if outfit.path in chosen:
                self.table.selectRow(line)
        name = self._session.watched.name
        self.words.setText(
            f"Saved on {name} where one is left out; what others wear too stays."
            if found
            else "No part of a model fits."
        )
        self._show_keys()

    def _chosen(self) -> list[Outfit]:
        return [self._rows[row.row()][0] for row in self.table.selectionModel().selectedRows()]

    def _show_keys(self) -> None:
        chosen = self._chosen()
        self.leave.setEnabled(any(not outfit.left for outfit in chosen))
        self.keep.setEnabled(any(outfit.left for outfit in chosen))

    def _cut(self, out: bool) -> None:
        session = self._session
        paths = tuple(outfit.path for outfit in self._chosen() if outfit.left is not out)
        if paths:
            cut = Cut(LeaveOut(out), paths, (session.watched_id,))
            session.edit(session.job.with_cut(cut), f"{cut.label}")

    def stop(self) -> None:
        """Weigh no more."""
        if self._work is not None:
            self._work.cancel()


def _with_cuts(job: Job, cuts: Sequence[Cut]) -> Job:
    for cut in cuts[len(job.cuts) :]:
        job = job.with_cut(cut)
    return job
