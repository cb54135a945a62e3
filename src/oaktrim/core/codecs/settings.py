"""Everything that decides what a texture holds once it is encoded: one value, with one key and one serialiser (msgspec)."""

from __future__ import annotations

import msgspec

from oaktrim.core.codecs.effort import Effort, EncodeOptions, ErrorMetric
from oaktrim.core.pixels.resample import Filter


class EncodeSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How a texture is brought down and encoded.

    Parameters
    ----------
    width, height, levels : as it ships
    format : name in the catalogue
    effort : how hard the encoder searches
    filter : what brings the picture down
    loss : dB that may go for the download, 0 for none
    coverage : alpha of 255 from which levels keep the cut-out, 0 for levels as they are filtered
    error_metric : what the encoder counts errors on
    """

    width: int
    height: int
    levels: int
    format: str
    effort: Effort = Effort.STANDARD
    filter: Filter = Filter.LANCZOS3
    loss: float = 0.0
    coverage: int = 0
    error_metric: ErrorMetric = ErrorMetric.COLOUR

    @property
    def key(self) -> str:
        """All of it as text without spaces: what two equal keys make of one source is equal."""
        return msgspec.json.encode(self).decode()

    def options(self, threads: int | None = None) -> EncodeOptions:
        """Return what an encoder is asked for besides the format."""
        return EncodeOptions(self.effort, loss=self.loss, threads=threads, error_metric=self.error_metric)
