"""Keeping edits aside while they are not saved, every minute and when something goes wrong."""

from __future__ import annotations

import os
import time
from pathlib import Path

from PySide6.QtCore import QObject, QTimer

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.aside import Aside, forget_aside, keep_aside
from oaktrim.core.job.document import SUFFIX, Job, save_job
from oaktrim.desk.session.session import Session

_EVERY_MS = 60_000


class Keeper(QObject):
    """Keeps the open job aside while it holds edits that are not saved."""

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._kept: tuple[str, Job] | None = None
        self._timer = QTimer(self, interval=_EVERY_MS)
        self._timer.timeout.connect(self.keep)
        self._timer.start()
        session.job_changed.connect(self._look)
        session.opened.connect(self._look)

    @property
    def source(self) -> str:
        """What is open: a job's file, or a folder."""
        return str(self._session.file or self._session.root)

    def keep(self) -> None:
        """Keep the job aside as it is now, if it holds edits that are not saved."""
        session = self._session
        if not session.is_open or session.history is None or not session.changed:
            return
        now = (self.source, session.history.job)
        if now != self._kept and keep_aside(Aside(self.source, os.getpid(), time.time(), session.history.job)):
            self._kept = now

    def _look(self) -> None:
        """Forget what was kept once it is saved, undone, or another job is open."""
        if self._kept is not None and (self._kept[0] != self.source or not self._session.changed):
            self.forget()

    def forget(self) -> None:
        """Forget what is kept: the job was saved, or its edits are not wanted."""
        if self._kept is not None:
            forget_aside(self._kept[0], os.getpid())
            self._kept = None

    def rescue(self) -> Path | None:
        """Save the job beside itself, or aside where it has no file; return where, None where nothing was to be saved."""
        session = self._session
        if not session.is_open or session.history is None or not session.changed:
            return None
        self.keep()
        if session.file is None:
            return None
        beside = session.file.with_name(f"{session.file.stem}.rescued{SUFFIX}")
        try:
            save_job(session.history.job, beside, session.root)
        except OakTrimError:
            return None
        return beside
