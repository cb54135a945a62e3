"""Where a patch lies, in every convention, each with a key that copies it."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QGridLayout, QLabel, QPushButton, QWidget

from oaktrim.core.makers.patch.patch import Rect, placement
from oaktrim.desk.look.properties import with_properties

_BOX = ("x", "y", "width", "height")


class PlaceTable(QWidget):
    """A line a convention."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(4)
        self._grid.setVerticalSpacing(3)
        self._lines: dict[str, tuple[QLabel, QPushButton]] = {}

    def show_place(self, rect: Rect, size: tuple[int, int]) -> None:
        """Show the place of a rectangle in a picture of a size."""
        found = placement(rect, size)
        for corner, words in (("from_top_left", "from top left"), ("from_bottom_left", "from bottom left")):
            part = found[corner]
            self._show(f"pixels, {words}", " ".join(str(part["pixels"][k]) for k in _BOX))
            self._show(f"normalised, {words}", " ".join(f"{part['normalised'][k]:.6g}" for k in _BOX))
            self._show(f"UV scale, {words}", " ".join(f"{v:.6g}" for v in part["uv"]["to_patch_scale"]))
            self._show(f"UV offset, {words}", " ".join(f"{v:.6g}" for v in part["uv"]["to_patch_offset"]))

    def _show(self, name: str, text: str) -> None:
        if name not in self._lines:
            label, copy = (
                with_properties(QLabel(), objectName="caption"),
                with_properties(QPushButton("copy"), objectName="chip"),
            )
            label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            label.setToolTip("brings UVs of the overlay to the patch" if "UV" in name else " ".join(_BOX))
            copy.setAccessibleName(f"Copy {name}")
            copy.clicked.connect(partial(self._copy, name))
            line = len(self._lines)
            self._grid.addWidget(label, line, 0)
            self._grid.addWidget(copy, line, 1, Qt.AlignmentFlag.AlignRight)
            self._lines[name] = label, copy
        self._lines[name][0].setText(f"{name}\n{text}")

    def _copy(self, name: str, _: bool = True) -> None:
        QGuiApplication.clipboard().setText(self._lines[name][0].text().partition("\n")[2])
