"""Recipes of textures, tried one after the other beside the window, and kept for when they are asked for again."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from oaktrim.core.plan.resolve import Plan, Recipe
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.measures import Reference, Region
from oaktrim.core.proof.trial import reference_for, try_recipe
from oaktrim.core.ship.store import MadeStore
from oaktrim.desk.work.tasks import Work, start

_KEPT, _REGION = 400, 96


@dataclass(frozen=True, eq=False)
class Tried:
    """What a trial came to: JND, packed bytes, seconds, and the worst part before and after."""

    jnd: float
    package: int
    seconds: float
    before: NDArray[np.uint8]
    after: NDArray[np.uint8]


def trial_key(plan: Plan, row: int, recipe: Recipe) -> tuple[object, ...]:
    """Return all that decides what a trial comes to."""
    target, inventory = plan.target, plan.inventory
    return inventory.textures[row].content, inventory.roles[row].role, target.container, target.packing, recipe.settings


class Trials(QObject):
    """Tries recipes on one thread of its own making; the newest wish replaces the ones before.

    Signals
    -------
    found : place in the wishes, and what it came to or the error
    done : nothing is left to be tried
    """

    found = Signal(int, object)
    done = Signal()

    def __init__(self, store: MadeStore, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._store = store
        self._kept: OrderedDict[tuple[object, ...], Tried] = OrderedDict()
        self._wishes: list[tuple[int, int, Recipe]] = []
        self._plan: Plan | None = None
        self._reference: tuple[tuple[str, int], Reference] | None = None
        self._work: Work | None = None
        self._turn = 0

    def wish(self, plan: Plan, wishes: list[tuple[int, int, Recipe]]) -> None:
        """Try recipes, each with its place among them and the row of its texture; what was tried before comes at once."""
        self.stop()
        self._plan, self._wishes = plan, list(wishes)
        self._turn += 1
        self._next()

    def stop(self) -> None:
        """Let go of what is not tried yet."""
        self._wishes = []
        if self._work is not None and self._work.running:
            self._work.cancel()
        self._work = None

    def known(self, plan: Plan, row: int, recipe: Recipe) -> Tried | None:
        """Return what a trial came to, if it was tried."""
        return self._kept.get(trial_key(plan, row, recipe))

    def _next(self) -> None:
        plan = self._plan
        while plan is not None and self._wishes:
            place, row, recipe = self._wishes.pop(0)
            key = trial_key(plan, row, recipe)
            if key in self._kept:
                self.found.emit(place, self._kept[key])
                continue
            work = start(
                self._try(plan, row, recipe),
                self,
                partial(self._take, self._turn, place, key),
                partial(self._fail, self._turn, place),
            )
            self._work = work
            return
        self.done.emit()

    def _try(self, plan: Plan, row: int, recipe: Recipe) -> Task[Tried]:
        # The picture is read once for all candidates of a texture.
        mark, held = plan.inventory.textures[row].content, self._reference
        if held is None or held[0] != (mark, row):
            yield Progress(0, 1, f"reading {recipe.path}")
            held = self._reference = ((mark, row), reference_for(plan, row, sampled=True))
        trial = yield from try_recipe(plan, row, recipe, held[1], store=self._store)
        worst = trial.quality.worst(1, _REGION)
        height, width = trial.quality.map.shape
        wide, high = min(_REGION, width), min(_REGION, height)
        somewhere = Region((width - wide) // 2, (height - high) // 2, wide, high, 0.0)
        before, after = trial.quality.pictures(worst[0] if worst else somewhere)
        return Tried(trial.quality.jnd, trial.package, trial.seconds, before, after)

    def _take(self, turn: int, place: int, key: tuple[object, ...], tried: Tried) -> None:
        self._kept[key] = tried
        while len(self._kept) > _KEPT:
            self._kept.popitem(last=False)
        if turn == self._turn:
            self.found.emit(place, tried)
            self._next()

    def _fail(self, turn: int, place: int, error: Exception) -> None:
        if turn == self._turn:
            self.found.emit(place, error)
            self._next()
