"""What the window knows of every bench."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar

from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QWidget

Shortcut = QKeySequence.StandardKey | str | None


@dataclass(frozen=True)
class Action:
    """Something that a person can do from anywhere, by name or by keys."""

    name: str
    act: Callable[[], object]
    shortcut: Shortcut = None


class Bench(QWidget):
    """A page of the window with a key on the rail; `wants_swatch` has the swatch shown beside it."""

    title: ClassVar[str]
    wants_swatch: ClassVar[bool] = False

    def actions_here(self) -> list[Action]:
        """Return what can be done here; the bench is shown first."""
        return []

    def stop(self) -> None:
        """Let go of what is under way, before the window closes."""
