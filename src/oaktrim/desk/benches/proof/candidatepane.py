"""The candidates of a texture: cards with their worst part, and a chart of bytes against what is seen."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPoint, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QFontMetrics, QImage, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.cuts import Cap, Change, SetFormat
from oaktrim.core.plan.query import Assets, select
from oaktrim.core.proof.trial import Candidate, candidates, pareto_front
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.terms import JND_TIP
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.models.trials import Trials, Tried
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.tradechart import Point, TradeChart

_WIDE, _HIGH, _PICTURE = 128, 136, 46


def picture_of(codes: np.ndarray) -> QImage:
    """Return codes (h, w, 3) as a picture."""
    held = np.ascontiguousarray(codes)
    height, width = held.shape[:2]
    return QImage(held.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()


class Card(QPushButton):
    """One candidate."""

    def __init__(self, candidate: Candidate, present: bool, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.candidate = candidate
        self.present = present
        self.words = "waiting …"
        self._picture: QImage | None = None
        self.setFixedSize(_WIDE, _HIGH)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setEnabled(not candidate.against)
        recipe = candidate.recipe
        self.label = FORMATS[recipe.settings.format].label
        self.size_words = size_text(recipe.settings.width, recipe.settings.height)
        self.setAccessibleName(f"Candidate {self.label} {self.size_words}")
        if candidate.against:
            self.words = candidate.against
            self.setToolTip(candidate.against)

    def sizeHint(self) -> QSize:
        return QSize(_WIDE, _HIGH)

    def show_result(self, result: Tried | Exception) -> None:
        """Show what a trial came to."""
        if isinstance(result, Exception):
            self.words = str(result)
            self.setToolTip(str(result))
        else:
            self._picture = picture_of(result.after)
            self.words = f"{result.jnd:.2f} JND · {result.seconds:.1f} s"
            self.setToolTip(
                f"{self.label} at {self.size_words}: {bytes_text(self.candidate.memory)} in memory, "
                f"{bytes_text(result.package)} in the package, encoded in {result.seconds:.2f} s.\n"
                f"{result.jnd:.2f} JND over the whole; the picture is its worst part. Click to ship it so.\n{JND_TIP}"
            )
            self._package = bytes_text(result.package)
        self.update()

    _package = ""

    def paintEvent(self, event: QPaintEvent) -> None:
        now, painter = tokens(), QPainter(self)
        whole = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.fillRect(whole, QColor(now.oak_pale if self.present else now.sheet))
        strong = self.present or self.hasFocus() or self.underMouse()
        painter.setPen(QPen(QColor(now.ink if strong else now.line), 2 if self.present else 1))
        painter.drawRect(whole)
        room = QRectF(8, 8, _WIDE - 16, _PICTURE)
        painter.fillRect(room, QColor(now.canvas))
        if self._picture is not None:
            scale = max(room.width() / self._picture.width(), room.height() / self._picture.height())
            wide, high = room.width() / scale, room.height() / scale
            part = QRectF((self._picture.width() - wide) / 2, (self._picture.height() - high) / 2, wide, high)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, scale < 2)
            painter.drawImage(room, self._picture, part)
        elif self.candidate.against:
            painter.setPen(QPen(QColor(now.line), 1))
            for step in range(-_PICTURE, _WIDE, 8):
                painter.save()
                painter.setClipRect(room)
                painter.drawLine(
                    int(room.left()) + step, int(room.bottom()), int(room.left()) + step + _PICTURE, int(room.top())
                )
                painter.restore()
        self._paint_words(painter)
        painter.end()

    def _paint_words(self, painter: QPainter) -> None:
        now = tokens()
        font = QFont(self.font())
        font.setPixelSize(12)
        font.setBold(True)
        painter.setFont(font)
        painter.setPen(QColor(now.ink if self.isEnabled() else now.soft))
        painter.drawText(QRectF(8, _PICTURE + 11, _WIDE - 16, 18), Qt.AlignmentFlag.AlignLeft, self.label)
        font.setBold(False)
        font.setPixelSize(11)
        painter.setFont(font)
        metrics = QFontMetrics(font)
        memory = bytes_text(self.candidate.memory)
        lines = [self.size_words, memory + (f" · {self._package}" if self._package else ""), self.words]
        for place, line in enumerate(lines):
            painter.setPen(
                QColor(now.brick if self.candidate.against and place == 2 else now.soft if place == 0 else now.ink)
            )
            box = QRectF(8, _PICTURE + 29 + place * 16, _WIDE - 14, 34 if place == 2 else 16)
            if place < 2 or not self.candidate.against:
                painter.drawText(
                    box, Qt.AlignmentFlag.AlignLeft, metrics.elidedText(line, Qt.TextElideMode.ElideRight, _WIDE - 14)
                )
            else:
                painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.TextFlag.TextWordWrap, "not on this hardware")


class CandidatePane(QFrame):
    """Follows the first selected texture on the watched target."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self._session = session
        self.trials = Trials(session.store, self)
        self.trials.found.connect(self._found)
        self.chart = TradeChart()
        self.chart.chosen.connect(self._chosen_on_chart)
        self.alike = with_properties(
            QPushButton("Like this for all ▾"), toolTip="Cut others to this size and format, with the totals first"
        )
        self.alike.clicked.connect(self._offer_alike)
        self.cards: list[Card] = []
        self._results: dict[int, Tried] = {}
        self._done: set[int] = set()
        self._plotted: list[int] = []
        self._key: tuple[object, ...] = ()
        self._row = QHBoxLayout()
        self._row.setContentsMargins(10, 4, 10, 4)
        self._row.setSpacing(8)
        self._words = with_properties(QLabel(), objectName="caption", toolTip=JND_TIP)
        self._build()

    def _build(self) -> None:
        inside = with_properties(QWidget(), objectName="sheet")
        inside.setLayout(self._row)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setWidget(inside)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFixedHeight(_HIGH + 22)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        head = QHBoxLayout()
        head.setContentsMargins(12, 6, 10, 0)
        head.addWidget(with_properties(QLabel("What it could ship as"), objectName="heading"))
        head.addSpacing(10)
        head.addWidget(self._words, 1)
        head.addWidget(self.alike)
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addLayout(head)
        left.addWidget(scroll)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 8, 0)
        row.addLayout(left, 3)
        row.addWidget(self.chart, 2)

    @property
    def left(self) -> int:
        """How many candidates that fit are not tried yet."""
        return sum(1 for card in self.cards if not card.candidate.against) - len(self._done)

    def refresh(self) -> None:
        """Show the candidates of the texture now selected; those that fit are tried in the background."""
        session = self._session
        if not session.is_open or not session.chosen or session.trying:
            return
        plan, row = session.plan(), session.chosen[0]
        recipe = plan.recipe(row)
        key = (plan.inventory.textures[row].path, plan.inventory.textures[row].content, plan.target, recipe)
        if key == self._key:
            return
        self._key = key
        for card in self.cards:
            self._row.removeWidget(card)
            card.deleteLater()
        while self._row.count():
            self._row.takeAt(0)
        self._results, self._done = {}, set()
        listed = candidates(plan, row)
        present = (recipe.settings.width, recipe.settings.height, recipe.settings.format)
        self.cards = [
            Card(c, (c.recipe.settings.width, c.recipe.settings.height, c.recipe.settings.format) == present)
            for c in listed
        ]
        for place, card in enumerate(self.cards):
            card.clicked.connect(partial(self._choose, place))
        shown = sorted(
            range(len(self.cards)),
            key=lambda p: (not self.cards[p].present, bool(listed[p].against), -listed[p].memory),
        )
        for place in shown:
            self._row.addWidget(self.cards[place])
        self._row.addStretch(1)
        self.trials.wish(plan, [(place, row, c.recipe) for place, c in enumerate(listed) if not c.against])

    def _found(self, place: int, result: Tried | Exception) -> None:
        if place >= len(self.cards):
            return
        self.cards[place].show_result(result)
        self._done.add(place)
        if isinstance(result, Tried):
            self._results[place] = result
        more = f"; {self.left} still to be tried" if self.left else ""
        self._words.setText(f"quality in JND{more}")
        self._plot()

    def _plot(self) -> None:
        self._plotted = sorted(self._results)
        points = []
        for place in self._plotted:
            card, result = self.cards[place], self._results[place]
            name = f"{card.label} {max(card.candidate.recipe.settings.width, card.candidate.recipe.settings.height)}"
            points.append(Point(card.candidate.memory, result.jnd, name, card.toolTip()))
        best = pareto_front([p.bytes for p in points], [p.jnd for p in points])
        present = next((at for at, place in enumerate(self._plotted) if self.cards[place].present), -1)
        self.chart.show_points(points, best, present)

    def _chosen_on_chart(self, at: int) -> None:
        self._choose(self._plotted[at])

    def _choose(self, place: int, _: bool = False) -> None:
        """Make a candidate the cut of all selected textures, on the watched target."""
        session, recipe = self._session, self.cards[place].candidate.recipe
        self.apply_cut(session.chosen_paths, recipe.settings.format, max(recipe.settings.width, recipe.settings.height))

    def apply_cut(self, paths: tuple[str, ...], name: str, side: int) -> None:
        session = self._session
        assert session.history is not None
        job = session.history.job.with_changes(session.watched_id, paths, *_changes(self._cap(paths, side), name))
        session.edit(
            job,
            f"{FORMATS[name].label} at {side} for {len(paths)} textures"
            if len(paths) > 1
            else f"{FORMATS[name].label} at {side}",
        )

    def _cap(self, paths: tuple[str, ...], side: int) -> int:
        """Return the cap that textures need to ship at a side; none where all of them ship at it or under it already."""
        session = self._session
        assert session.inventory is not None
        a, rows = session.plan().footprint, session.inventory.rows(paths)
        longest = np.maximum(a.width[rows], a.height[rows])
        source = np.maximum(session.inventory.width[rows], session.inventory.height[rows])
        return 0 if (longest == np.minimum(side, source)).all() else side

    def alike_choices(self) -> list[tuple[str, tuple[str, ...]]]:
        """Return what "like this" could be for: words, and the paths of the textures."""
        session = self._session
        if not session.chosen or session.inventory is None:
            return []
        inventory, row = session.inventory, session.chosen[0]
        role = inventory.roles[row].role
        found = [(f"all used as {role.label.lower()}", [r for r, g in enumerate(inventory.roles) if g.role is role])]
        if session.filter_text:
            assets: Assets = session.assets()
            kept = np.flatnonzero(select(session.filter_text, assets))
            found.append(
                (
                    f"all that the filter keeps ({session.filter_text})",
                    [int(r) for r in kept if r < len(inventory.textures)],
                )
            )
        for owner in inventory.ownership.owners.get(row, ())[:4]:
            worn = inventory.ownership.rows_of[owner.model, owner.material]
            found.append((f"all of the material {inventory.ownership.material(owner).name}", list(worn)))
        return [(words, tuple(inventory.textures[r].path for r in rows)) for words, rows in found if len(rows) > 1]

    def _offer_alike(self) -> None:
        menu = QMenu(self)
        chosen = self._session.chosen
        settings = self._session.plan().encode_settings(chosen[0]) if chosen else None
        for words, paths in self.alike_choices() if settings is not None else []:
            assert settings is not None
            side = max(settings.width, settings.height)
            act: Callable[[], None] = partial(self.apply_cut, paths, settings.format, side)
            label = f"{FORMATS[settings.format].label} at {side} for {words}"
            menu.addAction(f"{label}: {self.promise(paths, settings.format, side)}", act)
        if menu.isEmpty():
            menu.addAction("Nothing else is like it").setEnabled(False)
        corner = self.alike.mapToGlobal(self.alike.rect().topRight())
        size = menu.sizeHint()
        menu.exec(corner - QPoint(size.width(), size.height()))

    def promise(self, paths: tuple[str, ...], name: str, side: int) -> str:
        """Say what a choice for many would do to the total, before it is made."""
        session = self._session
        assert session.history is not None
        job = session.history.job.with_changes(session.watched_id, paths, *_changes(side, name))
        after = session.plan_of(job)
        now = session.plan().total("memory")
        return f"{len(paths)} textures, {bytes_text(now)} → {bytes_text(after.total('memory'))}"


def _changes(side: int, name: str) -> list[Change]:
    return [*([Cap(side)] if side else []), SetFormat(name)]
