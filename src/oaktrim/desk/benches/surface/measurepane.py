"""What is measured of a surface: each as a small ruler, before as a thin line, and a notch for good enough."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QLabel, QVBoxLayout, QWidget

from oaktrim.core.makers.surface.measures import GOOD_DETAIL, GOOD_REPETITION, GOOD_SEAM, GOOD_SHADING
from oaktrim.core.proof.surfacedraft import SurfaceDraft
from oaktrim.desk.benches.surface.cutview import CutView
from oaktrim.desk.benches.surface.uploadpane import UploadPane
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.tokens import tokens


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


class MeasurePane(QFrame):
    """The right side of the bench.

    Signals
    -------
    kept : a place of the source that no cut may run through
    drawn : `across` or `down`, and the places of that cut by hand, empty for the best
    """

    kept = Signal(object)
    drawn = Signal(str, object)

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
        self.keep.drawn.connect(self.drawn)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 8, 14, 8)
        column.setSpacing(4)
        column.addWidget(with_properties(QLabel("Measured"), objectName="heading"))
        column.addLayout(self._rulers)
        column.addWidget(with_properties(QLabel("thin line: before · notch: good enough"), objectName="caption"))
        column.addWidget(self.upload)
        column.addWidget(with_properties(QLabel("The cut"), objectName="heading"))
        column.addWidget(
            with_properties(QLabel("drag its dots · click what to keep whole", wordWrap=True), objectName="caption")
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
