"""What a paste would do, before it is done: each change, and each value that is refused with its reason."""

from __future__ import annotations

from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHeaderView,
    QLabel,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.plan.paste import Pasted
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session

_MOST = 400


class PasteView(QDialog):
    """A list of what will change, and of what will not."""

    def __init__(self, session: Session, column: str, pasted: Pasted, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Paste into {column}")
        self.resize(640, 380)
        self._session, self._column, self.pasted = session, column, pasted
        body = QVBoxLayout(self)
        count = len(pasted.changes)
        refused = f", {len(pasted.refused)} refused" if pasted.refused else ""
        body.addWidget(
            with_properties(QLabel(f"{count} change{'' if count == 1 else 's'}{refused}"), objectName="heading")
        )
        rows = [(path, now, new) for path, now, new in pasted.changes]
        rows += [(path, value, f"▲ {reason}") for path, value, reason in pasted.refused]
        table = with_properties(QTableWidget(min(len(rows), _MOST), 3), accessibleName="What the paste would change")
        table.setHorizontalHeaderLabels(["Texture", "Now, or pasted", "Then"])
        table.verticalHeader().hide()
        table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        for place, row in enumerate(rows[:_MOST]):
            for cell, text in enumerate(row):
                table.setItem(place, cell, QTableWidgetItem(text))
        body.addWidget(table)
        keys = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.go = keys.addButton("Paste", QDialogButtonBox.ButtonRole.AcceptRole)
        self.go.setEnabled(count > 0)
        keys.accepted.connect(self._paste)
        keys.rejected.connect(self.reject)
        body.addWidget(keys)

    def _paste(self) -> None:
        job = self._session.job
        for cut in self.pasted.cuts:
            job = job.with_cut(cut)
        for role, paths in self.pasted.roles:
            job = job.with_role(role, paths)
        self._session.edit(job, f"paste into {self._column.lower()}")
        self.accept()
