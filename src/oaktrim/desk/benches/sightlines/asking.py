"""Dialogs that ask for a station by its numbers, and for a zone."""

from __future__ import annotations

from math import degrees, radians

import msgspec
from PySide6.QtWidgets import QComboBox, QFormLayout, QLineEdit, QWidget

from oaktrim.core.sight.sightlines import Point, Station, Zone
from oaktrim.core.units import point_of, size_of
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.asking import Asking

_BOX = "anywhere in a box"


def _text(point: Point) -> str:
    return ", ".join(f"{value:.6g}" for value in point)


class StationAsking(Asking[Station]):
    """Asks for a station, beginning with one that is there or with the present view."""

    def __init__(self, station: Station, screen: tuple[int, int], parent: QWidget) -> None:
        super().__init__("A station", parent)
        self._scene = station.scene
        self.name = with_properties(QLineEdit(station.name), accessibleName="Name of the station")
        self.eye = with_properties(QLineEdit(_text(station.eye)), accessibleName="Eye")
        self.target = with_properties(QLineEdit(_text(station.target)), accessibleName="Looks at")
        self.angle = with_properties(QLineEdit(f"{degrees(station.yfov):.4g}"), accessibleName="Vertical field of view")
        own = "" if station.screen is None else f"{station.screen[0]}x{station.screen[1]}"
        self.pixels = with_properties(QLineEdit(own), accessibleName="Screen")
        self.pixels.setPlaceholderText(f"{screen[0]}x{screen[1]}, the target's")
        form = QFormLayout()
        for words, line in (
            ("Name", self.name), ("Eye, X, Y, Z", self.eye), ("Looks at", self.target),
            ("Field of view, degrees high", self.angle), ("Screen, pixels", self.pixels),
        ):  # fmt: skip
            form.addRow(words, line)
        self.column.addLayout(form)
        self.finish()

    def made(self) -> Station:
        text = self.pixels.text().strip()
        try:
            angle = radians(float(self.angle.text()))
        except ValueError as error:
            raise ValueError(f"the field of view is a number of degrees, not {self.angle.text()!r}") from error
        fields = {
            "name": self.name.text().strip(), "eye": point_of(self.eye.text()), "target": point_of(self.target.text()),
            "yfov": angle, "screen": size_of(text) if text else None, "scene": self._scene,
        }  # fmt: skip
        return msgspec.convert(fields, Station)


class ZoneAsking(Asking[Zone]):
    """Asks for a zone: what somebody walks on, or a box that somebody is in.

    Parameters
    ----------
    objects : names of what may be walked on; low, high : corners that the box begins with
    """

    def __init__(self, name: str, objects: list[str], low: Point, high: Point, scene: str, parent: QWidget) -> None:
        super().__init__("A zone that somebody looks around in", parent)
        self._scene = scene
        self.name = with_properties(QLineEdit(name), accessibleName="Name of the zone")
        self.ground = with_properties(QComboBox(), accessibleName="Where somebody stands")
        self.ground.addItem(_BOX, "")
        for row in objects:
            self.ground.addItem(f"on {row}", row)
        self.ground.setCurrentIndex(min(1, len(objects)))
        self.eyes = with_properties(QLineEdit("1.6"), accessibleName="Eyes above the ground")
        self.low = with_properties(QLineEdit(_text(low)), accessibleName="Lower corner of the box")
        self.high = with_properties(QLineEdit(_text(high)), accessibleName="Higher corner of the box")
        self.nearest = with_properties(QLineEdit("0.5"), accessibleName="Nothing is seen nearer than")
        form = QFormLayout()
        for words, widget in (
            ("Name", self.name), ("Stands", self.ground), ("Eyes above the ground, m", self.eyes),
            ("Lower corner, X, Y, Z", self.low), ("Higher corner", self.high), ("Nothing is nearer than, m", self.nearest),
        ):  # fmt: skip
            form.addRow(words, widget)
        self.column.addLayout(form)
        self.ground.currentIndexChanged.connect(lambda _: self._show())
        self._show()
        self.finish()

    def _show(self) -> None:
        boxed = not self.ground.currentData()
        self.eyes.setEnabled(not boxed)
        for line in (self.low, self.high):
            line.setEnabled(boxed)

    def made(self) -> Zone:
        ground = self.ground.currentData()
        fields: dict[str, object] = {"name": self.name.text().strip(), "scene": self._scene, "ground": ground}
        lines = {"nearest": self.nearest} | ({"eye_height": self.eyes} if ground else {})
        for field, line in lines.items():
            try:
                fields[field] = float(line.text())
            except ValueError as error:
                raise ValueError(f"{line.accessibleName().lower()}: {line.text()!r} is no number") from error
        if not ground:
            fields |= {"low": point_of(self.low.text()), "high": point_of(self.high.text())}
        if not fields["name"]:
            raise ValueError("a zone has a name")
        return msgspec.convert(fields, Zone)
