"""Opens the window: `python -m oaktrim.desk [PATH]`."""

from __future__ import annotations

import sys
from pathlib import Path

from PySide6.QtWidgets import QApplication

from oaktrim.desk.look.dress import dress_application
from oaktrim.desk.shell.window import Window


def main() -> int:
    """Show the window until it is closed."""
    app = QApplication(sys.argv[:1])
    dress_application(app)
    window = Window()
    window.show()
    if len(sys.argv) > 1:
        window.session.open(Path(sys.argv[1]))
    return app.exec()


if __name__ == "__main__":
    sys.exit(main())
