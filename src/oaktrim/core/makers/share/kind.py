"""One texture in the place of several that are nearly the same: those that read the others read it, mirrored where these were."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.fields import FilePath, NewPath
from oaktrim.core.files.uvtransform import SAME_UV, UvTransform
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.makers.names import folder_of, safe
from oaktrim.core.makers.registry import FirstCut, MakerContext, MakerKind
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.derived import Derivation, Output, SlotUse, Sources
from oaktrim.core.survey.facts import IMAGE_MARK, TextureFacts
from oaktrim.core.survey.products import Products
from oaktrim.core.survey.roles import Role


class Sharer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A texture that another stands in for.

    Parameters
    ----------
    across, down : it shows that one mirrored, left to right or top to bottom
    swapped : and then with its axes swapped, which makes a quarter turn of one mirrored one way
    """

    path: FilePath
    across: bool = False
    down: bool = False
    swapped: bool = False

    def where(self) -> UvTransform:
        """Return where in the one that stays it is read."""
        u, v = (1.0 if self.across else 0.0), (1.0 if self.down else 0.0)
        x, y = (-1.0 if self.across else 1.0), (-1.0 if self.down else 1.0)
        # Turned, u is read off v: swapping axes is a quarter turn of what is mirrored.
        return UvTransform((-y, x), True, (u, v)) if self.swapped else UvTransform((x, y), False, (u, v))

    def shown(self, picture: NDArray[Any]) -> NDArray[Any]:
        """Return the one that stays (H, W, C) as it would be seen in this one's place."""
        mirrored = picture[:: -1 if self.down else 1, :: -1 if self.across else 1]
        return np.ascontiguousarray(mirrored.swapaxes(0, 1) if self.swapped else mirrored)

    @property
    def words(self) -> str:
        """How it stands to the one that stays, empty where as that does."""
        if not self.swapped:
            return ("", "mirrored", "turned round")[self.across + self.down]
        return "mirrored and turned by a quarter" if self.across == self.down else "turned by a quarter"


class Share(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="share", tag_field="kind"):
    """A texture for several.

    Parameters
    ----------
    name : path of it, without ending; source : the one that stays; others : those that it stands in for
    """

    name: NewPath
    source: FilePath
    others: tuple[Sharer, ...]

    def __post_init__(self) -> None:
        paths = [self.source, *(row.path for row in self.others)]
        if not self.others or len(set(paths)) < len(paths):
            raise ValueError("a texture is shared by two or more, each named once")

    @property
    def inputs(self) -> tuple[str, ...]:
        return (self.source, *(row.path for row in self.others))


@dataclass(frozen=True)
class ShareDerivation(Derivation):
    """How a shared texture is come by."""

    share: Share
    facts: TextureFacts | None
    role: Role

    kind = "share"

    @property
    def name(self) -> str:
        return self.share.name

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.share.inputs

    @property
    def outputs(self) -> tuple[Output, ...]:
        channels, bits, size = (4, 8, None) if self.facts is None else (
            self.facts.channels, self.facts.bit_depth, self.facts.size,
        )  # fmt: skip
        return (
            Output(
                self.share.name,
                self.role,
                f"{self.share.source} for {len(self.share.others) + 1}",
                size,
                channels,
                bits,
            ),
        )

    def settings_key(self) -> bytes:
        return msgspec.json.encode(self.share)

    def make(self, sources: Sources) -> Task[Products]:
        yield from ()
        return Products({self.share.name: sources.picture(self.share.source)})

    def uses(self, material: str, slots: Mapping[str, tuple[Slot, str]]) -> list[SlotUse]:
        where = {self.share.source: SAME_UV} | {row.path: row.where() for row in self.share.others}
        return [
            SlotUse(slot, name, self.share.name, where[source])
            for name, (slot, source) in slots.items()
            if source in where
        ]


class ShareKind(MakerKind[Share]):
    """One texture for several that are nearly the same."""

    settings = Share
    label = "shared textures"
    name_pattern = "{folder}/{source}_shared"
    name_fields = ("folder", "source")

    def origin(self, maker: Share) -> str:
        return f"{maker.source}, for {len(maker.others)} more"

    def name_values(self, maker: Share, context: MakerContext) -> dict[str, object]:
        file, _, number = maker.source.partition(IMAGE_MARK)
        source = safe(PurePosixPath(file).stem + (f"_{number}" if number else ""))
        return {"folder": folder_of((maker.source,)), "source": source}

    def derivation(self, maker: Share, context: MakerContext) -> Derivation:
        return ShareDerivation(maker, context.facts.get(maker.source), context.roles.get(maker.source, Role.UNKNOWN))

    def first_cuts(self, maker: Share, plan: Plan, context: MakerContext) -> list[FirstCut]:
        """Keep the size and the format of the one that stays."""
        row = plan.inventory.row_of.get(maker.source, -1)
        if row < 0:
            return []
        facts = plan.inventory.textures[row]
        side = int(max(plan.footprint.width[row], plan.footprint.height[row]))
        shipped = ORDER[plan.formats[row]]
        smaller = side if side < max(facts.size) else 0
        return [FirstCut(maker.name, smaller, "" if shipped == facts.natural_format else shipped)]
