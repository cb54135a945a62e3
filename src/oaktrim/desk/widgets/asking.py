"""A dialog that asks for one value, and says what is wrong with it before it lets go."""

from __future__ import annotations

from typing import Generic, TypeVar

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QVBoxLayout, QWidget

from oaktrim.desk.look.properties import with_properties

T = TypeVar("T")


class Asking(QDialog, Generic[T]):
    """Ground of dialogs: they put their controls into `column`, call `finish`, and make the value from the controls."""

    def __init__(self, title: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.column = QVBoxLayout(self)
        self.wrong = with_properties(QLabel(wordWrap=True), objectName="warning")

    def finish(self) -> None:
        """Put the keys under the controls."""
        self.column.addWidget(self.wrong)
        keys = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        keys.accepted.connect(self.check)
        keys.rejected.connect(self.reject)
        self.column.addWidget(keys)

    def check(self) -> None:
        """Close with the value, or say why there is none."""
        try:
            self.made()
        except ValueError as error:
            self.wrong.setText(f"▲ {error}")
            return
        self.accept()

    def made(self) -> T:
        """Return the value as the controls have it.

        Raises
        ------
        ValueError : they do not make one; says why
        """
        raise NotImplementedError

    def ask(self) -> T | None:
        """Show the dialog and return the value, or None where it was cancelled."""
        return self.made() if self.exec() == QDialog.DialogCode.Accepted else None
