"""What lets assets into the ledger: chips, the filter line, and what the ledger is grouped by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.plan.checks import label_of
from oaktrim.core.plan.query import select
from oaktrim.core.plan.syntax import QueryError
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.models.ledger import GROUPS
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.filterline import FilterLine

_ALL, _FINDINGS, _CUT, _SHARED, _UNUSED, _OTHERS = "All", "Findings", "Cut", "Shared", "Unused", "Others"
_QUERIES = {_FINDINGS: "findings>0", _CUT: "is:cut", _SHARED: "is:shared", _UNUSED: "is:unused", _OTHERS: "-is:texture"}
_NOT_WITHOUT_MODELS = (_SHARED, _UNUSED, _OTHERS)


@dataclass(frozen=True)
class _Chip:
    """A key that lets some assets through, and how many; `act` is called with `key`."""

    text: str
    on: bool
    act: Callable[[str], None]
    key: str
    tip: str = ""


class FilterBar(QWidget):
    """Follows the session.

    Signals
    -------
    changed : other assets are let through, see `marked`
    group_changed : what the ledger is grouped by
    unreadable_wanted : the chip of unreadable files was clicked
    kind_dropped : the chip of the kind of finding was clicked away
    """

    changed = Signal()
    group_changed = Signal(str)
    unreadable_wanted = Signal(str)
    kind_dropped = Signal(str)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._filter, self._family, self._code = _ALL, "", ""
        self._shown: list[_Chip] = []
        self.line = FilterLine()
        self.group = with_properties(QComboBox(), accessibleName="Group the ledger by")
        self._chips = QHBoxLayout()
        self._chips.setSpacing(6)
        self._buttons = QButtonGroup(self)
        self._fault = with_properties(QLabel(), objectName="warning", accessibleName="What is wrong with the filter")
        self._build()
        session.watched_changed.connect(self.refresh)
        session.job_changed.connect(self._recut)
        session.findings_changed.connect(self._judged)

    def _build(self) -> None:
        self.line.setMinimumWidth(150)
        self.line.textChanged.connect(lambda _: self.changed.emit())
        for group in GROUPS:
            self.group.addItem(f"by {group}" if group else "no groups", group)
        self.group.currentIndexChanged.connect(lambda _: self.group_changed.emit(self.group.currentData()))
        top = QHBoxLayout()
        top.setContentsMargins(10, 6, 10, 6)
        top.setSpacing(6)
        top.addLayout(self._chips)
        top.addWidget(self.line, 1)
        top.addWidget(self.group)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self._fault)
        self._fault.setContentsMargins(12, 0, 12, 6)
        self._fault.hide()

    @property
    def code(self) -> str:
        """The kind of finding whose assets are let through; empty for all."""
        return self._code

    # Filters

    def reset(self) -> None:
        """Let everything through, as for another job; what is typed stays."""
        self._filter, self._family = _ALL, ""
        self.refresh()

    def set_filter(self, key: str) -> None:
        """Show the assets of one chip."""
        self._filter = key
        self.refresh()

    def set_family(self, family: str) -> None:
        """Show the assets of one family; empty for all."""
        self._family = family
        self.refresh()

    def set_kind(self, code: str) -> None:
        """Show the assets that have one kind of finding; empty for all."""
        if code != self._code:
            self._code = code
            self.refresh()

    def refresh(self) -> None:
        """Count again, and let through what is to be let through now."""
        self._show_chips()
        self.changed.emit()

    def _recut(self) -> None:
        """Follow an edit: the counts change, and only the filter of what is cut lets other rows through."""
        self._show_chips()
        if self._filter == _CUT or "is:" in self.line.text():
            self.changed.emit()

    def _judged(self) -> None:
        self._show_chips()
        if self._filter == _FINDINGS or self._code or "finding" in self.line.text():
            self.changed.emit()

    def marked(self) -> NDArray[np.bool_]:
        """Return which assets are let through."""
        assets = self._session.assets()
        keep = select(_QUERIES.get(self._filter, ""), assets)
        if self._family:
            keep &= select(f'family="{self._family}"', assets)
        if self._code:
            keep &= select(f"finding={self._code}", assets)
        fault = ""
        try:
            keep &= select(self.line.text(), assets)
        except QueryError as error:
            fault = str(error)
        self._session.filter_text = "" if fault else self.line.text()
        self.line.show_fault(fault)
        self._fault.setText(fault)
        self._fault.setVisible(bool(fault))
        return keep

    # Chips

    def _wanted(self) -> list[_Chip]:
        inventory = self._session.inventory
        assert inventory is not None
        assets = self._session.assets()
        found = [_Chip(f"{_ALL} {len(assets)}", self._filter == _ALL, self.set_filter, _ALL)]
        unreadable = inventory.unreadable
        if unreadable and not self._code:
            tip = "\n".join(f"{u.path}: {u.error}" for u in unreadable[:40])
            text = f"▲ Unreadable {len(unreadable)}"
            found.append(_Chip(text, False, self.unreadable_wanted.emit, "unreadable", tip))
        for key, query in _QUERIES.items():
            if key in _NOT_WITHOUT_MODELS and not (inventory.models or (key == _OTHERS and inventory.others)):
                continue
            count = int(select(query, assets).sum())
            if (count or key in (_FINDINGS, self._filter)) and not self._code:
                found.append(_Chip(f"{key} {count}", key == self._filter, self.set_filter, key))
        if self._family:
            found.append(_Chip(f"{self._family} ×", True, self.set_family, ""))
        if self._code:
            found.append(_Chip(f"{label_of(self._code)} ×", True, self.kind_dropped.emit, ""))
        return found

    def _show_chips(self) -> None:
        if not self._session.is_open:
            return
        wanted = self._wanted()
        if wanted != self._shown:
            self._shown = wanted
            self._lay_chips(wanted)
        for button, chip in zip(self._buttons.buttons(), wanted, strict=True):
            button.setChecked(chip.on)

    def _lay_chips(self, wanted: list[_Chip]) -> None:
        for button in self._buttons.buttons():
            self._buttons.removeButton(button)
            self._chips.removeWidget(button)
            button.hide()
            button.deleteLater()
        self._buttons.setExclusive(False)
        for chip in wanted:
            button = with_properties(QPushButton(chip.text), checkable=True, objectName="chip", toolTip=chip.tip)
            button.clicked.connect(lambda _=False, chip=chip: chip.act(chip.key))
            button.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            self._buttons.addButton(button)
            self._chips.addWidget(button)
        self._fit_chips()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_chips()

    def _fit_chips(self) -> None:
        """Show as many chips as there is room for beside the filter; those left out can still be typed."""
        room = self.width() - self.line.minimumWidth() - self.group.sizeHint().width() - 44
        for chip in self._buttons.buttons():
            room -= chip.sizeHint().width() + self._chips.spacing()
            chip.setVisible(room >= 0 or chip.isChecked())
