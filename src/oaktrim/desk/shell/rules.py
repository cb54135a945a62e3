"""The band of budget rules at the top: one ruler for each limit watched."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QGridLayout, QWidget

from oaktrim.core.survey.roles import Family
from oaktrim.desk.session import Session
from oaktrim.desk.widgets.ruler import BudgetRule, Reading

_NAMES = {
    "memory": "texture memory",
    "package": "package, packed",
    "unpacked": "unpacked",
    "streaming": "streamed levels",
}


class RulesBand(QFrame):
    """Rulers for the byte limits of the watched target, two beside each other."""

    family_clicked = Signal(str)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("band")
        self._session = session
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 2, 0, 2)
        self._grid.setSpacing(0)
        self.rulers: dict[str, BudgetRule] = {}
        session.watched_changed.connect(self._rebuild)
        session.opened.connect(self._rebuild)
        session.plans_changed.connect(self.refresh)
        self.hide()

    def _rebuild(self) -> None:
        for ruler in self.rulers.values():
            self._grid.removeWidget(ruler)
            ruler.hide()
            ruler.deleteLater()
        self.rulers = {}
        lines = list(self._session.watched.limit_bytes)
        for place, line in enumerate(lines):
            ruler = BudgetRule()
            ruler.family_clicked.connect(self.family_clicked)
            self.rulers[line] = ruler
            alone = place == len(lines) - 1 and place % 2 == 0
            self._grid.addWidget(ruler, place // 2, place % 2, 1, 2 if alone else 1)
        self.setVisible(bool(self.rulers))
        self.refresh()

    def refresh(self) -> None:
        """Show the totals as they now are."""
        session = self._session
        if not session.is_open:
            return
        now, after, target = session.plan(cut=False), session.plan(), session.watched
        order = [family.value for family in Family]
        for line, ruler in self.rulers.items():
            sums = after.by_family(line)
            ruler.show_reading(
                Reading(
                    title=target.name,
                    line=_NAMES[line],
                    limit=target.limit_bytes[line],
                    stated=getattr(target.limits, line),
                    now=now.total(line),
                    after={family: sums[family] for family in order if family in sums},
                    estimated=line == "package",
                )
            )
