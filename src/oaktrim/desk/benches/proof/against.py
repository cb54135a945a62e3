"""The keys for how two pictures stand against each other."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QPushButton, QWidget

from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.widgets.picture import Mode, PictureView

_BLINKS = (("blink 0.2 s", 200), ("blink 0.5 s", 500), ("blink 1 s", 1000), ("blink 2 s", 2000))


class Against(QWidget):
    """Sets the mode of a viewer; the bench has room for it beside its title."""

    def __init__(self, view: PictureView, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._view = view
        self.modes: dict[Mode, QPushButton] = {}
        self.blink = with_properties(QComboBox(), accessibleName="How long each picture shows")
        self.row = QHBoxLayout(self)
        self.row.setContentsMargins(0, 0, 0, 0)
        self.row.setSpacing(4)
        group = QButtonGroup(self)
        for mode in Mode:
            key = with_properties(QPushButton(mode.value), checkable=True, checked=mode is Mode.SPLIT)
            key.setObjectName("chip")
            key.clicked.connect(partial(self.set_mode, mode))
            group.addButton(key)
            self.row.addWidget(key)
            self.modes[mode] = key
        self.blink.addItems([words for words, _ in _BLINKS])
        self.blink.setCurrentIndex(1)
        self.blink.currentIndexChanged.connect(lambda at: view.set_blink(_BLINKS[max(0, at)][1]))
        self.row.addWidget(self.blink)

    def set_mode(self, mode: Mode, _: bool = True) -> None:
        """Show the two pictures another way."""
        self.modes[mode].setChecked(True)
        self._view.set_mode(mode)
