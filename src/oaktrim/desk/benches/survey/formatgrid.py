"""The grid of format rules: what each role ships as, by what its pixels hold."""

from __future__ import annotations

from functools import partial

import msgspec
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QWidget

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.advice import format_options
from oaktrim.core.plan.commonrules import LEAST, why_of
from oaktrim.core.plan.formatrules import FormatRule
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Role
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session

_HEADS = {
    PixelKind.ANY: "Any pixels", PixelKind.GREY: "Grey", PixelKind.OPAQUE: "Opaque", PixelKind.CUT_OUT: "Cut-out",
    PixelKind.SOFT: "Soft alpha",
}  # fmt: skip
_NO_RULE, _AS_IT_IS = "no rule", "as it is"


class FormatGrid(QWidget):
    """One line a role that occurs, a column for each kind of pixels, and what the rules come to."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self.boxes: dict[tuple[Role, PixelKind], QComboBox] = {}
        self._effects: dict[Role, QLabel] = {}
        self._targets: tuple[str, ...] = ()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(12, 4, 12, 6)
        self._grid.setHorizontalSpacing(6)
        self._grid.setVerticalSpacing(3)

    def rebuild(self, roles: list[Role]) -> None:
        """Lay out other roles."""
        clear_layout(self._grid)
        self.boxes, self._effects = {}, {}
        self._grid.addWidget(with_properties(QLabel("Role"), objectName="caption"), 0, 0)
        for place, words in enumerate((*_HEADS.values(), "Ruled")):
            self._grid.addWidget(with_properties(QLabel(words), objectName="caption"), 0, place + 1)
        for line, role in enumerate(roles, 1):
            self._grid.addWidget(QLabel(role.label), line, 0)
            for place, (kind, words) in enumerate(_HEADS.items()):
                box = with_properties(QComboBox(), accessibleName=f"{role.label}, {words.lower()}: format")
                box.setFixedWidth(104)
                box.activated.connect(partial(lambda r, k, _: self._changed(r, k), role, kind))
                self._grid.addWidget(box, line, place + 1)
                self.boxes[role, kind] = box
            effect = self._effects[role] = with_properties(QLabel(), objectName="caption")
            self._grid.addWidget(effect, line, len(_HEADS) + 1)
        self._grid.setColumnStretch(len(_HEADS) + 1, 1)
        self._grid.setRowStretch(len(roles) + 1, 1)

    def refresh(self, targets: tuple[str, ...]) -> None:
        """Show the rules that are for some targets, all where there are none, and what they do on the watched one."""
        self._targets = targets
        session, plan = self._session, self._session.plan()
        rules = {(r.role, r.pixels): r for r in session.job.format_rules if r.targets == targets and not r.floating}
        for (role, kind), box in self.boxes.items():
            rule = rules.get((role, kind))
            alpha = kind in (PixelKind.CUT_OUT, PixelKind.SOFT)
            box.clear()
            box.addItem(_none_words(session, role, kind, targets), None)
            box.addItem(_AS_IT_IS, "")
            for option in format_options(session.watched, role, alpha):
                if not option.against and option.format.compressed:
                    box.addItem(option.format.label, option.format.name)
            value = None if rule is None else rule.format
            if box.findData(value) < 0 and value:
                box.addItem(FORMATS[value].label, value)
            box.setCurrentIndex(max(0, box.findData(value)))
            box.setToolTip("" if rule is None else " · ".join(filter(None, (rule.label, why_of(rule)))))
        codes = plan.inventory.role_codes
        for role, effect in self._effects.items():
            mine = codes == list(Role).index(role)
            ruled, by_hand = int(np.sum(mine & (plan.format_rule >= 0))), int(np.sum(mine & plan.format_overruled))
            effect.setText(f"{ruled} of {int(mine.sum())}" + (f", {by_hand} ✎" if by_hand else ""))
            effect.setToolTip(f"{ruled} textures ship by a rule, {by_hand} by a format that was chosen by hand")

    def _changed(self, role: Role, kind: PixelKind) -> None:
        session, value = self._session, self.boxes[role, kind].currentData()
        job = session.job
        known = next(
            (
                r
                for r in job.format_rules
                if (r.role, r.pixels, r.targets) == (role, kind, self._targets) and not r.floating
            ),
            FormatRule(role, pixels=kind, least=LEAST, targets=self._targets),
        )
        if value is None:
            session.edit(job.without_format_rule(role, kind, self._targets), f"no format rule for {role.label.lower()}")
            return
        rule = msgspec.structs.replace(known, format=value)
        session.edit(job.with_format_rule(rule), f"rule: {role.label.lower()} {rule.label}")


def _none_words(session: Session, role: Role, kind: PixelKind, targets: tuple[str, ...]) -> str:
    """Return what stands where there is no rule: what another one says that is for the watched target alone."""
    here = next(
        (
            rule
            for rule in session.job.format_rules
            if (rule.role, rule.pixels) == (role, kind) and rule.targets == (session.watched_id,) and not rule.floating
        ),
        None,
    )
    if here is None or targets:
        return _NO_RULE
    return f"({FORMATS[here.format].label if here.format else _AS_IT_IS})"
