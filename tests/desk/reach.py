"""Reaching widgets as assistive programs do: by their accessible names."""

from PySide6.QtWidgets import QLabel, QWidget


def named(parent: QWidget, name: str, kind: type = QWidget):
    """Return the one widget of a name below another."""
    (found,) = [widget for widget in parent.findChildren(kind) if widget.accessibleName() == name]
    return found


def said(parent: QWidget, name: str) -> str:
    """Return the text of the label of a name, without the places where a long word may be broken."""
    return named(parent, name, QLabel).text().replace("\u200b", "")
