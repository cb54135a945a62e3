"""What sightlines ask for on each target, found beside the window once somebody wants to know."""

from __future__ import annotations

from functools import partial
from typing import Protocol

from PySide6.QtCore import QObject, QTimer, Signal

from oaktrim.core.job.document import Job
from oaktrim.core.plan.rolerules import needs_demand
from oaktrim.core.sight.demand import Stage, demand_of
from oaktrim.core.sight.targets import selecting
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.drawables import TextureCache
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Target
from oaktrim.desk.work.tasks import Work, start

_SETTLE_MS = 600
# What is drawn of scenes is kept up to this.
_TEXTURES = 1 << 30


class Shown(Protocol):
    """What is looked at: the job as shown, the inventory and the target that is watched."""

    @property
    def job(self) -> Job: ...

    @property
    def inventory(self) -> Inventory | None: ...

    @property
    def targets(self) -> tuple[Target, ...]: ...

    @property
    def watched(self) -> Target: ...

    @property
    def trying(self) -> bool: ...


class Sights(QObject):
    """Keeps demand for as long as nothing that it is made of changes.

    Signals
    -------
    changed : what is asked for on the watched target has come, or is no longer known
    busy : the work under way, or None
    failed : an error to be shown
    """

    changed = Signal()
    busy = Signal(object)
    failed = Signal(object)

    def __init__(self, shown: Shown, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._shown = shown
        self._found: dict[tuple[object, ...], Demand] = {}
        # Of which more than the closed form is known, or of which nothing more can be.
        self._whole: set[tuple[object, ...]] = set()
        self._work: Work | None = None
        self._asked: tuple[object, ...] = ()
        self._of: Inventory | None = None
        self.wanted = False
        self.cache = TextureCache(_TEXTURES)
        self.stages: dict[int, Stage] = {}
        self._settle = QTimer(self, singleShot=True, interval=_SETTLE_MS)
        self._settle.timeout.connect(self._begin)

    def want(self) -> None:
        """Find it from now on; geometry is read only for those who ask."""
        if not self.wanted:
            self.wanted = True
            self.refresh()

    def refresh(self) -> None:
        """Find it anew where something has changed, once the hand is still."""
        inventory = self._shown.inventory
        if inventory is None:
            return
        if inventory is not self._of:
            self._of, self.stages = inventory, {}
            self._found.clear()
            self._whole.clear()
        if self._due() is not None:
            self._settle.start()

    def _due(self) -> Target | None:
        """Return the target that is to be asked next: the one that is watched, then those whose role rules go by it."""
        shown = self._shown
        watched, job = shown.watched, shown.job
        for target in (watched, *shown.targets):
            asked = needs_demand(job.role_rules, target.id)
            asked |= target is watched and (self.wanted or bool(job.sightlines))
            if asked and self._key(target) not in self._whole:
                return target
        return None

    def is_pending(self, target: Target) -> bool:
        """Say whether role rules of a target go by what has not yet been found."""
        return needs_demand(self._shown.job.role_rules, target.id) and self._key(target) not in self._whole

    def _key(self, target: Target) -> tuple[object, ...]:
        return target.filtering, target.screen, self._shown.job.sightlines

    def demand(self, target: Target) -> Demand | None:
        """Return what is asked for on a target, or None where that is not known."""
        return self._found.get(self._key(target)) if self._shown.inventory is self._of else None

    def _begin(self) -> None:
        inventory = self._shown.inventory
        if inventory is None or self._shown.trying:
            return
        target, job = self._due(), self._shown.job
        if target is None:
            return
        key = self._key(target)
        if self._work is not None and key == self._asked:
            return
        if self._work is not None:
            self._work.cancel()
        self._asked = key

        def take(demand: Demand) -> None:
            if inventory is self._shown.inventory and inventory is self._of and key == self._key(target):
                self._found[key] = demand
                self.changed.emit()

        def done(demand: Demand) -> None:
            self._whole.add(key)
            take(demand)
            self.refresh()

        def failed(error: Exception) -> None:
            self._whole.add(key)
            self.failed.emit(error)

        selected = selecting(inventory, target)
        task = demand_of(inventory, target, job.sightlines, selected, self.cache, job.max_pixels, self.stages)
        work = self._work = start(task, self, done, failed)
        work.found.connect(take)
        work.ended.connect(partial(self._ended, work))
        self.busy.emit(work)

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None
            self.busy.emit(None)

    def stop(self) -> None:
        """Let go of what is under way."""
        if self._work is not None:
            self._work.cancel()
