"""What a person sets once for all jobs, in one dialog; behind it stands one file."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.progress import threads_here
from oaktrim.core.settings import Settings, load_settings, save_settings, settings_file
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.targets.target import parse_bytes, shipped_targets
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.work.tasks import as_task, start

_THEMES = (("as the desktop", ""), ("light", "light"), ("dusk", "dusk"))
_MEGAPIXEL = 1 << 20


class SettingsDialog(QDialog):
    """Shows the settings; they are written when it is accepted.

    Signals
    -------
    saved : the settings that were written
    """

    saved = Signal(object)

    def __init__(self, cache: SurveyCache, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Settings")
        self._cache, self._before = cache, load_settings()
        self.theme = with_properties(QComboBox(), accessibleName="Theme")
        for words, name in _THEMES:
            self.theme.addItem(words, name)
        self.threads = with_properties(QSpinBox(), accessibleName="Threads")
        self.threads.setRange(0, 256)
        self.threads.setSpecialValueText("as many as processors")
        self.limit = with_properties(QLineEdit(), accessibleName="Cache size")
        self.used = with_properties(QLabel("looking …"), objectName="caption")
        self.clear = with_properties(
            QPushButton("Clear"),
            toolTip="Surveys, samples and textures that were made; they are made again when needed",
        )
        self.pixels = with_properties(QSpinBox(), accessibleName="Largest picture that is decoded")
        self.pixels.setRange(1, 1 << 16)
        self.pixels.setSuffix(" megapixels")
        self.targets = with_properties(QListWidget(), accessibleName="Targets of new jobs")
        self.fault = with_properties(QLabel(wordWrap=True), objectName="warning")
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Save | QDialogButtonBox.StandardButton.Cancel)
        self._build()
        self._show(self._before)
        self.clear.clicked.connect(self._clear)
        self.limit.textChanged.connect(lambda _: self._check())
        self.targets.itemChanged.connect(lambda _: self._check())
        self.buttons.accepted.connect(self._save)
        self.buttons.rejected.connect(self.reject)
        self._look()

    def _build(self) -> None:
        form = QFormLayout()
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        form.setHorizontalSpacing(16)
        form.setVerticalSpacing(8)
        form.addRow("Theme", self.theme)
        form.addRow("Threads", self.threads)
        cache = QHBoxLayout()
        cache.addWidget(self.limit)
        cache.addWidget(self.used, 1)
        cache.addWidget(self.clear)
        form.addRow("Cache size", cache)
        form.addRow("Decode up to", self.pixels)
        self.targets.setFixedHeight(96)
        form.addRow("Targets of new jobs", self.targets)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        column.addLayout(form)
        notes = f"Threads count from the next start on; the others for new jobs. Kept in {settings_file()}."
        column.addWidget(with_properties(QLabel(notes, wordWrap=True), objectName="caption"))
        column.addWidget(self.fault)
        column.addWidget(self.buttons)
        self.setMinimumWidth(480)

    def _show(self, settings: Settings) -> None:
        self.theme.setCurrentIndex(self.theme.findData(settings.theme))
        self.threads.setValue(settings.threads)
        self.threads.setToolTip(f"There are {threads_here()} at work now")
        self.limit.setText(settings.cache_limit)
        self.pixels.setValue(max(1, settings.max_pixels // _MEGAPIXEL))
        for name, target in shipped_targets().items():
            row = QListWidgetItem(target.name)
            row.setData(Qt.ItemDataRole.UserRole, name)
            row.setToolTip(target.about)
            chosen = not settings.targets or name in settings.targets
            row.setCheckState(Qt.CheckState.Checked if chosen else Qt.CheckState.Unchecked)
            self.targets.addItem(row)

    def _chosen(self) -> tuple[str, ...]:
        rows = [self.targets.item(place) for place in range(self.targets.count())]
        return tuple(
            str(row.data(Qt.ItemDataRole.UserRole)) for row in rows if row.checkState() == Qt.CheckState.Checked
        )

    def _check(self) -> bool:
        """Say what is wrong with what is typed, and whether nothing is."""
        fault = ""
        try:
            parse_bytes(self.limit.text())
        except ValueError as error:
            fault = f"Cache size: {error}"
        if not self._chosen():
            fault = "Choose at least one target."
        self.fault.setText(fault)
        self.buttons.button(QDialogButtonBox.StandardButton.Save).setEnabled(not fault)
        return not fault

    def _save(self) -> None:
        if not self._check():
            return
        chosen = self._chosen()
        kept_pixels = max(1, self._before.max_pixels // _MEGAPIXEL) == self.pixels.value()
        settings = Settings(
            self.theme.currentData(),
            self.threads.value(),
            self.limit.text(),
            self._before.max_pixels if kept_pixels else self.pixels.value() * _MEGAPIXEL,
            # All of them are also those that come with later versions.
            () if len(chosen) == self.targets.count() else chosen,
        )
        try:
            save_settings(settings)
        except (OakTrimError, OSError) as error:
            self.fault.setText(str(error))
            return
        self.saved.emit(settings)
        self.accept()

    def _look(self) -> None:
        start(as_task(self._cache.used_bytes, "looking at the cache"), self, self._show_used, lambda _: None)

    def _show_used(self, used: int) -> None:
        self.used.setText(f"  {bytes_text(used)} are used")
        self.clear.setEnabled(used > 0)

    def _clear(self) -> None:
        self._cache.clear()
        self._look()
