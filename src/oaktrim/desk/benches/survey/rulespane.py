"""The role rules pane: what each role may cost beside its base colour or what is seen; changing one moves the rulers at once."""

from __future__ import annotations

from functools import partial

import numpy as np
from PySide6.QtCore import QSignalBlocker
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.plan.rolerules import RoleRule, ShareOf, share_text
from oaktrim.core.survey.findings.finding import COMMON_SHARES
from oaktrim.core.survey.roles import Role
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session

# Cells that one role takes in the grid.
_COLUMNS = 5
_SHARES: tuple[tuple[ShareOf, float], ...] = (
    *((ShareOf.BASE_COLOUR, share) for share in (1.0, 0.5, 0.25, 0.125)),
    *((ShareOf.WANTED, share) for share in (2.0, 1.0, 0.5)),
)
_SIDES = (None, *(1 << power for power in range(4, 14)))


class RulesPane(QWidget):
    """One line a role that occurs: share, floor, ceiling, how many textures it moves, and how many are cut by hand."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.lines: dict[Role, tuple[QComboBox, QComboBox, QComboBox, QLabel]] = {}
        self.scope = with_properties(QComboBox(), accessibleName="Targets that the rules are for")
        self.common = with_properties(
            QPushButton("Use the common rule"),
            toolTip="Normals at a half, surface values at a quarter of the base colour",
        )
        self.common.clicked.connect(self._use_common)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(3)
        inside = with_properties(QWidget(), objectName="sheet")
        body = QVBoxLayout(inside)
        body.setContentsMargins(12, 4, 12, 6)
        body.addLayout(self._grid)
        body.addStretch(1)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QScrollArea.Shape.NoFrame)
        scroll.setWidget(inside)
        top = QHBoxLayout()
        top.setContentsMargins(12, 2, 12, 2)
        about = with_properties(
            QLabel(
                "A role ships at its share of its material's base colour, or of what sightlines want; a cut by hand wins."
            ),
            objectName="soft",
        )
        top.addWidget(about, 1)
        top.addWidget(self.common)
        top.addWidget(with_properties(QLabel("for"), objectName="soft"))
        top.addWidget(self.scope)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(scroll)
        self.scope.currentIndexChanged.connect(lambda _: self.refresh())
        session.opened.connect(self._rebuild)
        session.watched_changed.connect(self._show_scope)
        session.job_changed.connect(self.refresh)

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
        roles = [every[code] for code in np.unique(inventory.role_codes)]
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
        if not session.is_open or session.inventory is None or not self.isVisible():
            return
        plan = session.plan()
        codes = session.inventory.role_codes
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

    def _use_common(self) -> None:
        job = self._session.job
        for role in self.lines:
            if role in COMMON_SHARES:
                job = job.with_rule(RoleRule(role, COMMON_SHARES[role], targets=self.targets))
        self._session.edit(job, "the common role rule")


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
