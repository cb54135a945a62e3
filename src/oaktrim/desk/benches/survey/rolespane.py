"""The roles pane: one question for each group of look-alikes, the largest first, with their pictures and what an answer changes."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QRectF, QSignalBlocker, QSize, Qt
from PySide6.QtGui import QHideEvent, QPainter, QPaintEvent, QPixmap, QShowEvent
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.plan.commonrules import role_words
from oaktrim.core.plan.lookalikes import Known, LookAlikes, known, look_alikes, pattern_for
from oaktrim.core.progress import Task
from oaktrim.core.survey.roles import Role
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.layouts import clear_layout
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.models.thumbnails import Thumbnails
from oaktrim.desk.session.session import Session
from oaktrim.desk.work.tasks import Work, as_task, start

_ACROSS, _DOWN, _SIDE = 7, 2, 50
_MOST_LISTED = 200


class KnownBar(QWidget):
    """How much of the memory has a role that is told, guessed (hatched), or not known (empty)."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(12)
        self.setMinimumWidth(90)
        self.setAccessibleName("How much of the memory has a role that is told, guessed, or not known")
        self._known = Known(0, 0, 0)

    def show_known(self, found: Known) -> None:
        """Show other figures."""
        self._known = found
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, colours = QPainter(self), tokens()
        room, total = QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), max(1, self._known.total)
        told = room.width() * self._known.told / total
        guessed = room.width() * self._known.guessed / total
        painter.fillRect(QRectF(room.left(), room.top(), told, room.height()), colours.oak)
        between = QRectF(room.left() + told, room.top(), guessed, room.height())
        painter.fillRect(between, colours.oak_pale)
        painter.setPen(colours.oak)
        painter.setClipRect(between)
        for x in range(int(between.left()) - 12, int(between.right()) + 1, 6):
            painter.drawLine(x, int(room.bottom()) + 1, x + 12, int(room.top()))
        painter.setClipping(False)
        painter.setPen(colours.line)
        painter.drawRect(room)
        painter.end()


class RolesPane(QWidget):
    """Groups at the left, the one that is chosen at the right; an answer is one step of undo."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._groups: list[LookAlikes] = []
        self._work: Work | None = None
        self._asked: object = None
        self.bar = KnownBar()
        self.about = with_properties(QLabel(), objectName="caption", accessibleName="How much is guessed")
        self.groups = with_properties(QListWidget(), accessibleName="Groups of look-alikes")
        self.question = with_properties(QLabel(wordWrap=True), accessibleName="The question")
        self.effect = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="What an answer changes"
        )
        self.other = with_properties(QComboBox(), accessibleName="Something else")
        self.answers: dict[Role, QPushButton] = {}
        self.select = with_properties(QPushButton("Select them"), toolTip="Select these textures in the ledger")
        self._thumbnails = Thumbnails(session.cache, self)
        self._cells = [
            with_properties(QLabel(), alignment=Qt.AlignmentFlag.AlignCenter) for _ in range(_ACROSS * _DOWN)
        ]
        self._keys = QHBoxLayout()
        self._build()
        self.groups.currentRowChanged.connect(lambda _: self._show_group())
        self.other.activated.connect(lambda _: self.answer(self.other.currentData()))
        self.select.clicked.connect(self._select)
        self._thumbnails.ready.connect(lambda _: self._show_pictures())
        session.opened.connect(self.refresh)
        session.plans_changed.connect(self.refresh)
        session.watched_changed.connect(self.refresh)

    def _build(self) -> None:
        left = QVBoxLayout()
        left.setContentsMargins(8, 2, 0, 4)
        left.setSpacing(3)
        top = QHBoxLayout()
        top.addWidget(self.bar, 1)
        top.addWidget(self.about)
        left.addLayout(top)
        left.addWidget(self.groups, 1)
        self.groups.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.groups.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        right = QVBoxLayout()
        right.setContentsMargins(10, 2, 10, 4)
        right.setSpacing(4)
        ask = QHBoxLayout()
        ask.addWidget(self.question, 1)
        ask.addWidget(self.select)
        right.addLayout(ask)
        sheet = QGridLayout()
        sheet.setSpacing(3)
        for place, cell in enumerate(self._cells):
            cell.setFixedSize(QSize(_SIDE, _SIDE))
            cell.setObjectName("cell")
            sheet.addWidget(cell, place // _ACROSS, place % _ACROSS)
        sheet.setColumnStretch(_ACROSS, 1)
        right.addLayout(sheet)
        self._keys.setSpacing(4)
        right.addLayout(self._keys)
        right.addWidget(self.effect)
        right.addStretch(1)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addLayout(left, 5)
        row.addLayout(right, 5)

    @property
    def group(self) -> LookAlikes | None:
        """The group that is chosen."""
        place = self.groups.currentRow()
        return self._groups[place] if 0 <= place < len(self._groups) else None

    def refresh(self) -> None:
        """Find the groups anew, beside the window."""
        session = self._session
        if not session.is_open or session.inventory is None or session.trying or not self.isVisible():
            return
        plan = session.plan()
        key = (plan.inventory, plan.target.id, id(plan))
        if key == self._asked:
            return
        self._asked = key
        if self._work is not None:
            self._work.cancel()

        def done(found: tuple[list[LookAlikes], Known]) -> None:
            if key == self._asked:
                self._take(*found)

        task: Task[tuple[list[LookAlikes], Known]] = as_task(lambda: (look_alikes(plan), known(plan)), "grouping")
        self._work = start(task, self, done, session.failed.emit)

    def _take(self, groups: list[LookAlikes], sums: Known) -> None:
        kept = self.groups.currentRow()
        self._groups = groups[:_MOST_LISTED]
        assert self._session.inventory is not None
        self._thumbnails.use(self._session.inventory)
        self.bar.show_known(sums)
        total = max(1, sums.total)
        self.about.setText(
            f"{100 * sums.guessed / total:.0f} % guessed, {100 * sums.unknown / total:.0f} % not known"
            if groups else "every role is told"
        )  # fmt: skip
        self.about.setToolTip(f"of {bytes_text(sums.total)} on {self._session.watched.name}")
        with QSignalBlocker(self.groups):
            self.groups.clear()
            for group in self._groups:
                taken = "?" if group.role is Role.UNKNOWN else group.role.label.lower()
                item = QListWidgetItem(f"{bytes_text(group.memory)} · {taken} · {group.words}")
                item.setToolTip(f"{group.words}\n{taken}: {group.reason}")
                self.groups.addItem(item)
            if self._groups:
                self.groups.setCurrentRow(min(max(0, kept), len(self._groups) - 1))
        self._show_group()

    def _show_group(self) -> None:
        group = self.group
        clear_layout(self._keys)
        self.answers = {}
        if group is None:
            self.question.setText("Nothing is asked: materials, names or you say what every texture is.")
            self.effect.setText("")
        else:
            self.question.setText(group.question)
            for role in group.likely[:4]:
                key = with_properties(QPushButton(role.label), toolTip=role_words(self._session.watched, role))
                key.setObjectName("primary" if role is group.role else "")
                key.clicked.connect(partial(self.answer, role))
                self._keys.addWidget(key)
                self.answers[role] = key
            self._show_others(group)
            self._show_effect(group)
        self._show_pictures()

    def _show_others(self, group: LookAlikes) -> None:
        self.other = with_properties(QComboBox(), accessibleName="Something else")
        self.other.addItem("else …", None)
        for role in Role:
            if role not in group.likely[:4] and role is not Role.UNKNOWN:
                self.other.addItem(role.label, role)
        self.other.activated.connect(lambda _: self.answer(self.other.currentData()))
        self._keys.addWidget(self.other)
        self._keys.addStretch(1)

    def _show_effect(self, group: LookAlikes) -> None:
        assert self._session.inventory is not None
        lines = [role_words(self._session.watched, role) for role in group.likely[:2]]
        pattern = pattern_for(self._session.inventory, group)
        kept = f"kept as the pattern {pattern}" if pattern else "kept by their paths"
        self.effect.setText("\n".join(lines) + f"\nAn answer is {kept}.")

    def _show_pictures(self) -> None:
        group, inventory = self.group, self._session.inventory
        rows = [] if group is None or inventory is None else [inventory.row_of.get(path, -1) for path in group.paths]
        for cell, row in zip(self._cells, [*rows, *([-1] * len(self._cells))], strict=False):
            found = self._thumbnails.of(row) if row >= 0 and self.isVisible() else None
            cell.setVisible(row >= 0)
            cell.setToolTip(inventory.textures[row].path if row >= 0 and inventory is not None else "")
            cell.setPixmap(QPixmap() if found is None else _fitted(found))

    def answer(self, role: Role | None) -> None:
        """Say what the group that is shown is, as one step of undo; the job keeps it."""
        group, session = self.group, self._session
        if role is None or group is None or session.history is None or session.inventory is None:
            return
        job, pattern = session.history.job.with_answer(group, role, session.inventory)
        session.edit(job, f"{pattern or f'{len(group.paths)} textures'}: {role.label.lower()}")

    def _select(self) -> None:
        group, inventory = self.group, self._session.inventory
        if group is not None and inventory is not None:
            self._session.select(tuple(inventory.row_of[path] for path in group.paths if path in inventory.row_of))

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    def hideEvent(self, event: QHideEvent) -> None:
        if self._work is not None:
            self._work.cancel()
            self._asked = None

    def stop(self) -> None:
        """Make no more pictures."""
        self._thumbnails.stop()


def _fitted(picture: QPixmap) -> QPixmap:
    return picture.scaled(
        QSize(_SIDE, _SIDE), Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
    )
