"""What an encoder is asked for besides the format."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class Effort(Enum):
    """How hard an encoder searches; the size is the same."""

    DRAFT = "draft"
    STANDARD = "standard"
    FINE = "fine"

    @property
    def rank(self) -> int:
        """0, 1 or 2."""
        return ("draft", "standard", "fine").index(self.value)


class Dither(Enum):
    """How the rounding of 16-bit formats is spread: not at all, over an ordered pattern, or on to the next pixels."""

    NONE = "none"
    ORDERED = "ordered"
    DIFFUSED = "diffused"


class ErrorMetric(Enum):
    """What an error is counted on.

    COLOUR : code values of red, green and blue, where alpha lets them be seen
    PERCEPTUAL : the same, each channel by what the eye sees of it
    NORMALS : the angle that a vector is turned by
    DATA : every channel, alpha too, as a value of its own
    """

    COLOUR = "colour"
    PERCEPTUAL = "perceptual"
    NORMALS = "normals"
    DATA = "data"

    @property
    def alpha_covers(self) -> bool:
        """Alpha says how much of the colour is seen, and is not a value like the others."""
        return self in (ErrorMetric.COLOUR, ErrorMetric.PERCEPTUAL)


@dataclass(frozen=True)
class EncodeOptions:
    """How to encode.

    Parameters
    ----------
    effort : how hard to search
    alpha_threshold : 0..255; alpha below it is clear in formats with one bit of alpha
    dither : of the 16-bit formats
    loss : dB that may be given up for a smaller package, 0 for none: blocks are then made to repeat each other, in block
        formats of integers
    threads : worker threads; the result does not depend on it
    error_metric : what the search of block formats counts an error on
    """

    effort: Effort = Effort.STANDARD
    alpha_threshold: int = 128
    dither: Dither = Dither.ORDERED
    loss: float = 0.0
    threads: int | None = None
    error_metric: ErrorMetric = ErrorMetric.COLOUR
