"""The budget rule: a wooden ruler drawn to scale, with what is, what will be, and the limit as a notch."""

from __future__ import annotations

from dataclasses import dataclass, field

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QFont, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from oaktrim.core.units import bytes_beside, bytes_like
from oaktrim.desk.look.tokens import tokens

_TITLE_WIDTH, _FIGURES_WIDTH, _MARGIN = 130, 192, 12
_TICK_STEPS = (1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024, 2048, 4096, 8192, 16384, 1 << 16, 1 << 18, 1 << 20)


@dataclass(frozen=True)
class Reading:
    """What a ruler shows, in bytes.

    Parameters
    ----------
    title, line : the target, and which of its limits
    stated : the limit as the target states it, for its unit
    now : without cuts; after : with them, by family of roles
    estimated : the figures are not all measured; uncertainty : by how much they may be off, in bytes
    measured : how many textures are, of how many
    """

    title: str
    line: str
    limit: int
    stated: str
    now: int
    after: dict[str, int] = field(default_factory=dict)
    estimated: bool = False
    uncertainty: int = 0
    measured: tuple[int, int] = (0, 0)

    @property
    def total(self) -> int:
        return sum(self.after.values())


class BudgetRule(QWidget):
    """One ruler; a click on a family asks for its textures, dragging asks what if the limit were here."""

    family_clicked = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.reading: Reading | None = None
        self._what_if: float | None = None
        self._pressed_at: QPointF | None = None
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(560, 58)

    def minimumSizeHint(self) -> QSize:
        return QSize(400, 58)

    def show_reading(self, reading: Reading) -> None:
        """Show other figures."""
        self.reading = reading
        self.setAccessibleName(f"{reading.title}, {reading.line}")
        self.setAccessibleDescription(f"{self.verdict()}; limit {reading.stated}")
        self.setToolTip(
            f"{reading.line}: {reading.total:,} bytes of {reading.limit:,}; without cuts {reading.now:,} bytes"
            + (
                f"\n{reading.measured[0]:,} of {reading.measured[1]:,} textures measured, the others estimated, "
                f"± {reading.uncertainty:,}: nine of ten such figures turn out within"
                if reading.estimated
                else ""
            )
            + "".join(f"\n{name}: {count * 100 / max(1, reading.total):.1f} %" for name, count in reading.after.items())
        )
        self.update()

    def verdict(self) -> str:
        """Return how the total stands against the limit, in words."""
        if self.reading is None:
            return ""
        r = self.reading
        gap = bytes_like(abs(r.limit - r.total), r.stated)
        return f"{gap} over" if r.total > r.limit else f"{gap} to spare"

    # Scale

    def _wood(self) -> QRectF:
        right = self.width() - _FIGURES_WIDTH - _MARGIN
        return QRectF(_TITLE_WIDTH + _MARGIN, 8, max(60, right - _TITLE_WIDTH - _MARGIN), 42)

    def _span(self) -> int:
        r = self.reading
        assert r is not None
        return max(1, int(1.12 * max(r.limit, min(max(r.now, r.total), 4 * r.limit), r.total)))

    def _x(self, count: float) -> float:
        wood = self._wood()
        return wood.left() + wood.width() * min(1.0, count / self._span())

    def _count_at(self, x: float) -> int:
        wood = self._wood()
        return int(max(0.0, min(1.0, (x - wood.left()) / wood.width())) * self._span())

    # Gestures

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.reading is not None and self._wood().contains(event.position()):
            self._pressed_at = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed_at is not None and abs(event.position().x() - self._pressed_at.x()) > 3:
            self._what_if = event.position().x()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._pressed_at is not None and self._what_if is None:
            family = self._family_at(event.position().x())
            if family:
                self.family_clicked.emit(family)
        self._pressed_at = self._what_if = None
        self.update()

    def _family_at(self, x: float) -> str:
        assert self.reading is not None
        start, at = 0, self._count_at(x)
        for family, count in self.reading.after.items():
            start += count
            if at <= start:
                return family
        return ""

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.reading is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_words(painter)
        self._paint_wood(painter)
        self._paint_strips(painter)
        self._paint_notch(painter)
        painter.end()

    def _font(self, pixels: int, bold: bool = False) -> QFont:
        font = QFont(self.font())
        font.setPixelSize(pixels)
        font.setBold(bold)
        return font

    def _paint_words(self, painter: QPainter) -> None:
        r, now = self.reading, tokens()
        assert r is not None
        right = self.width() - _FIGURES_WIDTH
        painter.setPen(QColor(now.ink))
        painter.setFont(self._font(13, True))
        painter.drawText(QRectF(_MARGIN, 9, _TITLE_WIDTH - 4, 20), Qt.AlignmentFlag.AlignVCenter, r.title)
        painter.setFont(self._font(11))
        painter.setPen(QColor(now.soft))
        painter.drawText(QRectF(_MARGIN, 27, _TITLE_WIDTH - 4, 16), Qt.AlignmentFlag.AlignVCenter, r.line)
        if r.estimated:
            done, count = r.measured
            said = f"{done:,} of {count:,} measured"
            painter.drawText(QRectF(_MARGIN, 41, _TITLE_WIDTH - 4, 15), Qt.AlignmentFlag.AlignVCenter, said)
        asked = self._count_at(self._what_if) if self._what_if is not None else None
        limit = r.limit if asked is None else asked
        over = r.total > limit
        painter.setPen(QColor(now.brick if over else now.moss))
        painter.setFont(self._font(14, True))
        of = r.stated if asked is None else bytes_like(asked, r.stated)
        value = bytes_beside(r.total, r.stated, of)
        about = "~" if r.estimated else ""
        painter.drawText(
            QRectF(right, 8, _FIGURES_WIDTH - 6, 20), Qt.AlignmentFlag.AlignVCenter, f"{about}{value} of {of}"
        )
        painter.setFont(self._font(11))
        painter.setPen(QColor(now.brick if over else now.soft))
        gap = bytes_like(abs(limit - r.total), r.stated)
        verdict = f"▲ {gap} over" if over else f"{gap} to spare"
        if r.estimated and asked is None:
            verdict += f" ± {bytes_beside(r.uncertainty, r.stated, gap)}"
        tail = (
            ""
            if r.estimated and asked is None
            else f" · was {bytes_beside(r.now, r.stated, gap)}"
            if asked is None
            else " if it were here"
        )
        painter.drawText(QRectF(right, 29, _FIGURES_WIDTH - 2, 16), Qt.AlignmentFlag.AlignVCenter, verdict + tail)

    def _paint_wood(self, painter: QPainter) -> None:
        r, now, wood = self.reading, tokens(), self._wood()
        assert r is not None
        painter.fillRect(wood, QColor(now.oak_pale))
        painter.setPen(QPen(QColor(now.line), 1))
        painter.drawRect(wood)
        decimal = r.stated.strip().endswith(("kB", "MB", "GB"))
        unit = 1e6 if decimal else float(1 << 20)
        if self._span() < 2 * unit:
            unit = 1e3 if decimal else 1024.0
        wanted = self._span() / unit / max(2.0, wood.width() / 64)
        step = next((s for s in _TICK_STEPS if s >= wanted), _TICK_STEPS[-1])
        painter.setFont(self._font(10))
        painter.setPen(QPen(QColor(now.soft), 1))
        count, quarter = 0.0, step / 4
        while count * unit <= self._span():
            x = self._x(count * unit)
            major = round(count / quarter) % 4 == 0
            painter.drawLine(QPointF(x, wood.bottom()), QPointF(x, wood.bottom() - (9 if major else 4)))
            if major and x < wood.right() - 26:
                painter.drawText(QPointF(x + 3, wood.bottom() - 2), f"{count:g}")
            count += quarter

    def _paint_strips(self, painter: QPainter) -> None:
        r, now, wood = self.reading, tokens(), self._wood()
        assert r is not None
        thin = QRectF(wood.left(), wood.top() + 1, self._x(r.now) - wood.left(), 6)
        painter.fillRect(thin, QBrush(QColor(now.ink), Qt.BrushStyle.BDiagPattern))
        painter.setPen(QPen(QColor(now.ink), 1))
        painter.drawRect(thin)
        if r.now > self._span():
            painter.drawText(QPointF(thin.right() - 12, thin.bottom() + 10), "…")
        start = 0
        for family, count in r.after.items():
            left, right = self._x(start), self._x(start + count)
            start += count
            if right - left >= 0.5:
                painter.fillRect(QRectF(left, wood.top() + 8, max(1.0, right - left - 1), 18), now.family(family))
        if r.total > r.limit:
            past = QRectF(self._x(r.limit), wood.top() + 8, self._x(r.total) - self._x(r.limit), 18)
            painter.fillRect(past, QBrush(QColor(now.brick), Qt.BrushStyle.DiagCrossPattern))
            painter.setPen(QPen(QColor(now.brick), 1.5, Qt.PenStyle.DashLine))
            painter.drawRect(past)

    def _paint_notch(self, painter: QPainter) -> None:
        r, now, wood = self.reading, tokens(), self._wood()
        assert r is not None
        ink = QColor(now.ink)
        for place, solid in ((self._x(r.limit), True), (self._what_if, False)):
            if place is None:
                continue
            x = max(wood.left(), min(wood.right(), place))
            style = Qt.PenStyle.SolidLine if solid else Qt.PenStyle.DashLine
            painter.setPen(QPen(ink, 1.5, style))
            painter.drawLine(QPointF(x, wood.top() - 2), QPointF(x, wood.top() + 30))
            painter.setBrush(ink if solid else QBrush(Qt.BrushStyle.NoBrush))
            painter.setPen(QPen(ink, 1))
            painter.drawPolygon(
                QPolygonF([QPointF(x - 5, wood.top() - 6), QPointF(x + 5, wood.top() - 6), QPointF(x, wood.top() + 1)])
            )
