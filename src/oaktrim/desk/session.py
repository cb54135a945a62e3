"""The one place that knows what is open: the job's history, the inventory, the selection and the watched target."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.job.document import SUFFIX, Job, load_job, new_job, root_of, save_job, targets_of
from oaktrim.core.job.history import History
from oaktrim.core.job.planner import Planner
from oaktrim.core.makers.build import BuildSpec, Tree, made_anew, survey_tree
from oaktrim.core.plan.cuts import Change, Cut
from oaktrim.core.plan.packing import CompressionRatios, Measured
from oaktrim.core.plan.query import Assets
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.plan.verdict import judge_plan
from oaktrim.core.progress import Task
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.findings.finding import Finding
from oaktrim.core.survey.inventory import Inventory, difference
from oaktrim.core.survey.look import looks_the_same
from oaktrim.core.survey.roles import Certainty, Role
from oaktrim.core.targets.footprint import weigh_nothing
from oaktrim.core.targets.target import Target
from oaktrim.core.units import bytes_text
from oaktrim.desk.work.tasks import Work, as_task, start
from oaktrim.desk.work.weigher import Weigher
from oaktrim.desk.work.workshop import Workshop

# When a window that has just opened has shown itself, in milliseconds.
_SETTLED = 1000


class Session(QObject):
    """What is open, and what is being looked at. It says what changed; benches ask for the rest.

    Signals
    -------
    opened : another job is open, and its inventory is there
    plans_changed : some total may have changed, be it for a moment while a control is dragged
    job_changed : the job was edited, undone, redone or saved
    selection_changed, watched_changed : other textures are chosen; another target is watched
    findings_changed : what is wrong on the watched target has been found anew
    disk_changed : files were changed from outside, with what came of it in words
    busy : the work now under way, or None
    failed : an error to be shown
    """

    opened = Signal()
    plans_changed = Signal()
    job_changed = Signal()
    selection_changed = Signal()
    watched_changed = Signal()
    findings_changed = Signal()
    disk_changed = Signal(str)
    busy = Signal(object)
    failed = Signal(object)

    def __init__(self, parent: QObject | None = None, cache: SurveyCache | None = None) -> None:
        super().__init__(parent)
        self.cache = cache or SurveyCache()
        self.store = MadeStore.beside(self.cache)
        self.file: Path | None = None
        self.root = Path()
        # Counts what has been opened, so that what was asked for in one job is not done in the next.
        self.document = 0
        self.history: History | None = None
        self.inventory: Inventory | None = None
        self.selected: tuple[int, ...] = ()
        self._chosen_of: tuple[tuple[int, ...], Inventory | None, tuple[int, ...], tuple[str, ...]] = ((), None, (), ())
        self.targets: tuple[Target, ...] = ()
        self.watched_id = ""
        self.filter_text = ""
        self.work: Work | None = None
        self._saved: Job | None = None
        self._preview: Job | None = None
        self._ratios: CompressionRatios | None = None
        self._build_spec: BuildSpec | None = None
        self._plans: dict[tuple[str, bool], Plan] = {}
        self._findings: dict[str, list[Finding]] = {}
        self._looking: Work | None = None
        self._look_again = False
        self._judging: Work | None = None
        self._totals: dict[tuple[int, str], tuple[Job, int]] = {}
        self._assets: Assets | None = None
        self.workshop = Workshop(self.cache, self)
        self.workshop.learned.connect(self._make_again)
        self.workshop.failed.connect(self.failed)
        self.weigher = Weigher(self.cache, self)
        self.weigher.weighed.connect(self._take_measured)
        self.weigher.failed.connect(self.failed)
        self._settle = QTimer(self, singleShot=True, interval=300)
        self._settle.timeout.connect(self._measure)
        self._settle.timeout.connect(self._judge)
        # The kernel that weighs is read from the disk while nobody waits for it.
        start(as_task(weigh_nothing, "reading kernels"), self, lambda _: None, self.failed.emit)

    # What is open

    @property
    def job(self) -> Job:
        """The job as shown: what is being tried, or else the present one."""
        if self._preview is not None:
            return self._preview
        assert self.history is not None
        return self.history.job

    @property
    def is_open(self) -> bool:
        return self.inventory is not None

    @property
    def changed(self) -> bool:
        """The job holds edits that are not saved."""
        return self.history is not None and self.history.job != self._saved

    @property
    def trying(self) -> bool:
        """A control is held: only the watched target is weighed until it is let go."""
        return self._preview is not None

    @property
    def watched(self) -> Target:
        return next(target for target in self.targets if target.id == self.watched_id)

    def open(self, path: Path) -> None:
        """Open a folder or a job and survey it; what was open stays until the survey is done."""
        try:
            if not path.exists():
                raise FileError(path, "there is no such folder or job")
            if path.is_dir():
                file, job, root = None, new_job(path), path.absolute()
            elif path.suffix == SUFFIX:
                file, job = path.absolute(), load_job(path)
                root = root_of(job, path)
            else:
                raise FileError(path, f"is neither a folder nor a job; a job's name ends in {SUFFIX}")
        except OakTrimError as error:
            self.failed.emit(error)
            return

        def done(tree: Tree) -> None:
            self._take(file, job, root, tree)
            if tree.remembered:
                QTimer.singleShot(_SETTLED, self, self._look_after_opening)

        self._begin(survey_tree(root, job.scan_settings, job.build_spec, self.cache, remember=True), done)

    def survey_again(self) -> None:
        """Read the tree again; only what changed on disk is really read."""
        if self.history is None or self._is_surveying:
            return
        self._begin(survey_tree(self.root, self.job.scan_settings, self.job.build_spec, self.cache), self._take_again)

    def _look_after_opening(self) -> None:
        self.look_at_disk(remembered=True)

    def look_at_disk(self, remembered: bool = False) -> None:
        """Read again what changed on disk, beside everything else, and say what is different.

        What was opened as it is `remembered` has most likely not changed, which a process finds out for itself.
        """
        if self.inventory is None or self._is_surveying:
            return
        if self._looking is not None and self._looking.running:
            self._look_again = True
            return
        before, shown = self.workshop.found, self.inventory

        def look() -> Task[tuple[Tree, str] | None]:
            if remembered and (yield from looks_the_same(self.root, self.job.scan_settings, self.cache)):
                return None
            tree = yield from survey_tree(self.root, self.job.scan_settings, self.job.build_spec, self.cache)
            return tree, difference(before, tree.found) or made_anew(shown, tree.inventory)

        def done(seen: tuple[Tree, str] | None) -> None:
            self._looking = None
            tree, told = seen or (None, "")
            if tree is not None and told and self.workshop.found is before:
                was = self.plan().total("memory")
                self._take_again(tree)
                change = self.plan().total("memory") - was
                sign = "+" if change >= 0 else "−"
                self.disk_changed.emit(f"{told}: {sign}{bytes_text(abs(change))} on {self.watched.name}")
            if self._look_again:
                self._look_again = False
                self.look_at_disk()

        self._looking = start(look(), self, done, self.failed.emit)

    def _take_again(self, tree: Tree) -> None:
        """Take in a newer survey of the same job."""
        self.workshop.take(tree)
        self._make_again()

    def _make_again(self) -> None:
        """Show what makers make now; what was selected stays so, as far as it is still there."""
        assert self.inventory is not None
        chosen = [self.asset_path(asset) for asset in self.selected]
        self._take_inventory()
        places = {self.asset_path(asset): asset for asset in range(self.asset_count)}
        self.selected = tuple(places[path] for path in chosen if path in places) or self.selected
        self.opened.emit()
        self.selection_changed.emit()
        self.plans_changed.emit()

    @property
    def _is_surveying(self) -> bool:
        return self.work is not None and self.work.running

    def _begin(self, task: Task[Tree], done: Callable[[Tree], None]) -> None:
        """Begin the one survey that the window waits for, in the place of any that is under way."""
        if self.work is not None:
            self.work.cancel()

        def ended() -> None:
            # One that was overtaken says nothing of the one that is under way now.
            if self.work is work:
                self.work = None
                self.busy.emit(None)

        def finished(tree: Tree) -> None:
            ended()
            done(tree)

        def failed(error: Exception) -> None:
            ended()
            self.failed.emit(error)

        self.work = work = start(task, self, finished, failed)
        work.cancelled.connect(ended)
        self.busy.emit(work)

    def _take(self, file: Path | None, job: Job, root: Path, tree: Tree) -> None:
        if self._looking is not None:
            self._looking.cancel()
        self._looking, self._look_again = None, False
        self.document += 1
        self.file, self.root = file, root
        self.history, self._saved = History((job,)), job
        self._preview = None
        self.targets = targets_of(job)
        if self.watched_id not in job.targets:
            self.watched_id = job.targets[0]
        self.workshop.take(tree)
        self._take_inventory()
        self.opened.emit()
        for signal in (self.watched_changed, self.job_changed, self.selection_changed, self.plans_changed):
            signal.emit()

    def _take_inventory(self) -> None:
        self._build_spec = self.job.build_spec
        self.inventory = inventory = self.workshop.inventory(self._build_spec)
        self.workshop.make(inventory, self._build_spec, self.job.max_pixels)
        self.selected = (0,) if inventory.textures else ()
        known = self._ratios
        ratios = CompressionRatios(inventory) if known is None else known.moved(inventory)
        self._ratios = ratios.merged(Measured(self.cache.measured()))
        self._plans.clear()
        self._totals.clear()
        self._findings.clear()
        self._settle.start()

    def save(self, path: Path) -> bool:
        """Write the job; say whether it was written."""
        if self.history is None:
            return False
        try:
            save_job(self.history.job, path, self.root)
        except OakTrimError as error:
            self.failed.emit(error)
            return False
        self.file, self._saved = path, self.history.job
        self.job_changed.emit()
        return True

    # Assets: the textures, then what is carried beside them

    @property
    def asset_count(self) -> int:
        assert self.inventory is not None
        return len(self.inventory.textures) + len(self.inventory.passthrough)

    def asset_path(self, asset: int) -> str:
        """Return the path of an asset."""
        assert self.inventory is not None
        count = len(self.inventory.textures)
        return self.inventory.textures[asset].path if asset < count else self.inventory.passthrough[asset - count].path

    @property
    def chosen(self) -> tuple[int, ...]:
        """The selected textures; what else is selected cannot be cut."""
        if self._chosen_of[0] is not self.selected or self._chosen_of[1] is not self.inventory:
            textures = self.inventory.textures if self.inventory is not None else ()
            rows = tuple(asset for asset in self.selected if asset < len(textures))
            paths = tuple(textures[row].path for row in rows)
            if self.inventory is not None:
                self.inventory.keep_rows(paths, np.array(rows, np.int64))
            self._chosen_of = (self.selected, self.inventory, rows, paths)
        return self._chosen_of[2]

    @property
    def chosen_paths(self) -> tuple[str, ...]:
        """The paths of the selected textures."""
        return self._chosen_of[3] if self.chosen else ()

    # Edits

    def edit(self, job: Job, name: str) -> None:
        """Make a changed job the present one, as one step of undo."""
        assert self.history is not None
        self._preview = None
        self.history = self.history.edited(job, name)
        self._edited()

    def go_to(self, state: int) -> None:
        """Make another state of the history the present one."""
        if self.history is not None:
            self._preview = None
            self.history = self.history.went_to(state)
            self._edited()

    def total_at(self, state: int) -> int:
        """Return the texture memory of a state of the history on the watched target."""
        assert self.history is not None and self.inventory is not None
        job = self.history.states[state]
        # The job is kept beside its total: as long as it is, no other can have its identity.
        key = (id(job), self.watched_id)
        if key not in self._totals:
            self._totals[key] = (job, self.plan_of(job).total("memory"))
        return self._totals[key][1]

    def undo(self) -> None:
        if self.history is not None:
            self._preview = None
            self.history = self.history.undone()
            self._edited()

    def redo(self) -> None:
        if self.history is not None:
            self._preview = None
            self.history = self.history.redone()
            self._edited()

    def _edited(self) -> None:
        job = self.job
        if self.targets != targets_of(job):
            self.targets = targets_of(job)
            self._plans.clear()
            self._totals.clear()
            if self.watched_id not in job.targets:
                self.watched_id = job.targets[0]
            self.watched_changed.emit()
        if self.inventory is not None and job.build_spec != self._build_spec:
            before, self._build_spec = self._build_spec, job.build_spec
            self._totals.clear()
            if before is None or (before.makers, before.layouts) != (job.makers, job.layouts):
                self.job_changed.emit()
                self._make_again()
                return
            self.inventory = self.inventory.with_roles(job.role_patterns, job.roles)
            self._plans.clear()
        self._forget_plans()
        self.job_changed.emit()
        self.plans_changed.emit()

    def cut(self, change: Change, everywhere: bool, keep: bool) -> None:
        """Cut the selected textures: as an edit, or, unless `keep`, only for as long as a control is held."""
        if self.inventory is None or self.history is None or not self.chosen:
            return
        made = Cut(change, self.chosen_paths, () if everywhere else (self.watched_id,))
        job = self.history.job.with_cut(made)
        if keep:
            self.edit(job, made.label)
        else:
            self._preview = job
            self._forget_plans()
            self.plans_changed.emit()

    def take_back(self, kind: type, everywhere: bool) -> None:
        """Take one kind of cut off the selected textures, for the watched target or for all."""
        if self.inventory is None or self.history is None:
            return
        paths = set(self.chosen_paths)
        job = self.history.job.without_change(kind, paths, None if everywhere else self.watched_id)
        self.edit(job, f"no {kind.__name__.removeprefix('Set').lower()}")

    def set_role(self, role: Role | None) -> None:
        """Say what the selected textures are used as, or have it told again from materials, names and pixels."""
        if self.history is not None and self.chosen:
            words = f"used as {role.label.lower()}" if role else "role told again"
            self.edit(self.history.job.with_role(role, self.chosen_paths), words)

    def chosen_roles(self) -> set[Role | None]:
        """Return the roles set by hand on the selected textures; None stands for those that are told."""
        assert self.inventory is not None
        guesses = (self.inventory.roles[row] for row in self.chosen)
        return {guess.role if guess.certainty is Certainty.CHOSEN else None for guess in guesses}

    def remove_cut(self, place: int) -> None:
        """Remove one cut of the list."""
        cut = self.job.cuts[place]
        self.edit(self.job.without_cut(place), f"remove {cut.label}")

    # What is looked at

    def select(self, rows: Sequence[int]) -> None:
        """Choose assets: rows of textures, and places of what is carried after them."""
        if tuple(rows) != self.selected:
            self.selected = tuple(rows)
            self.selection_changed.emit()

    def watch(self, target: str) -> None:
        """Watch another of the job's targets."""
        if target != self.watched_id and target in self.job.targets:
            self.watched_id = target
            self.watched_changed.emit()
            self.plans_changed.emit()
            self._judge()
            self._settle.start()

    # Answers

    def plan(self, target: str | None = None, cut: bool = True) -> Plan:
        """Return the plan of a target, the watched one by default, with the job's cuts or without any."""
        assert self.inventory is not None
        key = (target or self.watched_id, cut)
        if key not in self._plans:
            row = next(t for t in self.targets if t.id == key[0])
            self._plans[key] = resolve(
                self.inventory, row, self.job.cuts if cut else (), self._ratios, self.job.role_rules if cut else ()
            )
        return self._plans[key]

    @property
    def ratios(self) -> CompressionRatios:
        """What is known of how the textures pack."""
        assert self._ratios is not None
        return self._ratios

    def plan_of(self, job: Job, target: Target | None = None) -> Plan:
        """Return what another job would ship on a target, the watched one by default."""
        return self.planner().plan_of(job, target or self.watched)

    def planner(self) -> Planner:
        """Return what tells, on any thread, what other jobs would ship."""
        assert self.inventory is not None
        return Planner(self.job, self.workshop.found, self.workshop.known, self.inventory, self.ratios)

    def findings(self) -> list[Finding]:
        """Return the findings on the watched target; those that the job keeps quiet are left out."""
        return self._findings.setdefault(self.watched_id, [])

    def _judge(self) -> None:
        """Find what is wrong with what ships to the watched target, beside the window."""
        if self.inventory is None or self._preview is not None:
            return
        if self._judging is not None:
            self._judging.cancel()
        plan, job, inventory = self.plan(), self.job, self.inventory

        def done(found: list[Finding]) -> None:
            if job is self.job and inventory is self.inventory and plan.target in self.targets:
                self._findings[plan.target.id] = found
                self.findings_changed.emit()

        def judge() -> Task[list[Finding]]:
            found = yield from judge_plan(plan)
            return [f for f in found if (f.code, f.path) not in job.suppressions]

        self._judging = start(judge(), self, done, self.failed.emit)

    def assets(self) -> Assets:
        """Return all assets as the filter sees them."""
        now, after, findings = self.plan(cut=False), self.plan(), self.findings()
        kept = self._assets
        if kept is None or kept.now is not now or kept.after is not after or kept.findings is not findings:
            self._assets = Assets(now, after, findings)
            if kept is not None and kept.inventory is after.inventory:
                self._assets.keep_of(kept)
        assert self._assets is not None
        return self._assets

    def findings_about(self, path: str) -> list[Finding]:
        """Return the findings on one asset."""
        return self.assets().by_path.get(path, [])

    def saved_by_cuts(self, target: Target) -> int:
        """Return the texture memory that the cuts take off a target."""
        return self.plan(target.id, cut=False).total("memory") - self.plan(target.id).total("memory")

    def _forget_plans(self) -> None:
        self.rest()
        self._plans = {key: plan for key, plan in self._plans.items() if not key[1]}
        self._settle.start()

    # Estimates are measured once the hand is still.

    def _measure(self) -> None:
        if self.inventory is None or self._ratios is None or self._preview is not None:
            return
        plans = [self.plan(target.id) for target in self.targets]
        if not self.weigher.measure(plans, self._ratios, self._make_what_ships):
            self._settle.start()

    def _make_what_ships(self) -> None:
        if self.inventory is not None and not self.trying:
            self.weigher.make(self.plan(), self.ratios, self.job.max_pixels)

    def _take_measured(self, found: Measured) -> None:
        """Take in what has been measured so far; only here, on the window's thread, are results merged."""
        if self._ratios is None:
            return
        self._ratios = self._ratios.merged(found)
        self._plans.clear()
        if self.inventory is not None and not self.trying:
            self.plans_changed.emit()

    def rest(self) -> None:
        """Let go of measuring that nobody waits for, for something that somebody does."""
        self.weigher.rest()

    def go_on(self) -> None:
        """Take up measuring again."""
        self._measure()

    def stop(self) -> None:
        """Let go of all work that nobody waits for."""
        for work in self.findChildren(Work):
            work.cancel()
        self.workshop.stop()
        self.weigher.stop()

    def mixed_change(self, kind: type) -> tuple[bool, int]:
        """Return whether the selected textures differ in one kind of change, and the value of the first (-1: none)."""
        rows = self.chosen
        values = self.plan().settings[kind][np.array(rows, np.int64)] if rows else np.array([-1])
        return bool(np.any(values != values[0])), int(values[0])
