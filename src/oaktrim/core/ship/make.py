"""One texture from its source to what a recipe says, and how far the result is from what went in."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from math import inf

from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_texture, repeat_texture, stack_textures
from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.pictures import MAX_PIXELS, parse_texture
from oaktrim.core.formats.catalogue import Alpha, format_named
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import MIP_FILTER, level_size, make_levels, with_coverage
from oaktrim.core.pixels.metrics import decibels, mean_square
from oaktrim.core.pixels.resample import resample
from oaktrim.core.plan.resolve import Recipe
from oaktrim.core.progress import Task
from oaktrim.core.ship.store import MadeStore, made_key
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.places import file_of, source_bytes
from oaktrim.core.survey.uses import resampled_as


@dataclass(frozen=True)
class Made:
    """A texture made by a recipe.

    Parameters
    ----------
    reference : returns the source at the shipped size, before encoding; None where the file's own blocks are shipped
    covered : alpha says how much of the colour is seen
    seconds : that making it took, now or when it was kept
    """

    encoded: EncodedTexture
    reference: Callable[[], Image] | None
    covered: bool = True
    seconds: float = 0.0

    def shipped(self, level: int = 0) -> Image:
        """Return a level as the target will see it."""
        return decode_level(self.encoded, level)

    def psnr(self) -> float:
        """Return the PSNR in dB of level 0 over the colour channels that the format keeps; infinite when exact.

        Where the format keeps alpha and that covers, colour under wholly clear pixels does not count: nobody sees it.
        """
        if self.reference is None:
            return inf
        seen_only = self.covered and self.encoded.format.alpha is not Alpha.NONE
        squares = mean_square(self.reference(), self.shipped(), seen_only)
        kept = ["RGB".index(letter) for letter in self.encoded.format.channels if letter in "RGB"]
        return decibels(float(squares[kept].mean()))


def read_source(inventory: Inventory, row: int, max_pixels: int = MAX_PIXELS) -> Image:
    """Return the source picture of a texture, the first of several, its code values read as its role wants them."""
    return _as_used(inventory.sources(max_pixels).picture(inventory.textures[row].path), inventory, row)


def _as_used(image: Image, inventory: Inventory, row: int) -> Image:
    return image if image.is_float else image.read_as(inventory.roles[row].role.transfer)


def _container(inventory: Inventory, texture: TextureFacts, max_pixels: int) -> EncodedTexture:
    file = file_of(inventory.root, texture.path)
    return parse_texture(source_bytes(inventory.root, texture.path), file, max_pixels)


def _stored(inventory: Inventory, texture: TextureFacts, recipe: Recipe, max_pixels: int) -> EncodedTexture | None:
    """Return the file's own blocks where the recipe only leaves out levels, or nothing."""
    if not texture.format or texture.format != recipe.format:
        return None
    whole = _container(inventory, texture, max_pixels)
    for first in range(len(whole.levels)):
        fits = level_size(whole.width, whole.height, first) == (recipe.width, recipe.height)
        if fits and first + recipe.levels <= len(whole.levels):
            levels = whole.levels[first : first + recipe.levels]
            return replace(whole, width=recipe.width, height=recipe.height, levels=levels)
    return None


def make_texture(
    inventory: Inventory,
    row: int,
    recipe: Recipe,
    max_pixels: int = MAX_PIXELS,
    threads: int | None = None,
    source: Image | None = None,
    store: MadeStore | None = None,
) -> Task[Made]:
    """Make one texture: read, resample, make levels, encode.

    Parameters
    ----------
    source : what `read_source` returns for it, where that is at hand
    store : where blocks that took time are kept, and looked for first

    Raises
    ------
    OakTrimError : the source cannot be read or the format not be encoded; names the file
    """
    texture = inventory.textures[row]
    kept = _stored(inventory, texture, recipe, max_pixels)
    if kept is not None:
        return Made(kept, None)
    key, covered = made_key(inventory, row, recipe), recipe.counted.alpha_covers
    held = None if store is None else store.get(key)
    if held is not None:
        encoded, seconds = held
        return Made(encoded, partial(_reference, inventory, row, recipe, max_pixels, threads, source), covered, seconds)
    plain = None
    if store is not None and recipe.loss > 0 and texture.slices == 1:
        # Blocks that repeat each other are chosen among those of the texture without a loss, which other losses want too.
        plain = yield from make_texture(inventory, row, replace(recipe, loss=0.0), max_pixels, threads, source, store)
    started = time.perf_counter()
    made = yield from _make(inventory, row, recipe, max_pixels, threads, source, plain)
    before = plain.seconds if plain is not None else 0.0
    made = replace(made, covered=covered, seconds=time.perf_counter() - started + before)
    if store is not None and made.encoded.format.compressed:
        store.keep(key, made.encoded, made.seconds)
    return made


def _make(
    inventory: Inventory,
    row: int,
    recipe: Recipe,
    max_pixels: int,
    threads: int | None,
    source: Image | None,
    plain: Made | None,
) -> Task[Made]:
    texture = inventory.textures[row]
    if texture.slices == 1:
        image = source or read_source(inventory, row, max_pixels)
        return (yield from _make_picture(inventory, row, image, recipe, threads, plain))
    whole = _container(inventory, texture, max_pixels)
    parts = []
    for place in range(whole.slices):
        image = _as_used(decode_level(whole, 0, place), inventory, row)
        parts.append((yield from _make_picture(inventory, row, image, recipe, threads)))
    return Made(stack_textures([part.encoded for part in parts], whole.faces), parts[0].reference)


def _reference(
    inventory: Inventory, row: int, recipe: Recipe, max_pixels: int, threads: int | None, source: Image | None
) -> Image:
    return _sized(inventory, row, source or read_source(inventory, row, max_pixels), recipe, threads)


def _sized(inventory: Inventory, row: int, image: Image, recipe: Recipe, threads: int | None) -> Image:
    how = resampled_as(inventory.roles[row].role, image, recipe.filter)
    return resample(image, recipe.width, recipe.height, how, threads)


def _make_picture(
    inventory: Inventory, row: int, image: Image, recipe: Recipe, threads: int | None, plain: Made | None = None
) -> Task[Made]:
    role = inventory.roles[row].role
    image = _sized(inventory, row, image, recipe, threads)
    levels = make_levels(image, recipe.levels, resampled_as(role, image, MIP_FILTER), threads)
    if recipe.coverage:
        levels = with_coverage(levels, recipe.coverage)
    options = EncodeOptions(recipe.effort, loss=recipe.loss, threads=threads, counted=recipe.counted)
    try:
        if plain is None:
            encoded = yield from encode_texture(levels, format_named(recipe.format), options)
        else:
            encoded = yield from repeat_texture(plain.encoded, levels, options)
    except OakTrimError as error:
        raise type(error)(f"{inventory.textures[row].path}: {error}") from error
    first = levels[0]
    return Made(encoded, lambda: first)
