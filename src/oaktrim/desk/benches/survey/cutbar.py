"""The cut bar: what is changed on the selected textures."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QSlider, QSpinBox, QVBoxLayout, QWidget

from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.plan.advice import format_options
from oaktrim.core.plan.cuts import (
    ERROR_METRIC_WORDS,
    Cap,
    Change,
    Drop,
    SetEffort,
    SetErrorMetric,
    SetFormat,
    SetLevels,
    SetLoss,
)
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import Target
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.session.session import Session

_SIDES = tuple(1 << power for power in range(2, 14))
_LOSSES = (0.0, 0.25, 0.5, 1.0, 2.0)
_AS_IS, _AUTOMATIC, _MIXED = "as is", "automatic", "mixed"


class CutBar(QFrame):
    """Shows the cuts of the selection, mixed values as mixed, and makes cuts while a control is moved."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("band")
        self._session = session
        self._offered: tuple[Target, Role, bool, bool] | None = None
        self._who = with_properties(QLabel(), objectName="heading")
        self.cap = with_properties(QSlider(Qt.Orientation.Horizontal), minimum=0, maximum=len(_SIDES), pageStep=1)
        self.cap.setMinimumWidth(90)
        self._cap_words = QLabel()
        self._cap_words.setMinimumWidth(44)
        self.drop = QSpinBox(minimum=0, maximum=8)
        self.format = QComboBox()
        self.levels = QComboBox()
        self.effort = QComboBox()
        self.loss = QComboBox()
        self.error_metric = QComboBox()
        self.role = QComboBox()
        self.scope = QComboBox()
        self._build()
        self._connect()
        session.selection_changed.connect(self.refresh)
        session.job_changed.connect(self.refresh)
        session.watched_changed.connect(self._refresh_targets)
        session.opened.connect(self._refresh_targets)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 8)
        column.setSpacing(4)
        first, second = QHBoxLayout(), QHBoxLayout()
        for row in (first, second):
            row.setSpacing(5)
            column.addLayout(row)
        self._who.setMinimumWidth(124)
        first.addWidget(self._who)
        self._add(first, "Cap", self.cap, 1)
        first.addWidget(self._cap_words)
        self._add(first, "Drop", self.drop, 0)
        first.addWidget(with_properties(QLabel("for"), objectName="soft"))
        first.addWidget(self.scope)
        for text, widget in (
            ("Format", self.format),
            ("Levels", self.levels),
            ("Effort", self.effort),
            ("Max loss", self.loss),
            ("Error metric", self.error_metric),
        ):
            self._add(second, text, widget, 0)
        self._add(first, "used as", self.role, 0)
        second.addStretch(1)
        self.scope.setAccessibleName("Targets that the cut is for")
        self.scope.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.cap.setToolTip("The longest side is at most this; drag it and watch the budget rules")
        self.drop.setToolTip("How many of the largest levels are left out; adds to a cap")
        self.levels.addItems([_AS_IS, "on", "off"])
        self.effort.addItems([_AS_IS, *(e.value for e in Effort)])
        self.loss.addItems([_AS_IS, *(f"{loss:g} dB" if loss else "nothing" for loss in _LOSSES)])
        self.loss.setToolTip(
            "How many dB may be lost for a smaller download: blocks repeat each other and pack tighter"
        )
        self.error_metric.addItems([_AUTOMATIC, *ERROR_METRIC_WORDS.values()])
        self.error_metric.setToolTip(
            "What the encoder measures errors on: automatic (by the role), or as colour, each channel by what the eye sees of it, "
            "as angles of normals, or as values of which alpha is one"
        )
        # Narrower than these, what is chosen would be cut.
        for box, width in (
            (self.format, 104),
            (self.error_metric, 98),
            (self.levels, 72),
            (self.effort, 84),
            (self.loss, 76),
        ):
            box.setMinimumWidth(width)
        self.drop.setMaximumWidth(64)
        self.role.addItem(_AUTOMATIC, None)
        for role in Role:
            self.role.addItem(role.label, role)
        self.role.setToolTip("What the textures are used as: told by materials, names and pixels, or chosen here")

    @staticmethod
    def _add(row: QHBoxLayout, text: str, control: QWidget, stretch: int) -> None:
        label = with_properties(QLabel(text), objectName="soft")
        label.setBuddy(control)
        control.setAccessibleName(f"{text} of the selected textures")
        row.addWidget(label)
        row.addWidget(control, stretch)

    def _connect(self) -> None:
        self.cap.valueChanged.connect(self._cap_moved)
        self.cap.sliderReleased.connect(lambda: self._cap_settled(self.cap.value()))
        self.drop.valueChanged.connect(lambda n: self._choose(Drop, Drop(n) if n else None))
        self.format.activated.connect(self._format_chosen)
        self.levels.activated.connect(self._levels_chosen)
        self.effort.activated.connect(self._effort_chosen)
        self.loss.activated.connect(lambda place: self._choose(SetLoss, SetLoss(_LOSSES[place - 1]) if place else None))
        self.error_metric.activated.connect(self._metric_chosen)
        self.role.activated.connect(lambda place: self._session.set_role(self.role.itemData(place)))

    def control_of(self, kind: type) -> QWidget:
        """Return the control of a kind of cut; that of caps for those that have none."""
        controls: dict[type, QWidget] = {
            Drop: self.drop, SetFormat: self.format, SetLevels: self.levels, SetEffort: self.effort, SetLoss: self.loss,
            SetErrorMetric: self.error_metric,
        }  # fmt: skip
        return controls.get(kind, self.cap)

    @property
    def everywhere(self) -> bool:
        """The cut is for all targets."""
        return self.scope.currentIndex() == 1

    # From the controls

    def _choose(self, kind: type, change: Change | None) -> None:
        if change is None:
            self._session.remove_changes(kind, self.everywhere)
        else:
            self._session.cut(change, self.everywhere, keep=True)

    def _cap_moved(self, place: int) -> None:
        self._cap_words.setText(str(_SIDES[place - 1]) if place else _AS_IS)
        if not self.cap.isSliderDown():
            self._cap_settled(place)
        elif place:
            self._session.cut(Cap(_SIDES[place - 1]), self.everywhere, keep=False)

    def _cap_settled(self, place: int) -> None:
        self._choose(Cap, Cap(_SIDES[place - 1]) if place else None)

    def _format_chosen(self, place: int) -> None:
        name = self.format.itemData(place)
        self._choose(SetFormat, SetFormat(name) if name else None)

    def _levels_chosen(self, place: int) -> None:
        self._choose(SetLevels, SetLevels(place == 1) if place else None)

    def _effort_chosen(self, place: int) -> None:
        self._choose(SetEffort, SetEffort(list(Effort)[place - 1]) if place else None)

    def _metric_chosen(self, place: int) -> None:
        self._choose(SetErrorMetric, SetErrorMetric(list(ErrorMetric)[place - 1]) if place else None)

    # To the controls

    def _refresh_targets(self) -> None:
        if not self._session.is_open:
            return
        target, kept = self._session.watched, self.scope.currentIndex()
        self.scope.clear()
        self.scope.addItems([f"{target.name} only", "all targets"])
        self.scope.setCurrentIndex(max(0, kept))
        self._offered = None
        self.refresh()

    def _offer_formats(self) -> None:
        """List the formats for the use of what is selected: those that fit, then the others with what is against them."""
        session = self._session
        inventory, rows = session.inventory, session.chosen
        assert inventory is not None
        first = inventory.textures[rows[0]]
        roles = {inventory.roles[row].role for row in rows}
        use = (session.watched, roles.pop() if len(roles) == 1 else Role.UNKNOWN, "A" in first.live, first.floating)
        if use == self._offered:
            return
        self._offered = use
        with QSignalBlocker(self.format):
            self.format.clear()
            self.format.addItem(_AS_IS, "")
            fits = True
            for option in format_options(*use):
                if fits and option.against:
                    fits = False
                    self.format.insertSeparator(self.format.count())
                row = option.format
                sign = " ▲" if not session.watched.decodes(row) else ""
                self.format.addItem(row.label + sign, row.name)
                good, breaks = row.good_for, row.weakness
                tip = f"{row.label}, {row.bits_per_pixel:.3g} bits a pixel\nGood for: {good}\nBreaks: {breaks}"
                if option.against:
                    tip += f"\nNot here: {option.against}"
                    self.format.setItemData(
                        self.format.count() - 1, QColor(tokens().soft), Qt.ItemDataRole.ForegroundRole
                    )
                self.format.setItemData(self.format.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)

    def refresh(self) -> None:
        """Show the cuts of the textures now selected."""
        count = len(self._session.chosen) if self._session.is_open else 0
        chosen_for = (self.cap, self.drop, self.format, self.levels, self.effort, self.loss, self.error_metric)
        for control in (*chosen_for, self.role, self.scope):
            control.setEnabled(count > 0)
        self._who.setText("Nothing selected" if not count else f"Cut {count} texture{'s' if count > 1 else ''}")
        if not count:
            return
        caps, cap = self._session.mixed_change(Cap)
        place = 0 if cap < 0 else next((i + 1 for i, side in enumerate(_SIDES) if side >= cap), len(_SIDES))
        with QSignalBlocker(self.cap):
            self.cap.setValue(place)
        self._cap_words.setText(_MIXED if caps else str(cap) if cap >= 0 else _AS_IS)
        drops, drop = self._session.mixed_change(Drop)
        with QSignalBlocker(self.drop):
            self.drop.setValue(max(0, drop))
        self.drop.setSuffix(" mixed" if drops else "")
        self._offer_formats()
        formats, held = self._session.mixed_change(SetFormat)
        self._show(self.format, formats, 0 if held < 0 else self.format.findData(ORDER[held]))
        self._show_plain(self.levels, SetLevels, lambda on: 1 if on else 2)
        self._show_plain(self.effort, SetEffort, lambda rank: rank + 1)
        self._show_plain(self.error_metric, SetErrorMetric, lambda place: place + 1)
        self._show_plain(
            self.loss,
            SetLoss,
            lambda held: 1 + min(range(len(_LOSSES)), key=lambda i: abs(_LOSSES[i] - SetLoss.value_of(held))),
        )
        roles = self._session.chosen_roles()
        self._show(self.role, len(roles) > 1, max(0, self.role.findData(next(iter(roles)))))

    def _show_plain(self, box: QComboBox, kind: type, place: Callable[[int], int]) -> None:
        mixed, value = self._session.mixed_change(kind)
        self._show(box, mixed, 0 if value < 0 else place(value))

    @staticmethod
    def _show(box: QComboBox, mixed: bool, place: int) -> None:
        box.setPlaceholderText(_MIXED)
        box.setCurrentIndex(-1 if mixed else place)
