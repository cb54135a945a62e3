"""The glTF row of the material that an atlas makes of several."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from oaktrim.core.makers.atlas.contents import Gathered, Group
from oaktrim.core.makers.atlas.naming import SheetName
from oaktrim.core.makers.atlas.sheets import factors_of, materials_of, surface_differs
from oaktrim.core.scene.model import AlphaMode, Surface
from oaktrim.core.scene.slots import Slot


def material_row(gathered: Gathered, names: Sequence[SheetName], group: int, sheet: int) -> dict[str, Any]:
    """Return the row of a new material, its textures named by the places of their sheets."""
    mine = gathered.groups[group]
    surface = factors_of(gathered, mine).surface
    here = {name.kind: place for place, name in enumerate(names) if (name.group, name.sheet) == (group, sheet)}
    by_kind = {kind.ending: place for kind, place in here.items() if not kind.name}
    by_name = {kind.name: place for kind, place in here.items() if kind.name}
    extensions: dict[str, Any] = _with_sheets(msgspec.json.decode(mine.extensions), by_name) if mine.extensions else {}
    row = {"name": mine.name, **_maps(gathered, mine, surface, by_kind), **_emission(surface, by_kind, extensions)}
    if mine.unlit:
        extensions["KHR_materials_unlit"] = {}
    if extensions:
        row["extensions"] = extensions
    if mine.alpha is not AlphaMode.OPAQUE:
        row["alphaMode"] = mine.alpha.value
    if mine.alpha is AlphaMode.MASK and surface.cutoff != 0.5:
        row["alphaCutoff"] = surface.cutoff
    if surface.two_sided:
        row["doubleSided"] = True
    return row


def _with_sheets(value: Any, by_name: Mapping[str, int]) -> Any:
    """Return extensions whose maps are named by the places of their sheets."""
    if isinstance(value, dict):
        return {
            key: by_name[row] if key == "sheet" and row in by_name else _with_sheets(row, by_name)
            for key, row in value.items()
        }
    return value


def _maps(gathered: Gathered, group: Group, surface: Surface, by_kind: Mapping[str, int]) -> dict[str, Any]:
    """Return the part of a material's row that is not of its light: factors and maps."""
    materials = materials_of(gathered, group)
    slots = {slot for material in materials for slot in material.maps}
    pbr: dict[str, Any] = {"metallicFactor": surface.metallic, "roughnessFactor": surface.roughness}
    if surface.base_colour != (1.0, 1.0, 1.0, 1.0):
        pbr["baseColorFactor"] = list(surface.base_colour)
    row: dict[str, Any] = {"pbrMetallicRoughness": pbr}
    if "base" in by_kind:
        pbr["baseColorTexture"] = {"sheet": by_kind["base"]}
    if "orm" in by_kind:
        if Slot.METALLIC_ROUGHNESS in slots or surface_differs(group, [row.surface for row in materials]):
            pbr["metallicRoughnessTexture"] = {"sheet": by_kind["orm"]}
        if Slot.OCCLUSION in slots:
            row["occlusionTexture"] = _sheet(by_kind["orm"], "strength", surface.occlusion_strength)
    if "normal" in by_kind:
        row["normalTexture"] = _sheet(by_kind["normal"], "scale", surface.normal_scale)
    return row


def _sheet(place: int, factor: str, value: float) -> dict[str, Any]:
    return {"sheet": place} if value == 1 else {"sheet": place, factor: value}


def _emission(surface: Surface, by_kind: Mapping[str, int], extensions: dict[str, Any]) -> dict[str, Any]:
    """Return the emissive part of a material's row; what is brighter than 1 goes into an extension."""
    largest = max(surface.emissive)
    if largest <= 0:
        return {}
    strength = max(1.0, largest)
    if strength > 1:
        extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": strength}
    found: dict[str, Any] = {"emissiveFactor": [value / strength for value in surface.emissive]}
    if "emissive" in by_kind:
        found["emissiveTexture"] = {"sheet": by_kind["emissive"]}
    return found
