"""Running core's tasks on other threads; results, errors of every kind and cancels come back on the window's thread."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal

from oaktrim.core.progress import Progress, Task

_SAY_EVERY_SECONDS = 0.05


class Work(QObject):
    """One task under way.

    Exactly one of `finished`, `failed` and `cancelled` is said, always on the thread that made the object.
    """

    progress = Signal(object)
    finished = Signal(object)
    failed = Signal(object)
    cancelled = Signal()
    ended = Signal()

    def __init__(self, task: Task[Any], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._task = task
        self._stop = False
        self.running = True
        for signal in (self.finished, self.failed, self.cancelled):
            signal.connect(self._end)

    def cancel(self) -> None:
        """Ask the task to stop at its next step."""
        self._stop = True

    def _end(self) -> None:
        self.running = False
        self.ended.emit()

    def _run(self) -> None:
        said = 0.0
        try:
            while True:
                if self._stop:
                    self._task.close()
                    self.cancelled.emit()
                    return
                step: Progress = next(self._task)
                now = time.monotonic()
                if now - said >= _SAY_EVERY_SECONDS:
                    said = now
                    self.progress.emit(step)
        except StopIteration as end:
            self.finished.emit(end.value)
        except Exception as error:  # whatever went wrong is shown, never lost with its thread
            self.failed.emit(error)


class _Runner(QRunnable):
    def __init__(self, work: Work) -> None:
        super().__init__()
        self._work = work

    def run(self) -> None:
        self._work._run()


def start(task: Task[Any], parent: QObject, done: Callable[[Any], None], failed: Callable[[Exception], None]) -> Work:
    """Run a task on the pool; `done` takes its value and `failed` its error."""
    work = Work(task, parent)
    work.finished.connect(done)
    work.failed.connect(failed)
    work.ended.connect(work.deleteLater)
    QThreadPool.globalInstance().start(_Runner(work))
    return work


def as_task(compute: Callable[[], Any], what: str) -> Task[Any]:
    """Return a plain computation as a task of one step."""
    yield Progress(0, 1, what)
    return compute()
