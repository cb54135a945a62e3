"""Packs as a kind of maker."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import msgspec
import numpy as np

from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.makers.firstformat import format_of_all
from oaktrim.core.makers.layouts import Layout, layout_named
from oaktrim.core.makers.names import folder_of, safe
from oaktrim.core.makers.pack.pack import Pack, pack_picture, pack_size
from oaktrim.core.makers.registry import FirstCut, MakerContext, MakerKind
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.derived import Derivation, Output, SlotUse, Sources
from oaktrim.core.survey.products import Products


@dataclass(frozen=True)
class PackDerivation(Derivation):
    """How a pack is made; `sizes` are those of its sources, as far as they are known."""

    pack: Pack
    layout: Layout
    sizes: tuple[tuple[int, int], ...] = ()

    kind = "pack"

    @property
    def name(self) -> str:
        return self.pack.name

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.pack.inputs

    @property
    def keeps(self) -> bool:
        return self.pack.keeps

    @property
    def materials(self) -> tuple[str, ...]:
        return self.pack.materials if self.layout.reads else ()

    @property
    def outputs(self) -> tuple[Output, ...]:
        size = pack_size(self.pack, list(self.sizes)) if self.sizes or not self.inputs else None
        reason = f"packed as {self.layout.name}"
        return (Output(self.pack.name, self.layout.role, reason, size, self.layout.count, self.pack.bits),)

    def settings_key(self) -> bytes:
        return msgspec.json.encode((self.pack.lanes, self.pack.size, self.pack.bits, self.layout.count))

    def make(self, sources: Sources) -> Task[Products]:
        yield from ()
        return Products({self.pack.name: pack_picture(self.pack, self.layout, sources)})

    def side_files(self, sources: Sources) -> Mapping[str, bytes]:
        return {}

    def uses(self, material: str, slots: Mapping[str, tuple[Slot, str]]) -> list[SlotUse]:
        # A pack serves all slots of its layout, those that were empty too.
        reads = sorted(self.layout.reads, key=lambda slot: slot.value) if material in self.materials else []
        return [SlotUse(slot, slot.value, self.pack.name) for slot in reads]


class PackKind(MakerKind[Pack]):
    """Single-channel maps packed into one texture."""

    settings = Pack
    label = "packs"
    name_pattern = "{folder}/{material}_{layout}"
    name_fields = ("folder", "material", "layout")

    def name_values(self, maker: Pack, context: MakerContext) -> dict[str, object]:
        layout = context.layout(maker.layout)
        short = layout.short if layout is not None else maker.layout
        return {"folder": folder_of(maker.inputs), "material": safe(maker.subject), "layout": short}

    def derivation(self, maker: Pack, context: MakerContext) -> Derivation:
        sizes = tuple(context.facts[path].size for path in maker.inputs if path in context.facts)
        return PackDerivation(maker, layout_named(maker.layout, tuple(context.layouts)), sizes)

    def first_cuts(self, maker: Pack, plan: Plan, context: MakerContext) -> list[FirstCut]:
        """Cap a pack at the largest of its sources as shipped, and compress it where one of them was."""
        rows = plan.inventory.rows(maker.inputs)
        if not len(rows):
            return []
        layout = layout_named(maker.layout, tuple(context.layouts))
        side = int(np.maximum(plan.footprint.width[rows], plan.footprint.height[rows]).max())
        whole = max(pack_size(maker, [plan.inventory.textures[row].size for row in rows]))
        names = [ORDER[place] for place in plan.formats[rows]]
        shipped = format_of_all(plan, names, layout.role, layout.count == len("RGBA"))
        return [FirstCut(maker.name, side if side < whole else 0, shipped)]
