"""Watching a tree on disk: says, on the window's thread, that something below it has changed."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from oaktrim.core.files.watching import Watcher

_QUIET_MS = 400


class Watch(QObject):
    """Watches one folder and all below it; a burst of changes is said once, when it is over."""

    changed = Signal()
    _noticed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._watcher = Watcher(self._noticed.emit)
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
        self._hand.submit(self._watcher.look_at, root)

    def stop(self) -> None:
        """Watch nothing any more; for good."""
        self._wait.stop()
        self._hand.submit(self._watcher.stop)
        self._hand.shutdown()
