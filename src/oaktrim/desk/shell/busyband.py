"""The band that says what the window waits for, and lets it be stopped."""

from __future__ import annotations

from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QPushButton, QWidget

from oaktrim.core.progress import Progress
from oaktrim.desk.session.session import Session
from oaktrim.desk.work.tasks import Work


class BusyBand(QFrame):
    """Stands while a survey is under way."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("band")
        self._session = session
        self._words, self._bar, self._stop = QLabel(), QProgressBar(), QPushButton("Cancel")
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 5, 14, 5)
        self._words.setMinimumWidth(320)
        for widget, stretch in ((self._words, 1), (self._bar, 1), (self._stop, 0)):
            row.addWidget(widget, stretch)
        self._stop.clicked.connect(self._cancel)
        session.busy.connect(self._show)
        self.hide()

    def _show(self, work: Work | None) -> None:
        self.setVisible(work is not None)
        if work is not None:
            self._words.setText("Surveying …")
            self._bar.setRange(0, 0)
            work.progress.connect(self._step)

    def _step(self, step: Progress) -> None:
        self._words.setText(f"Surveying: {step.what[-60:]}")
        self._bar.setRange(0, step.total)
        self._bar.setValue(step.done)
        self._bar.setFormat(f"{step.done} of {step.total}")

    def _cancel(self) -> None:
        if self._session.work is not None:
            self._session.work.cancel()
