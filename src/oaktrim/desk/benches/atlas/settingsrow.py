"""What is set of an atlas as a whole: what texels go to, the size of sheets, gutters, and in a menu all else."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QMenu, QPushButton, QSpinBox, QWidget

from oaktrim.core.makers.atlas.settings import Atlas, FactorUse, Rotation, Shrink, Weight
from oaktrim.desk.look.properties import with_properties

_WEIGHTS = {
    Weight.AREA: ("by area", "Texels by how large an island is on the model: as many a metre everywhere"),
    Weight.SEEN: ("as seen", "Texels by what the sightlines of this job show of each texture"),
    Weight.AS_IS: ("as it was", "All islands shrink alike, where they have to"),
}
_TURNS = {
    Rotation.QUARTER: "Quarter turns",
    Rotation.FREE: "Any angle, where they are scaled",
    Rotation.NONE: "No turns",
}
_SHRINKS = {Shrink.LEVELS: "Lose whole levels", Shrink.FREE: "Any scale"}
_FACTORS = {
    FactorUse.COMMON: "Factors in the sheets where they differ",
    FactorUse.BAKED: "All factors in the sheets",
    FactorUse.APART: "Materials of other factors apart",
}
_SWITCHES = {
    "sides_together": "One-sided and two-sided together",
    "project": "Project UVs where there are none",
    "square": "Sheets as high as wide",
}
_OWN = "texels as now"
_SIDES = (256, 512, 1024, 2048, 4096)
_SHARES = ((0.5, "keep half the texels"), (0.25, "keep a quarter"))


class SettingsRow(QWidget):
    """The row above the sheet.

    Signals
    -------
    changed : fields of `Atlas` with their new values
    weighed : what texels are to go to (`Weight`)
    """

    changed = Signal(object)
    weighed = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.weight = with_properties(QComboBox(), accessibleName="What texels go to", toolTip="What texels go to")
        self.side = with_properties(
            QComboBox(),
            accessibleName="Longest side of a sheet",
            toolTip="Longest side of a sheet, at most; as now: no more texels than the sources have",
        )
        self.sheets = with_properties(QSpinBox(), accessibleName="Sheets", toolTip="Sheets of each material, at most")
        self.gutter = with_properties(QSpinBox(), accessibleName="Gutter", toolTip="Texels between islands")
        self.more = with_properties(
            QPushButton("More"), toolTip="What goes in, and how islands may be turned and scaled"
        )
        self._build()
        self.weight.activated.connect(lambda _: self.weighed.emit(self.weight.currentData()))
        self.side.activated.connect(lambda _: self._say(**_sized(self.side.currentData()), pins=()))
        self.sheets.valueChanged.connect(lambda value: self._say(sheets=value, pins=()))
        self.gutter.valueChanged.connect(lambda value: self._say(gutter=value))

    def _build(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 2, 8, 6)
        row.setSpacing(4)
        for place, (weight, (words, about)) in enumerate(_WEIGHTS.items()):
            self.weight.addItem(words, weight)
            self.weight.setItemData(place, about, Qt.ItemDataRole.ToolTipRole)
        self.weight.setMinimumWidth(92)
        self.side.addItem(_OWN, 0)
        for side in _SIDES:
            self.side.addItem(f"{side:,} px", side)
        for share, words in _SHARES:
            self.side.addItem(words, -share)
        self.side.setMinimumWidth(118)
        self.sheets.setRange(1, 8)
        self.sheets.setFixedWidth(86)
        self.gutter.setRange(0, 64)
        self.gutter.setSingleStep(4)
        self.gutter.setPrefix("gutter ")
        self.gutter.setFixedWidth(92)
        self.more.setMenu(QMenu(self.more))
        for widget in (self.weight, self.side, self.sheets, self.gutter, self.more):
            row.addWidget(widget)
        row.addStretch(1)

    def _say(self, **changes: object) -> None:
        self.changed.emit(changes)

    def show_settings(self, wanted: Atlas, others: Sequence[str], objects: Sequence[str]) -> None:
        """Show what is set.

        Parameters
        ----------
        others : models that could go in as well; objects : of the model that is shown
        """
        with QSignalBlocker(self.sheets), QSignalBlocker(self.gutter), QSignalBlocker(self.side):
            self.sheets.setValue(wanted.sheets)
            self.sheets.setSuffix(" sheet" if wanted.sheets == 1 else " sheets")
            self.gutter.setValue(wanted.gutter)
            size = -wanted.share_kept if wanted.share_kept and not wanted.size else wanted.size
            place = self.side.findData(size)
            if place < 0:
                self.side.addItem(f"{size:,} px" if size > 0 else f"keep {-size:.0%} of the texels", size)
                place = self.side.count() - 1
            self.side.setCurrentIndex(place)
        self.weight.setCurrentIndex(self.weight.findData(wanted.weight))
        self._fill_menu(wanted, others, objects)

    def _fill_menu(self, wanted: Atlas, others: Sequence[str], objects: Sequence[str]) -> None:
        menu = self.more.menu()
        menu.clear()
        if others:
            menu.addSection("Together with")
        for path in others:
            self._check(menu, path, path in wanted.source_models, "source_models", _turned(wanted.source_models, path))
        if len(objects) > 1:
            menu.addSection("Of its objects")
            self._check(menu, "all", not wanted.objects, "objects", ())
            for name in objects:
                self._check(menu, name, name in wanted.objects, "objects", _turned(wanted.objects, name))
        menu.addSection("Islands")
        for way, words in _TURNS.items():
            self._check(menu, words, wanted.rotate is way, "rotate", way)
        for scales, words in _SHRINKS.items():
            self._check(menu, words, wanted.shrink is scales, "shrink", scales)
        menu.addSection("Materials and sheets")
        for use, words in _FACTORS.items():
            self._check(menu, words, wanted.factors is use, "factors", use)
        for field, words in _SWITCHES.items():
            on = bool(getattr(wanted, field))
            self._check(menu, words, on, field, not on)

    def _check(self, menu: QMenu, words: str, on: bool, field: str, value: object) -> None:
        """Add a line to the menu that sets a field; places by hand hold no longer then."""
        action = menu.addAction(words.replace("&", "&&"))
        action.setCheckable(True)
        action.setChecked(on)
        say: Callable[[], None] = partial(self._say, **{field: value}, pins=())
        action.triggered.connect(lambda _: say())


def _sized(choice: float) -> dict[str, object]:
    """Return what a choice of the size says: texels of a side, or below nought the share of texels that is enough."""
    return {"size": max(0, int(choice)), "share_kept": max(0.0, -choice)}


def _turned(names: tuple[str, ...], name: str) -> tuple[str, ...]:
    """Return names without one that is among them, or with it."""
    kept = tuple(row for row in names if row != name)
    return kept if name in names else (*names, name)
