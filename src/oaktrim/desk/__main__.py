"""Opens the window: `python -m oaktrim.desk [PATH]`."""

from __future__ import annotations

import gc
import logging
import sys
from pathlib import Path
from types import TracebackType

from PySide6.QtWidgets import QApplication

from oaktrim.core.configure import configure
from oaktrim.desk.look.dress import dress_application
from oaktrim.desk.shell.window import Window


def configure_window() -> None:
    """Set what a process with a window needs beside what every program does."""
    # Threads at work beside the window give up the interpreter's lock fifty times as often as they would by themselves, so
    # that a hand on a control need not wait for them.
    sys.setswitchinterval(0.0001)
    # Tens of thousands of rows live as long as the tree: to look through them for garbage at every turn only takes time.
    gc.set_threshold(50_000, 20, 50)
    sys.excepthook = _log_fault


def _log_fault(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    """Log what nobody foresaw, and print it as Python does."""
    logging.getLogger("oaktrim.desk").critical("unforeseen", exc_info=(kind, error, trace))
    sys.__excepthook__(kind, error, trace)


def main() -> int:
    """Show the window until it is closed."""
    configure()
    configure_window()
    app = QApplication(sys.argv[:1])
    dress_application(app)
    window = Window()
    window.show()
    if len(sys.argv) > 1:
        window.session.open(Path(sys.argv[1]))
    return app.exec()


if __name__ == "__main__":
    sys.exit(main())
