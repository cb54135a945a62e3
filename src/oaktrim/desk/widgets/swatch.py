"""The swatch: the side panel about the selected texture: its picture, facts, ladder, and what was found."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.resolve import weigh_rows
from oaktrim.core.ship.make import read_source
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.session import Session
from oaktrim.desk.widgets.ladder import Ladder
from oaktrim.desk.widgets.picture import Layer, PictureView, make_layer
from oaktrim.desk.work.tasks import Work, as_task, start

CHANNELS = ("RGBA", "RGB", "R", "G", "B", "A")


class ChannelKeys(QWidget):
    """A row of keys: all channels, the colours, or one alone."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        group = QButtonGroup(self)
        for name in CHANNELS:
            key = QPushButton(name, checkable=True)
            key.setObjectName("chip")
            key.setAccessibleName(f"Show channels {name}" if len(name) > 1 else f"Show channel {name} alone")
            key.setChecked(name == CHANNELS[0])
            key.clicked.connect(lambda _=False, name=name: self.chosen.emit(name))
            group.addButton(key)
            row.addWidget(key)


class Swatch(QFrame):
    """Follows the session's selection."""

    rung_chosen = Signal(object)
    proof_wanted = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("swatch")
        self.setFixedWidth(284)
        self._session = session
        self._loading: Work | None = None
        self._shown = ""
        self.name = QLabel(objectName="title", wordWrap=True)
        self.name.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.picture = PictureView()
        self.picture.setMinimumHeight(150)
        self.keys = ChannelKeys()
        self.keys.chosen.connect(self.picture.set_channels)
        self._level = QSlider(Qt.Orientation.Horizontal, accessibleName="Level shown")
        self._level.valueChanged.connect(self._show_level)
        self._level_words = QLabel(objectName="caption")
        self._facts = QLabel(objectName="caption", wordWrap=True)
        self._heading = QLabel(objectName="heading", wordWrap=True)
        self.ladder = Ladder()
        self.ladder.rung_chosen.connect(self.rung_chosen)
        self._warnings = QLabel(objectName="warning", wordWrap=True)
        self._findings = QLabel(objectName="caption", wordWrap=True)
        self._proof = QPushButton("Prove it", toolTip="Source against cut, in the Proof bench (Alt+2)")
        self._proof.clicked.connect(self.proof_wanted)
        self._build()
        self._wait = QTimer(self, singleShot=True, interval=60)
        self._wait.timeout.connect(self._load)
        session.selection_changed.connect(self.refresh)
        session.plans_changed.connect(self._refresh_words)
        session.watched_changed.connect(self._refresh_words)
        session.opened.connect(self._forget)

    def _build(self) -> None:
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        scroll = QScrollArea(widgetResizable=True, frameShape=QFrame.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = QWidget(objectName="sheet")
        column = QVBoxLayout(inside)
        column.setContentsMargins(14, 10, 12, 10)
        column.setSpacing(6)
        column.addWidget(self.name)
        column.addWidget(self.picture)
        column.addWidget(self.keys)
        level = QHBoxLayout()
        level.addWidget(self._level, 1)
        level.addWidget(self._level_words)
        column.addLayout(level)
        for widget in (self._facts, self._heading, self.ladder, self._warnings, self._findings):
            column.addWidget(widget)
        column.addWidget(self._proof, alignment=Qt.AlignmentFlag.AlignLeft)
        column.addStretch(1)
        scroll.setWidget(inside)
        outer.addWidget(scroll)

    def _forget(self) -> None:
        self._shown = ""
        self.refresh()

    def refresh(self) -> None:
        """Show the texture now selected."""
        self._refresh_words()
        self._wait.start()

    def _refresh_words(self) -> None:
        session = self._session
        several = session.is_open and len(session.selected) > 1
        any_row = session.is_open and bool(session.selected)
        for widget in (self.ladder, self.keys, self._level, self._proof, self._warnings):
            widget.setVisible(any_row)
        if not any_row:
            self.name.setText("Nothing selected")
            self._facts.setText("Choose textures in the ledger to see what they are and how they ship.")
            for label in (self._heading, self._findings, self._level_words):
                label.clear()
            self.picture.say("")
            return
        inventory, plan = session.inventory, session.plan()
        assert inventory is not None
        row = session.selected[0]
        texture, guess, recipe = inventory.textures[row], inventory.roles[row], plan.recipe(row)
        self.name.setText(texture.path.rsplit("/", 1)[-1])
        self.name.setToolTip(texture.path)
        facts = [
            f"{guess.role.label}: {guess.reason}",
            f"{texture.kind.upper()}, {texture.channels} channel{'s' if texture.channels > 1 else ''}, "
            f"{texture.bit_depth} bit{' float' if texture.floating else ''}, file {bytes_text(texture.file_bytes)}",
        ]
        if several:
            total = weigh_rows(plan, np.array(session.selected, np.int64), "memory")
            facts.append(f"and {len(session.selected) - 1} more: {bytes_text(total)} together after the cuts")
        self._facts.setText("\n".join(facts))
        format_label = FORMATS[recipe.format].label
        self._heading.setText(f"How it gets to {session.watched.name}")
        self._heading.setToolTip(f"{size_text(recipe.width, recipe.height)} {format_label}, {recipe.levels} levels")
        self.ladder.show_rungs(recipe.ladder)
        self._warnings.setText("\n".join(f"▲ {warning}" for warning in recipe.warnings))
        self._warnings.setVisible(bool(recipe.warnings))
        found = [f for f in session.findings() if f.path == texture.path]
        self._findings.setText("\n".join(f"! {f.message}. What to do: {f.remedy}." for f in found))
        self._findings.setVisible(bool(found))

    def _load(self) -> None:
        session = self._session
        if not session.is_open or not session.selected or session.inventory is None:
            return
        inventory, row = session.inventory, session.selected[0]
        texture = inventory.textures[row]
        key = f"{texture.path}:{texture.content}"
        if key == self._shown:
            return
        self._shown = key
        if not texture.pixels:
            self.picture.say(f"{texture.format or texture.kind} cannot be shown yet")
            return
        self.picture.say("…")

        def done(layer: Layer) -> None:
            if key == self._shown:
                self.picture.show_layers((layer,))
                self._level.setRange(-1, len(layer.levels) - 1)
                self._level.setValue(-1)
                self._show_level(-1)

        def failed(error: Exception) -> None:
            if key == self._shown:
                self.picture.say(str(error) if isinstance(error, OakTrimError) else f"cannot be shown: {error}")

        self._loading = start(
            as_task(lambda: make_layer(read_source(inventory, row)), "reading the picture"), self, done, failed
        )

    def _show_level(self, level: int) -> None:
        self.picture.set_level(None if level < 0 else level)
        self._level_words.setText("level by zoom" if level < 0 else f"level {level}")
