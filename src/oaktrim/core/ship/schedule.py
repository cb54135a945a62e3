"""What a run would write and why, before anything is written."""

from __future__ import annotations

import os
from collections import Counter
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from oaktrim.core.errors import ShipError
from oaktrim.core.plan.packing import packing_name
from oaktrim.core.plan.resolve import Plan, Recipe
from oaktrim.core.ship.manifest import NAME, Entry, load_manifest
from oaktrim.core.ship.models import shippable
from oaktrim.core.ship.reason import Reason, reason_of_output
from oaktrim.core.ship.sounds import SoundItem, sound_items, sound_outputs
from oaktrim.core.survey.facts import IMAGE_MARK
from oaktrim.core.survey.inventory import Inventory


@dataclass(frozen=True)
class Item:
    """One texture to be shipped: its row, where it goes, and why."""

    row: int
    recipe: Recipe
    output: str
    reason: Reason

    @property
    def samples(self) -> int:
        """About how long it takes to be made."""
        return self.recipe.settings.width * self.recipe.settings.height


def output_names(plan: Plan) -> list[str]:
    """Return where each texture goes: its own path with the container's ending.

    Files that would meet in one name, on a disk that tells no letter case either, keep their own ending before it.
    """
    inventory = plan.inventory
    paths = [t.path.replace(IMAGE_MARK, ".image-") for t in inventory.textures]
    stems = [
        path if IMAGE_MARK in t.path or t.path in inventory.made else str(PurePosixPath(path).with_suffix(""))
        for path, t in zip(paths, inventory.textures, strict=True)
    ]
    count = Counter(stem.lower() for stem in stems)
    ending = plan.target.container
    return [f"{stem if count[stem.lower()] == 1 else path}.{ending}" for stem, path in zip(stems, paths, strict=True)]


def check_place(inventory: Inventory, out: Path, names: list[str]) -> None:
    root = inventory.root
    names = [*names, *(model.path for model in shippable(inventory))]
    for row in inventory.unmade:
        raise ShipError(f"{row.path} cannot be made: {row.error}; change or remove its maker, and ship again")
    real_root, real_out = Path(os.path.realpath(root)), Path(os.path.realpath(out))
    if real_out.is_relative_to(real_root):
        raise ShipError(f"{out}: the output folder is inside the source tree {root}; sources are never written")
    if out.exists() and not out.is_dir():
        raise ShipError(f"{out}: is a file, not a folder to write into")
    for folder in {str(PurePosixPath(name).parent): name for name in names}:
        real = Path(os.path.realpath(real_out / folder))
        if real.is_relative_to(real_root):
            raise ShipError(f"{out / folder}: would be written into the source tree {root}")
        if not real.is_relative_to(real_out):
            raise ShipError(f"{out / folder}: a link leads out of the output folder; remove it, and ship again")


def schedule(plan: Plan, out: Path) -> list[Item | SoundItem]:
    """Return what a run would write of textures and then of sounds, and why, without writing.

    Raises
    ------
    ShipError : the output folder is inside the source tree, or holds files of those names that are not ours
    DocumentError : there is a manifest in it that is not ours
    """
    names, sounds = output_names(plan), sound_outputs(plan)
    check_place(plan.inventory, out, [*names, *sounds])
    models = [model.path for model in shippable(plan.inventory)]
    earlier = load_manifest(out / NAME)
    strange = [name for name in (*names, *sounds, *models) if earlier is None and (out / name).exists()]
    if strange:
        raise ShipError(
            f"{out / strange[0]}: is there already, and no run of Oak Trim left it; ship into another folder"
            + (f" ({len(strange)} such files)" if len(strange) > 1 else "")
        )
    same_run = earlier is not None and (earlier.container, earlier.packing) == (
        plan.target.container,
        packing_name(plan.target.packing),
    )
    old = {entry.source: entry for entry in earlier.textures} if earlier is not None and same_run else {}
    items: list[Item | SoundItem] = []
    for row, name in enumerate(names):
        recipe = plan.recipe(row)
        if plan.left_out[row]:
            continue
        items.append(Item(row, recipe, name, _why(plan, row, recipe, name, old.get(recipe.path), out)))
    heard = {entry.source: entry for entry in earlier.sounds} if earlier is not None and same_run else {}
    return items + sound_items(plan, sounds, out, heard)


def _why(plan: Plan, row: int, recipe: Recipe, name: str, old: Entry | None, out: Path) -> Reason:
    if old is None:
        return Reason.NEW
    if old.source_hash != plan.inventory.textures[row].content:
        return Reason.SOURCE
    role = plan.inventory.roles[row].role.value
    if (old.output, old.role, old.settings) != (name, role, recipe.settings):
        return Reason.RECIPE
    return reason_of_output(out / old.output, old.output_hash)
