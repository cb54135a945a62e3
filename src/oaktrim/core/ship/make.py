"""One texture from its source to what its settings say, and how far the result is from what went in."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from math import inf

import msgspec

from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.codecs.texture import (
    EncodedTexture,
    decode_level,
    encode_rows,
    encode_texture,
    optimize_texture_rate,
    stack_textures,
)
from oaktrim.core.errors import OakTrimError
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.pictures import parse_texture
from oaktrim.core.formats.catalogue import FORMATS, format_named
from oaktrim.core.formats.format import Alpha
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import MIP_FILTER, build_mip_chain, level_size, preserve_alpha_coverage
from oaktrim.core.pixels.metrics import decibels, mean_square
from oaktrim.core.pixels.resample import resample
from oaktrim.core.plan.resolve import content_key
from oaktrim.core.progress import Task
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.places import file_of, source_bytes
from oaktrim.core.survey.uses import resampled_as
from oaktrim.core.targets.target import Target


@dataclass(frozen=True)
class Made:
    """A texture made by its settings.

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


def _stored(
    inventory: Inventory, texture: TextureFacts, settings: EncodeSettings, max_pixels: int
) -> EncodedTexture | None:
    """Return the file's own blocks where the settings only leaves out levels, or nothing."""
    if not texture.format or texture.format != settings.format:
        return None
    whole = _container(inventory, texture, max_pixels)
    for first in range(len(whole.levels)):
        fits = level_size(whole.width, whole.height, first) == (settings.width, settings.height)
        if fits and first + settings.levels <= len(whole.levels):
            levels = whole.levels[first : first + settings.levels]
            return replace(whole, width=settings.width, height=settings.height, levels=levels)
    return None


def make_texture(
    inventory: Inventory,
    row: int,
    settings: EncodeSettings,
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
    kept = _stored(inventory, texture, settings, max_pixels)
    if kept is not None:
        return Made(kept, None)
    key, covered = content_key(inventory, row, settings), settings.error_metric.alpha_covers
    held = None if store is None else store.get(key)
    if held is not None:
        encoded, seconds = held
        return Made(
            encoded, partial(_reference, inventory, row, settings, max_pixels, threads, source), covered, seconds
        )
    plain = None
    if store is not None and settings.loss > 0 and texture.slices == 1:
        # Blocks that repeat each other are chosen among those of the texture without a loss, which other losses want too.
        plain = yield from make_texture(
            inventory, row, msgspec.structs.replace(settings, loss=0.0), max_pixels, threads, source, store
        )
    started = time.perf_counter()
    made = yield from _make(inventory, row, settings, max_pixels, threads, source, plain)
    before = plain.seconds if plain is not None else 0.0
    made = replace(made, covered=covered, seconds=time.perf_counter() - started + before)
    # A file that was written to since the survey is not what its key says: nobody is to take it for that later.
    if store is not None and made.encoded.format.compressed and as_surveyed(inventory, row, max_pixels):
        store.keep(key, made.encoded, made.seconds)
    return made


def as_surveyed(inventory: Inventory, row: int, max_pixels: int = MAX_PIXELS) -> bool:
    """Say whether the source of a texture still holds what the survey found; one that neither a file nor a maker has does."""
    texture = inventory.textures[row]
    if not texture.file_bytes and texture.path not in inventory.made:
        return True
    try:
        return inventory.sources(max_pixels).content(texture.path) == texture.content
    except OakTrimError:
        return False


def _make(
    inventory: Inventory,
    row: int,
    settings: EncodeSettings,
    max_pixels: int,
    threads: int | None,
    source: Image | None,
    plain: Made | None,
) -> Task[Made]:
    texture = inventory.textures[row]
    if texture.slices == 1:
        image = source or read_source(inventory, row, max_pixels)
        return (yield from _make_picture(inventory, row, image, settings, threads, plain))
    whole = _container(inventory, texture, max_pixels)
    parts = []
    for place in range(whole.slices):
        image = _as_used(decode_level(whole, 0, place), inventory, row)
        parts.append((yield from _make_picture(inventory, row, image, settings, threads)))
    return Made(stack_textures([part.encoded for part in parts], whole.faces), parts[0].reference)


def _reference(
    inventory: Inventory, row: int, settings: EncodeSettings, max_pixels: int, threads: int | None, source: Image | None
) -> Image:
    return _sized(inventory, row, source or read_source(inventory, row, max_pixels), settings, threads)


def _sized(inventory: Inventory, row: int, image: Image, settings: EncodeSettings, threads: int | None) -> Image:
    how = resampled_as(inventory.roles[row].role, image, settings.filter)
    return resample(image, settings.width, settings.height, how, threads)


def make_part(
    inventory: Inventory,
    row: int,
    settings: EncodeSettings,
    part: tuple[int, int],
    max_pixels: int = MAX_PIXELS,
    source: Image | None = None,
) -> Task[tuple[Transfer, list[bytes]]]:
    """Make a part of what `make_texture` makes of a single picture without a loss: bands of level 0, or the levels below.

    Returns the transfer of the whole, and the bytes of the bands together or of each level.

    Parameters
    ----------
    part : first and last row of the bands, the last excluded; (0, 0) for the levels below
    """
    levels = _levels(inventory, row, source or read_source(inventory, row, max_pixels), settings, 1)
    first, row_of, options = levels[0], format_named(settings.format), settings.options(1)
    if part[1]:
        return first.transfer, [(yield from encode_rows(first, row_of, options, *part))]
    return first.transfer, list((yield from encode_texture(levels[1:], row_of, options)).levels)


def _levels(inventory: Inventory, row: int, image: Image, settings: EncodeSettings, threads: int | None) -> list[Image]:
    """Return a source as it ships, with its levels."""
    image = _sized(inventory, row, image, settings, threads)
    levels = build_mip_chain(
        image, settings.levels, resampled_as(inventory.roles[row].role, image, MIP_FILTER), threads
    )
    return preserve_alpha_coverage(levels, settings.coverage) if settings.coverage else levels


def _make_picture(
    inventory: Inventory,
    row: int,
    image: Image,
    settings: EncodeSettings,
    threads: int | None,
    plain: Made | None = None,
) -> Task[Made]:
    levels = _levels(inventory, row, image, settings, threads)
    options = settings.options(threads)
    try:
        if plain is None:
            encoded = yield from encode_texture(levels, format_named(settings.format), options)
        else:
            encoded = yield from optimize_texture_rate(plain.encoded, levels, options)
    except OakTrimError as error:
        raise type(error)(f"{inventory.textures[row].path}: {error}") from error
    first = levels[0]
    return Made(encoded, lambda: first)


def memory_on(target: Target, texture: EncodedTexture) -> int:
    """Return the bytes that an encoded texture takes on a target, expansion counted."""
    held = texture.format if target.decodes(texture.format) else FORMATS[texture.format.expands_to]
    return held.mip_chain_bytes(texture.width, texture.height, len(texture.levels), texture.faces, texture.layers)
