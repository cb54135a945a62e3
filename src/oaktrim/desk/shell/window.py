"""The window: budget rules on top, the rail of benches, the bench, the swatch, and the cut list at the foot."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QProgressBar,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.document import SUFFIX
from oaktrim.core.plan.ladder import SizeStep
from oaktrim.core.plan.resolve import limits_of
from oaktrim.core.progress import Progress
from oaktrim.core.survey.findings.finding import Remedy
from oaktrim.desk.benches.bench import Bench
from oaktrim.desk.benches.channels.bench import ChannelsBench
from oaktrim.desk.benches.channels.bench import Page as ChannelsPage
from oaktrim.desk.benches.proof.bench import Page, ProofBench
from oaktrim.desk.benches.ship.bench import ShipBench
from oaktrim.desk.benches.survey.bench import SurveyBench
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.style import apply_style
from oaktrim.desk.look.tokens import use_theme
from oaktrim.desk.session import Session
from oaktrim.desk.shell.cutlist import CutList
from oaktrim.desk.shell.help import help_text
from oaktrim.desk.shell.recent import recent_paths, remember
from oaktrim.desk.shell.rules import RulesBand
from oaktrim.desk.shell.welcome import Welcome
from oaktrim.desk.widgets.finder import Findable, Finder
from oaktrim.desk.widgets.swatch import Swatch
from oaktrim.desk.work.tasks import Work
from oaktrim.desk.work.watch import Watch


class Window(QMainWindow):
    """One window on one job."""

    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.session = session or Session(self)
        self.setWindowTitle("Oak Trim")
        self.setMinimumSize(1000, 640)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.survey = SurveyBench(self.session)
        self.proof = ProofBench(self.session)
        self.channels = ChannelsBench(self.session)
        self.ship = ShipBench(self.session)
        self.welcome = Welcome()
        self.benches: tuple[Bench, ...] = (self.survey, self.proof, self.channels, self.ship)
        self.rules = RulesBand(self.session)
        self.swatch = Swatch(self.session)
        self.cuts = CutList(self.session)
        self._stack = QStackedWidget()
        self._keys: list[QPushButton] = []
        self._title = with_properties(QLabel("Oak Trim"), objectName="title")
        self._about = with_properties(QLabel(), objectName="soft")
        self._watching = Watch(self)
        self._targets = QHBoxLayout()
        self._targets.setSpacing(4)
        self._target_group = QButtonGroup(self)
        self._find = QPushButton("Find a texture or an action   Ctrl+K")
        self._menu_key = QPushButton("Job ▾")
        self._busy = with_properties(QFrame(), objectName="band")
        self._busy_words, self._busy_bar = QLabel(), QProgressBar()
        self._busy_stop = QPushButton("Cancel")
        self.actions_by_name: dict[str, QAction] = {}
        self._build()
        self._make_actions()
        self._connect()
        self._show_empty()
        self._restore()

    # Building

    def _build(self) -> None:
        whole = with_properties(QWidget(), objectName="desk")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(self._top())
        column.addWidget(self.rules)
        column.addWidget(self._busy)
        self._build_busy()
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

    def _top(self) -> QHBoxLayout:
        top = QHBoxLayout()
        top.setContentsMargins(14, 7, 14, 7)
        top.setSpacing(8)
        self._menu_key.setAccessibleName("Job: open, save, theme")
        self._find.clicked.connect(self.show_finder)
        self._about.setMinimumWidth(40)
        top.addWidget(self._title)
        top.addWidget(self._menu_key)
        top.addWidget(self._about, 1)
        top.addLayout(self._targets)
        top.addWidget(self._find)
        return top

    def _build_busy(self) -> None:
        row = QHBoxLayout(self._busy)
        row.setContentsMargins(14, 5, 14, 5)
        self._busy_words.setMinimumWidth(320)
        for widget, stretch in ((self._busy_words, 1), (self._busy_bar, 1), (self._busy_stop, 0)):
            row.addWidget(widget, stretch)
        self._busy.hide()

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
        rows: list[tuple[str, Callable[[], object], QKeySequence.StandardKey | str | None]] = [
            ("Open a folder…", self.open_folder, keys.Open),
            ("Open a job…", self.open_job, "Ctrl+Shift+O"),
            ("Save the job", self.save, keys.Save),
            ("Save the job as…", self.save_as, "Ctrl+Shift+S"),
            ("Survey again", self.session.survey_again, "F5"),
            ("Undo", self.session.undo, keys.Undo),
            ("Redo", self.session.redo, "Ctrl+Shift+Z"),
            ("Show the cut list", self.cuts.opener.toggle, "Ctrl+L"),
            ("Cap the selection", self._cap_selection, "Ctrl+Return"),
            ("Find a texture or an action", self.show_finder, "Ctrl+K"),
            ("Filter the ledger", self._focus_filter, keys.Find),
            ("Select what the filter shows", self._select_shown, "Ctrl+Shift+A"),
            ("Write the ledger as CSV…", self.survey.export, None),
            ("Planks", partial(self._show_pane, 0), "Ctrl+1"),
            ("Findings", partial(self._show_pane, 1), "Ctrl+2"),
            ("Role rules", partial(self._show_pane, 2), "Ctrl+3"),
            ("Targets", partial(self._show_pane, 3), "Ctrl+4"),
            ("Rulers of all targets", self._rule_all, "Ctrl+R"),
            ("Prove one texture", partial(self._prove, Page.ONE), None),
            ("Wall of the selection", partial(self._prove, Page.WALL), "Ctrl+J"),
            ("Fit to budget", partial(self._prove, Page.FIT), "Ctrl+B"),
            ("Pack the selection", self._pack, "Ctrl+P"),
            ("Unpack the selection…", self._unpack, None),
            ("Patches of overlays", partial(self._show_channels, ChannelsPage.PATCHES), None),
            ("Glyph sheets", partial(self._show_channels, ChannelsPage.GLYPHS), None),
            ("Light theme", partial(self.set_theme, "light"), None),
            ("Dusk theme", partial(self.set_theme, "dusk"), None),
            ("Theme of the desktop", partial(self.set_theme, ""), None),
            ("Shortcuts and help", self.show_help, keys.HelpContents),
            ("Quit", self.close, "Ctrl+Q"),
        ]
        rows += [(f"{b.title} bench", partial(self.show_bench, i), f"Alt+{i + 1}") for i, b in enumerate(self.benches)]
        menu = QMenu(self)
        for name, act, shortcut in rows:
            action = QAction(name, self)
            if shortcut is not None:
                action.setShortcut(QKeySequence(shortcut))
            action.triggered.connect(lambda _=False, act=act: act())
            self.addAction(action)
            self.actions_by_name[name] = action
        self._recent_menu = QMenu("Open recent", menu)
        order: tuple[str, ...] = (
            "Open a folder…",
            "Open a job…",
            "",
            "Save the job",
            "Save the job as…",
            "Survey again",
            "-",
        )
        order += ("Light theme", "Dusk theme", "Theme of the desktop", "-", "Shortcuts and help", "Quit")
        for name in order:
            if name == "-":
                menu.addSeparator()
            elif name:
                menu.addAction(self.actions_by_name[name])
            else:
                menu.addMenu(self._recent_menu)
        self._menu_key.setMenu(menu)
        self._menu_key.setStyleSheet("QPushButton::menu-indicator { image: none; width: 0; }")

    def _connect(self) -> None:
        session = self.session
        session.opened.connect(self._opened)
        session.watched_changed.connect(self._show_targets)
        session.plans_changed.connect(self._show_targets)
        session.job_changed.connect(self._show_title)
        session.busy.connect(self._show_busy)
        session.failed.connect(self.show_error)
        session.disk_changed.connect(self._show_news)
        self._watching.changed.connect(session.look_at_disk)
        self._busy_stop.clicked.connect(self._stop_busy)
        self.welcome.folder_wanted.connect(self.open_folder)
        self.welcome.chosen.connect(self.open_path)
        self.rules.family_clicked.connect(self._show_family)
        self.survey.findings.maker_wanted.connect(self._use_maker)
        self.cuts.ship_wanted.connect(partial(self.show_bench, self.benches.index(self.ship)))
        self.swatch.rung_chosen.connect(self._change_rung)
        self.swatch.proof_wanted.connect(partial(self.show_bench, 1))

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

    def _opened(self) -> None:
        for key in self._keys:
            key.setEnabled(True)
        if self._stack.currentIndex() == 0:
            self.show_bench(0)
            self.survey.ledger.setFocus()
        # Once the window has shown itself: to watch thousands of folders takes a while.
        QTimer.singleShot(0, self, partial(self._watching.look_at, self.session.root))
        remember(self.session.file or self.session.root)
        self._show_recent()
        self._show_title()

    def _show_title(self) -> None:
        session = self.session
        if session.history is None or session.inventory is None:
            return
        star = " •" if session.changed else ""
        self._title.setText(session.job.name + star)
        self._title.setToolTip(str(session.file or session.root) + ("\nnot saved" if star else ""))
        inventory = session.inventory
        parts = [f"{len(inventory.textures)} textures"]
        parts += [f"{len(inventory.models)} models"] if inventory.models else []
        parts += [f"{len(inventory.audio)} sounds"] if inventory.audio else []
        self._about.setText(f"{', '.join(parts)} in {inventory.files} files")
        self.setWindowTitle(f"{session.job.name}{star} – Oak Trim")

    def _show_news(self, words: str) -> None:
        self._about.setText(f"↻ {words}")
        self._about.setToolTip(f"On disk: {words}")

    def _show_targets(self) -> None:
        session = self.session
        if [b.property("target") for b in self._target_group.buttons()] != [t.id for t in session.targets]:
            for button in self._target_group.buttons():
                self._target_group.removeButton(button)
                self._targets.removeWidget(button)
                button.hide()
                button.deleteLater()
            for target in session.targets:
                button = with_properties(QPushButton(), checkable=True)
                button.setObjectName("chip")
                button.setProperty("target", target.id)
                button.setToolTip(target.about)
                button.clicked.connect(partial(self._watch, target.id))
                self._target_group.addButton(button)
                self._targets.addWidget(button)
        for button, target in zip(self._target_group.buttons(), session.targets, strict=True):
            if session.trying and target.id != session.watched_id:
                continue
            over = sum(status.over for status in limits_of(session.plan(target.id)))
            sign = f"▲ {over} over" if over else "✓ within"
            button.setText(f"{target.name}  {sign}")
            button.setChecked(target.id == session.watched_id)

    def _watch(self, target: str, _: bool = True) -> None:
        self.session.watch(target)

    def _show_busy(self, work: Work | None) -> None:
        self._busy.setVisible(work is not None)
        if work is not None:
            self._busy_words.setText("Surveying …")
            self._busy_bar.setRange(0, 0)
            work.progress.connect(self._busy_step)

    def _busy_step(self, step: Progress) -> None:
        self._busy_words.setText(f"Surveying: {step.what[-60:]}")
        self._busy_bar.setRange(0, step.total)
        self._busy_bar.setValue(step.done)
        self._busy_bar.setFormat(f"{step.done} of {step.total}")

    def _stop_busy(self) -> None:
        if self.session.work is not None:
            self.session.work.cancel()

    def _show_family(self, family: str) -> None:
        self.show_bench(0)
        self.survey.set_family(family)

    def _change_rung(self, rung: SizeStep) -> None:
        self.show_bench(0)
        if rung.rule is not None:
            self.survey.show_pane(2)
            return
        kind = type(self.session.job.cuts[rung.cut].change) if rung.cut is not None else None
        self.survey.focus_kind(kind)

    def _cap_selection(self) -> None:
        self.show_bench(0)
        self.survey.focus_kind(None)

    def _show_pane(self, place: int) -> None:
        self.show_bench(0)
        if self.session.is_open:
            self.survey.show_pane(place)

    def _prove(self, page: Page) -> None:
        self.show_bench(1)
        self.proof.show_page(page)

    def _pack(self) -> None:
        if self.session.is_open:
            self.show_bench(self.benches.index(self.channels))
            self.channels.show_page(ChannelsPage.PACKS)
            self.channels.packs.add_new()

    def _unpack(self) -> None:
        self._show_channels(ChannelsPage.PACKS)
        self.channels.packs.unpack_selection()

    def _use_maker(self, remedy: Remedy) -> None:
        """Open the maker that mends a finding, on what is selected."""
        if remedy is Remedy.PACK:
            self._pack()
            return
        self.show_bench(self.benches.index(self.channels))
        self.channels.show_page(ChannelsPage.PATCHES)
        self.channels.patches.add_selected()

    def _show_channels(self, page: ChannelsPage) -> None:
        self.show_bench(self.benches.index(self.channels))
        self.channels.show_page(page)

    def _select_shown(self) -> None:
        self.show_bench(0)
        self.survey.ledger.selectAll()

    def _rule_all(self) -> None:
        self.rules.set_all(not self.rules.shows_all)

    def _focus_filter(self) -> None:
        self.show_bench(0)
        self.survey.filter_line.setFocus()

    def show_error(self, error: Exception) -> None:
        """Say what happened, to which file."""
        text = str(error) if isinstance(error, OakTrimError) else f"Something went wrong: {error!r}"
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Oak Trim", text, QMessageBox.StandardButton.Ok, self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.open()

    def show_help(self) -> None:
        """List every action with its shortcut."""
        box = QMessageBox(
            QMessageBox.Icon.NoIcon, "Shortcuts", help_text(self.actions_by_name), QMessageBox.StandardButton.Ok, self
        )
        box.setStyleSheet("QLabel { font-family: monospace; }")
        box.open()

    def show_finder(self) -> None:
        """Open the finder."""
        rows = [
            Findable(name, self.actions_by_name[name].shortcut().toString() or "action", action.trigger)
            for name, action in self.actions_by_name.items()
            if name != "Find a texture or an action"
        ]
        rows += [Findable(f"Watch {t.name}", "target", partial(self.session.watch, t.id)) for t in self.session.targets]
        inventory = self.session.inventory
        if inventory is not None:
            rows += [
                Findable(t.path, "texture", partial(self.session.select, (row,)))
                for row, t in enumerate(inventory.textures)
            ]
        finder = Finder(rows, self)
        finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        finder.resize(460, 380)
        corner = self._find.mapToGlobal(self._find.rect().bottomRight())
        finder.move(corner.x() - finder.width(), corner.y() + 2)
        finder.show()
        finder.line.setFocus()

    # Files

    def open_path(self, path: Path) -> None:
        """Open a folder or a job, after asking about edits that are not saved."""
        if self._may_leave():
            self.session.open(path)

    def open_folder(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Open a folder of art")
        if found:
            self.open_path(Path(found))

    def open_job(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Open a job", "", f"Oak Trim jobs (*{SUFFIX})")
        if found:
            self.open_path(Path(found))

    def save(self) -> bool:
        """Write the job to its file, or ask for one."""
        return self.session.save(self.session.file) if self.session.file else self.save_as()

    def save_as(self) -> bool:
        if not self.session.is_open:
            return False
        start = self.session.file or self.session.root.parent / f"{self.session.root.name}{SUFFIX}"
        found, _ = QFileDialog.getSaveFileName(self, "Save the job", str(start), f"Oak Trim jobs (*{SUFFIX})")
        if not found:
            return False
        path = Path(found)
        saved = self.session.save(path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX))
        if saved and self.session.file is not None:
            remember(self.session.file)
            self._show_recent()
        return saved

    def _may_leave(self) -> bool:
        if not self.session.changed:
            return True
        answers = QMessageBox.StandardButton
        asked = QMessageBox.question(
            self,
            "Oak Trim",
            f"{self.session.job.name} has cuts that are not saved. Save them?",
            answers.Save | answers.Discard | answers.Cancel,
        )
        return asked == answers.Discard or (asked == answers.Save and self.save())

    def _show_recent(self) -> None:
        rows = recent_paths()
        self._recent_menu.clear()
        self._recent_menu.setEnabled(bool(rows))
        for row in rows:
            self._recent_menu.addAction(row, partial(self.open_path, Path(row)))
        self.welcome.show_recent(rows)

    # Theme, layout, drops

    def set_theme(self, name: str) -> None:
        """Take a theme: light, dusk, or empty to follow the desktop."""
        QSettings().setValue("theme", name)
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
        self.open_path(Path(event.mimeData().urls()[0].toLocalFile()))

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        QSettings().setValue("geometry", self.saveGeometry())
        for work in self.findChildren(Work):
            work.cancel()
        self.session.stop()
        self.ship.stop()
        self._watching.stop()
        self.survey.model.thumbnails.stop()
        event.accept()
