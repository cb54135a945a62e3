"""Replacing estimates by measured sizes beside the window: first on samples, then by really making what ships."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, QThreadPool, QTimer, Signal

from oaktrim.core.plan.excerpts import measure_excerpts, missing_excerpts
from oaktrim.core.plan.modelsizes import measure_models, untried_models
from oaktrim.core.plan.packing import CompressionRatios, Key, Measured, measure_ratios
from oaktrim.core.plan.resolve import Plan, missing_of
from oaktrim.core.progress import Progress, Task
from oaktrim.core.ship.weighing import measure_packages
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.desk.work.tasks import Work, start


class Weigher(QObject):
    """Measures for one session.

    Signals
    -------
    weighed : some estimates have become measurements, which are handed over (`Measured`)
    failed : an error to be shown
    """

    weighed = Signal(object)
    failed = Signal(object)

    def __init__(self, cache: SurveyCache, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._cache = cache
        self._samples: Work | None = None
        self._whole: Work | None = None
        self._waiting = Measured()
        # Measuring goes on for long, and nobody waits for it: it takes no thread from what somebody waits for.
        self._spare = QThreadPool(self)
        self._spare.setMaxThreadCount(1)
        self._tell = QTimer(self, singleShot=True, interval=1500)
        self._tell.timeout.connect(self._hand_over)

    def measure(self, plans: Sequence[Plan], ratios: CompressionRatios, then: Callable[[], None]) -> bool:
        """Measure on samples what plans still guess, and call `then`; False where samples are being measured."""
        if self._samples is not None and self._samples.running:
            return False

        def measured(_: Measured) -> None:
            self._hand_over()
            then()

        self._samples = self._begin(self._sampling(plans, ratios), measured)
        return True

    def _begin(self, task: Task[Measured], done: Callable[[Measured], None], pool: QThreadPool | None = None) -> Work:
        work = start(task, self, done, self.failed.emit, pool)
        work.found.connect(self.take)
        return work

    def _sampling(self, plans: Sequence[Plan], ratios: CompressionRatios) -> Task[Measured]:
        yield Progress(0, 0, "looking for what is guessed")
        missing: list[Key] = list(dict.fromkeys(key for plan in plans for key in missing_of(plan, ratios)))
        found = yield from measure_ratios(ratios.inventory, missing, self._cache)
        return found | (yield from self._trying_others(plans, ratios))

    def _trying_others(self, plans: Sequence[Plan], ratios: CompressionRatios) -> Task[Measured]:
        found = yield from measure_excerpts(ratios.inventory.root, missing_excerpts(plans, ratios), self._cache)
        return found | (yield from measure_models(ratios.inventory, untried_models(plans, ratios), self._cache))

    def make(
        self, plan: Plan, ratios: CompressionRatios, max_pixels: int, compared: Callable[[], Sequence[Plan]]
    ) -> None:
        """Measure what is still estimated on a plan, for as long as nothing else is done.

        Parameters
        ----------
        compared : returns, on any thread, other plans whose sounds and models are to be measured on samples before that
        """
        if self._whole is not None and self._whole.running:
            return

        def making() -> Task[Measured]:
            yield Progress(0, 0, "looking for what is compared")
            found = yield from self._trying_others(compared(), ratios)
            return found | (yield from measure_packages(plan, ratios, self._cache, max_pixels))

        self._whole = self._begin(making(), self._hand_over, self._spare)

    def take(self, found: Measured) -> None:
        """Take in what somebody measured, to be handed over with what follows it closely."""
        self._waiting |= found
        if not self._tell.isActive():
            self._tell.start()

    def _hand_over(self, found: Measured = Measured()) -> None:
        self._tell.stop()
        waiting, self._waiting = self._waiting | found, Measured()
        if waiting:
            self.weighed.emit(waiting)

    def rest(self) -> None:
        """Let go of what nobody waits for, for something that somebody does; what was found until then is kept."""
        for work in (self._whole, self._samples):
            if work is not None and work.running:
                work.cancel()

    def stop(self) -> None:
        """Let go of all work."""
        for work in (self._whole, self._samples):
            if work is not None and work.running:
                work.cancel()
        self._spare.waitForDone()
