"""What stands on the page of glyph sheets: the four pages, a line set from them, and the settings beside them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.makers.glyphs.sheet import PAGES
from oaktrim.desk.benches.channels.lanerow import Thumb
from oaktrim.desk.look.properties import with_properties

_LINE = "06:40 SALLOW QUAY"
_PAGE = 158


class GlyphForm(QWidget):
    """The widgets and where they stand; the page that is made of it gives them their meaning."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self.setAcceptDrops(True)
        self.which = with_properties(QComboBox(), accessibleName="Which sheet")
        self.font_line = QLineEdit(placeholderText="A TTF or OTF file; drop one here")
        self.font_line.setAccessibleName("Font file")
        self.browse = QPushButton("Choose…")
        self.em = QSpinBox(minimum=4, maximum=512, value=48, suffix=" px")
        self.fields = QCheckBox("signed distances")
        self.spread = QDoubleSpinBox(minimum=1, maximum=64, value=4, suffix=" px each way")
        self.side = with_properties(QComboBox(), accessibleName="Size of the pages")
        self.side.addItems(("smallest", "smallest power of two", *(str(1 << p) for p in range(6, 14))))
        self.gutter = QSpinBox(minimum=0, maximum=16, value=1, suffix=" px")
        self.characters = QPlainTextEdit()
        self.characters.setPlaceholderText("Type the characters that are needed, or add a block or a text file")
        self.characters.setAccessibleName("Characters")
        self.blocks = QPushButton("Add a block ▾")
        self.file = QPushButton("Add a text file…")
        self.make = with_properties(QPushButton("Make it"), objectName="primary")
        self.remove = QPushButton("Remove")
        self.line = QLineEdit(_LINE)
        self.line.setAccessibleName("A line of text, set from the sheet")
        self.pages = [Thumb(_PAGE) for _ in PAGES]
        self.set = Thumb(10)
        self.bar = with_properties(QProgressBar(), visible=False)
        self.stop = with_properties(QPushButton("Cancel"), visible=False)
        self._facts = with_properties(QLabel(wordWrap=True), objectName="heading", accessibleName="Facts of the sheet")
        self._bytes = with_properties(QLabel(wordWrap=True), objectName="caption")
        self._missing = with_properties(
            QLabel(wordWrap=True), objectName="warning", accessibleName="What the font lacks"
        )
        self._cannot = with_properties(QLabel(wordWrap=True), objectName="caption")
        self._harmed = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="What formats do to the sheet"
        )
        self._build()

    def _build(self) -> None:
        whole = QHBoxLayout(self)
        whole.setContentsMargins(12, 2, 0, 8)
        whole.setSpacing(10)
        left = QVBoxLayout()
        left.setSpacing(6)
        top = QHBoxLayout()
        top.setSpacing(6)
        self.which.setMinimumWidth(200)
        top.addWidget(self.which)
        top.addWidget(self.bar, 1)
        top.addWidget(self.stop)
        top.addStretch(1)
        top.addWidget(self.remove)
        top.addWidget(self.make)
        left.addLayout(top)
        pages = QHBoxLayout()
        pages.setSpacing(8)
        for letter, page in zip(PAGES, self.pages, strict=True):
            column = QVBoxLayout()
            column.setSpacing(2)
            page.setAccessibleName(f"Page {letter}")
            column.addWidget(page)
            column.addWidget(with_properties(QLabel(f"page in {letter}"), objectName="caption"))
            pages.addLayout(column)
        pages.addStretch(1)
        left.addLayout(pages)
        left.addWidget(self._facts)
        left.addWidget(self._missing)
        row = QHBoxLayout()
        row.addWidget(with_properties(QLabel("Set from the sheet"), objectName="soft"))
        row.addWidget(self.line, 1)
        left.addLayout(row)
        self.set.setFixedSize(656, 120)
        self.set.setAccessibleName("The line as a shader would draw it")
        left.addWidget(self.set)
        left.addStretch(1)
        whole.addLayout(left, 1)
        whole.addWidget(self._side())

    def _side(self) -> QScrollArea:
        """Return the settings, in a column that scrolls."""
        side = with_properties(QFrame(), objectName="swatch")
        column = QVBoxLayout(side)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(6)
        form = QGridLayout()
        form.setHorizontalSpacing(6)
        form.setVerticalSpacing(4)
        rows: tuple[tuple[str, QWidget], ...] = (
            ("font", self.font_line), ("", self.browse), ("size", self.em), ("", self.fields), ("spread", self.spread),
            ("pages", self.side), ("gutter", self.gutter),
        )  # fmt: skip
        for line, (words, widget) in enumerate(rows):
            label = with_properties(QLabel(words), objectName="soft")
            label.setBuddy(widget)
            form.addWidget(label, line, 0)
            form.addWidget(widget, line, 1)
            if words:
                widget.setAccessibleName(f"Glyphs: {words}")
        column.addLayout(form)
        column.addWidget(with_properties(QLabel("Characters"), objectName="heading"))
        self.characters.setFixedHeight(92)
        column.addWidget(self.characters)
        row = QHBoxLayout()
        row.addWidget(self.blocks)
        row.addWidget(self.file)
        column.addLayout(row)
        for widget in (self._bytes, self._harmed, self._cannot):
            column.addWidget(widget)
        column.addStretch(1)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setWidget(side)
        scroll.setFixedWidth(314)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.blocks.setStyleSheet("QPushButton::menu-indicator { image: none; width: 0; }")
        self._cannot.setText(
            "A sheet like this needs its own shading: one channel is read for each glyph (the GLSL is shipped beside it), so it "
            "cannot share an atlas with other textures."
        )
        return scroll
