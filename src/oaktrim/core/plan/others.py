"""What ships beside the textures - meshes, clips and sounds - in columns: its files, its part of the package, and what is held."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.plan.modelrecipes import ModelRecipes
from oaktrim.core.plan.packing import CompressionRatios, other_key, packing_name
from oaktrim.core.plan.soundrules import SoundRecipe, usual_bytes
from oaktrim.core.sounds.codecs import SoundCodec
from oaktrim.core.survey.facts import CLIP_MARK
from oaktrim.core.survey.inventory import Inventory, OtherAsset
from oaktrim.core.targets.lines import Weights
from oaktrim.core.targets.target import Packing, Target
from oaktrim.core.trim.settings import ModelSettings

Ints = NDArray[np.int64]

# What PCM packs to where its source says nothing of that.
_PCM_SHARE = 0.85
# About what is left of geometry in fewer bits, and of a clip with fewer keys.
_QUANTIZED_SHARE, _REDUCED_SHARE = 0.65, 0.3


@dataclass(frozen=True, eq=False)
class OtherPlan:
    """What ships beside the textures, a column each, (O,) in the order of the inventory's others.

    Parameters
    ----------
    files : bytes as files; package : in the package; sounds : of memory, as the target holds them
    guessed : bytes of each file whose part of the package is an estimate
    recipes : of sounds, by path; models : what models ship as
    """

    files: Ints
    package: Ints
    sounds: Ints
    guessed: tuple[int, ...]
    recipes: Mapping[str, SoundRecipe]
    models: ModelRecipes

    @property
    def weights(self) -> Weights:
        """Its columns as lines weigh them; it is no texture memory, and has no levels."""
        return Weights.beside_textures(self.package, self.files, self.sounds)


def file_key(content: str, recipe: SoundRecipe) -> str:
    """Return what the bytes of a made sound's file are known by."""
    assert recipe.settings is not None
    return f"{content} {recipe.settings.key} file"


def excerpt_key(content: str, recipe: SoundRecipe) -> str:
    """Return what the bytes of a made sound's file are known by where only a part of it was encoded."""
    assert recipe.settings is not None
    return f"{content} {recipe.settings.key} excerpt"


def packed_key(content: str, recipe: SoundRecipe, packing: Packing) -> str:
    """Return what the packed bytes of a made sound are known by."""
    assert recipe.settings is not None
    return f"{content} {recipe.settings.key} {packing_name(packing)}"


def other_plan(
    inventory: Inventory,
    target: Target,
    recipes: Mapping[str, SoundRecipe],
    models: ModelRecipes,
    ratios: CompressionRatios,
) -> OtherPlan:
    """Return what ships beside the textures on a target, measured where it is known and estimated elsewhere."""
    rows = inventory.others
    files, package, held = (np.zeros(len(rows), np.int64) for _ in range(3))
    guessed: list[int] = []
    file, before = "", 0
    for place, row in enumerate(rows):
        # Rows of one file follow each other; each takes its part of the whole, to the byte.
        file, before = (file, before) if row.file == file else (row.file, 0)
        recipe, settings = recipes.get(row.path), models.settings.get(row.file)
        if row.path in models.left:
            continue
        if settings is not None:
            files[place], package[place], exact = _trimmed(
                row, settings, models.gone.get(row.file, 0), target.packing, ratios
            )
            guessed += [] if exact else [int(package[place])]
        elif recipe is not None and recipe.settings is not None:
            files[place], package[place], exact = _made(row, recipe, target, ratios)
            guessed += [] if exact else [int(package[place])]
        else:
            files[place] = row.bytes
            whole = ratios.size_of(other_key(row.content, target.packing))
            if whole is None:
                package[place] = math.ceil(row.bytes * row.packed.get(target.packing.method, 1.0))
                guessed.append(int(package[place]))
            else:
                part = max(1, row.of)
                package[place] = whole * (before + row.bytes) // part - whole * before // part
        if recipe is not None:
            held[place] = target.sound_storage.held_bytes(int(files[place]), recipe.decoded_bytes)
        before += row.bytes
    return OtherPlan(files, package, held, tuple(guessed), recipes, models)


def part_key(row: OtherAsset, settings: ModelSettings) -> str:
    """Return what the bytes of a trimmed model's geometry, or of one of its clips, are known by."""
    return f"{row.content} {settings.key} {row.path[len(row.file) :] or 'geometry'}"


def trimmed_key(content: str, settings: ModelSettings, packing: Packing | None) -> str:
    """Return what the bytes of a trimmed model in all are known by, packed or, without a packing, as they are."""
    return f"{content} {settings.key} {'whole' if packing is None else packing_name(packing)}"


def _trimmed(
    row: OtherAsset, settings: ModelSettings, gone: int, packing: Packing, ratios: CompressionRatios
) -> tuple[int, int, bool]:
    """Return the bytes of a trimmed model's geometry or clip, as a file and packed, and whether they are measured."""
    size = ratios.size_of(part_key(row, settings))
    whole = ratios.size_of(trimmed_key(row.content, settings, None))
    packed = ratios.size_of(trimmed_key(row.content, settings, packing))
    if size is not None and whole is not None and packed is not None:
        return size, round(packed * size / max(1, whole)), True
    if size is None:
        size = _about(row, settings, gone)
    before = ratios.size_of(other_key(row.content, packing))
    share = row.packed.get(packing.method, 1.0) if before is None else before / max(1, row.of)
    return size, math.ceil(size * share), False


def _about(row: OtherAsset, settings: ModelSettings, gone: int) -> int:
    """Return about how many bytes a model's geometry, of which some are gone, or clip takes once trimmed, before that was tried."""
    _, mark, number = row.path.partition(CLIP_MARK)
    if not mark:
        return round(max(0, row.bytes - gone) * (_QUANTIZED_SHARE if settings.millimetres else 1.0))
    if int(number) in settings.clips:
        return 0
    return round(row.bytes * (_REDUCED_SHARE if any(place == int(number) for place, _ in settings.motion) else 1.0))


def _made(row: OtherAsset, recipe: SoundRecipe, target: Target, ratios: CompressionRatios) -> tuple[int, int, bool]:
    """Return the bytes of a made sound's file and of its part of the package, and whether both are measured."""
    assert recipe.settings is not None
    known = ratios.size_of(file_key(row.content, recipe))
    size = known if known is not None else ratios.size_of(excerpt_key(row.content, recipe))
    exact = known is not None
    if size is None:
        size, exact = usual_bytes(recipe)
    packed = ratios.size_of(packed_key(row.content, recipe, target.packing))
    if packed is not None:
        return size, packed, exact
    share = 1.0
    if recipe.settings.codec is SoundCodec.PCM:
        share = row.packed.get(target.packing.method, _PCM_SHARE) if row.path.lower().endswith(".wav") else _PCM_SHARE
    return size, math.ceil(size * share), False
