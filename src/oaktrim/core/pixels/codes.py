"""What code values of a picture stand for."""

from __future__ import annotations

from enum import Enum


class Transfer(Enum):
    """How code values stand for light."""

    SRGB = "srgb"
    LINEAR = "linear"
