"""The swatch: the side panel about the selected texture: its picture, facts, ladder, and what was found."""

from __future__ import annotations

from html import escape

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.plan.ladder import ladder_of
from oaktrim.core.plan.otherfacts import about_other
from oaktrim.core.plan.resolve import weigh_rows
from oaktrim.core.ship.make import read_source
from oaktrim.core.survey.roles import Family
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.terms import breakable
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.ladder import Ladder
from oaktrim.desk.widgets.layers import Layer, make_layer
from oaktrim.desk.widgets.picture import PictureView
from oaktrim.desk.widgets.wavestrip import WaveStrip
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
            key = with_properties(QPushButton(name), checkable=True)
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
        self.name = with_properties(QLabel(wordWrap=True), objectName="title")
        self.picture = PictureView()
        self.picture.setMinimumHeight(150)
        self.wave = with_properties(WaveStrip(), visible=False)
        self.keys = ChannelKeys()
        self.keys.chosen.connect(self.picture.set_channels)
        self._level = with_properties(QSlider(Qt.Orientation.Horizontal), accessibleName="Level shown")
        self._level.valueChanged.connect(self._show_level)
        self._level_words = with_properties(QLabel(), objectName="caption")
        self._facts = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="Facts of the texture"
        )
        self._heading = with_properties(QLabel(wordWrap=True), objectName="heading")
        self.ladder = Ladder()
        self.ladder.rung_chosen.connect(self.rung_chosen)
        self._warnings = with_properties(
            QLabel(wordWrap=True), objectName="warning", accessibleName="Warnings of the texture"
        )
        self._everywhere = with_properties(QLabel(wordWrap=True), objectName="caption")
        self._everywhere.setAccessibleName("The texture on all targets")
        self._findings = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="Findings of the texture"
        )
        self._proof = with_properties(
            QPushButton("Prove it"), toolTip="Source against what ships, in the Proof bench (Alt+3)"
        )
        self._proof.clicked.connect(self.proof_wanted)
        self._build()
        self._wait = QTimer(self, singleShot=True, interval=60)
        self._wait.timeout.connect(self._load)
        self._soon = QTimer(self, singleShot=True, interval=40)
        self._soon.timeout.connect(self._show_targets)
        session.selection_changed.connect(self.refresh)
        session.plans_changed.connect(self._refresh_words)
        session.watched_changed.connect(self._refresh_words)
        session.opened.connect(self._forget)
        session.findings_changed.connect(self._refresh_words)

    def _build(self) -> None:
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = with_properties(QWidget(), objectName="sheet")
        column = QVBoxLayout(inside)
        column.setContentsMargins(14, 10, 12, 10)
        column.setSpacing(6)
        column.addWidget(self.name)
        column.addWidget(self.picture)
        column.addWidget(self.wave)
        column.addWidget(self.keys)
        level = QHBoxLayout()
        level.addWidget(self._level, 1)
        level.addWidget(self._level_words)
        column.addLayout(level)
        for widget in (self._facts, self._heading, self.ladder, self._warnings, self._everywhere, self._findings):
            column.addWidget(widget)
        column.addWidget(self._proof, alignment=Qt.AlignmentFlag.AlignLeft)
        column.addStretch(1)
        # A word that cannot be broken is cut, and does not push all else out of sight.
        inside.setMinimumWidth(0)
        inside.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
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
        several = session.is_open and len(session.chosen) > 1
        any_row = session.is_open and bool(session.chosen)
        for widget in (self.ladder, self.keys, self._level, self._proof, self._warnings, self.picture):
            widget.setVisible(any_row)
        self.wave.setVisible(False)
        if not any_row:
            for label in (self._heading, self._findings, self._level_words, self._everywhere):
                label.clear()
            self._say_other()
            return
        inventory, plan = session.inventory, session.plan()
        assert inventory is not None
        row = session.chosen[0]
        texture, guess, recipe = inventory.textures[row], inventory.roles[row], plan.recipe(row)
        self.name.setText(breakable(inventory.names[row]))
        self.name.setToolTip(texture.path)
        users = inventory.ownership.users(row)
        worn = f"used by {users[0]}" + (f" and {len(users) - 1} more" if len(users) > 1 else "") if users else ""
        facts = [
            f"{guess.role.label}: {guess.reason} ({guess.certainty.value})",
            *([worn] if worn else []),
            f"{texture.kind.upper()}, {texture.channels} channel{'s' if texture.channels > 1 else ''}, "
            f"{texture.bit_depth} bit{' float' if texture.floating else ''}, {self._origin(texture.path, texture.file_bytes)}",
            *([f"turned as its orientation says ({texture.orientation} of 8)"] if texture.orientation > 1 else []),
            *([f"not looked at: {', '.join(texture.ignored)}"] if texture.ignored else []),
        ]
        if several:
            total = weigh_rows(plan, np.array(session.chosen, np.int64), "memory")
            facts.append(f"and {len(session.chosen) - 1} more: {bytes_text(total)} together after the cuts")
        self._facts.setText(breakable("\n".join(facts)))
        format_label = FORMATS[recipe.settings.format].label
        self._facts.setToolTip("\n".join(users[:40]))
        self._heading.setText(f"How it gets to {session.watched.name}")
        self._heading.setToolTip(
            f"{size_text(recipe.settings.width, recipe.settings.height)} {format_label}, {recipe.settings.levels} levels"
        )
        ladder = ladder_of(plan, row)
        self.ladder.show_rungs(ladder.steps)
        self._warnings.setText("\n".join(f"▲ {warning}" for warning in ladder.warnings))
        self._warnings.setVisible(bool(ladder.warnings))
        self._soon.start()
        found = session.findings_about(texture.path)
        self._findings.setText(breakable("\n".join(f"! {f.message}. What to do: {f.remedy}." for f in found)))
        self._findings.setVisible(bool(found))

    def _origin(self, path: str, file_bytes: int) -> str:
        """Say where a texture comes from: a file, or what a maker makes it of."""
        assert self._session.inventory is not None
        making = self._session.inventory.made.get(path)
        if making is None:
            return f"file {bytes_text(file_bytes)}"
        of = ", ".join(source.rsplit("/", 1)[-1] for source in making.inputs)
        return f"made of {of}" if of else self._session.inventory.outputs[path].reason

    def _on_all_targets(self, row: int) -> str:
        """Return what a texture ships as on every target, as a small table."""
        session, lines = self._session, []
        for target in session.targets:
            plan = session.plan(target.id)
            a = plan.footprint
            size = size_text(int(a.width[row]), int(a.height[row]))
            sign = " ▲" if a.expanded[row] else ""
            cells = (target.name, size, FORMATS[ORDER[plan.formats[row]]].label + sign, bytes_text(int(a.memory[row])))
            style = ' style="font-weight:bold"' if target.id == session.watched_id else ""
            lines.append(
                f"<tr{style}>"
                + "".join(f'<td style="padding-right:6px">{escape(c).replace(" ", "&nbsp;")}</td>' for c in cells)
                + "</tr>"
            )
        return f"<table>{''.join(lines)}</table>"

    def _show_targets(self) -> None:
        """Show what the texture ships as everywhere; soon after the control that is dragged, with the rulers first."""
        if self._session.is_open and self._session.chosen:
            self._everywhere.setText(self._on_all_targets(self._session.chosen[0]))

    def _say_other(self) -> None:
        """Say what is selected when it is no texture."""
        session = self._session
        if session.inventory is None or not session.selected:
            self.name.setText("Nothing selected")
            self._facts.setText("Choose textures in the ledger to see what they are and how they ship.")
            return
        place = session.selected[0] - len(session.inventory.textures)
        row = session.inventory.others[place]
        told = about_other(session.plan(), session.plan(cut=False), place)
        self.name.setText(breakable(row.name))
        self.name.setToolTip(row.path)
        self._facts.setText(breakable("\n".join(told.facts)))
        self._heading.setText(f"How it gets to {session.watched.name}" if told.steps else "")
        self._everywhere.setText("\n".join(told.steps))
        found = session.findings_about(row.path)
        self._findings.setText(breakable("\n".join(f"! {f.message}. What to do: {f.remedy}." for f in found)))
        self._findings.setVisible(bool(found))
        self.wave.setVisible(bool(told.envelope))
        self.wave.show_envelope(told.envelope, told.kept)
        self._proof.setVisible(row.family in (Family.AUDIO, Family.ANIMATION))

    def _load(self) -> None:
        session = self._session
        if not session.is_open or not session.chosen or session.inventory is None:
            return
        inventory, row = session.inventory, session.chosen[0]
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
