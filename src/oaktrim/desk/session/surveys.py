"""Surveys of the open tree: the one that the window waits for, and those that look beside it for what changed on disk."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from oaktrim.core.job.document import Job
from oaktrim.core.makers.build import Tree, made_anew, survey_tree
from oaktrim.core.progress import Task
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory, difference
from oaktrim.core.survey.look import looks_the_same
from oaktrim.desk.work.tasks import Work, start


class Surveys(QObject):
    """Reads trees in the background.

    Signals
    -------
    busy : the work that the window waits for, or None
    failed : an error to be shown
    """

    busy = Signal(object)
    failed = Signal(object)

    def __init__(self, cache: SurveyCache, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._cache = cache
        self.work: Work | None = None
        self._looking: Work | None = None
        self._again: Callable[[], None] | None = None

    @property
    def running(self) -> bool:
        """The window waits for a survey."""
        return self.work is not None and self.work.running

    def read(self, root: Path, job: Job, done: Callable[[Tree], None], remember: bool = False) -> None:
        """Begin the one survey that the window waits for, in the place of any that is under way.

        Parameters
        ----------
        remember : take a large tree as it was known last, so that there is something to look at
        """
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

        task = survey_tree(root, job.scan_settings, job.build_spec, self._cache, remember=remember)
        self.work = work = start(task, self, finished, failed)
        work.cancelled.connect(ended)
        self.busy.emit(work)

    def look(
        self,
        root: Path,
        job: Job,
        found: Inventory,
        shown: Inventory,
        done: Callable[[Tree, str], None],
        again: Callable[[], None],
        remembered: bool = False,
    ) -> None:
        """Read again what changed on disk, beside everything else.

        Parameters
        ----------
        found, shown : what files held, and that with what makers make
        done : called with the tree as it is now and what is different in words, where something is
        again : called once this look has ended, if another was asked for meanwhile
        remembered : it was opened as it is remembered, and has most likely not changed, which a process finds out for itself
        """
        if self.running:
            return
        if self._looking is not None and self._looking.running:
            self._again = again
            return

        def look() -> Task[tuple[Tree, str] | None]:
            if remembered and (yield from looks_the_same(root, job.scan_settings, self._cache)):
                return None
            tree = yield from survey_tree(root, job.scan_settings, job.build_spec, self._cache)
            return tree, difference(found, tree.found) or made_anew(shown, tree.inventory)

        def ended(seen: tuple[Tree, str] | None) -> None:
            self._looking = None
            if seen is not None and seen[1]:
                done(*seen)
            once_more, self._again = self._again, None
            if once_more is not None:
                once_more()

        self._looking = start(look(), self, ended, self.failed.emit)

    def forget_looks(self) -> None:
        """Let go of looking at a tree that is not shown any more."""
        if self._looking is not None:
            self._looking.cancel()
        self._looking, self._again = None, None

    def stop(self) -> None:
        """Let go of all of it."""
        for work in self.findChildren(Work):
            work.cancel()
