"""What files hold and what makers make of it: what has not been made yet is made beside the window."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from oaktrim.core.makers.build import Learned, Orders, Tree, learn, unknown, with_makers
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
        self._learned = Learned()
        self._work: Work | None = None

    @property
    def found(self) -> Inventory:
        """What files hold."""
        assert self._tree is not None
        return self._tree.found

    @property
    def known(self) -> Learned:
        """What has been found out by making; a later one takes its place, it never changes."""
        return self._learned

    def take(self, tree: Tree) -> None:
        """Take in a newer survey."""
        self.stop()
        self._tree = tree
        self._learned = tree.learned

    def inventory(self, orders: Orders) -> Inventory:
        """Return what ships: what files hold, and what makers make, be it only sketched yet."""
        return with_makers(self.found.with_roles(orders.patterns, orders.roles), orders, self._learned)

    def make(self, inventory: Inventory, orders: Orders, max_pixels: int) -> None:
        """Make what is only sketched, in the background."""
        self.stop()
        if not unknown(inventory, orders):
            return
        now = Learned(dict(self._learned.facts), dict(self._learned.faults))

        def done(learned: Learned) -> None:
            if learned.facts != self._learned.facts or learned.faults != self._learned.faults:
                self._learned = learned
                self.learned.emit()

        task = learn(self.found, orders, now, self._cache, max_pixels)
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
