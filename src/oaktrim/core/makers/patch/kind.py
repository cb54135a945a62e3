"""Patches as a kind of maker."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import PurePosixPath

import msgspec

from oaktrim.core.files.uvtransform import UvTransform
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.makers.names import folder_of, safe
from oaktrim.core.makers.patch.patch import Patch, cut_out, placement, sidecar
from oaktrim.core.makers.registry import FirstCut, MakerContext, MakerKind, of_type
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.derived import Derivation, Output, SlotUse, Sources
from oaktrim.core.survey.facts import IMAGE_MARK, TextureFacts
from oaktrim.core.survey.products import Products
from oaktrim.core.survey.roles import Role


@dataclass(frozen=True)
class PatchDerivation(Derivation):
    """How a patch is made.

    Parameters
    ----------
    overlay, role : of what it is cut out of; None where that is not there
    alone : nothing else is cut out of the overlay
    """

    patch: Patch
    overlay: TextureFacts | None
    role: Role
    alone: bool = True

    kind = "patch"

    @property
    def name(self) -> str:
        return self.patch.name

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.patch.inputs

    @property
    def keeps(self) -> bool:
        return self.patch.keeps

    @property
    def outputs(self) -> tuple[Output, ...]:
        channels, bits = (self.overlay.channels, self.overlay.bit_depth) if self.overlay is not None else (4, 8)
        size = self.patch.rect.width, self.patch.rect.height
        return (Output(self.patch.name, self.role, f"cut out of {self.patch.source}", size, channels, bits),)

    @property
    def _overlay_size(self) -> tuple[int, int]:
        return self.overlay.size if self.overlay is not None else (1, 1)

    def settings_key(self) -> bytes:
        return msgspec.json.encode((self.patch.rect, self.patch.background))

    def make(self, sources: Sources) -> Task[Products]:
        yield from ()
        picture = cut_out(sources.picture(self.patch.source), self.patch.rect, self.patch.background)
        return Products({self.patch.name: picture}, files=self.side_files(sources))

    def side_files(self, sources: Sources) -> Mapping[str, bytes]:
        return {f"{self.patch.name}.patch.json": sidecar(self.patch, self._overlay_size)}

    def uses(self, material: str, slots: Mapping[str, tuple[Slot, str]]) -> list[SlotUse]:
        # One slot of a material cannot read several patches: there models go on reading the overlay, which stays for them.
        if not self.alone or self.patch.keeps:
            return []
        uv = placement(self.patch.rect, self._overlay_size)["from_top_left"]["uv"]
        scale, offset = tuple(uv["to_patch_scale"]), tuple(uv["to_patch_offset"])
        mine = [(name, slot) for name, (slot, source) in slots.items() if source == self.patch.source]
        part = UvTransform(scale, offset=offset, clamped=True)
        return [SlotUse(slot, name, self.patch.name, part) for name, slot in mine]


class PatchKind(MakerKind[Patch]):
    """The used rectangle of an overlay."""

    settings = Patch
    label = "patches"
    name_pattern = "{folder}/{source}_patch"
    name_fields = ("folder", "source")

    def name_values(self, maker: Patch, context: MakerContext) -> dict[str, object]:
        file, _, number = maker.source.partition(IMAGE_MARK)
        source = safe(PurePosixPath(file).stem + (f"_{number}" if number else ""))
        return {"folder": folder_of(maker.inputs), "source": source}

    def derivation(self, maker: Patch, context: MakerContext) -> Derivation:
        cut_from = [row.source for row in of_type(context.makers, Patch)]
        role = context.roles.get(maker.source, Role.UNKNOWN)
        return PatchDerivation(maker, context.facts.get(maker.source), role, cut_from.count(maker.source) <= 1)

    def first_cuts(self, maker: Patch, plan: Plan, context: MakerContext) -> list[FirstCut]:
        """Keep the format of the overlay, and shrink as much as that does."""
        rows = plan.inventory.rows(maker.inputs)
        if not len(rows):
            return []
        row = int(rows[0])
        source = plan.inventory.textures[row]
        shrunk = float(max(plan.footprint.width[row] / source.width, plan.footprint.height[row] / source.height))
        side = round(max(maker.rect.width, maker.rect.height) * shrunk) if shrunk < 1 else 0
        shipped = ORDER[plan.formats[row]]
        return [FirstCut(maker.name, side, shipped if shipped != source.natural_format else "")]
