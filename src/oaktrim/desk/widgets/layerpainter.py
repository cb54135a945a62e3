"""Painting a layer: the part of it that is seen, from the level that suits the zoom, on what shows through its clear parts."""

from __future__ import annotations

from math import log2

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPixmap

from oaktrim.desk.widgets.layers import Codes, Layer, Look, developed
from oaktrim.desk.widgets.marks import draw_grid

_PIXELS_SHOW_FROM, _GRID_FROM = 3.0, 12.0
# The least part that a second level has to have to be drawn.
_LEVELS_BLEND_FROM = 0.02


def draw_layer(
    painter: QPainter, layer: Layer, room: QRectF, frame: QRectF, look: Look, level: int | None, zoom: float
) -> None:
    """Draw a layer once, or three times three where it is looked at tiled.

    Parameters
    ----------
    room : what of the widget it is drawn in; frame : where the whole layer lies
    level : of the mip chain, whatever the zoom; None for what suits it: between two levels that ship lies what a GPU shows
        there, both, by how near each is
    zoom : screen pixels to one of the source
    """
    reach = range(-1, 2) if look.tiled else range(1)
    for across in reach:
        for down in reach:
            here = frame.translated(across * frame.width(), down * frame.height())
            seen = here.intersected(room)
            if not seen.isEmpty():
                _draw_one(painter, layer, here, seen, look, level, zoom)


def _draw_one(
    painter: QPainter, layer: Layer, frame: QRectF, seen: QRectF, look: Look, level: int | None, zoom: float
) -> None:
    last = len(layer.levels) - 1
    depth = min(max(0.0, log2(layer.size[0] / frame.width())), last)
    first, part = int(depth), depth % 1 if layer.real else 0.0
    if level is not None:
        first, part = min(level, last), 0.0
    painter.save()
    painter.setClipRect(frame, Qt.ClipOperation.IntersectClip)
    if look.canvas:
        painter.fillRect(seen, canvas_brush(look.canvas))
    _draw_level(painter, layer.levels[first], frame, seen, look, level, zoom)
    if part > _LEVELS_BLEND_FROM:
        painter.setOpacity(part)
        _draw_level(painter, layer.levels[first + 1], frame, seen, look, level, zoom)
    painter.restore()


def _draw_level(
    painter: QPainter, codes: Codes, frame: QRectF, seen: QRectF, look: Look, level: int | None, zoom: float
) -> None:
    height, width = codes.shape[:2]
    # Whole texels, one more on each side, so that filtering has its neighbours.
    x0 = max(0, int((seen.left() - frame.left()) / frame.width() * width) - 1)
    y0 = max(0, int((seen.top() - frame.top()) / frame.height() * height) - 1)
    x1 = min(width, int((seen.right() - frame.left()) / frame.width() * width) + 2)
    y1 = min(height, int((seen.bottom() - frame.top()) / frame.height() * height) + 2)
    target = QRectF(
        frame.left() + frame.width() * x0 / width,
        frame.top() + frame.height() * y0 / height,
        frame.width() * (x1 - x0) / width,
        frame.height() * (y1 - y0) / height,
    )
    texel = frame.width() / width
    coarse = texel >= _PIXELS_SHOW_FROM and (zoom >= _PIXELS_SHOW_FROM or level is not None)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, not coarse)
    painter.drawImage(target, developed(codes[y0:y1, x0:x1], look))
    if texel >= _GRID_FROM and level is None:
        draw_grid(painter, frame, seen, width, height)


def canvas_brush(name: str) -> QBrush:
    """Return what shows through where a picture is clear: a colour, or a fine check."""
    if name != "check":
        return QBrush(QColor(name))
    tile = QPixmap(16, 16)
    tile.fill(QColor("#8A8A8A"))
    painter = QPainter(tile)
    painter.fillRect(0, 0, 8, 8, QColor("#6C6C6C"))
    painter.fillRect(8, 8, 8, 8, QColor("#6C6C6C"))
    painter.end()
    return QBrush(tile)
