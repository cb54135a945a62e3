"""A patch on the model that uses it, beside the overlay that it stands in for."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.formats.format import TextureFormat
from oaktrim.core.makers.pack.proof import through_format
from oaktrim.core.makers.patch.patch import Patch, cut_out, placement
from oaktrim.core.makers.preview import SmallSources
from oaktrim.core.progress import Progress, Task
from oaktrim.core.raster.model import Skin, model_picture
from oaktrim.core.scene.model import Slot
from oaktrim.core.scene.read import parse_model
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.places import file_of

Codes = NDArray[np.uint8]
_OTHERS = 256


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
    wearer = first_user_of(inventory, patch.source)
    if wearer is None:
        return None
    facts = inventory.models[wearer[0]]
    yield Progress(0, 3, f"reading {facts.path}")
    model = parse_model(read_bytes(file_of(inventory.root, facts.path)), ReferenceFolder(inventory.root, facts.path))
    small = SmallSources(sources.root, sources.made, sources.max_pixels, sources.store, _OTHERS)
    skins: dict[int, Skin] = {}
    over = {wearer[1]}
    for number in range(len(facts.materials)):
        for row in inventory.ownership.rows_of.get((wearer[0], number), ()):
            uses = [o.slot for o in inventory.ownership.owners[row] if (o.model, o.material) == (wearer[0], number)]
            base = next((use for use in uses if use.slot is Slot.BASE_COLOUR), None)
            if base is not None and number != wearer[1]:
                skins[number] = Skin(small.picture(inventory.textures[row].path))
                if base.reads_alpha:
                    over.add(number)
    overlay = sources.picture(patch.source)
    yield Progress(1, 3, "laying the overlay on")
    before = model_picture(model, {**skins, wearer[1]: Skin(overlay)}, wearer[1], side, frozenset(over))
    uv = placement(patch.rect, overlay.size)["from_top_left"]["uv"]
    cut = through_format(cut_out(overlay, patch.rect, patch.background), shipped)
    skin = Skin(cut, tuple(uv["to_patch_scale"]), tuple(uv["to_patch_offset"]), clamped=True)
    yield Progress(2, 3, "laying the patch on")
    after = model_picture(model, {**skins, wearer[1]: skin}, wearer[1], side, frozenset(over))
    return before, after
