"""The planks pane: what the boards are grouped by, which line they weigh, and where one has zoomed to."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.plan.breakdown import Breakdown, Grouping, asset_costs, breakdown, grouping_for
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.lines import LINES, byte_lines
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.planks import Planked, Planks
from oaktrim.desk.work.tasks import as_task, start

# What boards may weigh beside the lines of a target.
_WASTED = "wasted"


class PlankPane(QWidget):
    """Planks with their two choices; what is chosen here is chosen in the ledger, and the other way round."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._trees: dict[Grouping, tuple[Inventory, Breakdown, list[list[int]]]] = {}
        self._begun = -1
        self._making: tuple[Inventory, Grouping] | None = None
        self.planks = Planks()
        self.grouping = with_properties(QComboBox(), accessibleName="Boards by")
        self.line = with_properties(QComboBox(), accessibleName="Boards weigh")
        self._trail = QHBoxLayout()
        self._trail.setSpacing(2)
        for group in Grouping:
            self.grouping.addItem(f"by {group.value}", group)
        for name in byte_lines():
            self.line.addItem(LINES[name].label, name)
        self.line.addItem("wasted by size", _WASTED)
        self.line.setItemData(
            self.line.count() - 1, "Memory of levels that no sightline ever shows", Qt.ItemDataRole.ToolTipRole
        )
        top = QHBoxLayout()
        top.setContentsMargins(8, 2, 8, 0)
        top.addLayout(self._trail)
        top.addStretch(1)
        for box in (self.grouping, self.line):
            box.currentIndexChanged.connect(lambda _: self.refresh())
            top.addWidget(box)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.planks)
        self.planks.chosen.connect(session.select)
        session.opened.connect(self._begin_with)
        self.planks.zoomed.connect(self._show_trail)
        session.plans_changed.connect(self._recount)
        session.selection_changed.connect(self._show_selection)

    def _begin_with(self) -> None:
        """Begin with owners, or with folders where most of the memory has no owner; once for what is opened."""
        session = self._session
        if session.inventory is None or session.document == self._begun:
            return
        self._begun = session.document
        group = grouping_for(session.inventory, session.plan(cut=False).memory)
        self.grouping.setCurrentIndex(self.grouping.findData(group))

    def showEvent(self, event: object) -> None:
        self.refresh()

    def _recount(self) -> None:
        if not self._session.trying:
            self.refresh()

    def refresh(self) -> None:
        """Show what the boards cost now."""
        inventory = self._session.inventory
        if inventory is None or not self.isVisible():
            return
        group = self.grouping.currentData()
        if group not in self._trees or self._trees[group][0] is not inventory:
            self._make(inventory, group)
            return
        _, tree, children = self._trees[group]
        line = self.line.currentData()
        if line == _WASTED:
            self._session.sights.want()
        values = (
            self._session.assets().numbers("wasted") if line == _WASTED else asset_costs(self._session.plan(), line)
        )
        costs = tree.costs(values)
        families = [*inventory.families.tolist(), *(row.family.value for row in inventory.others)]
        self.planks.show_planks(Planked(tree, costs, families, children))
        self._show_selection()

    def _make(self, inventory: Inventory, group: Grouping) -> None:
        """Have a tree made beside the window, and show it when it is there."""
        asked = (inventory, group)
        if self._making == asked:
            return
        self._making = asked

        def make() -> tuple[Breakdown, list[list[int]]]:
            tree = breakdown(inventory, group)
            return tree, tree.children()

        def made(found: tuple[Breakdown, list[list[int]]]) -> None:
            if self._making == asked:
                self._making = None
            self._trees[group] = (inventory, *found)
            self.refresh()

        # Once the ledger has shown itself.
        begin = partial(start, as_task(make, "sawing planks"), self, made, self._session.failed.emit)
        QTimer.singleShot(0, self, begin)

    def _show_selection(self) -> None:
        self.planks.select_assets(frozenset(self._session.selected))

    def _show_trail(self) -> None:
        clear_layout(self._trail)
        trail = self.planks.trail()
        for place, (board, name) in enumerate(trail):
            key = QPushButton(name)
            key.setObjectName("plain")
            key.setEnabled(place < len(trail) - 1)
            key.clicked.connect(partial(lambda b, _=False: self.planks.zoom(b), board))
            self._trail.addWidget(key)
            if place < len(trail) - 1:
                self._trail.addWidget(with_properties(QLabel("›"), objectName="soft"))
