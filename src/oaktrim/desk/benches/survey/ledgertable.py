"""The ledger as a table: its columns, its groups, and the selection that it shares with the session."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QItemSelection, QItemSelectionModel, QPoint, QSettings, QSize, Qt
from PySide6.QtGui import QGuiApplication, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QMenu, QTableView, QWidget

from oaktrim.desk.models.ledger import COLUMNS, LedgerModel
from oaktrim.desk.models.thumbnails import SIDE
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.ledgerpainter import LedgerPainter

_ROW_HEIGHT = 30
_WIDTHS = (180, 98, 84, 82, 74, 72, 74, 72, 66, 72, 72, 60, 56, 66)
# A ledger narrower than this shows no package column; the figure stays in the budget rules.
_ROOM_FOR_ALL, _PACKAGE = 800, 7
_SETTING = "ledger/columns"


class LedgerTable(QTableView):
    """What is selected here is selected in the session, and the other way round."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.items = LedgerModel(session, self)
        self._quiet = False
        self._grouped = False
        self.setItemDelegate(LedgerPainter(self))
        self.setModel(self.items)
        # The heads need not show what is selected: they would ask every selected row for it.
        self.horizontalHeader().setSelectionModel(QItemSelectionModel(self.items, self))
        self.setAccessibleName("Ledger of assets")
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setAlternatingRowColors(True)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setIconSize(QSize(SIDE, SIDE))
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerItem)
        rows = self.verticalHeader()
        rows.hide()
        rows.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        rows.setDefaultSectionSize(_ROW_HEIGHT)
        self._set_up_heads()
        self.setSortingEnabled(True)
        self.selectionModel().selectionChanged.connect(self._selected)
        session.selection_changed.connect(self.show_selection)

    def _set_up_heads(self) -> None:
        heads = self.horizontalHeader()
        heads.setHighlightSections(False)
        for column, width in enumerate(_WIDTHS):
            self.setColumnWidth(column, width)
        heads.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        heads.setSortIndicator(5, Qt.SortOrder.DescendingOrder)
        heads.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        heads.customContextMenuRequested.connect(self._choose_columns)
        heads.setToolTip("Click to sort; right-click to choose columns")
        self._show_columns()

    # Columns

    @staticmethod
    def _shown_columns() -> set[str]:
        kept = QSettings().value(_SETTING, None)
        if kept is None:
            return {column.head for column in COLUMNS if not column.optional}
        return {kept} if isinstance(kept, str) else {str(head) for head in kept} if isinstance(kept, list) else set()

    def _show_columns(self) -> None:
        shown = self._shown_columns()
        for place, column in enumerate(COLUMNS[1:], 1):
            narrow = place == _PACKAGE and self.width() < _ROOM_FOR_ALL
            self.setColumnHidden(place, column.head not in shown or narrow)

    def show_column(self, head: str, on: bool) -> None:
        """Show or hide a column; the choice is remembered."""
        shown = self._shown_columns()
        shown = shown | {head} if on else shown - {head}
        QSettings().setValue(_SETTING, sorted(shown))
        self._show_columns()

    def _choose_columns(self, at: QPoint) -> None:
        menu, shown = QMenu(self), self._shown_columns()
        for column in COLUMNS[1:]:
            action = menu.addAction(column.head)
            action.setCheckable(True)
            action.setChecked(column.head in shown)
            action.toggled.connect(partial(self.show_column, column.head))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.horizontalHeader().mapToGlobal(at))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_columns()

    # Rows

    def set_group(self, group: str) -> None:
        """Group the rows; empty for no groups."""
        self._quiet, self._grouped = True, bool(group)
        self.items.set_group(group)
        self._span_heads()
        self._quiet = False
        self.show_selection()

    def set_filter(self, marked: Callable[[], NDArray[np.bool_]]) -> None:
        """Show the assets that a column marks; it is asked for again when the model needs it."""
        self._quiet = True
        self.items.set_filter(marked)
        self._span_heads()
        self._quiet = False
        self.show_selection()

    def _span_heads(self) -> None:
        self.clearSpans()
        if self._grouped:
            for place in range(self.items.rowCount()):
                if self.items.row_at(place) < 0:
                    self.setSpan(place, 0, 1, 5)

    # Selection

    def _selected(self) -> None:
        if self._quiet:
            return
        spans = self.selectionModel().selection()
        ranges = (spans.at(number) for number in range(spans.count()))
        places = [place for span in ranges for place in range(span.top(), span.bottom() + 1)]
        current = self.currentIndex().row()
        rows = [row for row in (self.items.row_at(place) for place in dict.fromkeys(places)) if row >= 0]
        if current in places and self.items.row_at(current) in rows:
            # The one last touched is the one shown.
            first = self.items.row_at(current)
            rows.remove(first)
            rows.insert(0, first)
        self._quiet = True
        self._session.select(rows)
        self._quiet = False

    def show_selection(self) -> None:
        """Select what is selected in the session."""
        if self._quiet or not self._session.is_open:
            return
        self._quiet = True
        chosen = QItemSelection()
        first = None
        last_column = self.items.columnCount() - 1
        selected = self._session.selected
        place = self.items.place_of(selected[0]) if selected else None
        if place is not None:
            first = self.items.index(place, 0)
        # Neighbours are selected as one span: thousands of single rows would be slow to hold.
        places = self.items.places_of(selected)
        for span in np.split(places, np.flatnonzero(np.diff(places) != 1) + 1) if len(places) else ():
            chosen.select(self.items.index(int(span[0]), 0), self.items.index(int(span[-1]), last_column))
        picker = self.selectionModel()
        picker.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if first is not None:
            picker.setCurrentIndex(first, QItemSelectionModel.SelectionFlag.NoUpdate)
            self.scrollTo(first)
        self._quiet = False

    def copy(self) -> None:
        """Put the selected rows on the clipboard as tab-separated text."""
        places = sorted(index.row() for index in self.selectionModel().selectedRows())
        QGuiApplication.clipboard().setText(self.items.copied(places))
