"""Plans of the open job for its targets, what is measured of them beside the window, and what is wrong with them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from PySide6.QtCore import QObject, QTimer, Signal

from oaktrim.core.job.document import Job
from oaktrim.core.job.planner import Planner
from oaktrim.core.plan.checks import Checks
from oaktrim.core.plan.formatrules import Rules
from oaktrim.core.plan.packing import CompressionRatios, Measured, measured_before
from oaktrim.core.plan.query import Assets
from oaktrim.core.plan.resolve import Plan, resolve, reweighed
from oaktrim.core.plan.verdict import judge_plan
from oaktrim.core.progress import Task
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.findings.finding import Finding
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Target
from oaktrim.desk.work.tasks import Work, start
from oaktrim.desk.work.weigher import Weigher


class Shown(Protocol):
    """What plans are made of: the job as shown, the inventory, the job's targets and the one that is watched."""

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

    @property
    def checks(self) -> Checks: ...

    def planner(self) -> Planner: ...

    def demand(self, target: Target) -> Demand | None: ...

    def measured_on(self, place: int) -> Target: ...


class Plans(QObject):
    """Keeps plans for as long as nothing that they are made of changes.

    Signals
    -------
    measured : more is known of what textures take in the package
    findings_changed : what is wrong on the watched target has been found anew
    failed : an error to be shown
    """

    measured = Signal()
    findings_changed = Signal()
    failed = Signal(object)

    def __init__(self, shown: Shown, cache: SurveyCache, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._shown, self._cache = shown, cache
        self._ratios: CompressionRatios | None = None
        self._plans: dict[tuple[str, bool], Plan] = {}
        # Of these, more has been measured since they were made.
        self._outdated: set[tuple[str, bool]] = set()
        self._findings: dict[str, list[Finding]] = {}
        self._totals: dict[tuple[int, str], tuple[Job, int]] = {}
        self._assets: Assets | None = None
        self._judging: Work | None = None
        self.weigher = Weigher(cache, self)
        self.weigher.weighed.connect(self._take_measured)
        self.weigher.failed.connect(self.failed)
        # Estimates are measured, and findings found, once the hand is still.
        self._settle = QTimer(self, singleShot=True, interval=300)
        self._settle.timeout.connect(self.measure)
        self._settle.timeout.connect(self.judge)

    @property
    def ratios(self) -> CompressionRatios:
        """What is known of how the textures pack."""
        assert self._ratios is not None
        return self._ratios

    def take_inventory(self, inventory: Inventory) -> None:
        """Begin anew with another inventory, of which all that was measured of the same contents stays known."""
        ratios = CompressionRatios(inventory) if self._ratios is None else self._ratios.moved(inventory)
        self._ratios = ratios.merged(measured_before(self._cache))
        self._findings.clear()
        self.forget_all()
        self._settle.start()

    def forget_all(self) -> None:
        """Forget all plans, as where a target has changed."""
        self._plans.clear()
        self._outdated.clear()
        self._totals.clear()

    def forget_cut(self) -> None:
        """Forget the plans that cuts have a part in."""
        self.weigher.rest()
        self._plans = {key: plan for key, plan in self._plans.items() if not key[1]}
        self._settle.start()

    def plan(self, target: str, cut: bool = True) -> Plan:
        """Return the plan of a target, with the job's cuts or without any."""
        inventory, job = self._shown.inventory, self._shown.job
        assert inventory is not None
        key = target, cut
        if key not in self._plans:
            row = next(t for t in self._shown.targets if t.id == target)
            cuts, rules = (job.cuts, job.rules) if cut else ((), Rules())
            self._plans[key] = resolve(inventory, row, cuts, self._ratios, rules, self._shown.demand(row))
        elif key in self._outdated:
            self._plans[key] = reweighed(self._plans[key], self.ratios)
        self._outdated.discard(key)
        return self._plans[key]

    def total_of(self, job: Job) -> int:
        """Return the texture memory of another job on the watched target."""
        # The job is kept beside its total: as long as it is, no other can have its identity.
        key = (id(job), self._shown.watched.id)
        if key not in self._totals:
            self._totals[key] = (job, self.weigh(job, self._shown.watched))
        return self._totals[key][1]

    def weigh(self, job: Job, target: Target) -> int:
        """Return the texture memory of another job on a target; it is not kept."""
        return self._shown.planner().plan_of(job, target).total("memory")

    def findings(self) -> list[Finding]:
        """Return the findings on the watched target; those that the job keeps quiet are left out."""
        return self._findings.setdefault(self._shown.watched.id, [])

    def assets(self) -> Assets:
        """Return all assets as the filter sees them."""
        watched = self._shown.watched.id
        now, after, findings = self.plan(watched, cut=False), self.plan(watched), self.findings()
        kept = self._assets
        if kept is None or kept.now is not now or kept.after is not after or kept.findings is not findings:
            self._assets = Assets(now, after, findings)
            if kept is not None and kept.inventory is after.inventory:
                self._assets.keep_of(kept)
        assert self._assets is not None
        return self._assets

    def judge(self) -> None:
        """Find what is wrong with what ships to the watched target, beside the window."""
        shown = self._shown
        if shown.inventory is None or shown.trying:
            return
        if self._judging is not None:
            self._judging.cancel()
        plan, job, inventory, checks = self.plan(shown.watched.id), shown.job, shown.inventory, shown.checks

        def done(found: list[Finding]) -> None:
            if job is shown.job and inventory is shown.inventory and plan.target in shown.targets:
                self._findings[plan.target.id] = found
                self.findings_changed.emit()

        def judge() -> Task[list[Finding]]:
            found = yield from judge_plan(plan, checks)
            return [f for f in found if (f.code, f.path) not in checks.suppressed]

        self._judging = start(judge(), self, done, self.failed.emit)

    def judge_soon(self) -> None:
        """Find now, and once more when what is measured has settled."""
        self.judge()
        self._settle.start()

    def measure(self) -> None:
        """Measure what is estimated, unless somebody holds a control."""
        if self._shown.inventory is None or self._ratios is None or self._shown.trying:
            return
        plans = [self.plan(target.id) for target in self._shown.targets]
        if not self.weigher.measure(plans, self._ratios, self._make_what_ships):
            self._settle.start()

    def _make_what_ships(self) -> None:
        if self._shown.inventory is not None and not self._shown.trying:
            plan, compared = self.plan(self._shown.watched.id), self._compared()
            self.weigher.make(plan, self.ratios, self._shown.job.max_pixels, compared)

    def _compared(self) -> Callable[[], Sequence[Plan]]:
        """Return what tells the plans without single cuts, of those whose savings take making sounds and models."""
        shown, planner = self._shown, self._shown.planner()
        places = [place for place, cut in enumerate(shown.job.cuts) if cut.enabled and cut.thing != "texture"]
        rows = [(shown.job.without_cut(place), shown.measured_on(place)) for place in places]
        return lambda: [planner.plan_of(job, target) for job, target in rows]

    def _take_measured(self, found: Measured) -> None:
        """Take in what has been measured so far; only here, on the window's thread, are results merged."""
        if self._ratios is None:
            return
        self._ratios = self._ratios.merged(found)
        self._outdated = set(self._plans)
        if self._shown.inventory is not None and not self._shown.trying:
            self.measured.emit()

    def stop(self) -> None:
        """Let go of all of it."""
        self.weigher.stop()
        for work in self.findChildren(Work):
            work.cancel()
