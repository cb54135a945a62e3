"""The Ship bench: what will be written and why, the run, and the result weighed beside the forecast."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.status import limits_of
from oaktrim.core.progress import Progress
from oaktrim.core.ship.manifest import NAME
from oaktrim.core.ship.reason import Reason
from oaktrim.core.ship.result import Shipped, forecast_missed
from oaktrim.core.ship.run import ship
from oaktrim.core.ship.schedule import Item, schedule
from oaktrim.core.ship.sounds import SoundItem
from oaktrim.core.sounds.codecs import CODECS
from oaktrim.core.units import bytes_text, decibels_text, size_text
from oaktrim.desk.benches.bench import Bench
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.tables import right_heads
from oaktrim.desk.work.tasks import Work, as_task, start

_HEADS = ("File", "Why", "Ships at", "As", "Memory", "Measured", "Written to")
_RESULT_HEADS = ("", "Without cuts", "Forecast", "Shipped", "Limit", "")


class ShipBench(Bench):
    """Runs the job for the watched target into a folder."""

    title = "Ship"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self.work: Work | None = None
        self._looking: Work | None = None
        self._looked_at = ""
        self._suggested: tuple[Path, str] | None = None
        self._items: list[Item | SoundItem] = []
        self.folder = QLineEdit(placeholderText="A folder outside the source tree")
        self.folder.setAccessibleName("Output folder")
        self.go = with_properties(QPushButton("Ship"), objectName="primary")
        self.cancel = with_properties(QPushButton("Cancel"), enabled=False)
        self._browse = QPushButton("Choose…")
        self._title = with_properties(QLabel(), objectName="title")
        self._words = with_properties(QLabel(wordWrap=True), objectName="caption", accessibleName="State of the run")
        self.bar = with_properties(QProgressBar(), visible=False)
        self.list = QTableWidget(0, len(_HEADS))
        self.result = QTableWidget(0, len(_RESULT_HEADS))
        self._result_heading = with_properties(QLabel(), objectName="heading")
        self._build()
        self.folder.editingFinished.connect(self.refresh)
        self._browse.clicked.connect(self._choose)
        self.go.clicked.connect(self.run)
        self.cancel.clicked.connect(self.stop)
        for signal in (session.opened, session.watched_changed):
            signal.connect(self._suggest)
        session.plans_changed.connect(self.refresh)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(8)
        top = QHBoxLayout()
        top.addWidget(self._title)
        top.addStretch(1)
        into = with_properties(QLabel("Into"), objectName="soft")
        into.setBuddy(self.folder)
        for widget in (into, self.folder, self._browse, self.go, self.cancel):
            top.addWidget(widget, 3 if widget is self.folder else 0)
        column.addLayout(top)
        column.addWidget(self._words)
        column.addWidget(self.bar)
        column.addWidget(self.list, 1)
        column.addWidget(self._result_heading)
        column.addWidget(self.result)
        for table, heads, name in (
            (self.list, _HEADS, "What will be written"),
            (self.result, _RESULT_HEADS, "The result weighed"),
        ):
            table.setHorizontalHeaderLabels(list(heads))
            table.setAccessibleName(name)
            table.verticalHeader().hide()
            table.verticalHeader().setDefaultSectionSize(26)
            table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
            table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
            table.setShowGrid(False)
            table.setAlternatingRowColors(True)
            table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for table, figures in ((self.list, (4, 5)), (self.result, (1, 2, 3, 4))):
            right_heads(table, figures)
        for place, width in enumerate((200, 130, 90, 90, 90, 80)):
            self.list.setColumnWidth(place, width)
        for place in (0, 6):
            self.list.horizontalHeader().setSectionResizeMode(place, QHeaderView.ResizeMode.Stretch)
        self.result.setColumnWidth(0, 150)
        self.result.horizontalHeader().setSectionResizeMode(5, QHeaderView.ResizeMode.Stretch)
        self.list.cellDoubleClicked.connect(self._choose_row)
        self._clear_result()

    # What will be written

    def _suggest(self) -> None:
        """Propose a folder beside the source tree, or the one used for this target before."""
        session = self._session
        if not session.is_open:
            return
        place = (session.root, session.watched_id)
        if place == self._suggested:
            # The same tree, read again: what was typed stays.
            self.refresh()
            return
        self._suggested = place
        kept = QSettings().value(f"ship/{session.root}/{session.watched_id}", "")
        self.folder.setText(str(kept) or str(session.root.parent / f"{session.root.name}-{session.watched_id}"))
        self._clear_result()
        self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Look at the folder again and list what a run would write."""
        session = self._session
        if not session.is_open or not self.isVisible() or self.work is not None or self._looking is not None:
            return
        self._looked_at = self.folder.text()
        self._title.setText(f"Ship for {session.watched.name}")
        if session.sights.is_pending(session.watched):
            self._words.setText("Role rules go by what is seen: looking from the sightlines …")
            self.go.setEnabled(False)
            return
        plan, out = session.plan(), Path(self.folder.text()).expanduser()

        def listed(items: list[Item | SoundItem]) -> None:
            self._looking = None
            if plan is not session.plan() or self._looked_at != self.folder.text():
                self.refresh()
                return
            self._show_items(plan, items)
            due = Counter(item.reason for item in items)
            unchanged = due.pop(Reason.UNCHANGED, 0)
            said = ", ".join(f"{count} {reason.value}" for reason, count in due.items()) or "nothing to write"
            kept = session.watched
            self._words.setText(
                f"{said}; {unchanged} unchanged. {kept.container.upper()} files and {NAME}, "
                f"packed with {kept.packing.method} for the package."
            )
            self.go.setEnabled(True)

        def refused(error: Exception) -> None:
            self._looking = None
            if self._looked_at != self.folder.text():
                self.refresh()
                return
            self._show_items(plan, [])
            self._words.setText(f"▲ {error}")
            self.go.setEnabled(False)

        if not self.folder.text().strip():
            refused(OakTrimError("choose a folder to write into"))
            return
        self._looking = start(as_task(lambda: schedule(plan, out), "looking at the folder"), self, listed, refused)

    def _show_items(self, plan: Plan, items: list[Item | SoundItem]) -> None:
        self._items = items
        held = dict(zip((row.path for row in plan.inventory.others), plan.others.sounds.tolist(), strict=True))
        self.list.setRowCount(len(items))
        for place, item in enumerate(items):
            cells = (
                _sound_cells(item, held[item.facts.path]) if isinstance(item, SoundItem) else _texture_cells(plan, item)
            )
            for column, text in enumerate((item.recipe.path, item.reason.value, *cells, "", item.output)):
                self.list.setItem(place, column, _cell(text, column in (4, 5)))

    def _choose_row(self, place: int, _column: int) -> None:
        if place < len(self._items):
            paths = {self._session.asset_path(asset): asset for asset in range(self._session.asset_count)}
            self._session.select((paths[self._items[place].recipe.path],))

    def _choose(self) -> None:
        found = QFileDialog.getExistingDirectory(self, "Ship into", self.folder.text())
        if found:
            self.folder.setText(found)
            self.refresh()

    # The run

    def run(self) -> None:
        """Ship, in the background."""
        session = self._session
        if not session.is_open or self.work is not None:
            return
        plan, out = session.plan(), Path(self.folder.text()).expanduser()
        before = session.plan(cut=False)
        QSettings().setValue(f"ship/{session.root}/{session.watched_id}", str(out))
        self._clear_result()
        self.bar.setRange(0, 0)
        self.bar.show()
        self.go.setEnabled(False)
        self.cancel.setEnabled(True)

        def done(shipped: Shipped) -> None:
            self._stopped()
            said = f"{shipped.written} written, {shipped.unchanged} unchanged"
            said += f", {shipped.removed} removed" if shipped.removed else ""
            for failure in shipped.manifest.failed[:3]:
                said += f"\n▲ not shipped: {failure.error}"
            self._show_measured(shipped)
            self._words.setText(f"{said}. Every file was read back. The numbers are in {out / NAME}.")
            self._show_result(before, plan, shipped)

        def failed(error: Exception) -> None:
            self._stopped()
            self._words.setText(f"▲ {error}")

        self.work = start(ship(plan, out, session.job.max_pixels, store=session.store), self, done, failed)
        self.work.progress.connect(self._step)
        self.work.cancelled.connect(self._cancelled)

    def stop(self) -> None:
        """Stop the run after the textures in hand."""
        if self.work is not None:
            self.cancel.setEnabled(False)
            self._words.setText("stopping after the textures in hand …")
            self.work.cancel()

    def _step(self, step: Progress) -> None:
        if self.work is not None and step.total:
            self.bar.setRange(0, step.total)
            self.bar.setValue(step.done)
            self.bar.setFormat(f"{step.done} of {step.total}")
            if self.cancel.isEnabled():
                self._words.setText(step.what)

    def _stopped(self) -> None:
        self.work = None
        self.bar.hide()
        self.cancel.setEnabled(False)
        self.go.setEnabled(True)

    def _cancelled(self) -> None:
        self._stopped()
        self.refresh()

    def _show_measured(self, shipped: Shipped) -> None:
        measured = {entry.source: decibels_text(entry.psnr) for entry in shipped.manifest.textures}
        measured |= {entry.source: bytes_text(entry.file_bytes) for entry in shipped.manifest.sounds}
        for place, item in enumerate(self._items):
            self.list.setItem(place, 5, _cell(measured.get(item.recipe.path, "failed"), True))

    def _clear_result(self) -> None:
        self.result.setRowCount(0)
        self.result.setVisible(False)
        self._result_heading.setVisible(False)

    def _show_result(self, before: Plan, plan: Plan, shipped: Shipped) -> None:
        was = {status.line.label: status.value for status in limits_of(before)}
        forecast = {status.line.label: status.value for status in limits_of(plan)}
        surprise = forecast_missed(plan, shipped.statuses)
        self._result_heading.setText(f"Weighed again on {plan.target.name}" + (f" · ▲ {surprise}" if surprise else ""))
        self.result.setRowCount(len(shipped.statuses))
        for place, status in enumerate(shipped.statuses):
            name, value, limit, verdict = status.words(plan.target)
            about = "about " if status.line.estimated else ""
            cells = (
                name.capitalize(),
                replace(status, value=was[name]).words(plan.target)[1],
                about + replace(status, value=forecast[name]).words(plan.target)[1],
                value,
                limit,
                f"▲ {verdict}" if status.over else verdict,
            )
            for column, text in enumerate(cells):
                self.result.setItem(place, column, _cell(text, 0 < column < 5))
        self.result.setFixedHeight(34 + 26 * len(shipped.statuses))
        self.result.setVisible(True)
        self._result_heading.setVisible(True)


def _texture_cells(plan: Plan, item: Item) -> tuple[str, str, str]:
    settings = item.recipe.settings
    memory = bytes_text(int(plan.footprint.memory[item.row]))
    return size_text(settings.width, settings.height), FORMATS[settings.format].label, memory


def _sound_cells(item: SoundItem, held: int) -> tuple[str, str, str]:
    recipe = item.recipe
    codec = "as it is" if recipe.settings is None else CODECS[recipe.settings.codec].words(recipe.settings.quality)
    return f"{recipe.rate / 1000:g} kHz", codec, bytes_text(held)


def _cell(text: str, figure: bool) -> QTableWidgetItem:
    item = QTableWidgetItem(text)
    item.setToolTip(text)
    side = Qt.AlignmentFlag.AlignRight if figure else Qt.AlignmentFlag.AlignLeft
    item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
    return item
