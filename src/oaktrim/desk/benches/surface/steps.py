"""The steps of a surface as a short stack: each with a switch, what it does in words, and a dose."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QFrame, QHBoxLayout, QLabel, QSlider, QVBoxLayout, QWidget

from oaktrim.core.makers.surface.settings import Axes, Calm, Flatten, Match, Surface, Tile
from oaktrim.core.proof.surfacedraft import SurfaceDraft
from oaktrim.desk.look.properties import with_properties

_AXES = {Axes.BOTH: "both axes", Axes.X: "across (or round a post)", Axes.Y: "down"}


class Step(QFrame):
    """One step: its switch, its words, and a slider of 0 to 100.

    Signals
    -------
    changed : the switch or the dose
    """

    changed = Signal()

    def __init__(self, title: str, about: str) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.on = with_properties(QCheckBox(title), objectName="step", toolTip=about)
        self.words = with_properties(QLabel(), objectName="caption")
        self.dose = with_properties(QSlider(Qt.Orientation.Horizontal), accessibleName=f"{title}: how much")
        self.dose.setRange(0, 100)
        self.more = QHBoxLayout()
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 5, 10, 5)
        column.setSpacing(2)
        column.addWidget(self.on)
        column.addWidget(self.words)
        column.addLayout(self.more)
        column.addWidget(self.dose)
        self.on.clicked.connect(lambda _: self.changed.emit())
        self.dose.sliderReleased.connect(self.changed)
        self.dose.valueChanged.connect(lambda _: None if self.dose.isSliderDown() else self.changed.emit())

    def show_step(self, on: bool, dose: float, words: str) -> None:
        """Show other settings."""
        blocked = QSignalBlocker(self.dose)
        self.on.setChecked(on)
        self.dose.setValue(round(dose * 100))
        del blocked
        self.dose.setEnabled(on)
        self.words.setText(words)


class StepColumn(QWidget):
    """All steps, in the order in which they are done.

    Signals
    -------
    changed : the surface with other steps
    """

    changed = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._surface: Surface | None = None
        self.flatten = Step("Flatten light", "Large-scale shading out, hue kept")
        self.cast = Step("Directional cast", "Light from one side out")
        self.calm = Step("Calm contrast", "Lightness brought to a spread")
        self.match = Step("Match", "Mean, spread and colour of another texture")
        self.tile = Step("Make it tile", "The least noticeable cut through an overlap")
        self.other = with_properties(QComboBox(), accessibleName="The texture to match")
        self.axes = with_properties(QComboBox(), accessibleName="Axes that it repeats along")
        for axes, words in _AXES.items():
            self.axes.addItem(words, axes)
        self.match.more.addWidget(self.other)
        self.tile.more.addWidget(self.axes)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 6, 6)
        column.setSpacing(5)
        edits: tuple[tuple[Step, Callable[[], Surface]], ...] = (
            (self.flatten, self._flattened), (self.cast, self._flattened), (self.calm, self._calmed),
            (self.match, self._matched), (self.tile, self._tiled),
        )  # fmt: skip
        for step, edit in edits:
            column.addWidget(step)
            step.changed.connect(lambda e=edit: self._say(e()))
        self.other.activated.connect(lambda _: self._say(self._matched()))
        self.axes.activated.connect(lambda _: self._say(self._tiled()))
        column.addStretch(1)

    def _say(self, surface: Surface) -> None:
        if self._surface is not None and surface != self._surface:
            self._surface = surface
            self.changed.emit(surface)

    # From the controls to settings

    def _flattened(self) -> Surface:
        assert self._surface is not None
        light, cast = self.flatten.on.isChecked(), self.cast.on.isChecked()
        before = self._surface.flatten or Flatten()
        how = msgspec.structs.replace(
            before,
            strength=(self.flatten.dose.value() / 100 or 1.0) if light else 0.0,
            cast=(self.cast.dose.value() / 100 or 1.0) if cast else 0.0,
        )
        return msgspec.structs.replace(self._surface, flatten=how if light or cast else None)

    def _calmed(self) -> Surface:
        assert self._surface is not None
        spread = max(0.01, self.calm.dose.value() / 100)
        return msgspec.structs.replace(self._surface, calm=Calm(spread) if self.calm.on.isChecked() else None)

    def _matched(self) -> Surface:
        assert self._surface is not None
        path = self.other.currentData()
        match = Match(path, self.match.dose.value() / 100 or 1.0) if path and self.match.on.isChecked() else None
        return msgspec.structs.replace(self._surface, match=match)

    def _tiled(self) -> Surface:
        assert self._surface is not None
        before = self._surface.tile or Tile()
        overlap = min(0.45, max(0.02, self.tile.dose.value() / 200))
        how = msgspec.structs.replace(before, axes=self.axes.currentData(), overlap=overlap)
        return msgspec.structs.replace(self._surface, tile=how if self.tile.on.isChecked() else None)

    # From settings to the controls

    def show_surface(self, surface: Surface, others: list[tuple[str, str]]) -> None:
        """Show what is set; `others` are paths and names of what could be matched."""
        self._surface = surface
        light, calm, match, tile = surface.flatten, surface.calm, surface.match, surface.tile
        lit, turned = light is not None and light.strength > 0, light is not None and light.cast > 0
        radius = (light or Flatten()).radius
        self.flatten.show_step(
            lit, light.strength if light and lit else 1.0, f"large shading out, radius {radius * 100:.0f} %"
        )
        self.cast.show_step(turned, light.cast if light and turned else 1.0, "light from one side")
        spread = (calm or Calm()).spread
        self.calm.show_step(calm is not None, spread, f"spread of lightness to {spread * 100:.0f} %")
        with QSignalBlocker(self.other):
            self.other.clear()
            for path, name in others:
                self.other.addItem(name, path)
            self.other.setCurrentIndex(max(0, self.other.findData(match.path if match else None)))
        self.match.show_step(match is not None, match.strength if match else 1.0, "brought to this one")
        self.match.on.setEnabled(bool(others))
        how = tile or Tile()
        with QSignalBlocker(self.axes):
            self.axes.setCurrentIndex(self.axes.findData(how.axes))
        self.tile.show_step(tile is not None, how.overlap * 2, f"overlap {how.overlap * 100:.0f} %")

    def show_found(self, now: SurfaceDraft) -> None:
        """Say what was found in the picture."""
        shading = now.made.shading
        self.cast.words.setText(f"from {shading.side}, {shading.stops:.1f} stops")
        if now.settings.tile is not None:
            before, after = (measured.edge for measured in now.measured)
            self.tile.words.setText(f"edge: {before.words}, {before.strength:.0f}×")
            self.tile.setToolTip(
                f"Strongest straight edge before: {before.strength:.1f} times the usual step, {before.words}. "
                f"After: {after.strength:.1f} times, {after.words}."
            )
        if now.made.clipped > 0.002:
            self.flatten.words.setText(f"{100 * now.made.clipped:.1f} % is clipped, and left alone")
