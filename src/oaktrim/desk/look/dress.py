"""Dressing the application: its name, its icon, and the theme the user chose or the desktop has."""

from __future__ import annotations

from PySide6.QtWidgets import QApplication

from oaktrim.core.settings import load_settings
from oaktrim.desk.look.icons import icon
from oaktrim.desk.look.style import apply_style
from oaktrim.desk.look.tokens import tokens, use_theme


def dress_application(app: QApplication) -> None:
    """Give the application its name and the theme the user chose, and let it follow the desktop until then."""
    app.setApplicationName("oak-trim")
    app.setOrganizationName("oak-trim")
    app.setApplicationDisplayName("Oak Trim")
    app.setDesktopFileName("org.oaktrim.OakTrim")
    app.setStyle("Fusion")
    app.setWindowIcon(icon("oak", tokens().oak, 32))
    use_theme(load_settings().theme)
    apply_style(app)

    def follow() -> None:
        if not load_settings().theme:
            use_theme("")
            apply_style(app)

    app.styleHints().colorSchemeChanged.connect(lambda _: follow())
