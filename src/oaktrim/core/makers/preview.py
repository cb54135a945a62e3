"""Sources brought down to a small size and kept, so that what a maker makes can be seen while a hand is on a control."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass, field

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import Filter, Resampling, resample
from oaktrim.core.survey.derived import Sources

_KEPT = 48


@dataclass(frozen=True)
class SmallSources(Sources):
    """Sources at most `side` pixels large. Codes are averaged as they are, since data is looked at, not light."""

    side: int = 256
    _kept: OrderedDict[str, Image] = field(default_factory=OrderedDict, compare=False)

    def picture(self, path: str) -> Image:
        if path in self._kept:
            self._kept.move_to_end(path)
            return self._kept[path]
        image = super().picture(path)
        scale = min(1.0, self.side / max(image.size))
        if scale < 1:
            width, height = (max(1, round(length * scale)) for length in image.size)
            small = resample(image.read_as(Transfer.LINEAR), width, height, Resampling(Filter.BOX, alpha_covers=False))
            image = small.read_as(image.transfer)
        self._kept[path] = image
        while len(self._kept) > _KEPT:
            self._kept.popitem(last=False)
        return image
