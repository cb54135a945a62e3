"""What a fit proposes, as a table: each group of textures accepted until it is refused."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPixmap
from PySide6.QtWidgets import QWidget

from oaktrim.core.proof.fit import Fit, why
from oaktrim.core.units import change_text
from oaktrim.desk.look.tokens import tokens

Index = QModelIndex | QPersistentModelIndex

_HEADS = ("", "worst part", "texture", "now", "proposed", "saved", "JND", "why not better")
PAIR_WIDE, PAIR_HIGH = 124, 56


def pair_picture(before: QImage, after: QImage) -> QPixmap:
    """Return two pictures beside each other, each filling its half."""
    out = QPixmap(PAIR_WIDE, PAIR_HIGH)
    out.fill(QColor(tokens().canvas))
    painter = QPainter(out)
    half = PAIR_WIDE // 2 - 1
    for place, picture in enumerate((before, after)):
        part = picture.scaled(half, PAIR_HIGH, Qt.AspectRatioMode.KeepAspectRatioByExpanding)
        painter.drawImage(place * (half + 2), 0, part, 0, 0, half, PAIR_HIGH)
    painter.end()
    return out


class Proposals(QAbstractTableModel):
    """The groups of a fit for which a change is proposed, each accepted until it is refused."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.fit: Fit | None = None
        self.groups: list[int] = []
        self.refused: set[int] = set()
        self.pictured: dict[int, QPixmap] = {}

    def take(self, found: Fit | None) -> None:
        """Show another fit; what was refused stays refused."""
        self.beginResetModel()
        self.fit = found
        self.groups = found.changed() if found is not None else []
        self.pictured = {}
        self.endResetModel()

    def accepted(self) -> list[int]:
        """Return the groups that are accepted."""
        return [group for group in self.groups if group not in self.refused]

    def show_picture(self, group: int, picture: QPixmap) -> None:
        if group in self.groups:
            self.pictured[group] = picture
            index = self.index(self.groups.index(group), 1)
            self.dataChanged.emit(index, index)

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.groups)

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return _HEADS[section]
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        found = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return found | Qt.ItemFlag.ItemIsUserCheckable if index.column() == 0 else found

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.CheckStateRole or index.column() != 0:
            return False
        self.turn(index.row(), value in (Qt.CheckState.Checked, Qt.CheckState.Checked.value))
        return True

    def turn(self, row: int, accepted: bool) -> None:
        """Accept or refuse a proposal."""
        (self.refused.discard if accepted else self.refused.add)(self.groups[row])
        self.dataChanged.emit(self.index(row, 0), self.index(row, len(_HEADS) - 1))

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        group, column = self.groups[index.row()], index.column()
        if role == Qt.ItemDataRole.CheckStateRole and column == 0:
            return Qt.CheckState.Unchecked if group in self.refused else Qt.CheckState.Checked
        if role == Qt.ItemDataRole.DecorationRole and column == 1:
            return self.pictured.get(group)
        if role == Qt.ItemDataRole.TextAlignmentRole and column in (5, 6):
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole and group in self.refused:
            return QColor(tokens().soft)
        if role == Qt.ItemDataRole.AccessibleTextRole and column == 0:
            return "refused" if group in self.refused else "accepted"
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole) and column > 1:
            return self._text(group, column)
        return None

    def _text(self, group: int, column: int) -> str:
        assert self.fit is not None
        assert self.fit.solution is not None
        problem, pick = self.fit.problem, int(self.fit.solution.picks[group])
        first, row = int(problem.choices.first[group]), problem.groups[group].rows[0]
        now, option, footprint = problem.option(first), problem.option(pick), problem.plan.footprint
        side = max(int(footprint.width[row]), int(footprint.height[row]))
        if column == 2:
            more = len(problem.groups[group].rows) - 1
            return problem.plan.inventory.names[row] + (f" and {more} alike" if more else "")
        if column == 3:
            return f"{side} {now.label}"
        if column == 4:
            return f"{option.side or side} {option.label}"
        if column == 5:
            saved = int(problem.choices.cost[0, first] - problem.choices.cost[0, pick])
            return change_text(saved, gain="")
        if column == 6:
            return f"{problem.jnd(pick):.2f}"
        return why(self.fit, group)
