"""Planks: what eats the budget, as rows of boards whose width is their cost; zoom into a board, walk them by keys."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFont,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from oaktrim.core.plan.breakdown import Breakdown
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.tokens import Tokens, tokens

_ROW, _GAP, _LABELS, _ROWS = 27, 3, 72, 4
# Boards narrower than this stand together in one remainder.
_LEAST = 3.0
# So many of them are told by name at most.
_NAMED = 8


@dataclass(frozen=True)
class Planked:
    """What planks show.

    Parameters
    ----------
    costs : of each board; families : of each asset, by value
    children : the boards below each board
    """

    tree: Breakdown
    costs: NDArray[np.float64]
    families: list[str]
    children: list[list[int]]


class Planks(QWidget):
    """Rows of boards; a click chooses what lies under a board, a double click or Enter zooms into it."""

    chosen = Signal(list)
    zoomed = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.shown: Planked | None = None
        self.boards: list[tuple[QRectF, int]] = []
        self.rests: list[tuple[QRectF, list[int]]] = []
        self._root = self._at = 0
        self._selected: frozenset[int] = frozenset()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Planks: what eats the budget")

    def sizeHint(self) -> QSize:
        return QSize(600, _ROWS * (_ROW + _GAP) + 8)

    def minimumSizeHint(self) -> QSize:
        return QSize(300, self.sizeHint().height())

    def show_planks(self, planked: Planked) -> None:
        """Show other costs; a tree of the same shape keeps its zoom."""
        same = self.shown is not None and self.shown.tree is planked.tree
        self.shown = planked
        if not same:
            self._root = self._at = 0
        self._lay()
        self.zoomed.emit()

    def select_assets(self, assets: frozenset[int]) -> None:
        """Mark the boards of some assets."""
        self._selected = assets
        self.update()

    def trail(self) -> list[tuple[int, str]]:
        """Return the boards from the whole down to the one that fills the width, with their names."""
        if self.shown is None:
            return []
        found, board = [], self._root
        while board >= 0:
            found.append((board, self.shown.tree.names[board]))
            board = self.shown.tree.parent[board]
        return found[::-1]

    def zoom(self, board: int) -> None:
        """Have a board fill the width; a leaf is chosen instead."""
        if self.shown is None:
            return
        if self.shown.children[board]:
            self._root = self._at = board
            self._lay()
            self.zoomed.emit()
        else:
            self._choose(board)

    def _lay(self) -> None:
        """Find where each board stands; those too narrow to see make up one remainder, with all that is below them."""
        self.boards, self.rests = [], []
        shown = self.shown
        if shown is None or self._root >= len(shown.tree.names) or shown.costs[self._root] <= 0:
            self.update()
            return
        scale = (self.width() - _LABELS - 8) / float(shown.costs[self._root])
        above = [(self._root, float(_LABELS))]
        for level in range(_ROWS):
            row: list[tuple[int, float]] = []
            for parent, left in above:
                start, top = left, 4 + level * (_ROW + _GAP)
                boards = sorted(shown.children[parent], key=lambda b: -shown.costs[b])
                for place, board in enumerate(boards):
                    width = float(shown.costs[board]) * scale
                    if width < _LEAST:
                        small = [b for b in boards[place:] if shown.costs[b] > 0]
                        rest = float(sum(shown.costs[b] for b in small)) * scale
                        if rest >= _LEAST:
                            self.rests.append((QRectF(start, top, rest - 1.5, _ROW), small))
                        break
                    self.boards.append((QRectF(start, top, max(1.0, width - 1.5), _ROW), board))
                    row.append((board, start))
                    start += width
            above = row
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._lay()

    # Gestures

    def _board_at(self, point: QPointF) -> int:
        return next((board for rect, board in self.boards if rect.contains(point)), -1)

    def _rest_at(self, point: QPointF) -> list[int]:
        return next((boards for rect, boards in self.rests if rect.contains(point)), [])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        board = self._board_at(event.position())
        if board >= 0:
            self._at = board
            self._choose(board)
        else:
            self._choose(*self._rest_at(event.position()))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        board = self._board_at(event.position())
        if board >= 0:
            self.zoom(board)

    def _out(self) -> None:
        if self.shown is not None and self._root:
            self.zoom(self.shown.tree.parent[self._root])

    def _choose(self, *boards: int) -> None:
        if self.shown is None or not boards:
            return
        found: dict[int, None] = {}
        pending = list(boards)
        while pending:
            each = pending.pop()
            if self.shown.tree.asset[each] >= 0:
                found[self.shown.tree.asset[each]] = None
            pending.extend(reversed(self.shown.children[each]))
        self.update()
        self.chosen.emit(list(found))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.shown is None:
            return
        key = Qt.Key(event.key())
        drawn = [board for _, board in self.boards]
        tree = self.shown.tree
        beside = [b for b in drawn if tree.parent[b] == tree.parent[self._at]] if self._at in drawn else drawn[:1]
        place = beside.index(self._at) if self._at in beside else 0
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and beside:
            step = 1 if key == Qt.Key.Key_Right else -1
            self._walk(beside[max(0, min(len(beside) - 1, place + step))])
        elif key == Qt.Key.Key_Up and tree.parent[self._at] in drawn:
            self._walk(tree.parent[self._at])
        elif key == Qt.Key.Key_Down:
            below = [board for board in drawn if tree.parent[board] == self._at]
            self._walk(below[0] if below else self._at)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.zoom(self._at)
        elif key in (Qt.Key.Key_Backspace, Qt.Key.Key_Escape):
            self._out()
        else:
            super().keyPressEvent(event)

    def _walk(self, board: int) -> None:
        self._at = board
        self._choose(board)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and self.shown is not None:
            board = self._board_at(QPointF(event.pos()))  # type: ignore[attr-defined]
            rest = self._rest_at(QPointF(event.pos()))  # type: ignore[attr-defined]
            words = self._words(board) if board >= 0 else self._words_of(rest) if rest else ""
            if words:
                QToolTip.showText(event.globalPos(), words, self)  # type: ignore[attr-defined]
            return True
        return super().event(event)

    def _words_of(self, rest: list[int]) -> str:
        assert self.shown is not None
        cost = float(sum(self.shown.costs[board] for board in rest))
        share = cost / max(1.0, float(self.shown.costs[0])) * 100
        return f"{len(rest)} smaller ones together\n{bytes_text(round(cost))}, {share:.1f} % of the whole"

    def _words(self, board: int) -> str:
        assert self.shown is not None
        shown = self.shown
        asset, cost = shown.tree.asset[board], float(shown.costs[board])
        share = cost / max(1.0, float(shown.costs[0])) * 100
        text = f"{shown.tree.names[board]}\n{bytes_text(round(cost))}, {share:.1f} % of the whole"
        if asset >= 0 and shown.tree.weight[board] < 1:
            whole = cost / shown.tree.weight[board]
            places = [b for b, a in enumerate(shown.tree.asset) if a == asset]
            parents = ", ".join(dict.fromkeys(shown.tree.names[shown.tree.parent[b]] for b in places[:8]))
            text += f"\nshared by {len(places)}: {parents}; {bytes_text(round(whole))} in all, counted once"
        return text

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, now = QPainter(self), tokens()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = QFont(self.font())
        font.setPixelSize(11)
        painter.setFont(font)
        if not self.boards:
            painter.setPen(QColor(now.soft))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Nothing here weighs anything on this line.")
            painter.end()
            return
        assert self.shown is not None
        told = set[float]()
        for rect, board in self.boards:
            if rect.top() not in told:
                told.add(rect.top())
                painter.setPen(QColor(now.soft))
                kind = self.shown.tree.kinds[board]
                label = QRectF(8, rect.top(), _LABELS - 12, _ROW)
                painter.drawText(label, Qt.AlignmentFlag.AlignVCenter, kind.capitalize())
            self._paint_board(painter, now, rect, board)
        for rect, rest in self.rests:
            painter.fillRect(rect, QBrush(QColor(now.soft), Qt.BrushStyle.BDiagPattern))
            metrics = QFontMetrics(font)
            text = self._rest_text(rest, metrics, int(rect.width()) - 16)
            if text:
                painter.fillRect(
                    QRectF(rect.left() + 4, rect.top() + 5, metrics.horizontalAdvance(text) + 8, _ROW - 10),
                    QColor(now.sheet),
                )
                painter.setPen(QColor(now.ink))
                painter.drawText(rect.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, text)
        painter.end()

    def _rest_text(self, rest: list[int], metrics: QFontMetrics, room: int) -> str:
        """Return the largest of what stands together by name, as many as there is room for, and how many are left."""
        assert self.shown is not None
        names = [self.shown.tree.names[board] for board in rest[:_NAMED]]
        costs = [bytes_text(round(float(self.shown.costs[board]))) for board in rest[:_NAMED]]
        with_costs = [f"{name} {cost}" for name, cost in zip(names, costs, strict=True)]
        # As many as fit, with what they cost where that leaves one at least.
        for shown in (with_costs, names):
            for count in range(len(shown), 0, -1):
                left = len(rest) - count
                text = ", ".join(shown[:count]) + (f" and {left:,} smaller" if left else "")
                if metrics.horizontalAdvance(text) <= room:
                    return text
        text = f"{len(rest):,} smaller"
        return text if metrics.horizontalAdvance(text) <= room else ""

    def _paint_board(self, painter: QPainter, now: Tokens, rect: QRectF, board: int) -> None:
        assert self.shown is not None
        asset = self.shown.tree.asset[board]
        shared = asset >= 0 and self.shown.tree.weight[board] < 1
        ground = now.family(self.shown.families[asset]) if asset >= 0 else QColor(now.oak_pale)
        if shared and rect.width() > 16:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(ground)
            painter.drawPolygon(_dovetail(rect))
        else:
            painter.fillRect(rect, ground)
        marked = asset >= 0 and asset in self._selected
        if marked or (board == self._at and self.hasFocus()):
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(now.ink), 2 if marked else 1.5))
            painter.drawRect(rect.adjusted(1, 1, -1, -1))
        if rect.width() < 24:
            return
        inset = 9 if shared else 6
        room = int(rect.width()) - 2 * inset
        metrics = QFontMetrics(painter.font())
        name, cost = self.shown.tree.names[board], bytes_text(round(float(self.shown.costs[board])))
        text = f"{name}  {cost}"
        if metrics.horizontalAdvance(text) > room:
            text = metrics.elidedText(name, Qt.TextElideMode.ElideRight, room)
        painter.setPen(QColor(now.on_oak if asset >= 0 else now.ink))
        painter.drawText(rect.adjusted(inset, 0, -2, 0), Qt.AlignmentFlag.AlignVCenter, text)


def _dovetail(rect: QRectF) -> QPolygonF:
    """Return a board whose ends are cut to fit others."""
    notch, third = 5.0, rect.height() / 3
    left, right, top = rect.left(), rect.right(), rect.top()
    ends = [(left, 0), (right, 0), (right - notch, third), (right, third)]
    ends += [(right, 2 * third), (right - notch, 2 * third), (right, 3 * third), (left, 3 * third)]
    ends += [(left + notch, 2 * third), (left, 2 * third), (left, third), (left + notch, third)]
    return QPolygonF([QPointF(x, top + y) for x, y in ends])
