"""A sheet with the islands that stand on it: hovered, chosen, moved, turned and weighed by hand."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from oaktrim.core.makers.atlas.settings import LATTICE
from oaktrim.core.proof.atlasdraft import Island
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.layers import Layer
from oaktrim.desk.widgets.marks import draw_plate
from oaktrim.desk.widgets.picture import PictureView

_NOTCH = 120
_INK, _PAPER = QColor("#26231F"), QColor("#FFFFFF")


@dataclass(frozen=True, eq=False)
class _Outline:
    """An island with the lines around it, in parts of the sheet."""

    island: Island
    lines: tuple[QLineF, ...]
    triangles: np.ndarray


def levels_text(levels: float) -> str:
    """Return levels lost as they are written: as it was, −1."""
    if abs(levels) < 0.05:
        return "as it was"
    text = f"{-levels:+.1f}".replace(".0", "").replace("-", "−")
    return f"{text} level" if abs(levels) == 1 else f"{text} levels"


class SheetView(PictureView):
    """A picture of a sheet with outlines over it.

    Signals
    -------
    picked : the number of the island that was clicked, -1 for none
    moved : number, and where its corner was let go, texels
    turned : number of an island to be turned by a quarter
    weighed : number, and levels more or fewer
    freed : number of an island that the packer is to place again
    """

    picked = Signal(int)
    moved = Signal(int, int, int)
    turned = Signal(int)
    weighed = Signal(int, int)
    freed = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._outlines: list[_Outline] = []
        self._size = (1, 1)
        self._over = -1
        self.chosen = -1
        self.chosen_material = ""
        self._shift = QPointF()
        self._moving = False
        self._wheel = 0

    # What is shown

    def show_sheet(self, layer: Layer, size: tuple[int, int], islands: list[Island]) -> None:
        """Show a sheet of a layout's size with its islands; the map may be smaller than the layout."""
        self._outlines = [_outline(island, size) for island in islands]
        self._size = size
        keep = self.layers and self.layers[0].size == layer.size
        self.show_layers((layer,), bool(keep))

    def choose(self, number: int, material: str = "") -> None:
        """Mark an island, and all of a material."""
        self.chosen, self.chosen_material = number, material
        self.update()

    @property
    def islands(self) -> list[Island]:
        return [row.island for row in self._outlines]

    def say(self, words: str) -> None:
        self._outlines = []
        super().say(words)

    # Gestures

    def island_at(self, point: QPointF) -> int:
        """Return the number of the island at a point of the widget, or -1."""
        frame = self.port.rect(self._room())
        at = np.array([(point.x() - frame.left()) / frame.width(), (point.y() - frame.top()) / frame.height()])
        for row in self._outlines:
            if _holds(row.triangles, at):
                return row.island.number
        return -1

    def _hover(self, point: QPointF) -> None:
        super()._hover(point)
        over = self.island_at(point)
        if over != self._over:
            self._over = over
            self.update()

    def leaveEvent(self, event: object) -> None:
        super().leaveEvent(event)
        self._over = -1
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        self._pressed = event.position()
        over = self.island_at(event.position())
        self._moving = event.button() == Qt.MouseButton.LeftButton and over >= 0 and over == self.chosen
        self._shift = QPointF()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._moving:
            self._shift = event.position() - self._pressed
            self.update()
            return
        super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        super().mouseReleaseEvent(event)
        still = (event.position() - self._pressed).manhattanLength() < 5
        if self._moving and not still:
            place = self._landing()
            if place is not None:
                self.moved.emit(self.chosen, *place)
        elif still and event.button() == Qt.MouseButton.LeftButton:
            self.picked.emit(self.island_at(event.position()))
        self._moving, self._shift = False, QPointF()
        self.update()

    def _landing(self) -> tuple[int, int] | None:
        """Return where the corner of the island that is being moved would stand, on whole steps within the sheet."""
        mine = self._mine()
        if mine is None:
            return None
        frame = self.port.rect(self._room())
        x = mine.box[0] + self._shift.x() / frame.width() * self._size[0]
        y = mine.box[1] + self._shift.y() / frame.height() * self._size[1]
        return self._within(mine, x, y)

    def _within(self, island: Island, x: float, y: float) -> tuple[int, int]:
        most = (self._size[0] - island.box[2], self._size[1] - island.box[3])
        column, row = (
            round(min(max(0.0, v), max(0.0, m)) / LATTICE) * LATTICE for v, m in zip((x, y), most, strict=True)
        )
        return column, row

    def _mine(self) -> Island | None:
        return next((row.island for row in self._outlines if row.island.number == self.chosen), None)

    def wheelEvent(self, event: QWheelEvent) -> None:
        over = self.island_at(event.position())
        if over < 0 or over != self.chosen:
            super().wheelEvent(event)
            return
        self._wheel += event.angleDelta().y()
        steps, self._wheel = int(self._wheel / _NOTCH), self._wheel - int(self._wheel / _NOTCH) * _NOTCH
        if steps:
            self.weighed.emit(over, steps)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, mine = Qt.Key(event.key()), self._mine()
        arrows = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        if key in (Qt.Key.Key_Comma, Qt.Key.Key_Period) and self._outlines:
            numbers = [row.island.number for row in self._outlines]
            at = numbers.index(self.chosen) if self.chosen in numbers else -1
            self.picked.emit(numbers[(at + (1 if key == Qt.Key.Key_Period else -1)) % len(numbers)])
        elif mine is None:
            super().keyPressEvent(event)
        elif key == Qt.Key.Key_R:
            self.turned.emit(mine.number)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.weighed.emit(mine.number, -1 if key == Qt.Key.Key_Minus else 1)
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.freed.emit(mine.number)
        elif key == Qt.Key.Key_Escape:
            self.picked.emit(-1)
        elif key in arrows:
            across, down = arrows[key]
            self.moved.emit(
                mine.number, *self._within(mine, mine.box[0] + across * LATTICE, mine.box[1] + down * LATTICE)
            )
        else:
            super().keyPressEvent(event)

    # Painting

    def paintEvent(self, event: object) -> None:
        super().paintEvent(event)  # type: ignore[arg-type]
        if not self._outlines:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = self.port.rect(self._room())
        painter.setPen(QPen(_PAPER, 1))
        painter.drawRect(frame)
        for row in self._outlines:
            island = row.island
            chosen = island.number == self.chosen
            marked = chosen or island.material == self.chosen_material
            shift = self._shift if chosen and self._moving else QPointF()
            lines = [_line_on_screen(line, frame, shift) for line in row.lines]
            # Dark under light shows on whatever the sheet holds.
            painter.setPen(QPen(_INK, 3 if marked or island.number == self._over else 2))
            painter.drawLines(lines)
            painter.setPen(QPen(QColor(tokens().oak_pale) if marked else _PAPER, 2 if chosen else 1))
            painter.drawLines(lines)
        named = next((row.island for row in self._outlines if row.island.number in (self._over, self.chosen)), None)
        if self._over >= 0:
            named = next(row.island for row in self._outlines if row.island.number == self._over)
        if named is not None:
            draw_plate(painter, f"{named.material}  {levels_text(named.levels)}", QRectF(self.rect()), left=True)
        painter.end()


def _outline(island: Island, size: tuple[int, int]) -> _Outline:
    """Return the edges of an island that only one of its triangles has."""
    parts = island.corners / np.array(size, np.float64)
    rounded = np.round(island.corners * 16).astype(np.int64)
    _, corner = np.unique(rounded.reshape(-1, 2), axis=0, return_inverse=True)
    triangles = corner.reshape(-1, 3)
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    ends = np.concatenate([parts[:, [0, 1]], parts[:, [1, 2]], parts[:, [2, 0]]])
    keys = np.sort(edges, axis=1) @ np.array([len(corner) + 1, 1])
    _, first, counts = np.unique(keys, return_index=True, return_counts=True)
    outer = ends[first[(counts == 1) & (edges[first, 0] != edges[first, 1])]]
    lines = tuple(QLineF(*(float(v) for v in pair.reshape(-1))) for pair in outer)
    return _Outline(island, lines, parts)


def _line_on_screen(line: QLineF, frame: QRectF, shift: QPointF) -> QLineF:
    return QLineF(
        frame.left() + line.x1() * frame.width() + shift.x(), frame.top() + line.y1() * frame.height() + shift.y(),
        frame.left() + line.x2() * frame.width() + shift.x(), frame.top() + line.y2() * frame.height() + shift.y(),
    )  # fmt: skip


def _holds(triangles: np.ndarray, at: np.ndarray) -> bool:
    """Say whether any triangle (M, 3, 2) holds a point."""
    a, b, c = (triangles[:, k] for k in range(3))

    def side(p: np.ndarray, q: np.ndarray) -> np.ndarray:
        found: np.ndarray = (q[:, 0] - p[:, 0]) * (at[1] - p[:, 1]) - (q[:, 1] - p[:, 1]) * (at[0] - p[:, 0])
        return found

    u, v, w = side(a, b), side(b, c), side(c, a)
    return bool((((u >= 0) & (v >= 0) & (w >= 0)) | ((u <= 0) & (v <= 0) & (w <= 0))).any())
