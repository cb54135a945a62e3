"""What the window does when something unforeseen happens: the job is saved first, then it says what and where it is logged."""

from __future__ import annotations

import faulthandler
import logging
import sys
from types import TracebackType
from typing import TextIO

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QMessageBox, QWidget

from oaktrim.core.log import log_file
from oaktrim.desk.session.aside import Keeper

_LOG = logging.getLogger("oaktrim.desk")


class FaultWatch(QObject):
    """Stands in the place of Python's own hook for errors that nobody caught."""

    def __init__(self, keeper: Keeper, window: QWidget) -> None:
        super().__init__(window)
        self._keeper, self._window = keeper, window
        self._box: QMessageBox | None = None
        self._file: TextIO | None = None
        self.count = 0

    def watch(self) -> None:
        """Take errors from now on, and have crashes of the process itself write where they happened."""
        sys.excepthook = self.report
        try:
            file = log_file().with_name("crash.log")
            file.parent.mkdir(parents=True, exist_ok=True)
            self._file = file.open("a")
            faulthandler.enable(self._file)
        except OSError as error:
            _LOG.warning("crashes are not written: %s", error)

    def unwatch(self) -> None:
        """Give errors back to Python's own hook, and close what crashes are written to."""
        sys.excepthook = sys.__excepthook__
        if self._file is not None:
            faulthandler.disable()
            self._file.close()
            self._file = None

    def report(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        """Save the job, log what nobody foresaw, and say so; once for as long as the answer stands."""
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
            return
        beside = self._keeper.rescue()
        _LOG.critical("unforeseen", exc_info=(kind, error, trace))
        sys.__excepthook__(kind, error, trace)
        self.count += 1
        if self._box is not None:
            return
        saved = f"Your job as it stands was saved as {beside}. " if beside is not None else ""
        text = (
            f"Something unforeseen happened ({kind.__name__}: {str(error)[:200]}). {saved}What happened is logged in "
            f"{log_file()}. You can go on; if the window behaves oddly, save under another name and start it again."
        )
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Oak Trim", text, QMessageBox.StandardButton.Ok, self._window)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.finished.connect(self._answered)
        self._box = box
        box.open()

    def _answered(self, _: int) -> None:
        self._box = None
