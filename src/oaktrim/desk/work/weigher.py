"""Replacing estimates by measured sizes beside the window: first on samples, then by really making what ships."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, QThreadPool, QTimer, Signal

from oaktrim.core.plan.packing import Key, PackedShares
from oaktrim.core.plan.resolve import Plan, missing_of
from oaktrim.core.progress import Progress, Task
from oaktrim.core.ship.weighing import measure_packages
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.desk.work.tasks import Work, start


class Weigher(QObject):
    """Measures for one session.

    Signals
    -------
    weighed : some estimates have become measurements
    failed : an error to be shown
    """

    weighed = Signal()
    failed = Signal(object)

    def __init__(self, cache: SurveyCache, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._cache = cache
        self._samples: Work | None = None
        self._whole: Work | None = None
        # Measuring goes on for long, and nobody waits for it: it takes no thread from what somebody waits for.
        self._spare = QThreadPool(self)
        self._spare.setMaxThreadCount(1)
        self._tell = QTimer(self, singleShot=True, interval=1500)
        self._tell.timeout.connect(self.weighed)

    def measure(
        self, plans: Sequence[Plan], watched: Callable[[], Plan], shares: PackedShares, max_pixels: int
    ) -> bool:
        """Measure what plans still guess, then what the watched one estimates; False where samples are being measured."""
        if self._samples is not None and self._samples.running:
            return False

        def measured(count: int) -> None:
            if count:
                self.weighed.emit()
            self._make(watched(), shares, max_pixels)

        self._samples = start(self._sampling(plans, shares), self, measured, self.failed.emit)
        return True

    def _sampling(self, plans: Sequence[Plan], shares: PackedShares) -> Task[int]:
        yield Progress(0, 0, "looking for what is guessed")
        missing: list[Key] = list(dict.fromkeys(key for plan in plans for key in missing_of(plan, shares)))
        done = 0
        for done, _ in enumerate(shares.measure(missing, self._cache), 1):
            yield Progress(done, len(missing), "packing samples")
        return done

    def _make(self, plan: Plan, shares: PackedShares, max_pixels: int) -> None:
        """Measure what is still estimated on a plan, for as long as nothing else is done."""
        if plan.all_measured or (self._whole is not None and self._whole.running):
            return
        task = measure_packages(plan, shares, self._cache, max_pixels)
        self._whole = start(
            task, self, lambda count: self.weighed.emit() if count else None, self.failed.emit, self._spare
        )
        self._whole.progress.connect(lambda _: self._tell.start())

    def rest(self) -> None:
        """Let go of what nobody waits for, for something that somebody does."""
        if self._whole is not None and self._whole.running:
            self._whole.cancel()

    def stop(self) -> None:
        """Let go of all work."""
        for work in (self._whole, self._samples):
            if work is not None and work.running:
                work.cancel()
        self._spare.waitForDone()
