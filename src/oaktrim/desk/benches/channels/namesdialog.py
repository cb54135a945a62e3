"""The patterns that the names of what makers make follow."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QLabel, QLineEdit, QWidget

from oaktrim.core.makers.names import NamePatterns
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.asking import Asking

_KINDS = (
    ("pack", "Packs", "{folder} {material} {layout}"),
    ("patch", "Patches", "{folder} {source}"),
    ("glyphs", "Glyph sheets", "{folder} {font} {size}"),
)


class NamesDialog(Asking[NamePatterns]):
    """Asks for a pattern a kind of maker; paths below the root, without ending."""

    def __init__(self, now: NamePatterns, parent: QWidget) -> None:
        super().__init__("Names of what is made", parent)
        self.lines: dict[str, QLineEdit] = {}
        grid = QGridLayout()
        for place, (kind, words, fields) in enumerate(_KINDS):
            line = QLineEdit(getattr(now, kind))
            line.setAccessibleName(f"Names of {words.lower()}")
            line.setMinimumWidth(280)
            grid.addWidget(QLabel(words), place, 0)
            grid.addWidget(line, place, 1)
            grid.addWidget(with_properties(QLabel(fields), objectName="caption"), place, 2)
            self.lines[kind] = line
        self.column.addLayout(grid)
        self.finish()

    def made(self) -> NamePatterns:
        """Return the patterns as they stand.

        Raises
        ------
        ValueError : one cannot be read, or names a field that is not known
        """
        return NamePatterns(**{kind: line.text().strip() for kind, line in self.lines.items()})
