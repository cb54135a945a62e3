"""Opens the window: `python -m oaktrim.desk [PATH]`."""

from __future__ import annotations

import gc
import sys
from importlib import import_module
from pathlib import Path

from PySide6.QtWidgets import QApplication

from oaktrim.desk.look.dress import dress_application
from oaktrim.desk.shell.loading import Loading


def configure_window() -> None:
    """Set what a process with a window needs beside what every program does."""
    # Threads at work beside the window give up the interpreter's lock fifty times as often as they would by themselves, so
    # that a hand on a control need not wait for them.
    sys.setswitchinterval(0.0001)
    # Tens of thousands of rows live as long as the tree: to look through them for garbage at every turn only takes time.
    gc.set_threshold(50_000, 20, 50)


def main() -> int:
    """Show the window until it is closed."""
    app = QApplication(sys.argv[:1])
    dress_application(app)
    loading = Loading()
    loading.show()
    for _ in loading.load(app):
        pass
    import_module("oaktrim.core.configure").configure()
    configure_window()
    import_module("oaktrim.desk.work.tasks").work_behind(10)
    window = import_module("oaktrim.desk.shell.window").Window()
    window.faults.watch()
    window.show()
    loading.close()
    if len(sys.argv) > 1:
        window.session.open(Path(sys.argv[1]))
    else:
        window.files.offer_left()
    status = app.exec()
    window.faults.unwatch()
    return status


if __name__ == "__main__":
    sys.exit(main())
