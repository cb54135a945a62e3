"""A card for each material: what becomes of it, how many levels it loses, and what can be said of it by hand."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QButtonGroup, QFrame, QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from oaktrim.core.makers.atlas.contents import Gathered, MaterialNote
from oaktrim.core.makers.atlas.settings import Atlas, MaterialChoice, Repeats, Take
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.sheetview import levels_text

_WAYS = {Repeats.BAKE: "write out", Repeats.SPLIT: "split", Repeats.LEAVE: "leave"}
_ABOUT = {
    Repeats.BAKE: "The texture is written out as often as it repeats",
    Repeats.SPLIT: "Triangles are split at whole tiles, so that one tile is enough; this adds vertices",
    Repeats.LEAVE: "The material stays as it is",
}


class MaterialCard(QFrame):
    """One material.

    Signals
    -------
    picked : its path
    said : a `MaterialChoice`
    """

    picked = Signal(str)
    said = Signal(object)

    def __init__(
        self, note: MaterialNote, choice: MaterialChoice, words: str, group: int, levels: float | None
    ) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.note, self._choice, self._group = note, choice, group
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"material {note.material.name}: {words}")
        self._chosen = False
        self.more = with_properties(
            QPushButton("+"), toolTip="A level more than its weight gives it", accessibleName="a level more"
        )
        self.fewer = with_properties(QPushButton("−"), toolTip="A level fewer", accessibleName="a level fewer")
        self.keep = with_properties(
            QPushButton("keep"), checkable=True, checked=choice.keep, toolTip="It loses no texel: for faces and letters"
        )
        self.take = QPushButton("leave out" if note.taken else "take in")
        self.ways: dict[Repeats, QPushButton] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 5, 8, 6)
        column.setSpacing(2)
        top = QHBoxLayout()
        name = with_properties(QLabel(note.material.name, textFormat=Qt.TextFormat.PlainText), objectName="heading")
        name.setMinimumWidth(20)
        top.addWidget(name, 1)
        if levels is not None:
            top.addWidget(with_properties(QLabel(levels_text(levels)), objectName="caption"))
        column.addLayout(top)
        column.addWidget(
            with_properties(QLabel(words, wordWrap=True, textFormat=Qt.TextFormat.PlainText), objectName="caption")
        )
        self._repeats = self._repeat_row()
        column.addWidget(self._repeats)
        self._hand = self._hand_row()
        column.addWidget(self._hand)
        self.set_chosen(False)

    def _repeat_row(self) -> QWidget:
        """Return the ways round a texture that repeats, with what they cost."""
        row = QWidget()
        across = QHBoxLayout(row)
        across.setContentsMargins(0, 2, 0, 2)
        across.setSpacing(4)
        group = QButtonGroup(row)
        for way, words in _WAYS.items():
            key = with_properties(QPushButton(words), checkable=True, toolTip=_ABOUT[way])
            key.setObjectName("chip")
            key.clicked.connect(partial(self._say, repeats=way, take=None))
            group.addButton(key)
            across.addWidget(key)
            self.ways[way] = key
        across.addStretch(1)
        return row

    def show_way(self, way: Repeats) -> None:
        """Mark what is done with its repeats."""
        self.ways[way].setChecked(True)

    def _hand_row(self) -> QWidget:
        row = QWidget()
        across = QHBoxLayout(row)
        across.setContentsMargins(0, 2, 0, 2)
        across.setSpacing(4)
        for key in (self.fewer, self.more, self.keep, self.take):
            key.setObjectName("chip")
            across.addWidget(key)
        across.addStretch(1)
        level = self._choice.levels
        self.fewer.clicked.connect(lambda: self._say(levels=level - 1))
        self.more.clicked.connect(lambda: self._say(levels=level + 1))
        self.keep.clicked.connect(lambda on: self._say(keep=bool(on)))
        self.take.clicked.connect(lambda: self._say(take=Take.LEAVE if self.note.taken else Take.TAKE))
        return row

    def _say(self, *_: object, **changes: object) -> None:
        values = {name: getattr(self._choice, name) for name in self._choice.__struct_fields__}
        self.said.emit(MaterialChoice(**{**values, **changes}))

    def set_chosen(self, chosen: bool) -> None:
        """Show what can be done with it."""
        self._chosen = chosen
        repeats = max(self.note.repeats) > 1.001 and self.note.same_as < 0
        # What cannot be merged at all has no ways round.
        barred = bool(self.note.material.reason)
        self._repeats.setVisible(repeats and not barred)
        self._hand.setVisible(chosen and not barred)
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.picked.emit(self.note.material.path)

    def keyPressEvent(self, event: object) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):  # type: ignore[attr-defined]
            self.picked.emit(self.note.material.path)
        else:
            super().keyPressEvent(event)  # type: ignore[arg-type]

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter, now = QPainter(self), tokens()
        colours = (now.oak, now.slate, now.moss, now.plum)
        colour = colours[self._group % len(colours)] if self._group >= 0 else now.line
        painter.fillRect(0, 0, 5, self.height(), QColor(colour))
        if self._chosen or self.hasFocus():
            painter.setPen(QColor(now.oak if self._chosen else now.soft))
            painter.drawRect(0, 0, self.width() - 1, self.height() - 1)
        painter.end()


def card_words(note: MaterialNote, gathered: Gathered) -> str:
    """Return what becomes of a material, in a few words."""
    if note.reason:
        return f"stays: {note.reason}"
    into = gathered.groups[note.group].name if len(gathered.groups) > 1 and note.taken else ""
    into = f" · into {into.split(' ', 1)[1]}" if " " in into else ""
    if note.same_as >= 0:
        return f"the same as {gathered.notes[note.same_as].material.name}: one with it{into}"
    if not note.material.maps:
        return f"no texture: some texels of its colour{into}"
    islands = "1 island" if note.islands == 1 else f"{note.islands:,} islands"
    if max(note.repeats) > 1.001:
        return (
            f"repeats {note.repeats[0]:.3g} × {note.repeats[1]:.3g}: {bytes_text(note.baked_bytes)} written out{into}"
        )
    used = "" if note.used > 0.98 else f" on {note.used * 100:.0f} % of its texture"
    return f"{islands}{used}{into}"


class CardList(QScrollArea):
    """The cards of all materials, one below the other.

    Signals
    -------
    picked : path of the material that was clicked
    said : a `MaterialChoice`
    """

    picked = Signal(str)
    said = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedWidth(244)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._inside = with_properties(QWidget(), objectName="desk")
        self._column = QVBoxLayout(self._inside)
        self._column.setContentsMargins(12, 0, 6, 8)
        self._column.setSpacing(5)
        self._inside.setFixedWidth(232)
        self.setWidget(self._inside)
        self.cards: dict[str, MaterialCard] = {}
        self._chosen = ""

    def show_notes(self, gathered: Gathered, settings: Atlas, levels: dict[str, float]) -> None:
        """Show what becomes of each material; `levels` are those lost, by its path."""
        place = self.verticalScrollBar().value()
        clear_layout(self._column)
        self.cards = {}
        for note in gathered.notes:
            path = note.material.path
            group = note.group
            card = MaterialCard(note, settings.choice(path), card_words(note, gathered), group, levels.get(path))
            card.show_way(settings.choice(path).repeats or settings.repeats)
            card.picked.connect(self.picked)
            card.said.connect(self.said)
            card.set_chosen(path == self._chosen)
            self._column.addWidget(card)
            self.cards[path] = card
        self._column.addStretch(1)
        self.verticalScrollBar().setValue(place)

    def choose(self, path: str) -> None:
        """Mark a material."""
        self._chosen = path
        for name, card in self.cards.items():
            card.set_chosen(name == path)
        if path in self.cards:
            self.ensureWidgetVisible(self.cards[path], 0, 20)
