"""The stations as little shots, and the rules of how near things are seen."""

from __future__ import annotations

from math import degrees

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor, QIcon, QImage, QPixmap
from PySide6.QtWidgets import QFrame, QLabel, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.sight.sightlines import Sightlines, Station
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens

SHOT = QSize(140, 79)


class StationList(QFrame):
    """What is looked from.

    Signals
    -------
    chosen : place of a station; renamed : its place and new name
    """

    chosen = Signal(int)
    renamed = Signal(int, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedWidth(164)
        self.shots = with_properties(QListWidget(), accessibleName="Stations")
        self.here = with_properties(QPushButton("Station here"), toolTip="Keep this view as a station of the job")
        self.remove = QPushButton("Remove")
        self.walk = with_properties(
            QPushButton("Path through all"),
            toolTip="Walk through the stations in their order, three seconds between two",
        )
        self._heading = with_properties(QLabel("Never nearer than"), objectName="heading")
        self.rules = with_properties(QLabel(wordWrap=True), objectName="caption")
        self.rule = with_properties(QPushButton("Rule …"), toolTip="Say how near some textures are ever seen")
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
        for widget in (self.here, self.remove, self.walk, self._heading, self.rules, self.rule):
            column.addWidget(widget)

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
        words = [f"{rule.metres:g} m to {rule.where}" for rule in lines.nearest]
        words += [
            f"{row.model or 'models'} seen whole "
            + (f"from {row.metres:g} m" if row.metres is not None else f"at {row.height or 0:.0%} of the height")
            for row in lines.portraits
        ]
        self.rules.setText("\n".join(words) or "No rule yet.")

    def show_shot(self, row: int, picture: QImage) -> None:
        """Show what a station sees."""
        item = self.shots.item(row)
        if item is not None:
            self.shots.blockSignals(True)
            item.setIcon(QIcon(QPixmap.fromImage(picture)))
            self.shots.blockSignals(False)
