"""What stands on the page of packs: the lanes of one, the table of all, and the proof beside them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from oaktrim.desk.benches.channels.lanerow import LaneRow
from oaktrim.desk.benches.channels.packpane import PackPane
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.models.packs import PackModel

SIZES = ("as the largest", *(str(1 << power) for power in range(6, 13)))
_FROM = ("from materials", "from names")


class PackForm(QWidget):
    """The widgets and where they stand; the page that is made of it gives them their meaning."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self.model = PackModel()
        self.layouts = with_properties(QComboBox(), accessibleName="Layout of the packs")
        self.origin = with_properties(QComboBox(), accessibleName="How maps are told to belong together")
        self.origin.addItems(_FROM)
        self.patterns = with_properties(QPushButton("Map names…"), toolTip="How the names of files tell the maps")
        self.own = with_properties(QPushButton("Own…"), toolTip="A layout of your own, beginning with this one")
        self.count = with_properties(QLabel(), objectName="caption")
        self.new = with_properties(QPushButton("New pack"), toolTip="A pack of the selected textures, or an empty one")
        self.longest = with_properties(QComboBox(), accessibleName="Longest side of the pack")
        self.longest.addItems(SIZES)
        self.bits = with_properties(QComboBox(), accessibleName="Bits a channel")
        self.bits.addItems(("8 bits", "16 bits"))
        self.keeps = QCheckBox("sources ship too")
        self.make = with_properties(QPushButton("Make it"), objectName="primary")
        self.make_all = QPushButton("Make all")
        self.remove = with_properties(QPushButton("Remove"), toolTip="Remove the pack; its sources ship again")
        self.lanes = [LaneRow(place) for place in range(4)]
        self.table = QTableView()
        self.pane = PackPane()
        self._empty = QWidget()
        self.begin = with_properties(QPushButton("New pack"), objectName="primary")
        self._title = with_properties(QLabel(), objectName="heading")
        self._build()

    def _build(self) -> None:
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        left = QVBoxLayout()
        left.setContentsMargins(12, 2, 10, 8)
        left.setSpacing(6)
        top = QHBoxLayout()
        top.setSpacing(6)
        self.layouts.setMinimumWidth(250)
        for widget in (self.layouts, self.own, self.origin, self.patterns, self.new):
            top.addWidget(widget)
        top.addStretch(1)
        top.addWidget(self.make_all)
        left.addLayout(top)
        details = QWidget()
        line = QHBoxLayout(details)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(6)
        self._title.setMinimumWidth(60)
        line.addWidget(self._title)
        line.addSpacing(6)
        self.count.setMinimumWidth(40)
        line.addWidget(self.count, 1)
        line.addWidget(with_properties(QLabel("size"), objectName="soft"))
        for control in (self.longest, self.bits, self.keeps, self.remove, self.make):
            line.addWidget(control)
        left.addWidget(details)
        lanes = QWidget()
        column = QVBoxLayout(lanes)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        for lane in self.lanes:
            column.addWidget(lane)
        lanes.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.table.setMinimumHeight(54)
        left.addWidget(lanes)
        words = QLabel("Nothing here uses two maps that this layout could put into one texture.")
        nothing = QVBoxLayout(self._empty)
        nothing.addStretch(1)
        nothing.addWidget(words, alignment=Qt.AlignmentFlag.AlignCenter)
        nothing.addWidget(self.begin, alignment=Qt.AlignmentFlag.AlignCenter)
        nothing.addStretch(2)
        left.addWidget(self._empty, 1)
        self._build_table()
        left.addWidget(self.table, 1)
        whole.addLayout(left, 1)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setWidget(self.pane)
        scroll.setFixedWidth(self.pane.width() + 2)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        whole.addWidget(scroll)
        # What is there only while there is a pack.
        self._filled = (details, lanes, self.table, scroll, self.make_all)

    def _build_table(self) -> None:
        table = self.table
        table.setModel(self.model)
        table.setAccessibleName("Packs: made, and those that could be made")
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.setShowGrid(False)
        table.setAlternatingRowColors(True)
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(25)
        table.setMinimumHeight(80)
        table.horizontalHeader().setHighlightSections(False)
