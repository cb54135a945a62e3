"""Tables of items: heads over figures stand at the right, as the figures do, and whole rows are selected."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QTableWidget


def right_heads(table: QTableWidget, columns: Iterable[int]) -> None:
    """Set the heads of some columns at the right; they have texts already."""
    for column in columns:
        head = table.horizontalHeaderItem(column)
        if head is not None:
            head.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)


def select_row(table: QTableWidget, row: int) -> None:
    """Add a row to the selection."""
    for column in range(table.columnCount()):
        item = table.item(row, column)
        if item is not None:
            item.setSelected(True)
