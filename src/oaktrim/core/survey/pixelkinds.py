"""What a texture's pixels hold, as far as formats differ by it."""

from __future__ import annotations

from enum import StrEnum

from oaktrim.core.pixels.traits import Traits
from oaktrim.core.survey.facts import TextureFacts

# Of alpha, that has to be all or nothing in a cut-out, times 255.
_EITHER = 248


class PixelKind(StrEnum):
    """What a picture's pixels hold: ANY stands for all of the others in rules."""

    ANY = "any"
    GREY = "grey"
    OPAQUE = "opaque"
    CUT_OUT = "cut-out"
    SOFT = "soft"


def pixel_kind(facts: TextureFacts) -> PixelKind:
    """Return what a texture's pixels hold."""
    if facts.channels in (2, 4) and "A" in facts.live:
        traits = Traits.of(facts.traits)
        return PixelKind.CUT_OUT if traits.clear + traits.solid >= _EITHER else PixelKind.SOFT
    return PixelKind.GREY if facts.grey or facts.channels == 1 else PixelKind.OPAQUE
