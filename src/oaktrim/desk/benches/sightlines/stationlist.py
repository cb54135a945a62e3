"""The stations as little shots, and the rules of how near things are seen."""

from __future__ import annotations

from math import degrees

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor, QIcon, QImage, QPixmap
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.sight.sightlines import Sightlines, Station
from oaktrim.desk.benches.sightlines.edits import rules_of
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens

SHOT = QSize(140, 79)


class StationList(QFrame):
    """What is looked from.

    Signals
    -------
    chosen : place of a station; renamed : its place and new name
    ruled_out : place of a zone or rule that is to go, as `rules_of` has them
    """

    chosen = Signal(int)
    renamed = Signal(int, str)
    ruled_out = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedWidth(164)
        self.shots = with_properties(QListWidget(), accessibleName="Stations")
        self.here = with_properties(QPushButton("Station here"), toolTip="Keep this view as a station of the job")
        self.typed = with_properties(
            QPushButton("Type"), toolTip="A station by its numbers: eye, what it looks at, angle, screen"
        )
        self.remove = with_properties(
            QPushButton("✕"), toolTip="Remove the chosen station", accessibleName="Remove the station"
        )
        self.walk = with_properties(
            QPushButton("Path"),
            toolTip="Walk through the stations in their order, three seconds between two",
        )
        self._heading = with_properties(QLabel("Zones and rules"), objectName="heading")
        self.rules = with_properties(QListWidget(), accessibleName="Zones and rules")
        self.rules.setFixedHeight(72)
        self.rules.setWordWrap(True)
        self.zone = with_properties(QPushButton("Zone"), toolTip="A place that somebody looks around in")
        self.drop = with_properties(
            QPushButton("✕"), toolTip="Take the chosen zone or rule away", accessibleName="Remove the rule"
        )
        self.rule = with_properties(QPushButton("Rule"), toolTip="Say how near some textures are ever seen")
        self._stations: tuple[Station, ...] = ()
        self._build()

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 4, 6, 8)
        column.setSpacing(6)
        self.shots.setIconSize(SHOT)
        self.shots.setViewMode(QListWidget.ViewMode.IconMode)
        self.shots.setFlow(QListWidget.Flow.TopToBottom)
        self.shots.setWrapping(False)
        self.shots.setMovement(QListWidget.Movement.Static)
        self.shots.setSpacing(2)
        self.shots.setWordWrap(True)
        self.shots.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.shots.currentRowChanged.connect(self._choose)
        self.shots.itemClicked.connect(lambda item: self._choose(self.shots.row(item)))
        self.shots.itemChanged.connect(self._renamed)
        column.addWidget(self.shots, 1)
        column.addWidget(self.here)
        column.addLayout(_side_by_side(self.typed, self.walk, self.remove))
        column.addWidget(self._heading)
        column.addWidget(self.rules)
        column.addLayout(_side_by_side(self.zone, self.rule, self.drop))
        self.drop.clicked.connect(self._rule_out)
        self.rules.currentRowChanged.connect(lambda row: self.drop.setEnabled(row >= 0))

    def _rule_out(self) -> None:
        if self.rules.currentRow() >= 0:
            self.ruled_out.emit(self.rules.currentRow())

    def _choose(self, row: int) -> None:
        if row >= 0:
            self.chosen.emit(row)

    def _renamed(self, item: QListWidgetItem) -> None:
        row = self.shots.row(item)
        if 0 <= row < len(self._stations):
            name = item.text().strip()
            if name and name != self._stations[row].name:
                self.renamed.emit(row, name)

    def show_lines(self, stations: tuple[Station, ...], lines: Sightlines, own: bool) -> None:
        """Show other stations and rules.

        Parameters
        ----------
        own : they are of the job, and not the cameras of a model
        """
        if stations != self._stations:
            self._stations = stations
            kept = self.shots.currentRow()
            self.shots.blockSignals(True)
            self.shots.clear()
            blank = QPixmap(SHOT)
            blank.fill(QColor(tokens().line))
            for station in stations:
                item = QListWidgetItem(QIcon(blank), station.name)
                item.setToolTip(
                    f"{station.name}: {degrees(station.yfov):.0f} degrees" + ("" if own else ", a camera of the model")
                )
                item.setSizeHint(QSize(SHOT.width() + 4, SHOT.height() + 24))
                if own:
                    item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
                self.shots.addItem(item)
            if 0 <= kept < len(stations):
                self.shots.setCurrentRow(kept)
            self.shots.blockSignals(False)
        self.remove.setEnabled(own and bool(stations))
        self.walk.setEnabled(own and len(stations) > 1)
        words = rules_of(lines)
        if words != [self.rules.item(place).text() for place in range(self.rules.count())]:
            self.rules.clear()
            self.rules.addItems(words)
            for place, text in enumerate(words):
                self.rules.item(place).setToolTip(text)
        self.drop.setEnabled(self.rules.currentRow() >= 0)

    def show_shot(self, row: int, picture: QImage) -> None:
        """Show what a station sees."""
        item = self.shots.item(row)
        if item is not None:
            self.shots.blockSignals(True)
            item.setIcon(QIcon(QPixmap.fromImage(picture)))
            self.shots.blockSignals(False)


def _side_by_side(left: QPushButton, right: QPushButton, last: QPushButton) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setSpacing(4)
    for key, width in ((left, 56), (right, 56), (last, 28)):
        key.setFixedWidth(width)
        key.setObjectName("chip")
        row.addWidget(key)
    return row
