"""The patterns that the names of what makers make follow."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QLabel, QLineEdit, QWidget

from oaktrim.core.job.makers import NamePatterns
from oaktrim.core.makers.registry import KINDS
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.asking import Asking


class NamesDialog(Asking[NamePatterns]):
    """Asks for a pattern a kind of maker; paths below the root, without ending."""

    def __init__(self, now: NamePatterns, parent: QWidget) -> None:
        super().__init__("Names of what is made", parent)
        self.lines: dict[str, QLineEdit] = {}
        grid = QGridLayout()
        for place, kind in enumerate(KINDS.values()):
            line = QLineEdit(now.of(kind.tag))
            line.setAccessibleName(f"Names of {kind.label}")
            line.setMinimumWidth(280)
            fields = " ".join(f"{{{name}}}" for name in kind.name_fields)
            grid.addWidget(QLabel(kind.label.capitalize()), place, 0)
            grid.addWidget(line, place, 1)
            grid.addWidget(with_properties(QLabel(fields), objectName="caption"), place, 2)
            self.lines[kind.tag] = line
        self.column.addLayout(grid)
        self.finish()

    def made(self) -> NamePatterns:
        """Return the patterns as they stand.

        Raises
        ------
        ValueError : one cannot be read, or names a field that is not known
        """
        return NamePatterns(**{kind: line.text().strip() for kind, line in self.lines.items()})
