"""What a bench shows when there is nothing for it to do: what it is for, and what is missing."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from oaktrim.desk.look.properties import with_properties


def empty_page(words: str) -> QWidget:
    """Return a page with a few sentences in its middle."""
    page = QWidget()
    column = QVBoxLayout(page)
    label = with_properties(QLabel(words, wordWrap=True), objectName="caption")
    label.setAlignment(Qt.AlignmentFlag.AlignCenter)
    column.addWidget(label)
    return page
