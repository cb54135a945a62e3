"""The kinds of makers: what a job, an inventory, a plan and a run ask of each. Nobody asks what kind a maker is.

A kind is a settings struct in the job and one `MakerKind` that is registered for it, in `makers/shipped.py` for those that
come with the product.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar, Generic, Protocol, TypeVar

from oaktrim.core.makers.layouts import LAYOUTS, Layout
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.derived import Derivation
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.roles import Role


class Maker(Protocol):
    """The settings of one maker, a frozen struct with a tag; `name` is what its outputs are called by."""

    @property
    def name(self) -> str: ...

    @property
    def inputs(self) -> tuple[str, ...]: ...


Settings = TypeVar("Settings", bound=Any)
One = TypeVar("One")


@dataclass(frozen=True)
class MakerContext:
    """What a maker is looked at with.

    Parameters
    ----------
    root : of the job
    makers : all of the job
    layouts : of packs, beside those of the product
    facts, roles : of the textures there are, those of the makers before it too, by path
    models : paths of the models there are
    """

    root: Path
    makers: Sequence[Maker] = ()
    layouts: Sequence[Layout] = ()
    facts: Mapping[str, TextureFacts] = field(default_factory=dict)
    roles: Mapping[str, Role] = field(default_factory=dict)

    def layout(self, name: str) -> Layout | None:
        """Return a layout by its id, or None where there is none."""
        return next((row for row in (*self.layouts, *LAYOUTS) if row.id == name), None)


@dataclass(frozen=True)
class FirstCut:
    """How an output ships from the beginning.

    Parameters
    ----------
    side : the longest, 0 for its own; format : empty for its own
    coverage : alpha of 255 from which levels keep what a cut-out shows, 0 for levels as they are filtered
    """

    path: str
    side: int = 0
    format: str = ""
    coverage: int = 0


class MakerKind(ABC, Generic[Settings]):
    """One kind of maker.

    Attributes
    ----------
    settings : its struct, whose tag is the kind's name in a job
    label : its makers, for people, in lower case
    name_pattern : of the names of what it makes, below the root and without ending
    name_fields : what the pattern may hold
    """

    settings: ClassVar[type[Any]]
    label: ClassVar[str]
    name_pattern: ClassVar[str]
    name_fields: ClassVar[tuple[str, ...]]

    @property
    def tag(self) -> str:
        """The kind's name in a job."""
        return str(self.settings.__struct_config__.tag)

    def origin(self, maker: Settings) -> str:
        """Return what a maker works on, in words."""
        return ", ".join(maker.inputs)

    @abstractmethod
    def name_values(self, maker: Settings, context: MakerContext) -> dict[str, object]:
        """Return what the fields of the name pattern stand for."""

    @abstractmethod
    def derivation(self, maker: Settings, context: MakerContext) -> Derivation:
        """Return how a maker comes by what it makes.

        Raises
        ------
        OakTrimError : its settings name something that is not there
        """

    def first_cuts(self, maker: Settings, plan: Plan, context: MakerContext) -> list[FirstCut]:
        """Return how its outputs ship on a target from the beginning, as its inputs did; `plan` has these still in it."""
        return []


# By settings struct, in the order in which they were registered.
KINDS: dict[type[Any], MakerKind[Any]] = {}


def register(kind: MakerKind[Any]) -> None:
    """Add a kind of maker; before jobs are read.

    Raises
    ------
    ValueError : there is one of that tag
    """
    if any(known.tag == kind.tag for known in KINDS.values()):
        raise ValueError(f"there is a maker {kind.tag!r} already")
    KINDS[kind.settings] = kind


def kind_of(maker: Maker) -> MakerKind[Any]:
    """Return the kind of a maker."""
    return KINDS[type(maker)]


def of_type(makers: Iterable[Maker], settings: type[One]) -> list[One]:
    """Return the makers of one kind, by its settings struct."""
    return [maker for maker in makers if isinstance(maker, settings)]
