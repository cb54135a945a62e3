"""The one place that knows what is open: the document, the inventory, the selection and the watched target."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.document import Job, checks_of, targets_of
from oaktrim.core.job.history import History
from oaktrim.core.job.planner import Planner
from oaktrim.core.makers.build import BuildSpec, Tree
from oaktrim.core.plan.checks import Checks
from oaktrim.core.plan.cuts import Change, Cut, thing_of
from oaktrim.core.plan.excerpts import missing_excerpts
from oaktrim.core.plan.modelsizes import untried_models
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.query import Assets
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.findings.finding import Finding
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Certainty, Family, Role
from oaktrim.core.targets.footprint import weigh_nothing
from oaktrim.core.targets.target import Target
from oaktrim.core.units import change_text
from oaktrim.desk.session.document import Document, Opened
from oaktrim.desk.session.plans import Plans
from oaktrim.desk.session.sights import Sights
from oaktrim.desk.session.surveys import Surveys
from oaktrim.desk.work.tasks import Work, as_task, start
from oaktrim.desk.work.weigher import Weigher
from oaktrim.desk.work.workshop import Workshop

# Families of what is no texture that each sort of change is made to.
_FAMILIES = {
    "sound": (Family.AUDIO,),
    "clip": (Family.ANIMATION,),
    "model": (Family.MESH,),
    "part": (Family.AUDIO, Family.ANIMATION),
}
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
        self._document: Document | None = None
        self._opened = 0
        self.inventory: Inventory | None = None
        self.selected: tuple[int, ...] = ()
        self._checks_of: tuple[object, Checks] | None = None
        self._chosen_of: tuple[tuple[int, ...], Inventory | None, tuple[int, ...], tuple[str, ...]] = ((), None, (), ())
        self.targets: tuple[Target, ...] = ()
        self.watched_id = ""
        self.filter_text = ""
        self._build_spec: BuildSpec | None = None
        self._surveys = Surveys(self.cache, self)
        self._surveys.busy.connect(self.busy)
        self.workshop = Workshop(self.cache, self)
        self.workshop.learned.connect(self._make_again)
        self.sights = Sights(self, self)
        self.sights.changed.connect(self._take_demand)
        for signal in (self.opened, self.job_changed, self.watched_changed):
            signal.connect(self.sights.refresh)
        self._plans = Plans(self, self.cache, self)
        self._plans.findings_changed.connect(self.findings_changed)
        self._plans.measured.connect(self.plans_changed)
        for part in (self._surveys, self.workshop, self.sights, self._plans):
            part.failed.connect(self.failed)
        # The kernel that weighs is read from the disk while nobody waits for it.
        start(as_task(weigh_nothing, "reading kernels"), self, lambda _: None, self.failed.emit)

    # What is open

    @property
    def is_open(self) -> bool:
        return self.inventory is not None

    @property
    def job(self) -> Job:
        """The job as shown: what is being tried, or else the present one."""
        assert self._document is not None
        return self._document.job

    @property
    def history(self) -> History | None:
        """The states of the open job, or None where none is open."""
        return self._document.history if self._document is not None else None

    @property
    def document(self) -> int:
        """Counts what has been opened, so that what was asked for in one job is not done in the next."""
        return self._document.number if self._document is not None else 0

    @property
    def file(self) -> Path | None:
        """The job's file, or None where it has none yet."""
        return self._document.file if self._document is not None else None

    @property
    def root(self) -> Path:
        """The folder of sources."""
        return self._document.root if self._document is not None else Path()

    @property
    def changed(self) -> bool:
        """The job holds edits that are not saved."""
        return self._document is not None and self._document.changed

    @property
    def trying(self) -> bool:
        """A control is held: only the watched target is weighed until it is let go."""
        return self._document is not None and self._document.trying

    @property
    def watched(self) -> Target:
        return next(target for target in self.targets if target.id == self.watched_id)

    @property
    def work(self) -> Work | None:
        """The survey that the window waits for."""
        return self._surveys.work

    def open(self, path: Path) -> None:
        """Open a folder or a job and survey it; what was open stays until the survey is done."""
        try:
            opened = Opened.read(path)
        except OakTrimError as error:
            self.failed.emit(error)
            return

        def done(tree: Tree) -> None:
            self._take(opened, tree)
            if tree.remembered:
                QTimer.singleShot(_SETTLED, self, self._look_after_opening)

        self._surveys.read(opened.root, opened.job, done, remember=True)

    def survey_again(self) -> None:
        """Read the tree again; only what changed on disk is really read."""
        if self._document is not None and not self._surveys.running:
            self._surveys.read(self.root, self.job, self._take_again)

    def _look_after_opening(self) -> None:
        self.look_at_disk(remembered=True)

    def look_at_disk(self, remembered: bool = False) -> None:
        """Read again what changed on disk, beside everything else, and say what is different."""
        if self.inventory is None:
            return
        before = self.workshop.found

        def done(tree: Tree, told: str) -> None:
            if self.workshop.found is before:
                was = self.plan().total("memory")
                self._take_again(tree)
                change = self.plan().total("memory") - was
                self.disk_changed.emit(f"{told}: {change_text(change)} on {self.watched.name}")

        self._surveys.look(self.root, self.job, before, self.inventory, done, self.look_at_disk, remembered)

    def _take(self, opened: Opened, tree: Tree) -> None:
        self._surveys.forget_looks()
        self._opened += 1
        self._document = Document(opened, self._opened)
        self.targets = targets_of(opened.job)
        if self.watched_id not in opened.job.targets:
            self.watched_id = opened.job.targets[0]
        self.workshop.take(tree)
        self._take_inventory()
        self.opened.emit()
        for signal in (self.watched_changed, self.job_changed, self.selection_changed, self.plans_changed):
            signal.emit()

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

    def _take_inventory(self) -> None:
        self._build_spec = self.job.build_spec
        self.inventory = inventory = self.workshop.inventory(self._build_spec)
        self.workshop.make(inventory, self._build_spec, self.job.max_pixels)
        self.selected = (0,) if inventory.textures else ()
        self._plans.take_inventory(inventory)

    def save(self, path: Path) -> bool:
        """Write the job; say whether it was written."""
        if self._document is None:
            return False
        try:
            self._document.save(path)
        except OakTrimError as error:
            self.failed.emit(error)
            return False
        self.job_changed.emit()
        return True

    # Assets: the textures, then meshes, clips and sounds

    @property
    def asset_count(self) -> int:
        assert self.inventory is not None
        return len(self.inventory.textures) + len(self.inventory.others)

    def asset_path(self, asset: int) -> str:
        """Return the path of an asset."""
        assert self.inventory is not None
        count = len(self.inventory.textures)
        return self.inventory.textures[asset].path if asset < count else self.inventory.others[asset - count].path

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

    @property
    def checks(self) -> Checks:
        """All that the job says of findings; what a file that it shares cannot tell is left out, once that is said."""
        job = self.job
        key = (job.checks, job.check_files, job.grades, job.suppressed)
        if self._checks_of is None or self._checks_of[0] != key:
            try:
                found = checks_of(job, self.root)
            except OakTrimError as error:
                found = Checks(job.checks, job.grades, job.suppressions)
                self.failed.emit(error)
            self._checks_of = (key, found)
        return self._checks_of[1]

    # Edits

    def edit(self, job: Job, name: str) -> None:
        """Make a changed job the present one, as one step of undo."""
        assert self._document is not None
        self._go_on_with(self._document.history.edited(job, name))

    def go_to(self, state: int) -> None:
        """Make another state of the history the present one."""
        if self.history is not None:
            self._go_on_with(self.history.went_to(state))

    def undo(self) -> None:
        if self.history is not None:
            self._go_on_with(self.history.undone())

    def redo(self) -> None:
        if self.history is not None:
            self._go_on_with(self.history.redone())

    def _go_on_with(self, history: History) -> None:
        assert self._document is not None
        self._document.take(history)
        job = self.job
        if self.targets != targets_of(job):
            self.targets = targets_of(job)
            self._plans.forget_all()
            if self.watched_id not in job.targets:
                self.watched_id = job.targets[0]
            self.watched_changed.emit()
        if self.inventory is not None and job.build_spec != self._build_spec:
            before, self._build_spec = self._build_spec, job.build_spec
            self._plans.forget_all()
            if before is None or (before.makers, before.layouts) != (job.makers, job.layouts):
                self.job_changed.emit()
                self._make_again()
                return
            self.inventory = self.inventory.with_roles(job.role_patterns, job.roles)
        self._plans.forget_cut()
        self.job_changed.emit()
        self.plans_changed.emit()

    def paths_for(self, kind: type[Change]) -> tuple[str, ...]:
        """Return the paths of what is selected that a kind of change can be made to."""
        thing = thing_of(kind)
        if thing == "texture":
            return self.chosen_paths
        if self.inventory is None:
            return ()
        count = len(self.inventory.textures)
        rows = [self.inventory.others[asset - count] for asset in self.selected if asset >= count]
        families = _FAMILIES[thing]
        return tuple(row.path for row in rows if row.family in families)

    def change_on(self, path: str, kind: type[Change]) -> Change | None:
        """Return the change of a kind that a cut by hand makes to an asset on the watched target; None without one."""
        found = (cut for cut in reversed(self.job.cuts) if type(cut.change) is kind and path in cut.assets)
        return next((cut.change for cut in found if cut.is_for(self.watched_id)), None)

    def cut(self, change: Change, everywhere: bool, keep: bool) -> None:
        """Cut what is selected: as an edit, or, unless `keep`, only for as long as a control is held."""
        paths = self.paths_for(type(change))
        if self.inventory is None or self._document is None or not paths:
            return
        made = Cut(change, paths, () if everywhere else (self.watched_id,))
        job = self._document.history.job.with_cut(made)
        if keep:
            self.edit(job, made.label)
        else:
            self._document.try_out(job)
            self._plans.forget_cut()
            self.plans_changed.emit()

    def remove_changes(self, kind: type[Change], everywhere: bool) -> None:
        """Take one kind of cut off what is selected, for the watched target or for all."""
        if self.inventory is None or self.history is None:
            return
        paths = set(self.paths_for(kind))
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

    def enable_cut(self, place: int, on: bool) -> None:
        """Have one cut of the list count, or only be kept."""
        self.edit(self.job.with_cut_enabled(place, on), f"{'use' if on else 'leave out'} {self.job.cuts[place].label}")

    def measured_on(self, place: int) -> Target:
        """Return on which target what a cut saves is said: the watched one, or its own where it is not for that."""
        own = [target for target in self.targets if target.id in self.job.cuts[place].targets]
        return own[0] if own and self.watched not in own else self.watched

    def saved_by_cut(self, place: int) -> tuple[str, int | None]:
        """Return the line that a cut is on, and what it takes off that on the target that `measured_on` tells.

        That is texture memory for textures, and the package for all else: None until what ships without the cut was tried. It is 0
        where the cut does not count.
        """
        cut, target = self.job.cuts[place], self.measured_on(place)
        line = "memory" if cut.thing == "texture" else "package"
        if not cut.enabled:
            return line, 0
        plan, without = self.plan(target.id), self.plan_of(self.job.without_cut(place), target)
        if line == "package" and (
            missing_excerpts((plan, without), self.ratios) or untried_models((plan, without), self.ratios)
        ):
            return line, None
        return line, without.total(line) - plan.total(line)

    def _take_demand(self) -> None:
        """Show what sightlines ask for, and what is wrong by that."""
        if self.inventory is not None and not self.trying:
            self._plans.forget_all()
            self.plans_changed.emit()
            self._plans.judge_soon()

    # What is looked at

    def select(self, rows: Sequence[int]) -> None:
        """Choose assets: rows of textures, and places of meshes, clips and sounds after them."""
        if tuple(rows) != self.selected:
            self.selected = tuple(rows)
            self.selection_changed.emit()

    def watch(self, target: str) -> None:
        """Watch another of the job's targets."""
        if target != self.watched_id and target in self.job.targets:
            self.watched_id = target
            self.watched_changed.emit()
            self.plans_changed.emit()
            self._plans.judge_soon()

    # Answers

    def plan(self, target: str | None = None, cut: bool = True) -> Plan:
        """Return the plan of a target, the watched one by default, with the job's cuts or without any."""
        return self._plans.plan(target or self.watched_id, cut)

    @property
    def ratios(self) -> CompressionRatios:
        """What is known of how the textures pack."""
        return self._plans.ratios

    @property
    def weigher(self) -> Weigher:
        """Measures what is estimated."""
        return self._plans.weigher

    def demand(self, target: Target | None = None) -> Demand | None:
        """Return what sightlines ask for on a target, the watched one by default; None where that is not known."""
        return self.sights.demand(target or self.watched)

    def plan_of(self, job: Job, target: Target | None = None) -> Plan:
        """Return what another job would ship on a target, the watched one by default."""
        return self.planner().plan_of(job, target or self.watched)

    def planner(self) -> Planner:
        """Return what tells, on any thread, what other jobs would ship."""
        assert self.inventory is not None
        found = ((target.id, self.demand(target)) for target in self.targets)
        demands = {name: demand for name, demand in found if demand is not None}
        return Planner(self.job, self.workshop.found, self.workshop.known, self.inventory, self.ratios, demands)

    def total_at(self, state: int) -> int:
        """Return the texture memory of a state of the history on the watched target."""
        assert self.history is not None
        return self._plans.total_of(self.history.states[state])

    def saved_by_cuts(self, target: Target) -> int:
        """Return the texture memory that the cuts take off a target."""
        return self.plan(target.id, cut=False).total("memory") - self.plan(target.id).total("memory")

    def findings(self) -> list[Finding]:
        """Return the findings on the watched target; those that the job keeps quiet are left out."""
        return self._plans.findings()

    def findings_about(self, path: str) -> list[Finding]:
        """Return the findings on one asset."""
        return self.assets().by_path.get(path, [])

    def assets(self) -> Assets:
        """Return all assets as the filter sees them."""
        return self._plans.assets()

    def rest(self) -> None:
        """Let go of measuring that nobody waits for, for something that somebody does."""
        self.weigher.rest()

    def go_on(self) -> None:
        """Take up measuring again."""
        self._plans.measure()

    def stop(self) -> None:
        """Let go of all work that nobody waits for."""
        for work in self.findChildren(Work):
            work.cancel()
        self.workshop.stop()
        self.sights.stop()
        self._plans.stop()

    def mixed_change(self, kind: type) -> tuple[bool, int]:
        """Return whether the selected textures differ in one kind of change, and the value of the first (-1: none)."""
        rows = self.chosen
        values = self.plan().settings[kind][np.array(rows, np.int64)] if rows else np.array([-1])
        return bool(np.any(values != values[0])), int(values[0])
