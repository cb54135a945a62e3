"""Makers in a job's document: what can stand there, and the pattern of names that each kind has."""

from __future__ import annotations

from functools import reduce
from operator import or_
from typing import TYPE_CHECKING

import msgspec

from oaktrim.core.makers import shipped
from oaktrim.core.makers.names import check_pattern, filled
from oaktrim.core.makers.registry import KINDS, Maker, MakerContext, kind_of

# Importing it registers the kinds that come with the product.
assert shipped


class _NamePatterns(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How names are made, below the root and without ending; `MakerKind.name_fields` are what a pattern may hold."""

    def __post_init__(self) -> None:
        for kind in KINDS.values():
            check_pattern(self.of(kind.tag), kind.name_fields)

    def of(self, tag: str) -> str:
        """Return the pattern of a kind of maker."""
        return str(getattr(self, tag))

    def name(self, maker: Maker, context: MakerContext) -> str:
        """Return the name that a maker gets."""
        kind = kind_of(maker)
        return filled(self.of(kind.tag), kind.name_values(maker, context))


if TYPE_CHECKING:
    JobMaker = Maker

    class NamePatterns(_NamePatterns, frozen=True):
        def __init__(self, **patterns: str) -> None: ...

else:
    JobMaker = reduce(or_, KINDS)
    # A field for each kind.
    NamePatterns = msgspec.defstruct(
        "NamePatterns", [(kind.tag, str, kind.name_pattern) for kind in KINDS.values()], bases=(_NamePatterns,),
        frozen=True, forbid_unknown_fields=True, module=__name__,
    )  # fmt: skip
