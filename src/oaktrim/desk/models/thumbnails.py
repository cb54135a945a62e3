"""Small pictures of textures, made beside the window as they are asked for."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal
from PySide6.QtGui import QImage, QPixmap

from oaktrim.core.errors import OakTrimError
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.ship.make import read_source
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory

SIDE = 26
_KEPT = 2000
_WAITING = 64


def thumbnail_codes(image: Image, side: int) -> np.ndarray:
    """Return RGBA codes of the picture at most `side` large, of evenly spread pixels."""
    step = max(1, max(image.size) // (side * 2))
    few = to_rgba(image.with_pixels(np.ascontiguousarray(image.pixels[step // 2 :: step, step // 2 :: step])))
    return np.ascontiguousarray(few)


@dataclass(frozen=True, eq=False)
class _Made:
    codes: np.ndarray | None = None
    pixmap: QPixmap | None = None


class Thumbnails(QObject):
    """Pictures by content; those that are not there yet are made one after the other, the newest wish first.

    Parameters
    ----------
    side : pixels of the longest side; a survey keeps those of `SIDE`
    """

    ready = Signal(int)

    def __init__(self, cache: SurveyCache, parent: QObject | None = None, side: int = SIDE) -> None:
        super().__init__(parent)
        self._cache, self._side = cache, side
        self._inventory: Inventory | None = None
        self._made: OrderedDict[str, _Made] = OrderedDict()
        self._kept = _KEPT * SIDE**2 // side**2
        self._wishes: OrderedDict[str, int] = OrderedDict()
        self._busy = False
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._done.connect(self._take)

    _done = Signal(str, int, object)

    def use(self, inventory: Inventory) -> None:
        """Serve another inventory."""
        self._inventory = inventory
        self._wishes.clear()

    def stop(self) -> None:
        """Wait for the picture in hand and make no more."""
        self._wishes.clear()
        self._pool.waitForDone()

    def of(self, row: int) -> QPixmap | None:
        """Return the picture of a texture, or None and have it made."""
        return self._wanted(row).pixmap

    def codes_of(self, row: int) -> np.ndarray | None:
        """Return the same as codes, RGBA (H, W, 4) uint8, or None and have it made."""
        return self._wanted(row).codes

    def _wanted(self, row: int) -> _Made:
        assert self._inventory is not None
        texture = self._inventory.textures[row]
        if texture.content in self._made:
            self._made.move_to_end(texture.content)
            return self._made[texture.content]
        if texture.pixels:
            self._wishes[texture.content] = row
            self._wishes.move_to_end(texture.content)
            while len(self._wishes) > _WAITING:
                self._wishes.popitem(last=False)
            self._next()
        return _Made()

    def _next(self) -> None:
        if self._busy or not self._wishes or self._inventory is None:
            return
        content, row = self._wishes.popitem()
        self._busy = True
        inventory = self._inventory

        def make() -> None:
            kept = self._cache.thumbnail(content) if self._side <= SIDE else None
            if kept is not None:
                self._done.emit(content, row, kept)
                return
            try:
                codes: np.ndarray | None = thumbnail_codes(read_source(inventory, row), self._side)
            except (OakTrimError, MemoryError):
                codes = None
            self._done.emit(content, row, codes)

        self._pool.start(_Make(make))

    def _take(self, content: str, row: int, codes: np.ndarray | None) -> None:
        self._busy = False
        made = _Made()
        if codes is not None:
            height, width = codes.shape[:2]
            codes = np.ascontiguousarray(codes)
            picture = QImage(codes.data, width, height, 4 * width, QImage.Format.Format_RGBA8888)
            made = _Made(codes, QPixmap.fromImage(picture.copy()))
        self._made[content] = made
        while len(self._made) > self._kept:
            self._made.popitem(last=False)
        self.ready.emit(row)
        self._next()


class _Make(QRunnable):
    def __init__(self, make: Callable[[], None]) -> None:
        super().__init__()
        self._make = make

    def run(self) -> None:
        self._make()
