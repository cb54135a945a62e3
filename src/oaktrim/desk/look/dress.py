"""Dressing the application: its name, its icon, and the theme the user chose or the desktop has."""

from __future__ import annotations

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from oaktrim.desk.look.icons import icon
from oaktrim.desk.look.style import apply_style
from oaktrim.desk.look.tokens import tokens, use_theme


def dress_application(app: QApplication) -> None:
    """Give the application its name and the theme the user chose, and let it follow the desktop until then."""
    app.setApplicationName("oak-trim")
    app.setOrganizationName("oak-trim")
    app.setApplicationDisplayName("Oak Trim")
    app.setStyle("Fusion")
    app.setWindowIcon(icon("oak", tokens().oak, 32))
    chosen = str(QSettings().value("theme", "") or "")
    use_theme(chosen)
    apply_style(app)

    def follow() -> None:
        if not QSettings().value("theme", ""):
            use_theme("")
            apply_style(app)

    app.styleHints().colorSchemeChanged.connect(lambda _: follow())
