"""What is set of an imposter: its family, its cards, its sheet and the maps of that."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLabel, QPushButton, QSpinBox, QVBoxLayout, QWidget

from oaktrim.core.makers.imposter.settings import ChainForm, Family, Imposter, Pivot, SheetMap, Steps
from oaktrim.desk.look.properties import with_properties

_AXES = {
    "z": "one, facing Z",
    "x": "one, facing X",
    "xz": "two crossed",
    "xyz": "three crossed",
    "star:3": "star of 3",
    "star:4": "star of 4",
}
_SIDES = (64, 128, 256, 512, 1024, 2048)
_PIVOTS = {Pivot.ORIGIN: "as the model", Pivot.GROUND: "on the ground", Pivot.CENTRE: "its centre"}
_MAPS = {
    SheetMap.NORMAL: "normal", SheetMap.ORM: "surface", SheetMap.EMISSIVE: "emissive", SheetMap.DEPTH: "depth",
}  # fmt: skip
_FRAMES = (32, 64, 128, 256)
_STEPS = {
    Steps.NONE: "not at all", Steps.ONE: "one step", Steps.TWO: "two steps", Steps.MARCH: "march of 24",
}  # fmt: skip
_CHAINS: dict[ChainForm | None, str] = {
    None: "beside it", ChainForm.LEVELS: "a level of it", ChainForm.NAMED: "levels by name",
}  # fmt: skip


class SettingsColumn(QWidget):
    """The settings under the list of things.

    Signals
    -------
    changed : fields of `Imposter` with their new values
    chained : the form of a chain that is wanted, None for none
    seen_wanted : a ring of those frames alone that sightlines see
    """

    changed = Signal(object)
    chained = Signal(object)
    seen_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(184)
        self.axes, self.side, self.pivot, self.chain = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.cards, self.upright, self.outline, self.gutter = QSpinBox(), QSpinBox(), QSpinBox(), QSpinBox()
        self.frames, self.rows, self.frame_side, self.steps = QSpinBox(), QSpinBox(), QComboBox(), QComboBox()
        self.backs = with_properties(QCheckBox("backs apart"), toolTip="Bake fronts and backs of cards each for itself")
        self.seen = with_properties(
            QPushButton("Only what is seen"),
            toolTip="Make a ring of those frames alone that the job's sightlines can see",
        )
        self.maps = {kind: QCheckBox(words) for kind, words in _MAPS.items()}
        self._form = QFormLayout()
        self._build()

    def _build(self) -> None:
        for box, rows in (
            (self.axes, _AXES), (self.side, {side: f"{side:,} px" for side in _SIDES}), (self.pivot, _PIVOTS),
            (self.chain, _CHAINS), (self.frame_side, {side: f"{side} px" for side in _FRAMES}), (self.steps, _STEPS),
        ):  # fmt: skip
            for value, words in rows.items():
                box.addItem(str(words), value)
        self.cards.setRange(1, 256)
        self.frames.setRange(2, 32)
        self.rows.setRange(1, 8)
        self.upright.setRange(0, 100)
        self.upright.setSuffix(" %")
        self.outline.setRange(0, 16)
        self.outline.setSpecialValueText("box")
        self.gutter.setRange(0, 64)
        self._form.setContentsMargins(10, 2, 6, 4)
        self._form.setVerticalSpacing(4)
        self._form.setHorizontalSpacing(6)
        for words, widget, about in (
            ("Cards", self.axes, "Which way cards face"), ("Cards", self.cards, "Of a cloud, at most"),
            ("Upright", self.upright, "How far upright cards are preferred"),
            ("Frames", self.frames, "To a side, or in a row of a ring"), ("Rows", self.rows, "Of a ring, one above the other"),
            ("Frame", self.frame_side, "Side of a frame"), ("Depth", self.steps, "How often a look is corrected by depth"),
            ("Sheet", self.side, "Longest side of the sheet"), ("Gutter", self.gutter, "Texels between cards"),
            ("Outline", self.outline, "Corners around what is covered"), ("Pivot", self.pivot, "What stands at its origin"),
            ("Stands", self.chain, "Beside the model, or as one of its levels"),
        ):  # fmt: skip
            label = with_properties(QLabel(words), objectName="soft")
            widget.setToolTip(about)
            widget.setAccessibleName(about)
            self._form.addRow(label, widget)
        for check in self.maps.values():
            self._form.addRow("", check)
        self._form.addRow("", self.backs)
        self._form.addRow(self.seen)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(self._form)
        self.seen.clicked.connect(self.seen_wanted)
        self.axes.activated.connect(lambda _: self._say(axes=self.axes.currentData()))
        self.side.activated.connect(lambda _: self._say(size=self.side.currentData()))
        self.pivot.activated.connect(lambda _: self._say(pivot=self.pivot.currentData()))
        self.chain.activated.connect(lambda _: self.chained.emit(self.chain.currentData()))
        self.cards.valueChanged.connect(lambda value: self._say(cards=value))
        self.upright.valueChanged.connect(lambda value: self._say(upright=value / 100))
        self.outline.valueChanged.connect(lambda value: self._say(outline=value if value > 2 else 0))
        self.frames.valueChanged.connect(lambda value: self._say(frames=value))
        self.rows.valueChanged.connect(lambda value: self._say(rows=value))
        self.frame_side.activated.connect(lambda _: self._say(frame_size=self.frame_side.currentData()))
        self.steps.activated.connect(lambda _: self._say(steps=self.steps.currentData()))
        self.gutter.valueChanged.connect(lambda value: self._say(gutter=value))
        self.backs.clicked.connect(lambda on: self._say(sides=2 if on else 1))
        for kind, check in self.maps.items():
            check.clicked.connect(partial(self._set_map, kind))

    def _say(self, **changes: object) -> None:
        # Outlines by hand hold for the cards that there were.
        self.changed.emit({"outlines": (), **changes})

    def _set_map(self, kind: SheetMap, on: bool) -> None:
        wanted = {k for k, box in self.maps.items() if box.isChecked()}
        wanted = wanted | {kind} if on else wanted - {kind}
        self.changed.emit({"maps": tuple(k for k in SheetMap if k is SheetMap.BASE or k in wanted)})

    def show_settings(self, wanted: Imposter) -> None:
        """Show what is set."""
        boxes = (self.cards, self.upright, self.outline, self.gutter, self.frames, self.rows)
        blocked = [QSignalBlocker(box) for box in boxes]
        self.cards.setValue(wanted.cards)
        self.upright.setValue(round(wanted.upright * 100))
        self.outline.setValue(wanted.outline)
        self.gutter.setValue(wanted.gutter)
        self.frames.setValue(wanted.frames)
        self.rows.setValue(wanted.rows)
        del blocked
        choices: Sequence[tuple[QComboBox, object, str]] = (
            (self.axes, wanted.axes, wanted.axes), (self.side, wanted.size, f"{wanted.size:,} px"),
            (self.frame_side, wanted.frame_size, f"{wanted.frame_size} px"), (self.steps, wanted.steps, ""),
            (self.pivot, wanted.pivot, ""), (self.chain, None if wanted.chain is None else wanted.chain.form, ""),
        )  # fmt: skip
        for box, value, words in choices:
            places = [place for place in range(box.count()) if box.itemData(place) == value]
            if not places:
                box.addItem(words, value)
                places = [box.count() - 1]
            box.setCurrentIndex(places[0])
        for kind, check in self.maps.items():
            check.setChecked(kind in wanted.maps)
        self.backs.setChecked(wanted.sides == 2)
        cloud, frames = wanted.family is Family.CLOUD, wanted.family.of_frames
        for field, on in (
            (self.axes, wanted.family is Family.CARDS), (self.cards, cloud), (self.upright, cloud), (self.frames, frames),
            (self.rows, wanted.family is Family.RING), (self.frame_side, frames), (self.steps, frames),
            (self.side, not frames), (self.gutter, not frames),
        ):  # fmt: skip
            self._form.setRowVisible(field, on)
        self.backs.setVisible(not frames)
        self._form.setRowVisible(self.seen, frames)
        self.maps[SheetMap.DEPTH].setVisible(not frames)
