"""The Survey bench: planks, findings and role rules over the ledger, and the cut bar on what is selected."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QItemSelection, QItemSelectionModel, QPoint, QSettings, QSize, Qt
from PySide6.QtGui import QGuiApplication, QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import (
    QAbstractItemView,
    QButtonGroup,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QMenu,
    QPushButton,
    QSizePolicy,
    QStackedWidget,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.plan.paste import FORMAT, ROLE, SIZE, paste
from oaktrim.core.plan.query import QueryError, select
from oaktrim.core.plan.report import Survey, as_csv
from oaktrim.core.survey.findings.rules import LABELS
from oaktrim.desk.benches.bench import Bench
from oaktrim.desk.benches.survey.cutbar import CutBar
from oaktrim.desk.benches.survey.findingspane import FindingsPane
from oaktrim.desk.benches.survey.pasteview import PasteView
from oaktrim.desk.benches.survey.plankpane import PlankPane
from oaktrim.desk.benches.survey.rulespane import RulesPane
from oaktrim.desk.benches.survey.targetspage import TargetsPage
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.models.ledger import COLUMNS, GROUPS, LedgerModel
from oaktrim.desk.models.thumbnails import SIDE
from oaktrim.desk.session import Session
from oaktrim.desk.widgets.filterline import FilterLine
from oaktrim.desk.widgets.ledgerpainter import LedgerPainter

_ROW_HEIGHT = 30
_WIDTHS = (180, 98, 76, 82, 74, 72, 74, 72, 66, 72, 72, 60, 56, 66)
# A ledger narrower than this shows no package column; the figure stays in the budget rules.
_ROOM_FOR_ALL, _PACKAGE = 800, 7
# Of planks, findings and role rules.
_PANE_HEIGHTS = (164, 190, 246)
_ALL, _FINDINGS, _CUT, _SHARED, _UNUSED, _OTHERS = "All", "Findings", "Cut", "Shared", "Unused", "Others"
_QUERIES = {_FINDINGS: "findings>0", _CUT: "is:cut", _SHARED: "is:shared", _UNUSED: "is:unused", _OTHERS: "-is:texture"}
_NOT_WITHOUT_MODELS = (_SHARED, _UNUSED, _OTHERS)


@dataclass(frozen=True)
class _Chip:
    """A key that lets some assets through, and how many; `act` is called with `key`."""

    text: str
    on: bool
    act: Callable[[str], None]
    key: str
    tip: str = ""


class SurveyBench(Bench):
    """Where things stand, and what is eating the budget."""

    title = "Survey"
    wants_swatch = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._filter, self._family, self._code = _ALL, "", ""
        self.model = LedgerModel(session, self)
        self.filter_line = FilterLine()
        self.filter_line.setMinimumWidth(150)
        self.filter_line.textChanged.connect(lambda _: self._apply())
        self.group = with_properties(QComboBox(), accessibleName="Group the ledger by")
        self.ledger = QTableView()
        self.ledger.setItemDelegate(LedgerPainter(self.ledger))
        self.cuts = CutBar(session)
        self.planks = PlankPane(session)
        self.findings = FindingsPane(session)
        self.rules = RulesPane(session)
        self.targets = TargetsPage(session)
        self._panes = QStackedWidget()
        self._whole = QStackedWidget()
        self.keys: dict[str, QPushButton] = {}
        self._chips = QHBoxLayout()
        self._chips.setSpacing(6)
        self._group = QButtonGroup(self)
        self._fault = with_properties(QLabel(), objectName="warning")
        self._shown_chips: list[_Chip] = []
        self._quiet = False
        self._set_up_ledger()
        self._build()
        session.opened.connect(self._reload)
        session.watched_changed.connect(self._rechip)
        session.job_changed.connect(self._recut)
        session.findings_changed.connect(self._judged)
        session.plans_changed.connect(self.model.recount)
        session.selection_changed.connect(self._show_selection)
        self.findings.kind_chosen.connect(self._show_kind)

    def _build(self) -> None:
        body = with_properties(QWidget(), objectName="desk")
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for pane in (self.planks, self.findings, self.rules):
            self._panes.addWidget(pane)
        self._panes.setObjectName("sheet")
        self._panes.setFixedHeight(_PANE_HEIGHTS[0])
        column.addWidget(self._panes)
        top = QHBoxLayout()
        top.setContentsMargins(10, 6, 10, 6)
        top.setSpacing(6)
        top.addLayout(self._chips)
        top.addWidget(self.filter_line, 1)
        top.addWidget(self.group)
        column.addLayout(top)
        column.addWidget(self._fault)
        column.addWidget(self.ledger, 1)
        column.addWidget(self.cuts)
        self._fault.setContentsMargins(12, 0, 12, 6)
        self._fault.hide()
        for group in GROUPS:
            self.group.addItem(f"by {group}" if group else "no groups", group)
        self.group.currentIndexChanged.connect(lambda _: self._regroup())
        self._whole.addWidget(body)
        self._whole.addWidget(self.targets)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addLayout(self._pane_keys())
        outer.addWidget(self._whole, 1)

    def _pane_keys(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(8, 5, 8, 5)
        row.setSpacing(4)
        group = QButtonGroup(self)
        for place, name in enumerate(("Planks", "Findings", "Role rules", "Targets")):
            key = with_properties(QPushButton(name), checkable=True, checked=place == 0)
            key.setObjectName("chip")
            key.clicked.connect(partial(lambda p, _=False: self.show_pane(p), place))
            group.addButton(key)
            row.addWidget(key)
            self.keys[name] = key
        row.addStretch(1)
        return row

    def show_pane(self, place: int) -> None:
        """Show planks (0), findings (1) or role rules (2) over the ledger, or the targets (3) in its place."""
        list(self.keys.values())[place].setChecked(True)
        self._whole.setCurrentIndex(1 if place == 3 else 0)
        if place < 3:
            self._panes.setCurrentIndex(place)
            self._panes.setFixedHeight(_PANE_HEIGHTS[place])
        if place != 1 and self._code:
            self.findings.choose("")

    def _set_up_ledger(self) -> None:
        table = self.ledger
        table.setModel(self.model)
        # The heads need not show what is selected: they would ask every selected row for it.
        table.horizontalHeader().setSelectionModel(QItemSelectionModel(self.model, table))
        table.setAccessibleName("Ledger of assets")
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
        heads.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        heads.customContextMenuRequested.connect(self._choose_columns)
        heads.setToolTip("Click to sort; right-click to choose columns")
        self._show_columns()
        table.setSortingEnabled(True)
        table.selectionModel().selectionChanged.connect(self._selected)
        for key, act in ((QKeySequence.StandardKey.Copy, self.copy), (QKeySequence.StandardKey.Paste, self.paste)):
            QShortcut(key, table, act, context=Qt.ShortcutContext.WidgetShortcut)

    # Columns

    def _shown_columns(self) -> set[str]:
        kept = QSettings().value("ledger/columns", None)
        if kept is None:
            return {column.head for column in COLUMNS if not column.optional}
        return {kept} if isinstance(kept, str) else {str(head) for head in kept} if isinstance(kept, list) else set()

    def _show_columns(self) -> None:
        shown = self._shown_columns()
        for place, column in enumerate(COLUMNS[1:], 1):
            narrow = place == _PACKAGE and self.width() < _ROOM_FOR_ALL
            self.ledger.setColumnHidden(place, column.head not in shown or narrow)

    def show_column(self, head: str, on: bool) -> None:
        """Show or hide a column; the choice is remembered."""
        shown = self._shown_columns()
        shown = shown | {head} if on else shown - {head}
        QSettings().setValue("ledger/columns", sorted(shown))
        self._show_columns()

    def _choose_columns(self, at: QPoint) -> None:
        menu, shown = QMenu(self), self._shown_columns()
        for column in COLUMNS[1:]:
            action = menu.addAction(column.head)
            action.setCheckable(True)
            action.setChecked(column.head in shown)
            action.toggled.connect(partial(self.show_column, column.head))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.ledger.horizontalHeader().mapToGlobal(at))

    def _regroup(self) -> None:
        self._quiet = True
        self.model.set_group(self.group.currentData())
        self._span_heads()
        self._quiet = False
        self._show_selection()

    def _span_heads(self) -> None:
        self.ledger.clearSpans()
        if self.group.currentData():
            for place in range(self.model.rowCount()):
                if self.model.row_at(place) < 0:
                    self.ledger.setSpan(place, 0, 1, 5)

    # Filters

    def _reload(self) -> None:
        self._filter, self._family = _ALL, ""
        assert self._session.inventory is not None
        self.model.thumbnails.use(self._session.inventory)
        self._rechip()
        self._show_selection()

    def _rechip(self) -> None:
        self._show_chips()
        self._apply()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._show_columns()
        self._fit_chips()

    def _fit_chips(self) -> None:
        """Show as many chips as there is room for beside the filter; those left out can still be typed."""
        room = self.width() - self.filter_line.minimumWidth() - self.group.sizeHint().width() - 44
        for chip in self._group.buttons():
            room -= chip.sizeHint().width() + self._chips.spacing()
            chip.setVisible(room >= 0 or chip.isChecked())

    def _recut(self) -> None:
        """Follow an edit: the counts change, and only the filter of what is cut lets other rows through."""
        self._show_chips()
        if self._filter == _CUT or "is:" in self.filter_line.text():
            self._apply()

    def _judged(self) -> None:
        """Take in what was found wrong."""
        self.keys["Findings"].setText(f"Findings {len(self._session.findings())}")
        self.model.recount()
        self._show_chips()
        if self._filter == _FINDINGS or self._code or "finding" in self.filter_line.text():
            self._apply()

    def _show_chips(self) -> None:
        if not self._session.is_open:
            return
        inventory = self._session.inventory
        assert inventory is not None
        assets = self._session.assets()
        wanted = [_Chip(f"{_ALL} {len(assets)}", self._filter == _ALL, self.set_filter, _ALL)]
        unreadable = inventory.unreadable
        if unreadable and not self._code:
            tip = "\n".join(f"{u.path}: {u.error}" for u in unreadable[:40])
            wanted.append(_Chip(f"▲ Unreadable {len(unreadable)}", False, self.show_finding, "unreadable", tip))
        for key, query in _QUERIES.items():
            if key in _NOT_WITHOUT_MODELS and not (inventory.models or (key == _OTHERS and inventory.passthrough)):
                continue
            count = int(select(query, assets).sum())
            if (count or key in (_FINDINGS, self._filter)) and not self._code:
                wanted.append(_Chip(f"{key} {count}", key == self._filter, self.set_filter, key))
        if self._family:
            wanted.append(_Chip(f"{self._family} ×", True, self.set_family, ""))
        if self._code:
            wanted.append(_Chip(f"{LABELS[self._code]} ×", True, self.findings.choose, ""))
        if wanted != self._shown_chips:
            self._shown_chips = wanted
            self._lay_chips(wanted)
        for button, chip in zip(self._group.buttons(), wanted, strict=True):
            button.setChecked(chip.on)

    def _lay_chips(self, wanted: list[_Chip]) -> None:
        for button in self._group.buttons():
            self._group.removeButton(button)
            self._chips.removeWidget(button)
            button.hide()
            button.deleteLater()
        self._group.setExclusive(False)
        for chip in wanted:
            button = with_properties(QPushButton(chip.text), checkable=True, objectName="chip", toolTip=chip.tip)
            button.clicked.connect(lambda _=False, chip=chip: chip.act(chip.key))
            button.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            self._group.addButton(button)
            self._chips.addWidget(button)
        self._fit_chips()

    def show_finding(self, code: str) -> None:
        """Show the findings of one kind."""
        self.show_pane(1)
        self.findings.choose(code)

    def set_filter(self, key: str) -> None:
        """Show the assets of one chip."""
        self._filter = key
        self._rechip()

    def set_family(self, family: str) -> None:
        """Show the assets of one family; empty for all."""
        self._family = family
        self._rechip()

    def _show_kind(self, code: str) -> None:
        """Show the assets that have one kind of finding; empty for all."""
        if code != self._code:
            self._code = code
            self._rechip()

    def _apply(self) -> None:
        if self._session.is_open:
            self._quiet = True
            self.model.set_filter(self._marked)
            self._span_heads()
            self._quiet = False
            self._show_selection()

    def _marked(self) -> NDArray[np.bool_]:
        assets = self._session.assets()
        keep = select(_QUERIES.get(self._filter, ""), assets)
        if self._family:
            keep &= select(f'family="{self._family}"', assets)
        if self._code:
            keep &= select(f"finding={self._code}", assets)
        fault = ""
        try:
            keep &= select(self.filter_line.text(), assets)
        except QueryError as error:
            fault = str(error)
        self._session.filter_text = "" if fault else self.filter_line.text()
        self.filter_line.show_fault(fault)
        self._fault.setText(fault)
        self._fault.setVisible(bool(fault))
        return keep

    # Selection

    def _selected(self) -> None:
        if self._quiet:
            return
        spans = self.ledger.selectionModel().selection()
        ranges = (spans.at(number) for number in range(spans.count()))
        places = [place for span in ranges for place in range(span.top(), span.bottom() + 1)]
        current = self.ledger.currentIndex().row()
        rows = [row for row in (self.model.row_at(place) for place in dict.fromkeys(places)) if row >= 0]
        if current in places and self.model.row_at(current) in rows:
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
        selected = self._session.selected
        place = self.model.place_of(selected[0]) if selected else None
        if place is not None:
            first = self.model.index(place, 0)
        # Neighbours are selected as one span: thousands of single rows would be slow to hold.
        places = self.model.places_of(selected)
        for span in np.split(places, np.flatnonzero(np.diff(places) != 1) + 1) if len(places) else ():
            chosen.select(self.model.index(int(span[0]), 0), self.model.index(int(span[-1]), last_column))
        picker = self.ledger.selectionModel()
        picker.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if first is not None:
            picker.setCurrentIndex(first, QItemSelectionModel.SelectionFlag.NoUpdate)
            self.ledger.scrollTo(first)
        self._quiet = False

    # Copy, paste, export

    def copy(self) -> None:
        """Put the selected rows on the clipboard as tab-separated text."""
        places = sorted(index.row() for index in self.ledger.selectionModel().selectedRows())
        QGuiApplication.clipboard().setText(self.model.copied(places))

    def paste(self) -> None:
        """Show what pasting the clipboard's column into the current column would change."""
        session = self._session
        head = COLUMNS[max(0, self.ledger.currentIndex().column())].head
        column = head if head in (SIZE, FORMAT, ROLE) else SIZE
        lines = [line.split("\t")[0].strip() for line in QGuiApplication.clipboard().text().splitlines()]
        values = [line for line in lines if line and line not in {c.head for c in COLUMNS}]
        places = self.model.places_of(session.chosen).tolist()
        rows = [self.model.row_at(place) for place in places]
        if not values or not rows:
            return
        targets = () if self.cuts.everywhere else (session.watched_id,)
        view = PasteView(session, column, paste(column, values, rows, session.plan(), targets), self)
        view.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        view.open()

    def export(self) -> None:
        """Ask for a file and write the textures that the filter shows as CSV."""
        found, _ = QFileDialog.getSaveFileName(self, "Write the ledger as CSV", "ledger.csv", "CSV (*.csv)")
        if found:
            self.write_csv(found)

    def write_csv(self, file: str) -> None:
        """Write the textures that the filter shows as CSV."""
        session = self._session
        assert session.inventory is not None
        shown = (self.model.row_at(place) for place in range(self.model.rowCount()))
        kept = frozenset(session.asset_path(asset) for asset in shown if asset >= 0)
        plans = tuple(session.plan(target.id) for target in session.targets)
        try:
            write_atomic(Path(file), as_csv(Survey(session.inventory, plans, (), kept=kept)).encode())
        except OakTrimError as error:
            session.failed.emit(error)

    def focus_kind(self, kind: type | None) -> None:
        """Put the keyboard on the control of one kind of cut."""
        self.show_pane(0 if self._whole.currentIndex() else self._panes.currentIndex())
        names = {"Cap": self.cuts.cap, "Drop": self.cuts.drop, "SetFormat": self.cuts.format}
        names |= {"SetLevels": self.cuts.levels, "SetEffort": self.cuts.effort, "SetLoss": self.cuts.loss}
        names |= {"SetErrorMetric": self.cuts.error_metric}
        control = names.get(kind.__name__ if kind else "Cap", self.cuts.cap)
        control.setFocus(Qt.FocusReason.OtherFocusReason)
