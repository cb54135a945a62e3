"""What is measured of a surface: each as a small ruler, before as a thin line, and a notch for good enough."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QFrame, QLabel, QVBoxLayout, QWidget

from oaktrim.core.makers.surface.measures import GOOD_DETAIL, GOOD_REPETITION, GOOD_SEAM, GOOD_SHADING
from oaktrim.core.makers.surface.settings import Stroke
from oaktrim.core.proof.surfacedraft import SurfaceDraft
from oaktrim.desk.benches.surface.uploadpane import UploadPane, pixmap_of
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens

_KEEP_RADIUS = 0.06


@dataclass(frozen=True)
class Reading:
    """One figure: before and after, the end of the ruler, and what is good enough, None where nothing is."""

    name: str
    before: float | None
    after: float
    end: float
    good: float | None
    words: str
    more_is_better: bool = False


class MeasureRuler(QWidget):
    """A small ruler for one figure."""

    def __init__(self, reading: Reading) -> None:
        super().__init__()
        self.reading = reading
        self.setFixedHeight(35)
        self.setAccessibleName(reading.name)
        self.setAccessibleDescription(reading.words)
        self.setToolTip(reading.words)

    @property
    def is_good(self) -> bool:
        """The figure after is good enough."""
        r = self.reading
        return r.good is None or (r.after >= r.good if r.more_is_better else r.after <= r.good)

    def paintEvent(self, event: QPaintEvent) -> None:
        r, now, painter = self.reading, tokens(), QPainter(self)
        font = self.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(now.ink))
        painter.drawText(QRectF(0, 0, self.width(), 16), Qt.AlignmentFlag.AlignLeft, r.name)
        painter.setPen(QColor(now.moss if self.is_good else now.soft))
        sign = "" if r.good is None else " ✓" if self.is_good else ""
        painter.drawText(QRectF(0, 0, self.width(), 16), Qt.AlignmentFlag.AlignRight, r.words + sign)
        wood = QRectF(0, 20, self.width() - 1, 12)
        painter.fillRect(wood, QColor(now.oak_pale))
        painter.fillRect(QRectF(wood.left(), wood.top() + 4, self._x(r.after), 8), QColor(now.oak))
        if r.before is not None:
            painter.setPen(QPen(QColor(now.ink), 1))
            painter.drawLine(QPointF(self._x(r.before), wood.top()), QPointF(self._x(r.before), wood.bottom()))
        if r.good is not None:
            x = self._x(r.good)
            painter.setPen(QPen(QColor(now.ink), 2))
            painter.drawLine(QPointF(x, wood.top() - 2), QPointF(x, wood.bottom()))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QBrush(QColor(now.ink)))
            painter.drawPolygon(QPolygonF([QPointF(x - 4, 16), QPointF(x + 4, 16), QPointF(x, 21)]))
        painter.end()

    def _x(self, value: float) -> float:
        return min(1.0, max(0.0, value / self.reading.end)) * (self.width() - 2)


class CutView(QWidget):
    """The picture after with its cuts; a click marks a place of the source that no cut runs through.

    Signals
    -------
    kept : a new place to keep (`Stroke`)
    """

    kept = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(80)
        self.setAccessibleName("The source, with places that no cut runs through")
        self._picture: QPixmap | None = None
        self._strokes: tuple[Stroke, ...] = ()

    def show_draft(self, now: SurfaceDraft) -> None:
        """Show another draft."""
        self._picture = pixmap_of(now.before)
        self._strokes = now.settings.tile.keep if now.settings.tile is not None else ()
        self.update()

    def _room(self) -> QRectF:
        if self._picture is None:
            return QRectF()
        scale = min(self.width() / self._picture.width(), self.height() / self._picture.height())
        return QRectF(0, 0, self._picture.width() * scale, self._picture.height() * scale)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self._picture is not None:
            room = self._room()
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawPixmap(room, self._picture, QRectF(self._picture.rect()))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for stroke in self._strokes:
                radius = stroke.radius * min(room.width(), room.height())
                middle = QPointF(stroke.x * room.width(), stroke.y * room.height())
                for colour, width in (("#000000", 3), ("#FFFFFF", 1)):
                    painter.setPen(QPen(QColor(colour), width))
                    painter.drawEllipse(middle, radius, radius)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        room = self._room()
        if room.contains(event.position()) and event.button() == Qt.MouseButton.LeftButton:
            at = event.position()
            self.kept.emit(Stroke(at.x() / room.width(), at.y() / room.height(), _KEEP_RADIUS))


class MeasurePane(QFrame):
    """The right side of the bench.

    Signals
    -------
    kept : a place of the source that no cut may run through
    """

    kept = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("swatch")
        self.setFixedWidth(264)
        self._rulers = QVBoxLayout()
        self._rulers.setSpacing(1)
        self.rulers: dict[str, MeasureRuler] = {}
        self.keep = CutView()
        self.upload = UploadPane()
        self.keep.kept.connect(self.kept)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 8, 14, 8)
        column.setSpacing(4)
        column.addWidget(with_properties(QLabel("Measured"), objectName="heading"))
        column.addLayout(self._rulers)
        column.addWidget(with_properties(QLabel("thin line: before · notch: good enough"), objectName="caption"))
        column.addWidget(self.upload)
        column.addWidget(with_properties(QLabel("Keep whole"), objectName="heading"))
        column.addWidget(
            with_properties(QLabel("click what no cut may run through", wordWrap=True), objectName="caption")
        )
        column.addWidget(self.keep, 1)

    def show_draft(self, now: SurfaceDraft) -> None:
        """Show what was measured of another draft."""
        for ruler in self.rulers.values():
            ruler.setParent(None)
        self.rulers = {}
        before, after = now.measured
        kept, again = after.kept(before), (before.repetition.peak, after.repetition.peak)
        for reading in (
            Reading("shading left", before.shading, after.shading, 1.0, GOOD_SHADING, f"{after.shading:.2f} stops"),
            Reading("repetition seen", *again, 1.0, GOOD_REPETITION, f"{again[1]:.2f}"),
            Reading("seam contrast", before.seam, after.seam, 5.0, GOOD_SEAM, f"{after.seam:.1f}×"),
            Reading("spread of lightness", before.spread, after.spread, 0.8, None, f"{after.spread * 100:.0f} %"),
            Reading("detail kept", None, kept, 1.2, GOOD_DETAIL, f"{kept * 100:.0f} %", True),
        ):  # fmt: skip
            self.rulers[reading.name] = MeasureRuler(reading)
            self._rulers.addWidget(self.rulers[reading.name])
        self.keep.show_draft(now)
