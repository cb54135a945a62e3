"""A patch on the model that uses it, beside the overlay that it stands in for."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.uvtransform import UvTransform
from oaktrim.core.formats.format import TextureFormat
from oaktrim.core.makers.pack.proof import through_format
from oaktrim.core.makers.patch.patch import Patch, cut_out, placement
from oaktrim.core.progress import Progress, Task
from oaktrim.core.render.camera import facing, framing
from oaktrim.core.render.drawable import chain_of
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.model import AlphaMode
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.drawables import Loaded, TextureCache, load, ready
from oaktrim.core.survey.inventory import Inventory

Codes = NDArray[np.uint8]
_SIDE = 512
# What lies on a surface is drawn a hair nearer than it, so that it is not lost in it.
_LIFT = 5e-4
_SETTINGS = Settings(samples=4, background=(0.19, 0.19, 0.19, 1.0))


def first_user_of(inventory: Inventory, path: str) -> tuple[int, int] | None:
    """Return the model and the material that use a texture first, or None where none does."""
    row = inventory.row_of.get(path)
    owners = inventory.ownership.owners.get(row, ()) if row is not None else ()
    return (owners[0].model, owners[0].material) if owners else None


def model_pictures(
    inventory: Inventory, patch: Patch, sources: Sources, shipped: TextureFormat, side: int = 240
) -> Task[tuple[Codes, Codes] | None]:
    """Return the model that uses an overlay, first with the overlay and then with its patch, as codes (side, side, 4).

    The patch is read as it ships: through its format, by UVs that are scaled and moved, and clamped at its border.

    Parameters
    ----------
    inventory : with the overlay still in it

    Returns
    -------
    None where no model uses it

    Raises
    ------
    OakTrimError : the model or a texture cannot be read
    """
    user = first_user_of(inventory, patch.source)
    if user is None:
        return None
    row = inventory.row_of[patch.source]
    loaded = _laid_over((yield from load(inventory, user[0], sources)), user[1])
    mine = loaded.reading(row)
    if not mine.any():
        return None
    overlay = sources.picture(patch.source)
    uv = placement(patch.rect, overlay.size)["from_top_left"]["uv"]
    cut = through_format(cut_out(overlay, patch.rect, patch.background), shipped)
    moved = {
        (material, slot): UvTransform(tuple(uv["to_patch_scale"]), offset=tuple(uv["to_patch_offset"]), clamped=True)
        for (material, slot), read in loaded.rows.items()
        if read == row
    }
    cache = TextureCache()
    instead = {row: lambda slot: chain_of(cut, slot)}
    before, _ = yield from ready(inventory, loaded, sources, cache, {row: lambda slot: chain_of(overlay, slot)}, _SIDE)
    after, _ = yield from ready(
        inventory, replace(loaded, moved={**loaded.moved, **moved}), sources, cache, instead, _SIDE
    )
    draws = loaded.draws
    corners = draws.positions[draws.triangles[mine]]
    low, high = draws.box(mine)
    right, up, towards = facing(corners)
    camera = framing(low, high, (right + 0.12, up + 0.1, towards))
    # What stands between the eye and the material is left out: it is the material that is looked at.
    camera = replace(camera, near=max(camera.near, camera.distance - 0.55 * float(np.linalg.norm(high - low))))
    lifted = _lifted(loaded, user[1], camera.eye)
    pictures = []
    for place, scene in enumerate((before, after)):
        yield Progress(1 + place, 3, ("laying the overlay on", "laying the patch on")[place])
        picture = yield from draw(replace(scene, draws=lifted.draws), camera, (side, side), _SETTINGS)
        pictures.append(picture.codes())
    return pictures[0], pictures[1]


def _laid_over(loaded: Loaded, material: int) -> Loaded:
    """Return a model whose overlay lets through what lies behind, where its file has no way of saying so (MTL)."""
    if loaded.model.kind != "obj":
        return loaded
    materials = list(loaded.materials)
    over = replace(materials[material].surface, alpha=AlphaMode.BLEND)
    materials[material] = replace(materials[material], surface=over)
    return replace(loaded, materials=tuple(materials))


def _lifted(loaded: Loaded, material: int, eye: tuple[float, float, float]) -> Loaded:
    """Return a model whose triangles of a material that lets light through stand a little nearer to the eye."""
    draws = loaded.draws
    if loaded.materials[material].surface.alpha is AlphaMode.OPAQUE:
        return loaded
    vertices = np.unique(draws.triangles[draws.materials == material])
    positions = draws.positions.copy()
    positions[vertices] += (np.array(eye, np.float32) - positions[vertices]) * np.float32(_LIFT)
    return replace(loaded, draws=replace(draws, positions=positions))
