"""What the window knows of every bench."""

from __future__ import annotations

from typing import ClassVar

from PySide6.QtWidgets import QWidget


class Bench(QWidget):
    """A page of the window with a key on the rail; `wants_swatch` has the swatch shown beside it."""

    title: ClassVar[str]
    wants_swatch: ClassVar[bool] = False
