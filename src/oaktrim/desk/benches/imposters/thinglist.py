"""What imposters are made of, or could be: those of the job first, then objects that are far away, and any other by a menu."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QSignalBlocker, QSize, Qt, Signal
from PySide6.QtWidgets import QFrame, QListWidget, QListWidgetItem, QMenu, QPushButton, QVBoxLayout

from oaktrim.core.makers.imposter.settings import Family, Imposter
from oaktrim.core.makers.imposter.things import Thing
from oaktrim.desk.look.properties import with_properties

# A model, and the names of its nodes.
Key = tuple[str, tuple[str, ...]]
_KEY = Qt.ItemDataRole.UserRole


def made_words(maker: Imposter) -> str:
    """Return what an imposter is, in a few words."""
    if maker.family is Family.RING:
        return f"ring of {maker.rows} × {maker.frames}, {maker.frame_size} px"
    if maker.family.of_frames:
        return f"{maker.family.value} of {maker.frames}, {maker.frame_size} px"
    what = f"cloud of {maker.cards}" if maker.family is Family.CLOUD else f"cards {maker.axes}"
    return f"{what}, {maker.size:,} px"


class ThingList(QFrame):
    """The left side of the bench.

    Signals
    -------
    chosen : the key of a thing
    all_wanted : imposters of all far things are wanted
    """

    chosen = Signal(object)
    all_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(184)
        self.rows = with_properties(QListWidget(), accessibleName="Things and their imposters")
        self.rows.setWordWrap(True)
        self.rows.currentRowChanged.connect(self._choose)
        self.other = with_properties(QPushButton("Another thing"), toolTip="Any model, or an object of one")
        self.other.setMenu(QMenu(self.other))
        self.all = with_properties(
            QPushButton("All that are far"),
            toolTip="Make imposters of all objects that no camera sees large, as one step",
        )
        self.all.clicked.connect(lambda _: self.all_wanted.emit())
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 4, 6, 6)
        column.setSpacing(6)
        column.addWidget(self.rows, 1)
        column.addWidget(self.other)
        column.addWidget(self.all)

    def _choose(self, row: int) -> None:
        if row >= 0:
            self.chosen.emit(self.rows.item(row).data(_KEY))

    def show_things(
        self, things: Sequence[Thing], far: Sequence[Thing], made: Sequence[Imposter], now: Key | None
    ) -> None:
        """Show what there is; `now` is the one that is shown."""
        known = {thing.key: thing for thing in things}
        keys: dict[Key, Imposter | None] = {(maker.source_model, maker.nodes): maker for maker in made}
        for thing in far:
            keys.setdefault(thing.key, None)
        if now is not None:
            keys.setdefault(now, None)
        with QSignalBlocker(self.rows):
            self.rows.clear()
            for key, maker in keys.items():
                found = known.get(key)
                name = found.name if found is not None else ", ".join(key[1]) or key[0].rpartition("/")[2]
                about = "far away" if maker is None and found is not None and found in far else ""
                about = made_words(maker) if maker is not None else about or "as set here"
                triangles = f" · {found.triangles:,} △" if found is not None else ""
                item = QListWidgetItem(f"{name}\n{about}{triangles}")
                item.setData(_KEY, key)
                item.setToolTip(f"{key[0]}{' · ' + ', '.join(key[1]) if key[1] else ''}")
                item.setSizeHint(QSize(150, 42))
                self.rows.addItem(item)
                if key == now:
                    self.rows.setCurrentItem(item)
        self.all.setVisible(any(keys.get(thing.key) is None for thing in far))
        self._fill(things)

    def _fill(self, things: Sequence[Thing]) -> None:
        menu = self.other.menu()
        menu.clear()
        by_model: dict[str, list[Thing]] = {}
        for thing in things:
            by_model.setdefault(thing.model, []).append(thing)
        for path, mine in by_model.items():
            below = menu.addMenu(path.replace("&", "&&")) if len(mine) > 1 else menu
            for thing in mine:
                words = path if len(mine) == 1 else thing.node or "all of it"
                action = below.addAction(words.replace("&", "&&"))
                action.triggered.connect(partial(lambda key, _=False: self.chosen.emit(key), thing.key))
