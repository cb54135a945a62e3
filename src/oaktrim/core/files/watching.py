"""Watching files on disk: says that something below a folder, or one of a few files, has changed."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from threading import Condition

from watchdog.events import FileSystemEvent, FileSystemEventHandler
from watchdog.observers import Observer
from watchdog.observers.api import BaseObserver
from watchdog.observers.polling import PollingObserver

from oaktrim.core.errors import FileError, os_fault

_READS = ("opened", "closed_no_write")


class Watcher:
    """Watches a folder with all below it, and files elsewhere; says of each change that there was one, on a thread of its own."""

    def __init__(self, noticed: Callable[[], None]) -> None:
        self._noticed = noticed
        self._observer: BaseObserver | None = None

    def look_at(self, root: Path, files: Iterable[Path] = ()) -> None:
        """Watch another folder, and other files.

        Raises
        ------
        FileError : the system lets none be watched
        """
        self.stop()
        beside: dict[str, set[str]] = {}
        for file in files:
            beside.setdefault(os.fspath(file.absolute().parent), set()).add(file.name)
        # Where the system's own notices have run out, looking every second does as well.
        fault = OSError()
        for kind in (Observer, PollingObserver):
            observer: BaseObserver = kind()
            try:
                observer.schedule(_Handler(self._noticed), str(root), recursive=True)
                for folder, names in beside.items():
                    observer.schedule(_Handler(self._noticed, names), folder, recursive=False)
                observer.start()
            except OSError as error:
                fault = error
                continue
            self._observer = observer
            return
        raise FileError(root, f"cannot be watched: {os_fault(fault)}") from fault

    def stop(self) -> None:
        """Watch nothing any more."""
        if self._observer is not None:
            self._observer.stop()
            self._observer.join()
        self._observer = None


class _Handler(FileSystemEventHandler):
    """Tells of changes, of files with certain names alone where these are given."""

    def __init__(self, noticed: Callable[[], None], names: set[str] | None = None) -> None:
        self._noticed, self._names = noticed, names

    def on_any_event(self, event: FileSystemEvent) -> None:
        if event.event_type in _READS:
            return
        if (
            self._names is None
            or {os.path.basename(os.fsdecode(p)) for p in (event.src_path, event.dest_path)} & self._names
        ):
            self._noticed()


class Changes:
    """Changes as they come, to be waited for: a burst of them counts as one, when it is over.

    Parameters
    ----------
    quiet : seconds without another change that end a burst; longest : seconds after which it counts as over
    """

    def __init__(self, quiet: float = 0.2, longest: float = 1.0) -> None:
        self._quiet, self._longest = quiet, longest
        self._turn = Condition()
        self._first = self._last = 0.0

    def note(self) -> None:
        """Note a change."""
        with self._turn:
            self._last = time.monotonic()
            self._first = self._first or self._last
            self._turn.notify_all()

    def wait(self) -> None:
        """Wait until there were changes and they are over, and forget them."""
        with self._turn:
            while True:
                now = time.monotonic()
                due = min(self._last + self._quiet, self._first + self._longest)
                if self._first and now >= due:
                    self._first = self._last = 0.0
                    return
                self._turn.wait(due - now if self._first else None)
