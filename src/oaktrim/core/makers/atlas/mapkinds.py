"""The kinds of maps that an atlas has: those of the metal-rough model, and those of extensions, by name.

A map of an extension goes into a sheet of its own where every material of a group has it: nothing is known of what stands for one
that is lacking. Names are those of the ratified extensions of glTF 2.0 (KHR_materials_clearcoat and its like).
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.roles import Role

# A slot of the metal-rough model, or a map of an extension: "KHR_materials_clearcoat/clearcoatTexture".
MapSlot = Slot | str
# Extensions of the standard, whose maps are read as colours, values or normals, each by itself.
KNOWN_PREFIX = "KHR_materials_"
# Of extensions: maps that hold colour, that are read from alpha too, and that hold directions.
_COLOURS = ("sheenColorTexture", "specularColorTexture", "diffuseTransmissionColorTexture", "diffuseTexture")
_WITH_ALPHA = (
    "sheenRoughnessTexture", "specularTexture", "diffuseTransmissionTexture", "diffuseTexture", "specularGlossinessTexture",
)  # fmt: skip
_NORMALS = ("clearcoatNormalTexture",)
# Directions along the surface, which a turned island would turn: no sheet holds them yet.
ALONG_THE_SURFACE = ("anisotropyTexture",)


@dataclass(frozen=True)
class MapKind:
    """A kind of map of an atlas: what its sheets are called, what reads them, and how their channels come about.

    Parameters
    ----------
    slots : of materials, and the channels of the sheet that each fills (from the same of its picture)
    """

    ending: str
    role: Role
    slots: tuple[tuple[MapSlot, tuple[int, ...]], ...]
    transfer: Transfer

    @property
    def name(self) -> str:
        """The name of the map of an extension; empty for those of the metal-rough model."""
        slot = self.slots[0][0]
        return slot if isinstance(slot, str) else ""

    def channels(self, with_alpha: bool) -> int:
        """Return the channels of its sheets, where alpha counts or does not."""
        most = max(channel for _, channels in self.slots for channel in channels) + 1
        return max(3, most) if with_alpha or self.name else 3


KINDS = (
    MapKind("base", Role.BASE_COLOUR, ((Slot.BASE_COLOUR, (0, 1, 2, 3)),), Transfer.SRGB),
    MapKind("normal", Role.NORMAL, ((Slot.NORMAL, (0, 1, 2)),), Transfer.LINEAR),
    MapKind("orm", Role.SURFACE, ((Slot.OCCLUSION, (0,)), (Slot.METALLIC_ROUGHNESS, (1, 2))), Transfer.LINEAR),
    MapKind("emissive", Role.EMISSIVE, ((Slot.EMISSIVE, (0, 1, 2)),), Transfer.SRGB),
)


def named_kinds(slots: Iterable[MapSlot]) -> tuple[MapKind, ...]:
    """Return the kinds of the maps of extensions among slots, by name."""
    return tuple(_named(slot) for slot in sorted(slot for slot in slots if isinstance(slot, str)))


def _named(slot: str) -> MapKind:
    name = slot.rpartition("/")[2]
    ending = re.sub(r"(?<!^)(?=[A-Z])", "_", name.removesuffix("Texture")).lower()
    channels = (0, 1, 2, 3) if name in _WITH_ALPHA else (0, 1, 2)
    role = Role.NORMAL if name in _NORMALS else Role.BASE_COLOUR if name in _COLOURS else Role.MASK
    return MapKind(ending, role, ((slot, channels),), Transfer.SRGB if name in _COLOURS else Transfer.LINEAR)


def holds_normals(slot: MapSlot) -> bool:
    """Say whether a map holds normals, which turn with their island."""
    return slot is Slot.NORMAL or (isinstance(slot, str) and slot.rpartition("/")[2] in _NORMALS)


def slot_text(slot: MapSlot) -> str:
    """Return a slot's name."""
    return slot if isinstance(slot, str) else slot.value
