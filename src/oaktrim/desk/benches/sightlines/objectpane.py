"""The object that was clicked: its materials and textures with their fit, what they cost, and where most is asked for."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.fitmark import FitMark, fit_text


@dataclass(frozen=True)
class TextureLine:
    """A texture of the object: its row, what it is, as it ships, its fit, and what is wanted of it."""

    row: int
    name: str
    ships: str
    fit: float
    wants: str
    tip: str
    estimated: bool = False


class ObjectPane(QFrame):
    """The side panel of the bench.

    Signals
    -------
    chosen : row of a texture
    capped : exponent of the side that the chosen texture is capped at, and whether the hand has let go
    """

    chosen = Signal(int)
    capped = Signal(int, bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("swatch")
        self.setFixedWidth(284)
        self.name = with_properties(QLabel(wordWrap=True), objectName="title")
        self.about = with_properties(QLabel(wordWrap=True), objectName="caption")
        self.lines = QGridLayout()
        self.demanding = with_properties(QLabel("Most demanding"), objectName="heading")
        self.where = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="Where most is asked for"
        )
        self.go = with_properties(QPushButton("Go there"), toolTip="Look from where most is asked for (G)")
        self.cap = with_properties(QSlider(Qt.Orientation.Horizontal), accessibleName="Longest side that ships")
        self.side = with_properties(QLabel(), objectName="figure")
        self._cap_words = with_properties(QLabel("Cap"), objectName="caption")
        self.spare = with_properties(QPushButton("Cap what has two to spare"), objectName="primary")
        self.spare_words = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="What that would do"
        )
        self._build()

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(6)
        column.addWidget(self.name)
        column.addWidget(self.about)
        inner = with_properties(QWidget(), objectName="bare")
        rows = QVBoxLayout(inner)
        rows.setContentsMargins(0, 0, 0, 0)
        self.lines.setHorizontalSpacing(5)
        self.lines.setVerticalSpacing(2)
        rows.addLayout(self.lines)
        rows.addStretch(1)
        area = QScrollArea(widgetResizable=True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inner)
        column.addWidget(area, 1)
        column.addWidget(self.demanding)
        column.addWidget(self.where)
        column.addWidget(self.go, 0, Qt.AlignmentFlag.AlignLeft)
        cap = QHBoxLayout()
        for widget in (self._cap_words, self.cap, self.side):
            cap.addWidget(widget)
        self.side.setMinimumWidth(44)
        self.cap.setRange(2, 14)
        self.cap.valueChanged.connect(self._cap_moved)
        self.cap.sliderReleased.connect(lambda: self.capped.emit(self.cap.value(), True))
        column.addLayout(cap)
        column.addWidget(self.spare)
        column.addWidget(self.spare_words)

    def _cap_moved(self, value: int) -> None:
        self.side.setText(f"{1 << value:,}")
        self.capped.emit(value, not self.cap.isSliderDown())

    def say(self, words: str) -> None:
        """Show words where no object is chosen."""
        self.show_object(words, "", {})
        self.show_place("")

    def show_object(self, name: str, about: str, materials: dict[str, list[TextureLine]], chosen: int = -1) -> None:
        """Show an object's materials, with the textures of each."""
        self.name.setText(name)
        self.about.setText(about)
        clear_layout(self.lines)
        for place, head in enumerate(("", "ships", "", "fit", "wants") if materials else ()):
            self.lines.addWidget(with_properties(QLabel(head), objectName="caption"), 0, place)
        at = 1
        for material, lines in materials.items():
            self.lines.addWidget(with_properties(QLabel(material), objectName="heading"), at, 0, 1, 5)
            at += 1
            for line in lines:
                key = with_properties(QPushButton(line.name), checkable=True, checked=line.row == chosen)
                key.setObjectName("chip")
                key.setToolTip(line.tip)
                key.clicked.connect(lambda _=False, row=line.row: self.chosen.emit(row))
                fit = with_properties(QLabel(fit_text(line.fit, line.estimated) or "unseen"), objectName="figure")
                cells: tuple[QWidget, ...] = (
                    key, with_properties(QLabel(line.ships), objectName="caption"), FitMark(line.fit), fit,
                    with_properties(QLabel(line.wants), objectName="caption"),
                )  # fmt: skip
                for place, cell in enumerate(cells):
                    self.lines.addWidget(cell, at, place)
                at += 1
        self.lines.setColumnStretch(4, 1)

    def show_place(self, words: str) -> None:
        """Say where most is asked for of the chosen texture."""
        self.where.setText(words)
        for widget in (self.demanding, self.where, self.go):
            widget.setVisible(bool(words))

    def show_cap(self, side: int | None) -> None:
        """Show the side that the chosen texture ships at; None where there is none."""
        for widget in (self.cap, self.side, self._cap_words):
            widget.setVisible(side is not None)
        if side is not None and not self.cap.isSliderDown():
            self.cap.blockSignals(True)
            self.cap.setValue(max(2, min(14, side.bit_length() - 1)))
            self.cap.blockSignals(False)
            self.side.setText(f"{side:,}")

    def show_spare(self, count: int, saves: str) -> None:
        """Say what capping everything with two levels to spare would do."""
        self.spare.setVisible(count > 0)
        self.spare_words.setVisible(count > 0)
        self.spare_words.setText(f"{count} texture{'s' if count != 1 else ''}, −{saves}; undone in one step")
