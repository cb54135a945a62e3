"""The top of the window: the job, what is in it, its targets and the key of the finder."""

from __future__ import annotations

from functools import partial

from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QPushButton, QWidget

from oaktrim.core.plan.status import limits_of
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.elidedlabel import ElidedLabel

_FIND, _FIND_SHORT = "Find a texture or an action   Ctrl+K", "Find   Ctrl+K"
# A window narrower than this has more use for the words on what is open.
_ROOM_TO_FIND = 1240


class TopBar(QWidget):
    """Follows the session; `menu_key` and `find_key` are for the window to connect."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.menu_key = QPushButton("Job ▾")
        self.find_key = with_properties(QPushButton(_FIND), accessibleName="Find a texture or an action")
        self._title = with_properties(QLabel("Oak Trim"), objectName="title")
        self._about = with_properties(ElidedLabel(), objectName="soft")
        self._targets = QHBoxLayout()
        self._targets.setSpacing(4)
        self._target_group = QButtonGroup(self)
        self.menu_key.setAccessibleName("Job: open, save, theme")
        self._about.setMinimumWidth(40)
        top = QHBoxLayout(self)
        top.setContentsMargins(14, 7, 14, 7)
        top.setSpacing(8)
        top.addWidget(self._title)
        top.addWidget(self.menu_key)
        top.addWidget(self._about, 1)
        top.addLayout(self._targets)
        top.addWidget(self.find_key)
        for signal in (session.watched_changed, session.plans_changed):
            signal.connect(self._show_targets)
        for signal in (session.job_changed, session.opened):
            signal.connect(self._show_title)
        session.disk_changed.connect(self._show_news)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.find_key.setText(_FIND if self.width() >= _ROOM_TO_FIND else _FIND_SHORT)

    def _show_title(self) -> None:
        session = self._session
        if session.history is None or session.inventory is None:
            return
        star = " •" if session.changed else ""
        self._title.setText(session.job.name + star)
        self._title.setToolTip(str(session.file or session.root) + ("\nnot saved" if star else ""))
        inventory = session.inventory
        parts = [f"{len(inventory.textures):,} textures"]
        parts += [f"{len(inventory.models):,} models"] if inventory.models else []
        parts += [f"{len(inventory.audio)} sounds"] if inventory.audio else []
        self._about.setText(f"{', '.join(parts)} in {inventory.files:,} files")
        self.window().setWindowTitle(f"{session.job.name}{star} – Oak Trim")

    def _show_news(self, words: str) -> None:
        self._about.setText(f"↻ {words}")

    def _show_targets(self) -> None:
        session = self._session
        if [b.property("target") for b in self._target_group.buttons()] != [t.id for t in session.targets]:
            self._rebuild_targets()
        for button, target in zip(self._target_group.buttons(), session.targets, strict=True):
            if session.trying and target.id != session.watched_id:
                continue
            over = sum(status.over for status in limits_of(session.plan(target.id)))
            sign = f"▲ {over} over" if over else "✓ within"
            button.setText(f"{target.name}  {sign}")
            button.setChecked(target.id == session.watched_id)

    def _rebuild_targets(self) -> None:
        for button in self._target_group.buttons():
            self._target_group.removeButton(button)
            self._targets.removeWidget(button)
            button.hide()
            button.deleteLater()
        for target in self._session.targets:
            button = with_properties(QPushButton(), checkable=True)
            button.setObjectName("chip")
            button.setProperty("target", target.id)
            button.setToolTip(target.about)
            button.clicked.connect(partial(self._watch, target.id))
            self._target_group.addButton(button)
            self._targets.addWidget(button)

    def _watch(self, target: str, _: bool = True) -> None:
        self._session.watch(target)
