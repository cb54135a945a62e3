"""Running core's tasks on other threads; results, errors of every kind and cancels come back on the window's thread."""

from __future__ import annotations

import logging
import os
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal
from shiboken6 import isValid

from oaktrim.core.errors import OakTrimError
from oaktrim.core.progress import Progress, Task

_LOG = logging.getLogger(__name__)
_SAY_EVERY_SECONDS = 0.05


class Work(QObject):
    """One task under way.

    Exactly one of `finished`, `failed` and `cancelled` is said, always on the thread that made the object; after `cancel`
    it is `cancelled`, whatever the task comes to. `found` brings each result that is ready before the whole is.
    """

    progress = Signal(object)
    found = Signal(object)
    finished = Signal(object)
    failed = Signal(object)
    cancelled = Signal()
    ended = Signal()
    # The one signal that crosses threads at the end: were the three to cross on their own, the object could be
    # gone between the first of their receivers and the next.
    _outcome = Signal(str, object)
    _found = Signal(object)

    def __init__(self, task: Task[Any], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._task = task
        self._stop = False
        self.running = True
        self._outcome.connect(self._settle)
        self._found.connect(self._pass_on)

    def cancel(self) -> None:
        """Ask the task to stop at its next step; its result is not wanted any more, be it ready already."""
        self._stop = True

    def _pass_on(self, found: object) -> None:
        if not self._stop:
            self.found.emit(found)

    def _settle(self, how: str, value: object) -> None:
        self.running = False
        if self._stop:
            self.cancelled.emit()
        elif how == "finished":
            self.finished.emit(value)
        elif how == "failed":
            self.failed.emit(value)
        else:
            self.cancelled.emit()
        self.ended.emit()

    def _run(self) -> None:
        said = 0.0
        try:
            while True:
                if self._stop:
                    self._task.close()
                    self._outcome.emit("cancelled", None)
                    return
                step: Progress = next(self._task)
                if step.found:
                    self._found.emit(step.found)
                now = time.monotonic()
                if now - said >= _SAY_EVERY_SECONDS:
                    said = now
                    self.progress.emit(step)
        except StopIteration as end:
            self._outcome.emit("finished", end.value)
        except Exception as error:  # whatever went wrong is shown, never lost with its thread
            if not isValid(self):
                raise
            if not isinstance(error, OakTrimError):
                _LOG.error("unforeseen", exc_info=error)
            self._outcome.emit("failed", error)


class _Runner(QRunnable):
    # By how much threads at work are nicer than the window's.
    behind = 0

    def __init__(self, work: Work) -> None:
        super().__init__()
        self._work = work

    def run(self) -> None:
        if self.behind:
            with suppress(OSError):
                nice = os.getpriority(os.PRIO_PROCESS, os.getpid()) + self.behind
                os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), min(nice, 19))
        try:
            self._work._run()
        except Exception:
            # The window that waited for it has gone, and the object with it: nobody is left to be told but the log.
            _LOG.info("what was under way ended after its window", exc_info=True)


def work_behind(steps: int) -> None:
    """Have the window's thread, and other programs, go before the threads that are at work, by steps of niceness.

    Else it would wait for its turn among them, milliseconds each time, wherever it lets go of the interpreter's lock. Threads
    that they start are as nice.
    """
    _Runner.behind = steps


def start(
    task: Task[Any],
    parent: QObject,
    done: Callable[[Any], None],
    failed: Callable[[Exception], None],
    pool: QThreadPool | None = None,
) -> Work:
    """Run a task on a pool, the common one by default; `done` takes its value and `failed` its error."""
    work = Work(task, parent)
    work.finished.connect(done)
    work.failed.connect(failed)
    work.ended.connect(work.deleteLater)
    (pool or QThreadPool.globalInstance()).start(_Runner(work))
    return work


def as_task(compute: Callable[[], Any], what: str) -> Task[Any]:
    """Return a plain computation as a task of one step."""
    yield Progress(0, 1, what)
    return compute()
