"""Watching a tree on disk: says, on the window's thread, that something below it has changed."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal
from watchdog.events import FileSystemEvent, FileSystemEventHandler
from watchdog.observers import Observer
from watchdog.observers.api import BaseObserver
from watchdog.observers.polling import PollingObserver

_QUIET_MS = 400
_READS = ("opened", "closed_no_write")


class Watch(QObject):
    """Watches one folder and all below it; a burst of changes is said once, when it is over."""

    changed = Signal()
    _noticed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._observer: BaseObserver | None = None
        # Asking the system to watch thousands of folders takes a while; one thread does it, in order.
        self._hand = ThreadPoolExecutor(1)
        self._root: Path | None = None
        self._wait = QTimer(self, singleShot=True, interval=_QUIET_MS)
        self._wait.timeout.connect(self.changed)
        self._noticed.connect(self._wait.start)

    def look_at(self, root: Path) -> None:
        """Watch another folder."""
        if root == self._root:
            return
        self._wait.stop()
        self._root = root
        self._hand.submit(self._exchange, root)

    def stop(self) -> None:
        """Watch nothing any more; for good."""
        self._wait.stop()
        self._hand.submit(self._leave)
        self._hand.shutdown()

    def _exchange(self, root: Path) -> None:
        self._leave()
        handler = _Handler(self)
        # Where the system's own notices have run out, looking every second does as well.
        for kind in (Observer, PollingObserver):
            observer: BaseObserver = kind()
            try:
                observer.schedule(handler, str(root), recursive=True)
                observer.start()
            except OSError:
                continue
            self._observer = observer
            return

    def _leave(self) -> None:
        if self._observer is not None:
            self._observer.stop()
            self._observer.join()
        self._observer = None


class _Handler(FileSystemEventHandler):
    def __init__(self, watch: Watch) -> None:
        self._watch = watch

    def on_any_event(self, event: FileSystemEvent) -> None:
        if event.event_type not in _READS:
            self._watch._noticed.emit()
