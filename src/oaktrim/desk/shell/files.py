"""Opening and saving jobs, with the questions that come before."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from functools import partial
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from oaktrim.core.job.aside import Aside, forget_aside, left_asides
from oaktrim.core.job.document import SUFFIX, Job
from oaktrim.desk.session.aside import Keeper
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
        self.keeper = Keeper(session, self)
        self._asked = 0
        self._taken: Aside | None = None
        session.opened.connect(self._opened)

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

    # Edits that were not saved when a program ended unasked

    def offer_left(self) -> None:
        """Offer the newest edits that were not saved, where there are any."""
        left = next((aside for aside in left_asides() if Path(aside.source).exists()), None)
        if left is not None:
            self._show_question(left, partial(self._open_left, left))

    def _open_left(self, left: Aside) -> None:
        self._taken = left
        self._session.open(Path(left.source))

    def _opened(self) -> None:
        """Take up edits that were not saved of what has been opened, or ask whether they are wanted."""
        session = self._session
        if session.document == self._asked:
            return
        self._asked = session.document
        taken, self._taken = self._taken, None
        if taken is not None and taken.source == self.keeper.source:
            self._take_up(taken)
            return
        left = next((aside for aside in left_asides() if aside.source == self.keeper.source), None)
        if left is not None and not _same(left.job, session.job):
            self._show_question(left, partial(self._take_up, left))

    def _take_up(self, left: Aside) -> None:
        session = self._session
        session.edit(msgspec.structs.replace(left.job, root=session.job.root), "edits that were not saved")
        self.keeper.keep()
        forget_aside(left.source, left.process)

    def _show_question(self, left: Aside, take: Callable[[], None]) -> None:
        when = datetime.fromtimestamp(left.saved).strftime("%d %B, %H:%M")
        name = Path(left.source).name
        text = f"Oak Trim ended while {name} held edits that were not saved. They were kept on {when}."
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Oak Trim", text, parent=self._window)
        box.setTextFormat(Qt.TextFormat.PlainText)
        forget = partial(forget_aside, left.source, left.process)
        keys = (
            (box.addButton("Take them up", QMessageBox.ButtonRole.AcceptRole), take),
            (box.addButton("Discard them", QMessageBox.ButtonRole.DestructiveRole), forget),
        )
        box.addButton("Later", QMessageBox.ButtonRole.RejectRole)
        for key, act in keys:
            key.clicked.connect(lambda _=False, act=act: act())
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

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
        if asked == answers.Discard:
            self.keeper.forget()
        return asked == answers.Discard or (asked == answers.Save and self.save())


def _same(one: Job, other: Job) -> bool:
    """Say whether two states of a job differ in nothing but where its root is told from."""
    return msgspec.structs.replace(one, root=other.root) == other
