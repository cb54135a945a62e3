"""The wall: the worst part of every selected texture before and after its cuts, the most visible loss first."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QLabel, QScrollArea, QVBoxLayout, QWidget

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.resolve import Recipe
from oaktrim.core.units import size_text
from oaktrim.desk.benches.proof.candidatepane import picture_of
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.models.trials import Trials, Tried
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.pairwall import Pair, PairWall

_MOST = 120


class WallPage(QWidget):
    """Follows the selection; the largest textures are tried first.

    Signals
    -------
    chosen : row of a texture to be looked at alone
    """

    chosen = Signal(int)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self.trials = Trials(session.store, self)
        self.trials.found.connect(self._found)
        self.wall = PairWall()
        self.wall.chosen.connect(lambda place: self.chosen.emit(self.order[place]))
        self._words = with_properties(QLabel(), objectName="caption")
        self._rows: list[int] = []
        self._recipes: list[Recipe] = []
        self.results: dict[int, Tried] = {}
        self.order: list[int] = []
        self._key: tuple[object, ...] = ()
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setWidget(self.wall)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self._words.setContentsMargins(12, 4, 12, 0)
        column.addWidget(self._words)
        column.addWidget(scroll, 1)

    def refresh(self) -> None:
        """Try what ships now of all selected textures."""
        session = self._session
        if not session.is_open or session.trying:
            return
        plan = session.plan()
        rows = sorted(session.chosen, key=lambda row: -int(plan.footprint.memory[row]))[:_MOST]
        recipes = [plan.recipe(row) for row in rows]
        key = (plan.target, tuple(recipes), plan.inventory)
        if key == self._key:
            return
        self._key, self._rows, self._recipes, self.results = key, rows, recipes, {}
        self._show()
        self.trials.wish(
            plan, [(place, row, recipe) for place, (row, recipe) in enumerate(zip(rows, recipes, strict=True))]
        )

    @property
    def left(self) -> int:
        """How many textures are still to be made."""
        return len(self._rows) - len(self.results)

    def _found(self, place: int, result: Tried | Exception) -> None:
        if isinstance(result, Tried):
            self.results[place] = result
        self._show()

    def _show(self) -> None:
        assert self._session.inventory is not None
        names = self._session.inventory.names
        places = sorted(range(len(self._rows)), key=lambda p: (p not in self.results, -self._steps(p)))
        pairs = []
        for place in places:
            recipe, result = self._recipes[place], self.results.get(place)
            words = (
                f"{size_text(recipe.settings.width, recipe.settings.height)} {FORMATS[recipe.settings.format].label}"
            )
            name = names[self._rows[place]]
            if result is None:
                pairs.append(Pair(name, words, "…"))
            else:
                both = picture_of(result.before), picture_of(result.after)
                pairs.append(Pair(name, words, f"{result.jnd:.2f} JND", *both))
        self.order = [self._rows[place] for place in places]
        self.wall.show_pairs(pairs)
        more = len(self._session.chosen) - len(self._rows)
        self._words.setText(
            f"Left the source, right what ships, where they differ most; {len(self._rows)} textures"
            + (f", {self.left} still to be made" if self.left else "")
            + (f"; {more} smaller ones are left out" if more > 0 else "")
            + ". Enter or a double click looks at one alone."
        )

    def _steps(self, place: int) -> float:
        return self.results[place].jnd if place in self.results else 0.0
