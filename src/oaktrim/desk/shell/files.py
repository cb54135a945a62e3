"""Opening and saving jobs, with the questions that come before."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from oaktrim.core.job.document import SUFFIX
from oaktrim.desk.session.session import Session
from oaktrim.desk.shell.recent import remember

_JOBS = f"Oak Trim jobs (*{SUFFIX})"


class JobFiles(QObject):
    """Asks the person at the window which files.

    Signals
    -------
    recent_changed : the list of what was opened last is another
    """

    recent_changed = Signal()

    def __init__(self, session: Session, window: QWidget) -> None:
        super().__init__(window)
        self._session, self._window = session, window

    def open_path(self, path: Path) -> None:
        """Open a folder or a job, after asking about edits that are not saved."""
        if self.may_leave():
            self._session.open(path)

    def open_folder(self) -> None:
        """Ask for a folder and open it."""
        found = QFileDialog.getExistingDirectory(self._window, "Open a folder of art")
        if found:
            self.open_path(Path(found))

    def open_job(self) -> None:
        """Ask for a job and open it."""
        found, _ = QFileDialog.getOpenFileName(self._window, "Open a job", "", _JOBS)
        if found:
            self.open_path(Path(found))

    def save(self) -> bool:
        """Write the job to its file, or ask for one."""
        return self._session.save(self._session.file) if self._session.file else self.save_as()

    def save_as(self) -> bool:
        """Ask for a file and write the job to it."""
        session = self._session
        if not session.is_open:
            return False
        start = session.file or session.root.parent / f"{session.root.name}{SUFFIX}"
        found, _ = QFileDialog.getSaveFileName(self._window, "Save the job", str(start), _JOBS)
        if not found:
            return False
        path = Path(found)
        saved = session.save(path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX))
        if saved:
            self.remember_open()
        return saved

    def remember_open(self) -> None:
        """Put what is open first in the list of what was opened last."""
        remember(self._session.file or self._session.root)
        self.recent_changed.emit()

    def may_leave(self) -> bool:
        """Ask what is to become of edits that are not saved; say whether the job may be left."""
        if not self._session.changed:
            return True
        answers = QMessageBox.StandardButton
        asked = QMessageBox.question(
            self._window,
            "Oak Trim",
            f"{self._session.job.name} has cuts that are not saved. Save them?",
            answers.Save | answers.Discard | answers.Cancel,
        )
        return asked == answers.Discard or (asked == answers.Save and self.save())
