"""The ledger's table: one row a texture, filtered and sorted by columns of numbers, so that thousands stay quick."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, QSize, Qt
from PySide6.QtGui import QColor, QFont, QPixmap

from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.models.thumbnails import SIDE, Thumbnails
from oaktrim.desk.session import Session

Index = QModelIndex | QPersistentModelIndex
_ROOT = QModelIndex()


@dataclass(frozen=True)
class Column:
    """One column: its head, what it says of a row, what it sorts by, and whether it is a figure."""

    head: str
    text: Callable[[LedgerModel, int], str]
    key: Callable[[LedgerModel], NDArray[Any]]
    figure: bool = False


class LedgerModel(QAbstractTableModel):
    """The textures that pass the filter, in the order of the column chosen."""

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.thumbnails = Thumbnails(self)
        self.thumbnails.ready.connect(self._refresh_row)
        self._shown: NDArray[np.int64] = np.zeros(0, np.int64)
        self._place: dict[int, int] = {}
        self._sorted_by, self._descending = 5, True
        self._keep: Callable[[], NDArray[np.bool_]] | None = None
        self.signs: Counter[str] = Counter()

    # Rows

    def reload(self) -> None:
        """Take in another inventory."""
        inventory = self._session.inventory
        assert inventory is not None
        self.thumbnails.use(inventory)
        self._arrange()

    def set_filter(self, keep: Callable[[], NDArray[np.bool_]] | None) -> None:
        """Show only the rows that `keep` marks; None shows all."""
        self._keep = keep
        self._arrange()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self._sorted_by, self._descending = column, order == Qt.SortOrder.DescendingOrder
        self._arrange()

    def _arrange(self) -> None:
        if self._session.inventory is None:
            return
        self.beginResetModel()
        self.signs = Counter(finding.path for finding in self._session.findings())
        count = len(self._session.inventory.textures)
        marked = np.ones(count, np.bool_) if self._keep is None else self._keep()
        key = COLUMNS[self._sorted_by].key(self)
        order = np.argsort(key, kind="stable")
        if self._descending:
            # Equal rows keep the order of their paths, whichever way the column runs.
            order = (count - 1 - np.argsort(key[::-1], kind="stable"))[::-1]
        self._shown = order[marked[order]]
        self._place = {int(row): place for place, row in enumerate(self._shown)}
        self.endResetModel()

    def recount(self) -> None:
        """Show other costs for the same rows; the order stays until a head is clicked."""
        if len(self._shown):
            last = self.index(len(self._shown) - 1, len(COLUMNS) - 1)
            self.dataChanged.emit(self.index(0, 0), last, [Qt.ItemDataRole.DisplayRole])

    def row_at(self, place: int) -> int:
        """Return the inventory's row at a place in the table."""
        return int(self._shown[place])

    def place_of(self, row: int) -> int | None:
        """Return the place of an inventory's row, or None where it is filtered out."""
        return self._place.get(row)

    def _refresh_row(self, row: int) -> None:
        place = self.place_of(row)
        if place is not None:
            self.dataChanged.emit(self.index(place, 0), self.index(place, 0), [Qt.ItemDataRole.DecorationRole])

    # What the columns ask for

    @property
    def session(self) -> Session:
        return self._session

    @property
    def after(self) -> Plan:
        return self._session.plan()

    @property
    def now(self) -> Plan:
        return self._session.plan(cut=False)

    def copied(self, places: list[int]) -> str:
        """Return rows as tab-separated text, heads first; bytes as plain numbers."""
        lines = ["\t".join(column.head for column in COLUMNS)]
        for place in places:
            row = self.row_at(place)
            cells = [str(int(column.key(self)[row])) if column.figure else column.text(self, row) for column in COLUMNS]
            lines.append("\t".join(cells))
        return "\n".join(lines)

    # Qt's questions

    def rowCount(self, parent: Index = _ROOT) -> int:
        return 0 if parent.isValid() else len(self._shown)

    def columnCount(self, parent: Index = _ROOT) -> int:
        return 0 if parent.isValid() else len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or not 0 <= section < len(COLUMNS):
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section].head
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if COLUMNS[section].figure else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid() or index.row() >= len(self._shown):
            return None
        row, column = int(self._shown[index.row()]), COLUMNS[index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return column.text(self, row)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column.figure else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.DecorationRole and index.column() == 0:
            return self._thumbnail(row)
        if role == Qt.ItemDataRole.ForegroundRole:
            return QColor(tokens().soft) if column.head in ("Source", "Now") else None
        if role == Qt.ItemDataRole.FontRole and column.head == "After":
            font = QFont()
            font.setPixelSize(12)
            font.setBold(True)
            return font
        if role == Qt.ItemDataRole.ToolTipRole:
            return self._tip(row, column)
        return None

    def _thumbnail(self, row: int) -> Any:
        found = self.thumbnails.of(row)
        if found is None:
            blank = QPixmap(SIDE, SIDE)
            blank.fill(QColor(tokens().line))
            return blank
        return found.scaled(QSize(SIDE, SIDE), Qt.AspectRatioMode.IgnoreAspectRatio)

    def _tip(self, row: int, column: Column) -> str:
        inventory = self._session.inventory
        assert inventory is not None
        texture = inventory.textures[row]
        if column.head == "Used as":
            return inventory.roles[row].reason
        if column.figure:
            return f"{int(column.key(self)[row]):,} bytes"
        if column.head == "Findings":
            return "\n".join(f.message for f in self._session.findings() if f.path == texture.path)
        return texture.path


def _path(model: LedgerModel, row: int) -> str:
    inventory = model.session.inventory
    assert inventory is not None
    return inventory.textures[row].path


def _facts(model: LedgerModel, name: str) -> NDArray[Any]:
    inventory = model.session.inventory
    assert inventory is not None
    return np.array([getattr(t, name) for t in inventory.textures])


def _role(model: LedgerModel, row: int) -> str:
    inventory = model.session.inventory
    assert inventory is not None
    return inventory.roles[row].role.label


def _roles(model: LedgerModel) -> NDArray[Any]:
    inventory = model.session.inventory
    assert inventory is not None
    return np.array([guess.role.label for guess in inventory.roles])


def _source(model: LedgerModel, row: int) -> str:
    inventory = model.session.inventory
    assert inventory is not None
    return size_text(inventory.textures[row].width, inventory.textures[row].height)


def _ships(model: LedgerModel, row: int) -> str:
    arrival = model.after.arrival
    return size_text(int(arrival.width[row]), int(arrival.height[row]))


def _format(model: LedgerModel, row: int) -> str:
    label = FORMATS[ORDER[model.after.formats[row]]].label
    return f"{label} ▲" if model.after.arrival.expanded[row] else label


def _signs(model: LedgerModel, row: int) -> str:
    count = model.signs[_path(model, row)]
    return f"! {count}" if count else ""


COLUMNS: tuple[Column, ...] = (
    Column("Texture", lambda m, r: _path(m, r).rsplit("/", 1)[-1], lambda m: _facts(m, "path")),
    Column("Used as", _role, _roles),
    Column("Source", _source, lambda m: _facts(m, "width") * _facts(m, "height")),
    Column("Ships at", _ships, lambda m: m.after.arrival.width * m.after.arrival.height),
    Column("Format", _format, lambda m: m.after.formats),
    Column("Now", lambda m, r: bytes_text(int(m.now.arrival.memory[r])), lambda m: m.now.arrival.memory, True),
    Column("After", lambda m, r: bytes_text(int(m.after.arrival.memory[r])), lambda m: m.after.arrival.memory, True),
    Column("Package", lambda m, r: bytes_text(int(m.after.package[r])), lambda m: m.after.package, True),
    Column("Findings", _signs, lambda m: np.array([m.signs[p] for p in _facts(m, "path")])),
)
