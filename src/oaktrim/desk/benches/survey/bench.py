"""The Survey bench: planks, findings, roles, rules and checks over the ledger, and the cut bar on what is selected."""

from __future__ import annotations

from enum import Enum
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QButtonGroup,
    QFileDialog,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.plan.cuts import Cap
from oaktrim.core.plan.modelcuts import DropUnused, ReduceMotion
from oaktrim.core.plan.paste import FORMAT, ROLE, SIZE, paste
from oaktrim.core.plan.report import Survey, as_csv
from oaktrim.core.plan.soundcuts import SetRate
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.survey.checkspane import ChecksPane
from oaktrim.desk.benches.survey.cutbar import CutBar
from oaktrim.desk.benches.survey.filterbar import FilterBar
from oaktrim.desk.benches.survey.findingspane import FindingsPane
from oaktrim.desk.benches.survey.ledgertable import LedgerTable
from oaktrim.desk.benches.survey.otherbars import model_bar, sound_bar
from oaktrim.desk.benches.survey.outfitspane import OutfitsPane
from oaktrim.desk.benches.survey.pasteview import PasteView
from oaktrim.desk.benches.survey.plankpane import PlankPane
from oaktrim.desk.benches.survey.rolespane import RolesPane
from oaktrim.desk.benches.survey.rulespane import RulesPane
from oaktrim.desk.benches.survey.targetspage import TargetsPage
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.models.ledger import COLUMNS
from oaktrim.desk.session.session import Session


class Pane(Enum):
    """What stands over the ledger, by its name on the key; the targets stand in its place."""

    PLANKS = "Planks"
    FINDINGS = "Findings"
    ROLES = "Roles"
    RULES = "Rules"
    CHECKS = "Checks"
    OUTFITS = "Outfits"
    TARGETS = "Targets"


_HEIGHTS = {Pane.PLANKS: 164, Pane.FINDINGS: 236, Pane.ROLES: 252, Pane.RULES: 246, Pane.CHECKS: 246, Pane.OUTFITS: 246}
_LEAST = 140


class SurveyBench(Bench):
    """Where things stand, and what is eating the budget."""

    title = "Survey"
    wants_swatch = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self.filters = FilterBar(session)
        self.ledger = LedgerTable(session)
        self.model = self.ledger.items
        self.cuts, self.sound_cuts, self.model_cuts = CutBar(session), sound_bar(session), model_bar(session)
        self._bars = QStackedWidget()
        self.planks = PlankPane(session)
        self.findings = FindingsPane(session)
        self.roles = RolesPane(session)
        self.rules = RulesPane(session)
        self.checks = ChecksPane(session)
        self.outfits = OutfitsPane(session)
        self.targets = TargetsPage(session)
        self._panes = QStackedWidget()
        self._whole = QStackedWidget()
        self.keys: dict[Pane, QPushButton] = {}
        self._build()
        session.opened.connect(self._reload)
        session.findings_changed.connect(self._judged)
        session.plans_changed.connect(self.model.recount)
        session.selection_changed.connect(self._show_bar)
        session.opened.connect(self._show_bar)
        self.filters.changed.connect(self._apply)
        self.filters.group_changed.connect(self.ledger.set_group)
        self.filters.unreadable_wanted.connect(self.show_finding)
        self.filters.kind_dropped.connect(self.findings.choose)
        self.findings.kind_chosen.connect(self.filters.set_kind)

    def _build(self) -> None:
        body = with_properties(QWidget(), objectName="desk")
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for pane in (self.planks, self.findings, self.roles, self.rules, self.checks, self.outfits):
            self._panes.addWidget(pane)
        self._panes.setObjectName("sheet")
        self._give_room(Pane.PLANKS)
        column.addWidget(self._panes)
        column.addWidget(self.filters)
        column.addWidget(self.ledger, 1)
        for bar in (self.cuts, self.sound_cuts, self.model_cuts):
            self._bars.addWidget(bar)
        self._bars.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        column.addWidget(self._bars)
        for key, act in (
            (QKeySequence.StandardKey.Copy, self.ledger.copy),
            (QKeySequence.StandardKey.Paste, self.paste),
        ):
            QShortcut(key, self.ledger, act, context=Qt.ShortcutContext.WidgetShortcut)
        self._whole.addWidget(body)
        self._whole.addWidget(self.targets)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addLayout(self._pane_keys())
        outer.addWidget(self._whole, 1)

    def _pane_keys(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(8, 5, 8, 5)
        row.setSpacing(4)
        group = QButtonGroup(self)
        for pane in Pane:
            key = with_properties(QPushButton(pane.value), checkable=True, checked=pane is Pane.PLANKS)
            key.setObjectName("chip")
            key.clicked.connect(partial(lambda p, _=False: self.show_pane(p), pane))
            group.addButton(key)
            row.addWidget(key)
            self.keys[pane] = key
        row.addStretch(1)
        return row

    def actions_here(self) -> list[Action]:
        panes = [Action(pane.value, partial(self.show_pane, pane), f"Ctrl+{n}") for n, pane in enumerate(Pane, 1)]
        return [
            Action("Cap the selection", partial(self.focus_kind, None), "Ctrl+Return"),
            Action("Filter the ledger", self.filters.line.setFocus, QKeySequence.StandardKey.Find),
            Action("Select what the filter shows", self.ledger.selectAll, "Ctrl+Shift+A"),
            Action("Use the common rules…", self.use_common_rules),
            Action("Write the ledger as CSV…", self.export),
            *panes,
        ]

    def stop(self) -> None:
        self.model.thumbnails.stop()
        self.roles.stop()
        self.findings.stop()
        self.outfits.stop()

    def show_pane(self, pane: Pane) -> None:
        """Show a pane over the ledger, or the targets in its place."""
        self.keys[pane].setChecked(True)
        self._whole.setCurrentIndex(1 if pane is Pane.TARGETS else 0)
        if pane in _HEIGHTS:
            self._panes.setCurrentIndex(list(_HEIGHTS).index(pane))
            self._give_room(pane)
        if pane is not Pane.FINDINGS and self.filters.code:
            self.findings.choose("")

    def _give_room(self, pane: Pane) -> None:
        """Give a pane its height, or less in a window that has not so much."""
        self._panes.setMaximumHeight(_HEIGHTS[pane])
        self._panes.setMinimumHeight(min(_HEIGHTS[pane], _LEAST))

    def show_rules(self, formats: bool = False) -> None:
        """Show the rules of sizes, or of formats, over the ledger."""
        self.show_pane(Pane.RULES)
        self.rules.pages["Formats" if formats else "Sizes"].click()

    def show_outfits(self, name: str) -> None:
        """Show the parts of models of a name."""
        self.show_pane(Pane.OUTFITS)
        self.outfits.pattern.setText(name)

    def use_common_rules(self) -> None:
        """Propose the common rules, with what they come to."""
        self.show_rules()
        self.rules.propose_common()

    def show_finding(self, code: str) -> None:
        """Show the findings of one kind."""
        self.show_pane(Pane.FINDINGS)
        self.findings.choose(code)

    def set_family(self, family: str) -> None:
        """Show the assets of one family; empty for all."""
        self.filters.set_family(family)

    def _reload(self) -> None:
        assert self._session.inventory is not None
        self.model.thumbnails.use(self._session.inventory)
        self.filters.reset()
        self.ledger.show_selection()

    def _judged(self) -> None:
        """Take in what was found wrong."""
        self.keys[Pane.FINDINGS].setText(f"Findings {len(self._session.findings()):,}")
        self.model.recount()

    def _apply(self) -> None:
        if self._session.is_open:
            self.ledger.set_filter(self.filters.marked)

    # Paste, export

    def paste(self) -> None:
        """Show what pasting the clipboard's column into the current column would change."""
        session = self._session
        head = COLUMNS[max(0, self.ledger.currentIndex().column())].head
        column = head if head in (SIZE, FORMAT, ROLE) else SIZE
        lines = [line.split("\t")[0].strip() for line in QGuiApplication.clipboard().text().splitlines()]
        values = [line for line in lines if line and line not in {c.head for c in COLUMNS}]
        places = self.model.places_of(session.chosen).tolist()
        rows = [self.model.row_at(place) for place in places]
        if not values or not rows:
            return
        targets = () if self.cuts.everywhere else (session.watched_id,)
        view = PasteView(session, column, paste(column, values, rows, session.plan(), targets), self)
        view.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        view.open()

    def export(self) -> None:
        """Ask for a file and write the textures that the filter shows as CSV."""
        found, _ = QFileDialog.getSaveFileName(self, "Write the ledger as CSV", "ledger.csv", "CSV (*.csv)")
        if found:
            self.write_csv(found)

    def write_csv(self, file: str) -> None:
        """Write what the filter shows as CSV."""
        session = self._session
        assert session.inventory is not None
        shown = (self.model.row_at(place) for place in range(self.model.rowCount()))
        kept = frozenset(session.asset_path(asset) for asset in shown if asset >= 0)
        plans = tuple(session.plan(target.id) for target in session.targets)
        try:
            write_atomic(Path(file), as_csv(Survey(session.inventory, plans, (), kept=kept)))
        except OakTrimError as error:
            session.failed.emit(error)

    def _show_bar(self) -> None:
        """Show the cut bar of what is selected: of textures where there are any."""
        session = self._session
        sounds, others = session.paths_for(SetRate), session.paths_for(ReduceMotion) or session.paths_for(DropUnused)
        bar = self.cuts if session.chosen or not (sounds or others) else self.sound_cuts if sounds else self.model_cuts
        self._bars.setCurrentWidget(bar)

    def focus_kind(self, kind: type | None) -> None:
        """Put the keyboard on the control of one kind of cut."""
        if self._whole.currentIndex():
            self.show_pane(Pane.PLANKS)
        for bar in (self.sound_cuts, self.model_cuts):
            if kind in bar.boxes and self._bars.currentWidget() is bar:
                bar.boxes[kind].setFocus(Qt.FocusReason.OtherFocusReason)
                return
        self.cuts.control_of(kind or Cap).setFocus(Qt.FocusReason.OtherFocusReason)
