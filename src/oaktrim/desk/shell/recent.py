"""What was opened lately, the newest first, kept in the settings."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings

_KEPT = 8


def recent_paths() -> list[str]:
    """Return the folders and jobs that are still there."""
    kept = QSettings().value("recent", [])
    rows = [kept] if isinstance(kept, str) else [str(row) for row in kept] if isinstance(kept, list) else []
    return [row for row in rows if Path(row).exists()]


def remember(path: Path) -> None:
    """Put a folder or a job first."""
    rows = [str(path), *(row for row in recent_paths() if row != str(path))]
    QSettings().setValue("recent", rows[:_KEPT])
