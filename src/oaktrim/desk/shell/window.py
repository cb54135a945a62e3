"""The window: budget rules on top, the rail of benches, the bench, the swatch, and the cut list at the foot."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TypeVar

import msgspec
from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.document import SUFFIX
from oaktrim.core.plan.ladder import SizeStep
from oaktrim.core.settings import load_settings, save_settings
from oaktrim.core.survey.findings.finding import Remedy
from oaktrim.desk.benches.atlas.bench import AtlasBench
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.channels.bench import ChannelsBench
from oaktrim.desk.benches.imposters.bench import ImpostersBench
from oaktrim.desk.benches.proof.bench import ProofBench
from oaktrim.desk.benches.ship.bench import ShipBench
from oaktrim.desk.benches.shipped import make_benches
from oaktrim.desk.benches.sightlines.bench import SightlinesBench
from oaktrim.desk.benches.surface.bench import SurfaceBench
from oaktrim.desk.benches.survey.bench import SurveyBench
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.style import apply_style
from oaktrim.desk.look.tokens import use_theme
from oaktrim.desk.session.session import Session
from oaktrim.desk.shell.busyband import BusyBand
from oaktrim.desk.shell.cutlist import CutList
from oaktrim.desk.shell.faults import FaultWatch
from oaktrim.desk.shell.files import JobFiles
from oaktrim.desk.shell.help import HelpPanel
from oaktrim.desk.shell.recent import recent_paths
from oaktrim.desk.shell.rules import RulesBand
from oaktrim.desk.shell.settingsdialog import SettingsDialog
from oaktrim.desk.shell.topbar import TopBar
from oaktrim.desk.shell.welcome import Welcome
from oaktrim.desk.widgets.finder import Findable, Finder
from oaktrim.desk.widgets.swatch import Swatch
from oaktrim.desk.work.tasks import Work
from oaktrim.desk.work.watch import Watch

One = TypeVar("One", bound=Bench)
_FINDER = "Find a texture or an action"
# The menu of the job; "" is the list of what was opened last, and "-" a line.
_MENU = (
    "Open a folder…", "Open a job…", "", "Save the job", "Save the job as…", "Survey again", "-",
    "Light theme", "Dusk theme", "Theme of the desktop", "Settings…", "-", "Shortcuts and help", "Quit",
)  # fmt: skip


class Window(QMainWindow):
    """One window on one job."""

    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.session = session or Session(self)
        self.setWindowTitle("Oak Trim")
        self.setMinimumSize(1000, 640)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.files = JobFiles(self.session, self)
        self.faults = FaultWatch(self.files.keeper, self)
        self.benches = make_benches(self.session)
        self.survey, self.proof = self.bench(SurveyBench), self.bench(ProofBench)
        self.sightlines = self.bench(SightlinesBench)
        self.channels, self.atlas = self.bench(ChannelsBench), self.bench(AtlasBench)
        self.imposters, self.surface = self.bench(ImpostersBench), self.bench(SurfaceBench)
        self.ship = self.bench(ShipBench)
        self.welcome = Welcome()
        self.top = TopBar(self.session)
        self.rules = RulesBand(self.session)
        self.swatch = Swatch(self.session)
        self.cuts = CutList(self.session)
        self._stack = QStackedWidget()
        self._keys: list[QPushButton] = []
        self._watching = Watch(self)
        self._recent_menu = QMenu("Open recent", self)
        self.actions_by_name: dict[str, QAction] = {}
        self._build()
        self._make_actions()
        self._make_menu()
        self._connect()
        self._show_empty()
        self._restore()

    def bench(self, kind: type[One]) -> One:
        """Return the bench of a kind."""
        return next(bench for bench in self.benches if isinstance(bench, kind))

    # Building

    def _build(self) -> None:
        whole = with_properties(QWidget(), objectName="desk")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.top)
        column.addWidget(self.rules)
        column.addWidget(BusyBand(self.session))
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self._rail())
        self._stack.addWidget(self.welcome)
        for bench in self.benches:
            self._stack.addWidget(bench)
        middle.addWidget(self._stack, 1)
        middle.addWidget(self.swatch)
        column.addLayout(middle, 1)
        column.addWidget(self.cuts)
        self.setCentralWidget(whole)

    def _rail(self) -> QWidget:
        rail = with_properties(QWidget(), objectName="rail")
        rail.setFixedWidth(92)
        column = QVBoxLayout(rail)
        column.setContentsMargins(0, 8, 0, 8)
        column.setSpacing(0)
        group = QButtonGroup(self)
        for place, bench in enumerate(self.benches):
            key = with_properties(QPushButton(bench.title), checkable=True)
            key.setObjectName("bench")
            key.setToolTip(f"{bench.title} bench (Alt+{place + 1})")
            key.clicked.connect(partial(self.show_bench, place))
            group.addButton(key)
            self._keys.append(key)
            column.addWidget(key)
        column.addStretch(1)
        return rail

    def _make_actions(self) -> None:
        keys = QKeySequence.StandardKey
        rows = [
            Action("Open a folder…", self.files.open_folder, keys.Open),
            Action("Open a job…", self.files.open_job, "Ctrl+Shift+O"),
            Action("Save the job", self.files.save, keys.Save),
            Action("Save the job as…", self.files.save_as, "Ctrl+Shift+S"),
            Action("Survey again", self.session.survey_again, "F5"),
            Action("Undo", self.session.undo, keys.Undo),
            Action("Redo", self.session.redo, "Ctrl+Shift+Z"),
            Action("Show the cut list", self.cuts.opener.toggle, "Ctrl+L"),
            Action(_FINDER, self.show_finder, "Ctrl+K"),
        ]
        for place, bench in enumerate(self.benches):
            rows += [Action(a.name, partial(self._act_on, place, a), a.shortcut) for a in bench.actions_here()]
        rows += [
            Action("Rulers of all targets", self._rule_all, "Ctrl+R"),
            Action("Light theme", partial(self.set_theme, "light")),
            Action("Dusk theme", partial(self.set_theme, "dusk")),
            Action("Theme of the desktop", partial(self.set_theme, "")),
            Action("Settings…", self.show_settings, keys.Preferences),
            Action("Shortcuts and help", self.show_help, keys.HelpContents),
            Action("Quit", self.close, "Ctrl+Q"),
        ]
        for place, bench in enumerate(self.benches):
            rows.append(Action(f"{bench.title} bench", partial(self.show_bench, place), f"Alt+{place + 1}"))
        for row in rows:
            action = QAction(row.name, self)
            if row.shortcut is not None:
                action.setShortcut(QKeySequence(row.shortcut))
            action.triggered.connect(lambda _=False, act=row.act: act())
            self.addAction(action)
            self.actions_by_name[row.name] = action

    def _make_menu(self) -> None:
        menu = QMenu(self)
        for name in _MENU:
            if name == "-":
                menu.addSeparator()
            elif name:
                menu.addAction(self.actions_by_name[name])
            else:
                menu.addMenu(self._recent_menu)
        self.top.menu_key.setMenu(menu)
        self.top.menu_key.setStyleSheet("QPushButton::menu-indicator { image: none; width: 0; }")

    def _connect(self) -> None:
        session = self.session
        session.opened.connect(self._opened)
        session.failed.connect(self.show_error)
        self._watching.changed.connect(session.look_at_disk)
        self.files.recent_changed.connect(self._show_recent)
        self.top.find_key.clicked.connect(self.show_finder)
        self.welcome.folder_wanted.connect(self.files.open_folder)
        self.welcome.chosen.connect(self.files.open_path)
        self.rules.family_clicked.connect(self._show_family)
        self.survey.findings.maker_wanted.connect(self._use_maker)
        self.cuts.edit_wanted.connect(self._edit_cut)
        self.cuts.ship_wanted.connect(partial(self.reveal, self.ship))
        self.swatch.rung_chosen.connect(self._change_step)
        self.swatch.proof_wanted.connect(partial(self.reveal, self.proof))

    # What is shown

    def _show_empty(self) -> None:
        self._stack.setCurrentIndex(0)
        self.swatch.hide()
        for key in self._keys:
            key.setEnabled(False)
        self._show_recent()

    def show_bench(self, place: int, _: bool = True) -> None:
        """Show a bench by its place on the rail."""
        if not self.session.is_open:
            return
        self._stack.setCurrentIndex(place + 1)
        self._keys[place].setChecked(True)
        self.swatch.setVisible(self.benches[place].wants_swatch)

    def reveal(self, bench: Bench) -> None:
        """Show a bench."""
        self.show_bench(self.benches.index(bench))

    def _act_on(self, place: int, action: Action) -> None:
        if self.session.is_open:
            self.show_bench(place)
            action.act()

    def _opened(self) -> None:
        for key in self._keys:
            key.setEnabled(True)
        if self._stack.currentIndex() == 0:
            self.reveal(self.survey)
            self.survey.ledger.setFocus()
        # Once the window has shown itself: to watch thousands of folders takes a while.
        QTimer.singleShot(0, self, partial(self._watching.look_at, self.session.root))
        self.files.remember_open()

    def _show_recent(self) -> None:
        rows = recent_paths()
        self._recent_menu.clear()
        self._recent_menu.setEnabled(bool(rows))
        for row in rows:
            self._recent_menu.addAction(row, partial(self.files.open_path, Path(row)))
        self.welcome.show_recent(rows)

    def _show_family(self, family: str) -> None:
        self.reveal(self.survey)
        self.survey.set_family(family)

    def _change_step(self, step: SizeStep) -> None:
        """Go to where a step of the ladder can be changed."""
        self.reveal(self.survey)
        if step.rule is not None or step.format_rule is not None:
            self.survey.show_rules(formats=step.format_rule is not None)
            return
        kind = type(self.session.job.cuts[step.cut].change) if step.cut is not None else None
        self.survey.focus_kind(kind)

    def _edit_cut(self, place: int) -> None:
        """Select what a cut is on, and go to the control that changes it."""
        cut, session = self.session.job.cuts[place], self.session
        places = {session.asset_path(asset): asset for asset in range(session.asset_count)}
        found = tuple(places[path] for path in cut.assets if path in places)
        self.reveal(self.survey)
        if not found and cut.assets:
            # A part of a model is no asset of its own.
            self.survey.show_outfits(cut.assets[0].rpartition("/")[2])
            return
        session.select(found)
        self.survey.focus_kind(type(cut.change))

    def _use_maker(self, remedy: Remedy) -> None:
        """Open the maker that fixes a finding, on what is selected."""
        if remedy is Remedy.ATLAS:
            self.reveal(self.atlas)
            self.atlas.begin()
            return
        if remedy is Remedy.IMPOSTER:
            self.reveal(self.imposters)
            self.imposters.begin()
            return
        if remedy is Remedy.SURFACE:
            self.reveal(self.surface)
            self.surface.begin()
            return
        self.reveal(self.channels)
        self.channels.begin(remedy)

    def _rule_all(self) -> None:
        self.rules.set_all(not self.rules.shows_all)

    def show_error(self, error: Exception) -> None:
        """Say what happened, to which file."""
        text = str(error) if isinstance(error, OakTrimError) else f"Something went wrong: {error!r}"
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Oak Trim", text, QMessageBox.StandardButton.Ok, self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.open()

    def show_help(self) -> None:
        """List every action with its shortcut."""
        panel = HelpPanel(self.actions_by_name, self)
        panel.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        panel.open()

    def show_settings(self) -> None:
        """Show what is set for all jobs."""
        dialog = SettingsDialog(self.session.cache, self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.saved.connect(lambda settings: self._dress(settings.theme))
        dialog.open()

    def show_finder(self) -> None:
        """Open the finder."""
        rows = [
            Findable(name, action.shortcut().toString() or "action", action.trigger)
            for name, action in self.actions_by_name.items()
            if name != _FINDER
        ]
        rows += [Findable(f"Watch {t.name}", "target", partial(self.session.watch, t.id)) for t in self.session.targets]
        inventory = self.session.inventory
        if inventory is not None:
            rows += [
                Findable(t.path, "texture", partial(self.session.select, (row,)))
                for row, t in enumerate(inventory.textures)
            ]
            rows += [
                Findable(row.path, row.family.value, partial(self.session.select, (place,)))
                for place, row in enumerate(inventory.others, len(inventory.textures))
            ]
        finder = Finder(rows, self)
        finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        finder.resize(460, 380)
        corner = self.top.find_key.mapToGlobal(self.top.find_key.rect().bottomRight())
        finder.move(corner.x() - finder.width(), corner.y() + 2)
        finder.show()
        finder.line.setFocus()

    # Theme, layout, drops

    def set_theme(self, name: str) -> None:
        """Take a theme: light, dusk, or empty to follow the desktop."""
        settings = msgspec.structs.replace(load_settings(), theme=name)
        try:
            save_settings(settings)
        except (OakTrimError, OSError) as error:
            # It is dressed all the same, until it is closed.
            self.show_error(error)
        self._dress(name)

    def _dress(self, name: str) -> None:
        use_theme(name)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_style(app)
        self.cuts.dress()
        self._show_recent()
        for widget in self.findChildren(QWidget):
            widget.update()

    def _restore(self) -> None:
        settings = QSettings()
        geometry = settings.value("geometry")
        if geometry is not None and QGuiApplication.platformName() != "offscreen":
            self.restoreGeometry(geometry)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        urls = event.mimeData().urls()
        if len(urls) == 1 and urls[0].isLocalFile():
            path = Path(urls[0].toLocalFile())
            if path.is_dir() or path.suffix == SUFFIX:
                event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        self.files.open_path(Path(event.mimeData().urls()[0].toLocalFile()))

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        QSettings().setValue("geometry", self.saveGeometry())
        for work in self.findChildren(Work):
            work.cancel()
        self.session.stop()
        for bench in self.benches:
            bench.stop()
        self._watching.stop()
        event.accept()
