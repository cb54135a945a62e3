"""The rules of sounds: a line a role, with what its sounds ship as when nobody says otherwise."""

from __future__ import annotations

from functools import partial
from typing import cast

from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QVBoxLayout, QWidget

from oaktrim.core.plan.soundcuts import SetCodec, SetLongest, SetMono, SetRate, SoundChange, TrimSilence
from oaktrim.core.plan.soundrules import SoundRule
from oaktrim.core.survey.soundroles import SoundRole
from oaktrim.desk.benches.survey.otherbars import CHANNELS, CODECS_OFFERED, LENGTHS, RATES, TRIMS, Choices
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session

_NONE = "–"
_COLUMNS: tuple[tuple[str, type[SoundChange], Choices], ...] = (
    ("Codec", SetCodec, CODECS_OFFERED),
    ("Rate", SetRate, RATES),
    ("Channels", SetMono, CHANNELS),
    ("Trim ends", TrimSilence, TRIMS),
    ("At most", SetLongest, LENGTHS),
)


class SoundGrid(QWidget):
    """Shows and sets the rules of sounds for some targets."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self._session = session
        self._targets: tuple[str, ...] = ()
        self.boxes: dict[tuple[SoundRole, type[SoundChange]], QComboBox] = {}
        self._counts: dict[SoundRole, QLabel] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(3)
        for place, text in enumerate(("Role", *(text for text, _, _ in _COLUMNS), "Sounds")):
            grid.addWidget(with_properties(QLabel(text), objectName="caption"), 0, place)
        for line, role in enumerate(SoundRole, 1):
            grid.addWidget(QLabel(role.label), line, 0)
            for place, (name, kind, choices) in enumerate(_COLUMNS, 1):
                box = QComboBox()
                box.addItems([_NONE, *(words for words, _ in choices)])
                box.setAccessibleName(f"{role.label}: {name.lower()}")
                box.activated.connect(partial(self._chosen, role))
                grid.addWidget(box, line, place)
                self.boxes[role, kind] = box
            self._counts[role] = with_properties(QLabel(), objectName="caption")
            grid.addWidget(self._counts[role], line, len(_COLUMNS) + 1)
        grid.setColumnStretch(len(_COLUMNS) + 1, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 4, 12, 6)
        column.addLayout(grid)
        column.addStretch(1)

    def refresh(self, targets: tuple[str, ...]) -> None:
        """Show the rules for some targets, and how many sounds go by them on the watched one."""
        self._targets = targets
        session = self._session
        recipes = session.plan().others.recipes.values()
        for role in SoundRole:
            rule = self._rule(role)
            asked = {type(change): change for change in rule.changes} if rule is not None else {}
            for _, kind, choices in _COLUMNS:
                box, change = self.boxes[role, kind], asked.get(kind)
                while box.count() > 1 + len(choices):
                    box.removeItem(box.count() - 1)
                place = 0 if change is None else next((n for n, (_, row) in enumerate(choices, 1) if row == change), -1)
                if place < 0 and change is not None:
                    box.addItem(change.label)
                    place = box.count() - 1
                box.setCurrentIndex(place)
            mine = [recipe for recipe in recipes if recipe.role is role]
            ruled = sum(any(cause < 0 for _, cause in recipe.changes) for recipe in mine)
            self._counts[role].setText(f"{ruled} of {len(mine)}")
            self._counts[role].setToolTip(
                f"{ruled} of {len(mine)} sounds of this role go by a rule on {session.watched.name}"
            )

    def _rule(self, role: SoundRole) -> SoundRule | None:
        rules = self._session.job.sound_rules
        return next((rule for rule in rules if (rule.role, rule.targets) == (role, self._targets)), None)

    def _chosen(self, role: SoundRole, _place: int) -> None:
        before = self._rule(role)
        kept = {type(change): change for change in before.changes} if before is not None else {}
        changes: list[SoundChange] = []
        for _, kind, choices in _COLUMNS:
            place = self.boxes[role, kind].currentIndex()
            if 0 < place <= len(choices):
                changes.append(cast("SoundChange", choices[place - 1][1]))
            elif place > len(choices):
                changes.append(kept[kind])
        job = self._session.job
        if not changes:
            self._session.edit(job.without_sound_rule(role, self._targets), f"no rule for {role.value}")
            return
        rule = SoundRule(role, tuple(changes), self._targets)
        self._session.edit(job.with_sound_rule(rule), f"rule: {role.value} {rule.label}")
