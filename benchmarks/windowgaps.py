"""How long the window keeps a person waiting while a large job is surveyed, fitted and shipped behind it.

    python -m benchmarks.windowgaps JOB [SECONDS]

A timer asks for its turn every five milliseconds; how late it comes is how long a click would have waited. Meanwhile rows are
scrolled, selected and filtered, twice a second. Printed of each stage: the 99th percentile, the longest gap, and memory.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import psutil
from PySide6.QtCore import QEventLoop, QSettings, Qt, QTimer
from PySide6.QtWidgets import QApplication

from oaktrim.core.configure import configure
from oaktrim.desk.__main__ import configure_window
from oaktrim.desk.benches.proof.bench import Page
from oaktrim.desk.look.dress import dress_application
from oaktrim.desk.shell.window import Window
from oaktrim.desk.work.tasks import Work, work_behind

_WORDS = ("", "role:normal", "path:0001/*", "memory:>100kB", "")


class Gaps:
    """Watches the event loop of a window in which something is done twice a second."""

    def __init__(self, window: Window) -> None:
        self._window, self._late, self._last, self._turn = window, list[float](), 0.0, 0
        self._pulse = QTimer(interval=5, timerType=Qt.TimerType.PreciseTimer)
        self._pulse.timeout.connect(self._beat)
        self._hand = QTimer(interval=500)
        self._hand.timeout.connect(self._act)

    def _beat(self) -> None:
        now = time.perf_counter()
        self._late.append(now - self._last - 0.005)
        self._last = now

    def _act(self) -> None:
        session = self._window.session
        if not session.is_open or session.inventory is None:
            return
        count, turn = len(session.inventory.textures), self._turn
        self._turn += 1
        if turn % 3 == 0:
            session.select([turn * 37 % count])
        elif turn % 3 == 1:
            self._window.survey.filters.line.setText(_WORDS[turn // 3 % len(_WORDS)])
        else:
            bar = self._window.survey.ledger.verticalScrollBar()
            bar.setValue(turn * 997 % max(1, bar.maximum()))

    def during(self, name: str, done: Callable[[], bool], seconds: float) -> None:
        """Wait until something is done or time is over, and print how late the window was."""
        self._late, self._last = [], time.perf_counter()
        started, loop = time.perf_counter(), QEventLoop()
        self._pulse.start()
        self._hand.start()
        while not done() and time.perf_counter() - started < seconds:
            QTimer.singleShot(100, loop.quit)
            loop.exec()
        self._pulse.stop()
        self._hand.stop()
        late = np.maximum(0, np.array(self._late)) * 1000
        memory = psutil.Process().memory_full_info().pss / 2**20
        print(
            f"{name:<28}{time.perf_counter() - started:7.1f} s   99 of 100 within {np.percentile(late, 99):6.1f} ms, "
            f"longest {late.max():7.1f} ms, over 100 ms {np.count_nonzero(late > 100):4}   {memory:6.0f} MiB",
            flush=True,
        )


def main(job: Path, seconds: float) -> None:
    """Open a job in a window and measure stage after stage."""
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, tempfile.mkdtemp())
    application = QApplication(sys.argv[:1])
    dress_application(application)
    configure()
    configure_window()
    work_behind(10)
    window = Window()
    window.resize(1280, 800)
    window.show()
    session, gaps = window.session, Gaps(window)
    session.open(job)
    gaps.during("surveying", lambda: session.is_open, seconds)
    gaps.during("looking at what was surveyed", lambda: False, 20)
    window.reveal(window.proof)
    window.proof.show_page(Page.FIT)
    window.proof.fit.propose()
    gaps.during("fitting", lambda: window.proof.fit.model.rowCount() > 0, seconds)
    session.rest()
    for work in window.proof.fit.findChildren(Work):
        work.cancel()
    window.reveal(window.ship)
    with tempfile.TemporaryDirectory() as out:
        window.ship.folder.setText(out)
        window.ship.run()
        gaps.during("shipping", lambda: window.ship.work is None, seconds)
        window.ship.stop()
        gaps.during("stopping", lambda: window.ship.work is None, 60)
    session.stop()
    os._exit(0)


if __name__ == "__main__":
    main(Path(sys.argv[1]), float(sys.argv[2]) if len(sys.argv) > 2 else 60.0)
