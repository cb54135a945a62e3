"""How the names of files tell the maps of a batch, with what the patterns find while they are typed."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QLabel, QLineEdit, QWidget

from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.pack.propose import check_name_pattern, sets_by_name
from oaktrim.core.survey.inventory import Inventory
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.asking import Asking


class MapNamesDialog(Asking[dict[str, str]]):
    """A line a slot; several patterns of one stand apart by spaces."""

    def __init__(self, found: Inventory, layout: Layout, patterns: dict[str, str], parent: QWidget) -> None:
        super().__init__("Names of maps", parent)
        self._found = found
        self.lines: dict[str, QLineEdit] = {}
        self._counts: dict[str, QLabel] = {}
        self.total = with_properties(QLabel(), objectName="heading")
        self.column.addWidget(
            with_properties(
                QLabel("{name} stands for what the maps of a set share, * for anything."), objectName="soft"
            )
        )
        grid = QGridLayout()
        for place, slot in enumerate(slot for slot in layout.slots if slot.name):
            line = QLineEdit(patterns.get(slot.name, ""))
            line.setAccessibleName(f"Names of {slot.name}")
            line.setMinimumWidth(340)
            line.textChanged.connect(lambda _: self.count())
            count = with_properties(QLabel(), objectName="caption")
            count.setMinimumWidth(60)
            grid.addWidget(QLabel(slot.name.capitalize()), place, 0)
            grid.addWidget(line, place, 1)
            grid.addWidget(count, place, 2)
            self.lines[slot.name], self._counts[slot.name] = line, count
        self.column.addLayout(grid)
        self.column.addWidget(self.total)
        self.finish()
        self.count()

    def count(self) -> None:
        """Say how many files and sets the patterns find now."""
        try:
            sets = sets_by_name(self._found, self.made())
        except ValueError as error:
            self.wrong.setText(f"▲ {error}")
            return
        self.wrong.setText("")
        for slot, label in self._counts.items():
            label.setText(f"{sum(len(found.get(slot, ())) for found in sets.values())} files")
        whole = sum(len(found) > 1 for found in sets.values())
        self.total.setText(f"{whole} sets of at least two maps, {len(sets) - whole} single maps")

    def made(self) -> dict[str, str]:
        """Return the patterns by slot.

        Raises
        ------
        ValueError : one lacks `{name}`
        """
        found = {slot: line.text().strip() for slot, line in self.lines.items()}
        for pattern in found.values():
            check_name_pattern(pattern)
        return found
