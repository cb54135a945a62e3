"""A layout of one's own: what each channel is read as, kept in the job or for every job."""

from __future__ import annotations

import re

import msgspec
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QLabel,
    QLineEdit,
    QWidget,
)

from oaktrim.core.makers.layouts import LAYOUTS, OUTPUT_NAMES, Layout, LayoutSlot
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.survey.roles import Family, Role
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.asking import Asking

_KNOWN = {slot.name: slot for layout in reversed(LAYOUTS) for slot in layout.slots if slot.name}
_ROLES = tuple(role for role in Role if role.family in (Family.SURFACE, Family.MASK))


class LayoutDialog(Asking[Layout]):
    """Asks for a layout; names that the product knows bring what they mean along."""

    def __init__(self, begin: Layout, parent: QWidget) -> None:
        super().__init__("A layout of your own", parent)
        self.name = QLineEdit(placeholderText="Such as Cloth masks")
        self.name.setAccessibleName("Name of the layout")
        self.slots: list[QLineEdit] = []
        self.figures: list[tuple[QDoubleSpinBox, QDoubleSpinBox, QDoubleSpinBox]] = []
        self.srgb: list[QCheckBox] = []
        self.role = with_properties(QComboBox(), accessibleName="What the packed texture is used as")
        self.role.addItems([role.label for role in _ROLES])
        self.role.setCurrentText(begin.role.label)
        self.everywhere = QCheckBox("keep it for every job")
        self._begin = begin
        self._build()

    def _build(self) -> None:
        grid = QGridLayout()
        grid.addWidget(QLabel("Name"), 0, 0)
        grid.addWidget(self.name, 0, 1, 1, 5)
        grid.addWidget(with_properties(QLabel("read as"), objectName="soft"), 1, 1)
        for column, words in enumerate(("filled with", "expected from", "to", ""), 2):
            grid.addWidget(with_properties(QLabel(words), objectName="soft"), 1, column)
        for line, (name, slot) in enumerate(zip(OUTPUT_NAMES, self._begin.slots, strict=True), 2):
            word = QLineEdit(slot.name, placeholderText="nobody reads it")
            word.setAccessibleName(f"{name.capitalize()} is read as")
            grid.addWidget(QLabel(name.capitalize()), line, 0)
            grid.addWidget(word, line, 1)
            figures = []
            for column, (what, value) in enumerate((("Fill", slot.fill), ("Low", slot.low), ("High", slot.high)), 2):
                box = QDoubleSpinBox(minimum=0, maximum=1, singleStep=0.05, decimals=3, value=value)
                box.setAccessibleName(f"{what} of {name}")
                grid.addWidget(box, line, column)
                figures.append(box)
            srgb = with_properties(
                QCheckBox("sRGB"), checked=slot.transfer is Transfer.SRGB, toolTip="Readers take it as sRGB codes"
            )
            srgb.setVisible(name != "alpha")
            grid.addWidget(srgb, line, 5)
            self.slots.append(word)
            self.figures.append((figures[0], figures[1], figures[2]))
            self.srgb.append(srgb)
        grid.addWidget(QLabel("Used as"), 6, 0)
        grid.addWidget(self.role, 6, 1, 1, 5)
        self.column.addLayout(grid)
        self.column.addWidget(self.everywhere)
        self.finish()

    def made(self) -> Layout:
        """Return the layout as it stands.

        Raises
        ------
        ValueError : it lacks a name, or names no channel, or one twice
        """
        name = self.name.text().strip()
        ident = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:40]
        if not ident:
            raise ValueError("give the layout a name")
        if ident in {row.id for row in LAYOUTS}:
            raise ValueError("a layout of the product has that name; give it another")
        words = [line.text().strip().lower() for line in self.slots]
        named = [word for word in words if word]
        if len(set(named)) < len(named):
            raise ValueError("two channels are read as the same; name them apart")
        rows = [
            _slot(
                word, fill.value(), (low.value(), high.value()), Transfer.SRGB if srgb.isChecked() else Transfer.LINEAR
            )
            for word, (fill, low, high), srgb in zip(words, self.figures, self.srgb, strict=True)
        ]
        red, green, blue, alpha = rows
        return Layout(ident, name, ident, (red, green, blue, alpha), role=_ROLES[self.role.currentIndex()])


def _slot(word: str, fill: float, span: tuple[float, float], transfer: Transfer) -> LayoutSlot:
    if not word:
        return LayoutSlot(fill=fill)
    low, high = span
    known = _KNOWN.get(word)
    if known is not None:
        # No material of a model reads it from a layout that is not the standard's.
        return msgspec.structs.replace(known, fill=fill, low=low, high=high, transfer=transfer, reads=())
    return LayoutSlot(word, f"more {word}", fill, low, high, transfer, words=(word.replace(" ", "_"),))
