"""Surfaces as a kind of maker: a texture and the other maps of its material, which take the places of their sources."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import PurePosixPath

import msgspec

from oaktrim.core.files.atomic import content_hash
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.makers.names import folder_of, safe
from oaktrim.core.makers.registry import FirstCut, MakerContext, MakerKind
from oaktrim.core.makers.surface.settings import Surface
from oaktrim.core.makers.surface.stack import MapOf, surface_of
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.derived import Derivation, Output, SlotUse, Sources
from oaktrim.core.survey.facts import IMAGE_MARK, TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.products import Products
from oaktrim.core.survey.roles import Role

# Raised whenever the same settings make something else: what was kept of them does not count any more.
_EDITION = 2


@dataclass(frozen=True)
class SurfaceDerivation(Derivation):
    """How a surface is made; `maps` are what is known of its maps, by path, with their roles."""

    surface: Surface
    maps: Mapping[str, tuple[TextureFacts, Role]]

    kind = "surface"
    costly = True

    @property
    def name(self) -> str:
        return self.surface.name

    @property
    def outputs(self) -> tuple[Output, ...]:
        found = []
        for path in (self.surface.source, *self.surface.followers):
            facts, role = self.maps.get(path, (None, Role.UNKNOWN))
            channels, bits, size = (3, 8, None) if facts is None else (facts.channels, facts.bit_depth, facts.size)
            found.append(Output(output_path(self.surface, path), role, f"made of {path}", size, channels, bits))
        return tuple(found)

    @property
    def inputs(self) -> tuple[str, ...]:
        # What is only matched stays.
        return (self.surface.source, *self.surface.followers)

    def settings_key(self) -> bytes:
        roles = [(path, role.value) for path, (_, role) in sorted(self.maps.items())]
        return msgspec.json.encode((_EDITION, self.surface, roles))

    def make(self, sources: Sources) -> Task[Products]:
        settings = self.surface

        def map_of(path: str) -> MapOf:
            return MapOf(path, sources.picture(path), self.maps.get(path, (None, Role.BASE_COLOUR))[1])

        other = None if settings.match is None else sources.picture(settings.match.path)
        made = yield from surface_of(
            map_of(settings.source), [map_of(row) for row in settings.followers], settings, other
        )
        return Products({output_path(settings, path): image for path, image in made.images.items()})

    def content(self, hash_of: Callable[[str], str]) -> str:
        whole = super().content(hash_of)
        match = self.surface.match
        return whole if match is None else content_hash(whole.encode(), hash_of(match.path).encode())

    def uses(self, material: str, slots: Mapping[str, tuple[Slot, str]]) -> list[SlotUse]:
        mine = set(self.inputs)
        return [
            SlotUse(slot, name, output_path(self.surface, source))
            for name, (slot, source) in slots.items()
            if source in mine
        ]


def output_path(settings: Surface, source: str) -> str:
    """Return what a map of a surface is called, below the root and without ending."""
    if source == settings.source:
        return settings.name
    stem = safe(PurePosixPath(source.partition(IMAGE_MARK)[0]).stem + source.partition(IMAGE_MARK)[2])
    return f"{settings.name}_{stem}"


class SurfaceKind(MakerKind[Surface]):
    """Photographs that become usable textures."""

    settings = Surface
    label = "surfaces"
    name_pattern = "{folder}/{source}_surface"
    name_fields = ("folder", "source")

    def origin(self, maker: Surface) -> str:
        more = len(maker.followers)
        return f"{maker.source}" + (f" and {more} more map{'' if more == 1 else 's'}" if more else "")

    def name_values(self, maker: Surface, context: MakerContext) -> dict[str, object]:
        file, _, number = maker.source.partition(IMAGE_MARK)
        source = safe(PurePosixPath(file).stem + (f"_{number}" if number else ""))
        return {"folder": folder_of((maker.source,)), "source": source}

    def derivation(self, maker: Surface, context: MakerContext) -> Derivation:
        known = {
            path: (context.facts[path], context.roles.get(path, Role.UNKNOWN))
            for path in (maker.source, *maker.followers)
            if path in context.facts
        }
        return SurfaceDerivation(maker, known)

    def first_cuts(self, maker: Surface, plan: Plan, context: MakerContext) -> list[FirstCut]:
        """Keep the size and the format that each map ships at."""
        found = []
        for path in (maker.source, *maker.followers):
            row = plan.inventory.row_of.get(path, -1)
            if row < 0:
                continue
            facts = plan.inventory.textures[row]
            side = int(max(plan.footprint.width[row], plan.footprint.height[row]))
            shipped = ORDER[plan.formats[row]]
            smaller = side if side < max(facts.size) else 0
            found.append(
                FirstCut(output_path(maker, path), smaller, "" if shipped == facts.natural_format else shipped)
            )
        return found


def followers_of(inventory: Inventory, path: str) -> tuple[str, ...]:
    """Return the other maps of the materials that wear a texture, in the order of the inventory."""
    row = inventory.row_of.get(path, -1)
    ownership = inventory.ownership
    places = {(owner.model, owner.material) for owner in ownership.owners.get(row, ())}
    rows = sorted({other for place in places for other in ownership.rows_of.get(place, ())} - {row})
    # One that other materials wear with another base colour cannot follow two cuts.
    mine = [
        other for other in rows if {(o.model, o.material) for o in ownership.owners.get(other, ())} <= places
    ]  # fmt: skip
    return tuple(inventory.textures[other].path for other in mine)
