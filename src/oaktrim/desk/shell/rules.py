"""The band of budget rules at the top: one ruler for each limit watched."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QGridLayout, QWidget

from oaktrim.core.survey.roles import Family
from oaktrim.core.targets.lines import LINES
from oaktrim.core.targets.target import Target
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.ruler import BudgetRule, Reading


class RulesBand(QFrame):
    """Rulers for the byte limits of the watched target, two beside each other on one grid; a single one has the width."""

    family_clicked = Signal(str)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("band")
        self._session = session
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 2, 0, 2)
        self._grid.setSpacing(0)
        self.rulers: dict[str, BudgetRule] = {}
        self.others: dict[str, BudgetRule] = {}
        self.shows_all = False
        session.watched_changed.connect(self._rebuild)
        session.opened.connect(self._rebuild)
        session.plans_changed.connect(self.refresh)
        self.hide()

    def set_all(self, on: bool) -> None:
        """Show beside the watched target's rulers the tightest one of every other target, or not."""
        self.shows_all = on
        if self._session.is_open:
            self._rebuild()

    def _rebuild(self) -> None:
        for ruler in (*self.rulers.values(), *self.others.values()):
            self._grid.removeWidget(ruler)
            ruler.hide()
            ruler.deleteLater()
        self.rulers, self.others = {}, {}
        others = [t.id for t in self._session.targets if t.id != self._session.watched_id] if self.shows_all else []
        keys = [(self.rulers, line) for line in self._session.watched.limit_bytes]
        keys += [(self.others, name) for name in others]
        for place, (rulers, key) in enumerate(keys):
            ruler = BudgetRule()
            ruler.family_clicked.connect(self.family_clicked)
            rulers[key] = ruler
            self._grid.addWidget(ruler, place // 2, place % 2)
        for column in (0, 1):
            self._grid.setColumnStretch(column, 1 if column < len(keys) else 0)
        self.setVisible(bool(self.rulers))
        self.refresh()

    def refresh(self) -> None:
        """Show the totals as they now are."""
        session = self._session
        if not session.is_open:
            return
        for line, ruler in self.rulers.items():
            self._read(ruler, session.watched, line)
        if not session.trying:
            for name, ruler in self.others.items():
                target = next(t for t in session.targets if t.id == name)
                plan, limits = session.plan(name), target.limit_bytes
                if limits:
                    self._read(ruler, target, max(limits, key=lambda line: plan.total(line) / max(1, limits[line])))

    def _read(self, ruler: BudgetRule, target: Target, line: str) -> None:
        now, after = self._session.plan(target.id, cut=False), self._session.plan(target.id)
        sums = after.by_family(line)
        ruler.show_reading(
            Reading(
                title=target.name,
                line=LINES[line].label,
                limit=target.limit_bytes[line],
                stated=str(target.limits.stated(line)),
                now=now.total(line),
                after={family.value: sums[family.value] for family in Family if family.value in sums},
                estimated=LINES[line].estimated and not after.all_measured,
                uncertainty=after.uncertainty if LINES[line].estimated else 0,
                measured=(int(after.measured.sum()), len(after.measured)),
            )
        )
