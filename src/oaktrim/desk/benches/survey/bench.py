"""The Survey bench: filters, the ledger, and the cut bar on what is selected."""

from __future__ import annotations

from collections import Counter
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QItemSelection, QItemSelectionModel, QSize, Qt
from PySide6.QtGui import QGuiApplication, QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import (
    QAbstractItemView,
    QButtonGroup,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from oaktrim.desk.benches.survey.cutbar import CutBar
from oaktrim.desk.models.ledger import LedgerModel
from oaktrim.desk.models.thumbnails import SIDE
from oaktrim.desk.session import Session
from oaktrim.desk.widgets.ledgerpainter import LedgerPainter

_ROW_HEIGHT = 32
_WIDTHS = (180, 98, 76, 76, 74, 72, 74, 72, 72)
# A ledger narrower than this shows no package column; the figure stays in the budget rules.
_ROOM_FOR_ALL = 800
_ALL, _FINDINGS, _CUT = "All", "Findings", "Cut"
_LABELS = {
    "not-power-of-two": "Not power of two",
    "over-longest-side": "Over the longest side",
    "opaque-alpha": "Opaque alpha",
    "grey-as-colour": "Grey as colour",
    "constant-image": "Constant",
    "duplicate-pixels": "Same pixels",
    "format-not-on-hardware": "Not on hardware",
}


class SurveyBench(QWidget):
    """Where things stand, and what is eating the budget."""

    title = "Survey"
    wants_swatch = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._filter = _ALL
        self._family = ""
        self.model = LedgerModel(session, self)
        self.find = QLineEdit(placeholderText="Filter by path", clearButtonEnabled=True)
        self.find.setAccessibleName("Filter by path")
        self.find.setFixedWidth(150)
        self.find.textChanged.connect(lambda _: self._apply())
        self.ledger = QTableView()
        self.ledger.setItemDelegate(LedgerPainter(self.ledger))
        self.cuts = CutBar(session)
        self._chips = QHBoxLayout()
        self._chips.setSpacing(6)
        self._group = QButtonGroup(self)
        self._unreadable = QLabel(objectName="warning", wordWrap=True)
        self._quiet = False
        self._set_up_ledger()
        self._build()
        session.opened.connect(self._reload)
        session.watched_changed.connect(self._rechip)
        session.job_changed.connect(self._recut)
        session.plans_changed.connect(self.model.recount)
        session.selection_changed.connect(self._show_selection)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        top = QHBoxLayout()
        top.setContentsMargins(10, 8, 10, 8)
        top.addLayout(self._chips)
        top.addStretch(1)
        top.addWidget(self.find)
        column.addLayout(top)
        column.addWidget(self._unreadable)
        column.addWidget(self.ledger, 1)
        column.addWidget(self.cuts)
        self._unreadable.setContentsMargins(12, 0, 12, 6)

    def _set_up_ledger(self) -> None:
        table = self.ledger
        table.setModel(self.model)
        table.setAccessibleName("Ledger of textures")
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.setAlternatingRowColors(True)
        table.setShowGrid(False)
        table.setWordWrap(False)
        table.setIconSize(QSize(SIDE, SIDE))
        table.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        rows = table.verticalHeader()
        rows.hide()
        rows.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        rows.setDefaultSectionSize(_ROW_HEIGHT)
        heads = table.horizontalHeader()
        heads.setHighlightSections(False)
        for column, width in enumerate(_WIDTHS):
            table.setColumnWidth(column, width)
        heads.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        heads.setSortIndicator(5, Qt.SortOrder.DescendingOrder)
        table.setSortingEnabled(True)
        table.selectionModel().selectionChanged.connect(self._selected)
        QShortcut(QKeySequence.StandardKey.Copy, table, self.copy, context=Qt.ShortcutContext.WidgetShortcut)

    # Filters

    def _reload(self) -> None:
        self._filter, self._family = _ALL, ""
        self.model.reload()
        self._rechip()
        inventory = self._session.inventory
        assert inventory is not None
        count = len(inventory.unreadable)
        shown = "; ".join(f"{u.path}: {u.error}" for u in inventory.unreadable[:2])
        more = f" … and {count - 2} more" if count > 2 else ""
        self._unreadable.setText(f"▲ {count} unreadable: {shown}{more}" if count else "")
        self._unreadable.setToolTip("\n".join(f"{u.path}: {u.error}" for u in inventory.unreadable[:40]))
        self._unreadable.setVisible(count > 0)
        self._show_selection()

    def _rechip(self) -> None:
        self._show_chips()
        self._apply()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.ledger.setColumnHidden(7, self.width() < _ROOM_FOR_ALL)
        self._show_chips()

    def _recut(self) -> None:
        """Follow an edit: the counts change, and only the filter of what is cut lets other rows through."""
        self._show_chips()
        if self._filter == _CUT:
            self._apply()

    def _show_chips(self) -> None:
        if not self._session.is_open:
            return
        for button in self._group.buttons():
            self._group.removeButton(button)
            self._chips.removeWidget(button)
            button.hide()
            button.deleteLater()
        inventory, findings = self._session.inventory, self._session.findings()
        assert inventory is not None
        kinds = Counter(finding.code for finding in findings if finding.code in _LABELS)
        marked = {finding.path for finding in findings if finding.path in inventory.row_of}
        chips = [(_ALL, _ALL, len(inventory.textures)), (_FINDINGS, _FINDINGS, len(marked))]
        chips.append((_CUT, _CUT, int(self._session.plan().touched.sum())))
        room = self.width() - 420
        for code, count in kinds.most_common():
            room -= self.fontMetrics().horizontalAdvance(f"{_LABELS[code]} {count}") + 26
            if room > 0 or code == self._filter:
                chips.append((code, _LABELS[code], count))
        if self._filter not in {key for key, _, _ in chips}:
            self._filter = _ALL
        for key, label, count in chips:
            self._add_chip(f"{label} {count}", key == self._filter, partial(self.set_filter, key))
        if self._family:
            self._add_chip(f"{self._family} ×", True, partial(self.set_family, ""))

    def _add_chip(self, text: str, on: bool, act: partial[None]) -> None:
        chip = QPushButton(text, checkable=True, checked=on)
        chip.setObjectName("chip")
        chip.clicked.connect(lambda _=False: act())
        self._group.setExclusive(False)
        self._group.addButton(chip)
        self._chips.addWidget(chip)

    def set_filter(self, key: str) -> None:
        """Show the textures of one chip."""
        self._filter = key
        self._rechip()

    def set_family(self, family: str) -> None:
        """Show the textures of one family of roles; empty for all."""
        self._family = family
        self._rechip()

    def _apply(self) -> None:
        if self._session.is_open:
            self._quiet = True
            self.model.set_filter(self._marked)
            self._quiet = False
            self._show_selection()

    def _marked(self) -> NDArray[np.bool_]:
        inventory = self._session.inventory
        assert inventory is not None
        keep = np.ones(len(inventory.textures), np.bool_)
        if self._filter == _CUT:
            keep &= self._session.plan().touched
        elif self._filter != _ALL:
            rows = [
                inventory.row_of[finding.path]
                for finding in self._session.findings()
                if finding.path in inventory.row_of and self._filter in (_FINDINGS, finding.code)
            ]
            keep[:] = False
            keep[rows] = True
        if self._family:
            keep &= inventory.families == self._family
        wanted = self.find.text().strip().lower()
        if wanted:
            keep &= np.array([wanted in t.path.lower() for t in inventory.textures], np.bool_)
        return keep

    # Selection

    def _selected(self) -> None:
        if self._quiet:
            return
        places = [
            place for span in self.ledger.selectionModel().selection() for place in range(span.top(), span.bottom() + 1)
        ]
        current = self.ledger.currentIndex().row()
        rows = [self.model.row_at(place) for place in dict.fromkeys(places)]
        if current in places:
            # The one last touched is the one shown.
            first = self.model.row_at(current)
            rows.remove(first)
            rows.insert(0, first)
        self._quiet = True
        self._session.select(rows)
        self._quiet = False

    def _show_selection(self) -> None:
        if self._quiet or not self._session.is_open:
            return
        self._quiet = True
        chosen = QItemSelection()
        first = None
        last_column = self.model.columnCount() - 1
        found = [self.model.place_of(row) for row in self._session.selected]
        places = sorted(place for place in found if place is not None)
        if found and found[0] is not None:
            first = self.model.index(found[0], 0)
        # Neighbours are selected as one span: thousands of single rows would be slow to hold.
        breaks = [i for i in range(1, len(places)) if places[i] != places[i - 1] + 1]
        for start, stop in zip([0, *breaks], [*breaks, len(places)], strict=True):
            if start < stop:
                chosen.select(self.model.index(places[start], 0), self.model.index(places[stop - 1], last_column))
        picker = self.ledger.selectionModel()
        picker.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if first is not None:
            picker.setCurrentIndex(first, QItemSelectionModel.SelectionFlag.NoUpdate)
            self.ledger.scrollTo(first)
        self._quiet = False

    def copy(self) -> None:
        """Put the selected rows on the clipboard as tab-separated text."""
        places = sorted(index.row() for index in self.ledger.selectionModel().selectedRows())
        QGuiApplication.clipboard().setText(self.model.copied(places))

    def focus_kind(self, kind: type | None) -> None:
        """Put the keyboard on the control of one kind of cut."""
        names = {"Cap": self.cuts.cap, "Drop": self.cuts.drop, "SetFormat": self.cuts.format}
        names |= {"SetLevels": self.cuts.levels, "SetEffort": self.cuts.effort}
        control = names.get(kind.__name__ if kind else "Cap", self.cuts.cap)
        control.setFocus(Qt.FocusReason.OtherFocusReason)
