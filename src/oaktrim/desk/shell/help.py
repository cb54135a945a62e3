"""What F1 says: every action with its shortcut, and what hands can do in pictures, tables and lanes."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtGui import QAction, QKeySequence

_MANNERS = (
    "In a picture: wheel zooms, drag pans, 0 fits, 1 shows pixels, Shift+arrows move the split.",
    "In the ledger: Ctrl+C copies rows as tab-separated text; Ctrl+V pastes a column of values; heads sort.",
    "In planks: arrows walk, Enter zooms in, Backspace out; a board chooses what lies under it.",
    "In packs: drop a picture on a lane; an edit is on every selected row.",
    "In patches: arrows move the rectangle, Shift+arrows resize it, with Ctrl by 16 pixels; C shows it large.",
)


def help_text(actions: Mapping[str, QAction]) -> str:
    """Return the shortcuts of actions by their names, and the manners of the widgets."""
    rows = [
        f"{action.shortcut().toString(QKeySequence.SequenceFormat.NativeText):16}  {name}"
        for name, action in actions.items()
        if not action.shortcut().isEmpty()
    ]
    return "\n".join((*rows, "", *_MANNERS))
