"""What files hold and what makers make of it: what has not been made yet is made beside the window."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from oaktrim.core.makers.build import BuildSpec, DerivedFacts, Tree, learn, unknown, with_makers
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory
from oaktrim.desk.work.tasks import Work, start


class Workshop(QObject):
    """Keeps one tree for a session.

    Signals
    -------
    learned : what was only sketched has been made, and is known now
    failed : an error to be shown
    """

    learned = Signal()
    failed = Signal(object)

    def __init__(self, cache: SurveyCache, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._cache = cache
        self._tree: Tree | None = None
        self._derived_facts = DerivedFacts()
        self._work: Work | None = None

    @property
    def found(self) -> Inventory:
        """What files hold."""
        assert self._tree is not None
        return self._tree.found

    @property
    def known(self) -> DerivedFacts:
        """What has been found out by making; a later one takes its place, it never changes."""
        return self._derived_facts

    def take(self, tree: Tree) -> None:
        """Take in a newer survey."""
        self.stop()
        self._tree = tree
        self._derived_facts = tree.derived_facts

    def inventory(self, build_spec: BuildSpec) -> Inventory:
        """Return what ships: what files hold, and what makers make, be it only sketched yet."""
        return with_makers(
            self.found.with_roles(build_spec.patterns, build_spec.roles), build_spec, self._derived_facts
        )

    def make(self, inventory: Inventory, build_spec: BuildSpec, max_pixels: int) -> None:
        """Make what is only sketched, in the background."""
        self.stop()
        if not unknown(inventory, build_spec):
            return
        now = self._derived_facts.copy()

        def done(derived_facts: DerivedFacts) -> None:
            if derived_facts != self._derived_facts:
                self._derived_facts = derived_facts
                self.learned.emit()

        task = learn(self.found, build_spec, now, self._cache, max_pixels)
        self._work = start(task, self, done, self.failed.emit)

    @property
    def busy(self) -> bool:
        return self._work is not None and self._work.running

    def stop(self) -> None:
        """Let go of what is being made."""
        if self.busy:
            assert self._work is not None
            self._work.cancel()
        self._work = None
