"""What a pack comes to: its picture, lit by what it holds, what it saves, and what each format does to its channels."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.pack.onshape import Shape, lit_picture
from oaktrim.core.makers.pack.pack import Unpacked
from oaktrim.core.makers.pack.proof import Damage
from oaktrim.core.pixels.image import Image, to_depth, to_rgba
from oaktrim.desk.benches.channels.lanerow import Thumb
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.layers import Look, developed
from oaktrim.desk.widgets.swatch import ChannelKeys

_SIDE = 212
_VIEWS = (("Picture", None), ("Sphere", Shape.SPHERE), ("Plane", Shape.PLANE))


class PackPane(QFrame):
    """The side panel of one pack.

    Signals
    -------
    settled : the maps that are switched off changed
    """

    settled = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("swatch")
        self.setFixedWidth(252)
        self._image: Image | None = None
        self._layout: Layout | None = None
        self._channels = "RGB"
        self.shape: Shape | None = None
        self.name = with_properties(QLabel(wordWrap=True), objectName="title")
        self.thumb = Thumb(_SIDE)
        self.thumb.setAccessibleName("The packed texture")
        self.keys = ChannelKeys()
        self.views: dict[str, QPushButton] = {}
        self.maps: list[QPushButton] = []
        self._maps_row = QHBoxLayout()
        self.saves = with_properties(QLabel(wordWrap=True), objectName="heading")
        self.totals = with_properties(QLabel(wordWrap=True), objectName="caption")
        self._apart = with_properties(QLabel(wordWrap=True), objectName="caption", accessibleName="Taken apart again")
        self._heading = with_properties(QLabel("Sent through formats"), objectName="heading")
        self.table = QGridLayout()
        self._advice = with_properties(QLabel(wordWrap=True), objectName="caption")
        self._build()

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(6)
        column.addWidget(self.name)
        column.addWidget(self.thumb)
        row = QHBoxLayout()
        row.setSpacing(4)
        group = QButtonGroup(self)
        for words, shape in _VIEWS:
            key = with_properties(QPushButton(words), checkable=True, checked=shape is None)
            key.setObjectName("chip")
            key.clicked.connect(partial(self._look_at, shape))
            group.addButton(key)
            row.addWidget(key)
            self.views[words] = key
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(self.keys)
        self.keys.chosen.connect(self._take_channels)
        self._maps_row.setSpacing(4)
        column.addLayout(self._maps_row)
        for widget in (self.saves, self.totals, self._apart, self._heading):
            column.addWidget(widget)
        self.table.setHorizontalSpacing(8)
        self.table.setVerticalSpacing(1)
        column.addLayout(self.table)
        column.addWidget(self._advice)
        column.addStretch(1)

    # The picture

    def use_layout(self, layout: Layout) -> None:
        """Show the maps of a layout."""
        if layout == self._layout:
            return
        self._layout = layout
        for key in self.maps:
            self._maps_row.removeWidget(key)
            key.deleteLater()
        self.maps = []
        for slot in layout.slots:
            if slot.name:
                key = with_properties(QPushButton(slot.name), checkable=True, checked=True)
                key.setObjectName("chip")
                key.setStyleSheet("padding: 2px 3px;")
                key.setToolTip(f"Light it with {slot.name}, or with one value everywhere")
                key.toggled.connect(lambda _: self._draw())
                self._maps_row.addWidget(key)
                self.maps.append(key)
        self._maps_row.addStretch(1)
        self._show_keys()

    def show_image(self, image: Image | None) -> None:
        """Show the pack as it is now, at a small size."""
        self._image = image
        self._draw()

    def _look_at(self, shape: Shape | None, _: bool = True) -> None:
        self.shape = shape
        self._show_keys()
        self._draw()

    def _show_keys(self) -> None:
        lightable = self._layout is not None and bool({"roughness", "gloss", "metalness", "occlusion"} & self._slots())
        for words, shape in _VIEWS:
            self.views[words].setEnabled(shape is None or lightable)
        self.keys.setVisible(self.shape is None)
        for key in self.maps:
            key.setVisible(self.shape is not None)

    def _slots(self) -> set[str]:
        return set() if self._layout is None else {slot.name for slot in self._layout.slots if slot.name}

    def _take_channels(self, channels: str) -> None:
        self._channels = channels
        self._draw()

    def _draw(self) -> None:
        if self._image is None:
            self.thumb.show_picture(None)
            return
        if self.shape is None:
            self.thumb.show_picture(developed(to_rgba(self._image), Look(channels=self._channels)))
            return
        codes = lit_picture(self.shape, self._lit_maps(), _SIDE)
        self.thumb.show_picture(developed(codes, Look()))

    def _lit_maps(self) -> dict[str, np.ndarray]:
        assert self._image is not None and self._layout is not None
        values = to_depth(self._image.pixels, np.float32)
        on = {key.text() for key in self.maps if key.isChecked()}
        found = {}
        for place, slot in enumerate(self._layout.slots[: values.shape[2]]):
            if slot.name in on:
                plane = np.ascontiguousarray(values[..., place])
                found["roughness" if slot.name == "gloss" else slot.name] = 1 - plane if slot.name == "gloss" else plane
        return found

    # Words and figures

    def show_totals(self, heading: str, lines: Sequence[str]) -> None:
        """Say what the pack saves."""
        self.saves.setText(heading)
        self.totals.setText("\n".join(lines))

    def show_apart(self, found: dict[int, Unpacked] | None) -> None:
        """Say how far each lane is from its sources once it is taken out again."""
        if found is None:
            self._apart.setText("Taking it apart …")
            return
        names = ("red", "green", "blue", "alpha")
        rows = [f"{names[place]} {'exact' if row.largest == 0 else f'{row.rms:.2f}'}" for place, row in found.items()]
        self._apart.setText("Taken apart again, off its sources by (RMS of 255): " + ", ".join(rows) if rows else "")

    def show_damages(self, rows: Sequence[Damage], count: int) -> None:
        """Show what each format does to each channel."""
        clear_layout(self.table)
        self._heading.setVisible(bool(rows))
        heads = ["", *"RGBA"[:count], "bled"]
        for column, head in enumerate(heads if rows else ()):
            self.table.addWidget(
                with_properties(QLabel(head), objectName="caption"), 0, column, Qt.AlignmentFlag.AlignRight
            )
        for line, row in enumerate(rows, 1):
            cells = [row.format.label, *("0" if row.exact else f"{v:.1f}" for v in row.rms[:count])]
            cells.append("–" if row.exact else f"{row.bled:.1f}")
            for column, text in enumerate(cells):
                side = Qt.AlignmentFlag.AlignRight if column else Qt.AlignmentFlag.AlignLeft
                label = with_properties(QLabel(text), objectName="caption")
                label.setToolTip(
                    "How much of a channel's error comes from the other channels"
                    if column == len(cells) - 1
                    else "Root mean square difference of the codes"
                )
                self.table.addWidget(label, line, column, side)
        blocks = [row for row in rows if not row.exact]
        if not blocks:
            self._advice.setText("")
            return
        best = min(blocks, key=lambda row: max(row.rms))
        self._advice.setText(f"{best.format.label} keeps the channels best apart of the block formats here.")
