"""What stands on the page of patches: the overlay, the list, and the settings beside them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QTableWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.makers.patch.patch import TOLERANCE, Snap
from oaktrim.desk.benches.channels.lanerow import Thumb
from oaktrim.desk.benches.channels.placetable import PlaceTable
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.patchview import PatchView
from oaktrim.desk.widgets.tables import right_heads

_HEADS = ("Overlay", "In use", "Patch", "Of", "Saves", "")
SNAPS = (("power of two", Snap.POWER_OF_TWO), ("block multiple", Snap.BLOCKS), ("smallest", Snap.NONE))


class PatchForm(QWidget):
    """The widgets and where they stand; the page that is made of it gives them their meaning."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self.view = PatchView()
        self.table = QTableWidget(0, len(_HEADS))
        self.snap = with_properties(QComboBox(), accessibleName="What the sides are brought up to")
        self.snap.addItems([words for words, _ in SNAPS])
        self.gutter = QSpinBox(minimum=0, maximum=256, value=2)
        self.tolerance = QSpinBox(minimum=0, maximum=254, value=TOLERANCE)
        self.gap = with_properties(QSpinBox(minimum=0, maximum=4096, value=0), specialValueText="one patch")
        self.backing = with_properties(QComboBox(), accessibleName="What counts as empty")
        self.backing.addItems(("found", "alpha", "border colour", "a colour…"))
        self.numbers = {name: QSpinBox(minimum=-16384, maximum=32768) for name in ("x", "y", "width", "height")}
        self.shared = QCheckBox("one rectangle for all selected")
        self.closer = with_properties(
            QPushButton("Closer"), checkable=True, toolTip="Show the rectangle large (C)", shortcut="C"
        )
        self.again = with_properties(QPushButton("Find it again"), toolTip="Snap the rectangle to what is used")
        self.split = QPushButton("A patch for each island")
        self.make = with_properties(QPushButton("Make it"), objectName="primary")
        self.remove = QPushButton("Remove")
        self.add = with_properties(
            QPushButton("Add the selection"), toolTip="List the textures that are selected in the job"
        )
        self._title = with_properties(QLabel(), objectName="heading")
        self._found = with_properties(QLabel(wordWrap=True), objectName="caption")
        self._bytes = with_properties(QLabel(wordWrap=True), objectName="heading")
        self._proof = with_properties(QLabel(wordWrap=True), objectName="caption", accessibleName="Proof of the patch")
        self.worn = (Thumb(132), Thumb(132))
        self._places = PlaceTable()
        self._build()

    def _build(self) -> None:
        whole = QHBoxLayout(self)
        whole.setContentsMargins(12, 2, 0, 8)
        whole.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(6)
        top = QHBoxLayout()
        top.setSpacing(6)
        self._title.setMinimumWidth(60)
        top.addWidget(self._title, 1)
        for widget in (self.closer, self.add, self.remove, self.make):
            top.addWidget(widget)
        left.addLayout(top)
        left.addWidget(self.view, 3)
        left.addWidget(self.table, 2)
        whole.addLayout(left, 1)
        whole.addWidget(self._side())
        self._build_table()

    def _side(self) -> QScrollArea:
        """Return the settings, in a column that scrolls."""
        side = with_properties(QFrame(), objectName="swatch")
        side.setFixedWidth(300)
        column = QVBoxLayout(side)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(6)
        form = QGridLayout()
        form.setHorizontalSpacing(6)
        form.setVerticalSpacing(4)
        settings: tuple[tuple[str, QWidget], ...] = (
            ("empty is", self.backing), ("tolerance", self.tolerance), ("sides", self.snap), ("gutter", self.gutter),
            ("islands apart", self.gap),
        )  # fmt: skip
        for line, (words, control) in enumerate(settings):
            label = with_properties(QLabel(words), objectName="soft")
            label.setBuddy(control)
            form.addWidget(label, line, 0)
            form.addWidget(control, line, 1)
            control.setAccessibleName(f"Patch: {words}")
        column.addLayout(form)
        column.addWidget(self._found)
        row = QHBoxLayout()
        row.addWidget(self.again)
        row.addWidget(self.split)
        column.addLayout(row)
        column.addWidget(self.shared)
        numbers = QGridLayout()
        numbers.setHorizontalSpacing(6)
        for place, (name, box) in enumerate(self.numbers.items()):
            numbers.addWidget(with_properties(QLabel(name), objectName="soft"), place // 2, 2 * (place % 2))
            numbers.addWidget(box, place // 2, 2 * (place % 2) + 1)
            box.setAccessibleName(f"Rectangle: {name}")
        column.addLayout(numbers)
        column.addWidget(self._bytes)
        column.addWidget(self._proof)
        worn = QHBoxLayout()
        worn.setSpacing(6)
        for words, thumb in zip(("with the overlay", "with the patch"), self.worn, strict=True):
            part = QVBoxLayout()
            part.setSpacing(2)
            thumb.setAccessibleName(words)
            part.addWidget(thumb)
            part.addWidget(with_properties(QLabel(words), objectName="caption"))
            worn.addLayout(part)
        self._worn = QWidget()
        worn.setContentsMargins(0, 0, 0, 0)
        self._worn.setLayout(worn)
        column.addWidget(self._worn)
        column.addWidget(with_properties(QLabel("Where it lies"), objectName="heading"))
        column.addWidget(self._places)
        column.addStretch(1)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setWidget(side)
        scroll.setFixedWidth(314)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        return scroll

    def _build_table(self) -> None:
        table = self.table
        table.setHorizontalHeaderLabels(list(_HEADS))
        table.setAccessibleName("Overlays that are mostly empty")
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(25)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.setShowGrid(False)
        table.setAlternatingRowColors(True)
        table.setMinimumHeight(90)
        table.horizontalHeader().setHighlightSections(False)
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        right_heads(table, (1, 2, 3, 4))
        for place, mode in enumerate((QHeaderView.ResizeMode.Stretch, *(QHeaderView.ResizeMode.ResizeToContents,) * 5)):
            table.horizontalHeader().setSectionResizeMode(place, mode)
