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


@dataclass(frozen=True)
class EncodeOptions:
    """How to encode.

    Parameters
    ----------
    effort : how hard to search
    alpha_threshold : 0..255; alpha below it is clear in formats with one bit of alpha
    dither : spread the rounding of the 16-bit formats over an ordered pattern
    loss : dB that may be given up for a smaller package, 0 for none: blocks are then made to repeat each other, in block
        formats of integers
    threads : worker threads; the result does not depend on it
    """

    effort: Effort = Effort.STANDARD
    alpha_threshold: int = 128
    dither: bool = True
    loss: float = 0.0
    threads: int | None = None
