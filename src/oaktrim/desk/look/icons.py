"""The product's own icons: 16 px, ink strokes, painted in the theme's ink."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from PySide6.QtCore import QByteArray, QSize, Qt
from PySide6.QtGui import QIcon, QPainter, QPixmap
from PySide6.QtSvg import QSvgRenderer

from oaktrim.desk.look.tokens import tokens


@cache
def _source(name: str) -> str:
    return (files("oaktrim.desk.look") / "icons" / f"{name}.svg").read_text()


def icon(name: str, colour: str | None = None, size: int = 16) -> QIcon:
    """Return an icon by its file's name, in a colour or in ink."""
    svg = _source(name).replace("currentColor", colour or tokens().ink)
    out = QIcon()
    renderer = QSvgRenderer(QByteArray(svg.encode()))
    for scale in (1, 2):
        pixmap = QPixmap(QSize(size, size) * scale)
        pixmap.setDevicePixelRatio(scale)
        pixmap.fill(Qt.GlobalColor.transparent)
        painter = QPainter(pixmap)
        renderer.render(
            painter, pixmap.rect().toRectF() if scale == 1 else pixmap.rect().toRectF().adjusted(0, 0, -size, -size)
        )
        painter.end()
        out.addPixmap(pixmap)
    return out
