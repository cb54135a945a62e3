"""The rules pane: sizes and formats of roles, what sounds ship as, and the common rules with what they come to."""

from __future__ import annotations

from functools import partial

import numpy as np
from PySide6.QtCore import QSignalBlocker
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.plan.commonrules import common_rules
from oaktrim.core.plan.formatrules import Rules
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.rolerules import RoleRule, ShareOf, share_text
from oaktrim.core.plan.status import limits_of
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import Target
from oaktrim.core.units import bytes_text
from oaktrim.desk.benches.survey.formatgrid import FormatGrid
from oaktrim.desk.benches.survey.soundgrid import SoundGrid
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.work.tasks import Work, as_task, start

# Cells that one role takes in the grid.
_COLUMNS = 5
_SHARES: tuple[tuple[ShareOf, float], ...] = (
    *((ShareOf.BASE_COLOUR, share) for share in (1.0, 0.5, 0.25, 0.125)),
    *((ShareOf.WANTED, share) for share in (2.0, 1.0, 0.5)),
)
_SIDES = (None, *(1 << power for power in range(4, 14)))


class RulesPane(QWidget):
    """Sizes: a line a role that occurs, with share, floor, ceiling, how many textures it moves, and how many are cut by hand.

    Formats: see `FormatGrid`.
    """

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.lines: dict[Role, tuple[QComboBox, QComboBox, QComboBox, QLabel]] = {}
        self.scope = with_properties(QComboBox(), accessibleName="Targets that the rules are for")
        self.common = with_properties(
            QPushButton("Use the common rules…"),
            toolTip="Formats that suit the hardware, and sizes that bring the limits within reach; with the totals first",
        )
        self.common.clicked.connect(self.propose_common)
        self.formats, self.sounds = FormatGrid(session), SoundGrid(session)
        names = ("Sizes", "Formats", "Sounds")
        self.pages = {words: with_properties(QPushButton(words), checkable=True) for words in names}
        self.totals = with_properties(QLabel(wordWrap=True), accessibleName="What the common rules come to")
        self.use = with_properties(QPushButton("Use them"), objectName="primary")
        self._rules: tuple[Rules, ...] = ()
        self._work: Work | None = None
        self._roles: list[Role] = []
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(3)
        self._stack = QStackedWidget()
        sizes = with_properties(QWidget(), objectName="sheet")
        body = QVBoxLayout(sizes)
        body.setContentsMargins(12, 4, 12, 6)
        body.addLayout(self._grid)
        body.addStretch(1)
        for page in (sizes, self.formats, self.sounds):
            scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QScrollArea.Shape.NoFrame)
            scroll.setWidget(page)
            self._stack.addWidget(scroll)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(self._top())
        self._proposal = self._proposed()
        column.addWidget(self._proposal)
        column.addWidget(self._stack, 1)
        self.scope.currentIndexChanged.connect(lambda _: self.refresh())
        session.opened.connect(self._rebuild)
        session.plans_changed.connect(self.refresh)
        session.watched_changed.connect(self._show_scope)
        session.job_changed.connect(self.refresh)

    def _top(self) -> QHBoxLayout:
        top = QHBoxLayout()
        top.setContentsMargins(12, 2, 12, 2)
        top.setSpacing(4)
        group = QButtonGroup(self)
        for place, key in enumerate(self.pages.values()):
            key.setObjectName("chip")
            key.setChecked(not place)
            key.clicked.connect(partial(lambda p, _=False: self._show_page(p), place))
            group.addButton(key)
            top.addWidget(key)
        about = with_properties(QLabel("A cut by hand wins over a rule."), objectName="soft")
        about.setMinimumWidth(20)
        top.addSpacing(6)
        top.addWidget(about, 1)
        top.addWidget(self.common)
        top.addWidget(with_properties(QLabel("for"), objectName="soft"))
        top.addWidget(self.scope)
        return top

    def _proposed(self) -> QFrame:
        frame = with_properties(QFrame(), objectName="swatch", visible=False)
        row = QHBoxLayout(frame)
        row.setContentsMargins(12, 4, 12, 4)
        row.addWidget(self.totals, 1)
        leave = QPushButton("Not now")
        leave.clicked.connect(self._leave)
        self.use.clicked.connect(self._use_common)
        row.addWidget(self.use)
        row.addWidget(leave)
        return frame

    def _show_page(self, place: int) -> None:
        self._stack.setCurrentIndex(place)
        self.refresh()

    @property
    def targets(self) -> tuple[str, ...]:
        """Targets that a rule made here is for; empty for all."""
        return () if self.scope.currentIndex() == 0 else (self._session.watched_id,)

    def _show_scope(self) -> None:
        with QSignalBlocker(self.scope):
            kept = max(0, self.scope.currentIndex())
            self.scope.clear()
            self.scope.addItems(["all targets", f"{self._session.watched.name} only"])
            self.scope.setCurrentIndex(kept)
        self.refresh()

    def _rebuild(self) -> None:
        inventory = self._session.inventory
        assert inventory is not None
        clear_layout(self._grid)
        self.lines = {}
        every = list(Role)
        roles = self._roles = [every[code] for code in np.unique(inventory.role_codes)]
        self.formats.rebuild(roles)
        half = -(-len(roles) // 2)
        for half_of in range(2 if len(roles) > 1 else 1):
            for place, text in enumerate(("Role", "Ships at", "At least", "At most", "Smaller")):
                self._grid.addWidget(with_properties(QLabel(text), objectName="caption"), 0, half_of * _COLUMNS + place)
        for number, role in enumerate(roles):
            line, start = 1 + number % half, number // half * _COLUMNS
            share, floor, ceiling = QComboBox(), QComboBox(), QComboBox()
            share.addItem("no rule", None)
            for basis, value in _SHARES:
                share.addItem(_words(basis, value), (basis.value, value))
            for box in (floor, ceiling):
                for side in _SIDES:
                    box.addItem("–" if side is None else str(side), side)
            share.setFixedWidth(116)
            floor.setFixedWidth(66)
            ceiling.setFixedWidth(66)
            effect = with_properties(QLabel(), objectName="caption")
            for name, box in (("share", share), ("floor", floor), ("ceiling", ceiling)):
                box.setAccessibleName(f"{role.label}: {name}")
                box.activated.connect(partial(lambda r, _: self._changed(r), role))
            for place, widget in enumerate((QLabel(role.label), share, floor, ceiling, effect)):
                self._grid.addWidget(widget, line, start + place)
            self.lines[role] = (share, floor, ceiling, effect)
        for column in (4, 4 + _COLUMNS):
            self._grid.setColumnStretch(column, 1)
        self._show_scope()

    def _rule(self, role: Role) -> RoleRule | None:
        rules = self._session.job.role_rules
        return next((rule for rule in rules if (rule.role, rule.targets) == (role, self.targets)), None)

    def refresh(self) -> None:
        """Show the rules as they are, and what they do on the watched target."""
        session = self._session
        if not session.is_open or session.inventory is None or session.trying or not self.isVisible():
            return
        codes = session.inventory.role_codes
        if [list(Role)[code] for code in np.unique(codes)] != self._roles:
            self._rebuild()
            return
        if self._stack.currentIndex():
            page = self.formats if self._stack.currentIndex() == 1 else self.sounds
            page.refresh(self.targets)
            return
        plan = session.plan()
        for role, (share, floor, ceiling, effect) in self.lines.items():
            rule = self._rule(role)
            for box, value in (
                (share, rule and (rule.of.value, rule.share)),
                (floor, rule and rule.floor),
                (ceiling, rule and rule.ceiling),
            ):
                places = [place for place in range(box.count()) if box.itemData(place) == value]
                if not places:
                    text = str(value) if rule is None or box is not share else _words(rule.of, rule.share)
                    box.addItem(text, value)
                    places = [box.count() - 1]
                box.setCurrentIndex(places[0])
            floor.setEnabled(rule is not None)
            ceiling.setEnabled(rule is not None)
            mine = codes == list(Role).index(role)
            moved, by_hand = int(np.sum(mine & (plan.rule >= 0))), int(np.sum(mine & plan.overruled))
            effect.setText(f"{moved} of {int(mine.sum())}" + (f", {by_hand} ✎" if by_hand else ""))
            effect.setToolTip(f"{moved} textures made smaller by the rule, {by_hand} cut by hand in its place")

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    def _changed(self, role: Role) -> None:
        share, floor, ceiling, _ = self.lines[role]
        job = self._session.job
        if share.currentData() is None:
            self._session.edit(job.without_rule(role, self.targets), f"no rule for {role.label.lower()}")
            return
        low, high = floor.currentData(), ceiling.currentData()
        if low is not None and high is not None and low > high:
            high = low
        basis, value = share.currentData()
        rule = RoleRule(role, value, low, high, self.targets, ShareOf(basis))
        self._session.edit(job.with_rule(rule), f"rule: {role.label.lower()} {rule.label}")

    def propose_common(self) -> None:
        """Find the common rules for the targets that are meant, and say what they come to before anything is changed."""
        session = self._session
        if session.history is None or session.inventory is None:
            return
        wanted = [session.watched] if self.targets else list(session.targets)
        job, planner = session.history.job, session.planner()

        def find() -> list[tuple[Rules, Plan, Plan]]:
            found = []
            for target in wanted:

                def planned(rules: Rules, target: Target = target) -> Plan:
                    return planner.plan_of(job.with_rules(rules), target)

                rules = common_rules(target, planner.inventory, planned)
                found.append((rules, planner.plan_of(job, target), planned(rules)))
            return found

        self.totals.setText("finding rules …")
        self.use.setEnabled(False)
        self._proposal.setVisible(True)
        self._work = start(as_task(find, "finding rules"), self, self._take_proposal, session.failed.emit)

    def _take_proposal(self, found: list[tuple[Rules, Plan, Plan]]) -> None:
        self._rules = tuple(rules for rules, _, _ in found)
        self.totals.setText("\n".join(_totals(before, after) for _, before, after in found))
        self.use.setEnabled(True)

    def _leave(self) -> None:
        self._rules = ()
        self._proposal.setVisible(False)

    def _use_common(self) -> None:
        job = self._session.job
        for rules in self._rules:
            job = job.with_rules(rules)
        self._leave()
        # They are for one target each, and shown as such.
        self.scope.setCurrentIndex(1)
        self._session.edit(job, "the common rules")


def _totals(before: Plan, after: Plan) -> str:
    """Return what the limits in bytes come to before and after, in a line."""
    then = {row.line.name: row for row in limits_of(after)}
    parts = [
        f"{row.line.label} {bytes_text(row.value)} → {bytes_text(then[row.line.name].value)} of {bytes_text(row.limit or 0)}"
        + (" ▲" if then[row.line.name].over else "")
        for row in limits_of(before)
        if row.line.in_bytes
    ]
    by_hand = int((after.overruled | after.format_overruled).sum())
    kept = f" · {by_hand} keep what was cut by hand" if by_hand else ""
    return f"{before.target.name}: {', '.join(parts)}{kept}"


def _words(basis: ShareOf, share: float) -> str:
    if basis is ShareOf.BASE_COLOUR:
        return f"{share_text(share)} of base"
    return (
        "as wanted"
        if share == 1
        else f"{share_text(share)} as wanted"
        if share > 1
        else f"{share_text(share)} of wanted"
    )
