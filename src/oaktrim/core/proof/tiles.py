"""Measuring on tiles what each choice of a problem costs to the eye: every size and format, really filtered and really encoded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.effort import Counted, Effort, EncodeOptions
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.pictures import MAX_PIXELS
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import Resampling, resample
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task, spread
from oaktrim.core.proof.measures import frame_scale, magnified, map_between, reduced, working_values
from oaktrim.core.proof.problem import Group, Option, Problem, loss_key
from oaktrim.core.proof.trial import seen_scale
from oaktrim.core.ship.make import read_source
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.roles import Role
from oaktrim.core.survey.uses import resampled_as

_TILE, _TILES = 128, 2
# A part begins where blocks of every usual format do, also at half the size.
_BLOCKS = 16
# The least part of a difference that is taken for what encoding loses; and by how much that grows for each dB that may go for
# the download, as a power of ten: blocks that repeat others miss in broad patches, which the eye sees more of than of grain.
_LEAST_PART, _GROWS = 0.1, 0.3
_KEEP_EVERY = 16


def measure(
    problem: Problem, cache: SurveyCache, max_pixels: int = MAX_PIXELS, threads: int | None = None
) -> Task[Problem]:
    """Measure the loss of every choice on tiles; what was measured once is kept in the cache."""
    loss, known = problem.choices.loss.copy(), cache.losses()
    waiting: list[int] = []
    first = problem.choices.first
    for place, group in enumerate(problem.groups):
        names = [f"parts {loss_key(problem, choice)}" for choice in range(first[place], first[place + 1])]
        if all(name in known for name in names):
            loss[first[place] : first[place + 1]] = [group.weight * known[name] ** 2 for name in names]
        else:
            waiting.append(place)
    fresh: dict[str, float] = {}

    def work(place: int) -> list[float]:
        options = problem.groups[place].options
        plain = list(dict.fromkeys(replace(option, loss=0.0) for option in options))
        steps = dict(zip(plain, _on_tiles(problem.plan, problem.groups[place], plain, max_pixels), strict=True))
        return _with_losses(options, steps)

    for done, (position, steps) in enumerate(spread(work, waiting, threads), 1):
        place = waiting[position]
        loss[first[place] : first[place + 1]] = problem.groups[place].weight * np.square(steps)
        fresh |= {f"parts {loss_key(problem, first[place] + k)}": value for k, value in enumerate(steps)}
        if len(fresh) >= 64 * _KEEP_EVERY or done == len(waiting):
            cache.keep_losses(fresh)
            fresh = {}
        path = problem.plan.inventory.textures[problem.groups[place].rows[0]].path
        yield Progress(done, len(waiting), path)
    return problem.with_losses(loss, problem.exact)


def _with_losses(options: Sequence[Option], plain: dict[Option, float]) -> list[float]:
    """Return the steps of options from those of the same without a loss: what is lost is a part of what encoding loses.

    Beside the format that is nearest to the source at that size, the rest is what that size loses.
    """
    nearest: dict[int, float] = {}
    for option, steps in plain.items():
        nearest[option.side] = min(steps, nearest.get(option.side, steps))
    found = []
    for option in options:
        steps = plain[replace(option, loss=0.0)]
        encoding = max(steps**2 - nearest[option.side] ** 2, _LEAST_PART * steps**2)
        found.append(float(np.sqrt(steps**2 + (10 ** (option.loss * _GROWS) - 1) * encoding)))
    return found


def _tiles(image: Image) -> list[Image]:
    """Return tiles spread evenly over a picture, or the whole of a small one."""
    if image.width * image.height <= (_TILE * _TILES) ** 2:
        return [image]
    wide, high = min(_TILE, image.width), min(_TILE, image.height)
    down, across = (_TILES if side > 2 * _TILE else 1 for side in (image.height, image.width))
    tops = [(image.height - high) * (2 * i + 1) // (2 * down) for i in range(down)]
    lefts = [(image.width - wide) * (2 * i + 1) // (2 * across) for i in range(across)]
    return [image.with_pixels(image.pixels[y : y + high, x : x + wide]) for y in tops for x in lefts]


def _in_use(image: Image, used: tuple[int, int, int, int]) -> Image:
    """Return the part of a picture that is in use, and somewhat more: tiles would miss what little there is in an empty one."""
    left, top, wide, high = used
    if not wide or not high:
        return image
    spans = []
    for start, taken, whole in ((left, wide, image.width), (top, high, image.height)):
        length = min(whole, max(taken + start % _BLOCKS, _TILE))
        begin = min(start // _BLOCKS * _BLOCKS, whole - length)
        spans.append(slice(begin, begin + length))
    return image.with_pixels(image.pixels[spans[1], spans[0]])


def _on_tiles(plan: Plan, group: Group, options: Sequence[Option], max_pixels: int) -> list[float]:
    """Return the steps of some of a group's options; none can be told where the source cannot be read, and it is kept."""
    row = group.rows[0]
    inventory, texture = plan.inventory, plan.inventory.textures[row]
    role = inventory.roles[row].role
    try:
        source = read_source(inventory, row, max_pixels)
    except (OakTrimError, MemoryError):
        return [0.0] + [1e3] * (len(options) - 1)
    part = _in_use(source, texture.used)
    tiles, share = _tiles(part), part.width * part.height / (source.width * source.height)
    scale = frame_scale(texture.width, texture.height, seen_scale(inventory, row))
    scale = min(scale, *(min(tile.size) for tile in tiles))
    wanted = _stacked([reduced(working_values(tile, role), scale) for tile in tiles])
    longest, now = max(texture.width, texture.height), int(max(plan.arrival.width[row], plan.arrival.height[row]))
    how = resampled_as(role, tiles[0], plan.recipe(row).filter)
    small: dict[int, list[Image]] = {}
    steps = []
    for option in options:
        side = option.side or now
        if side not in small:
            small[side] = [_scaled(tile, side / longest, how) for tile in tiles]
        got = _through(small[side], option.format, plan.counted(row))
        if len(got[0].channels) == 1 and wanted.shape[2] == 4 and role is not Role.UNKNOWN:
            against = wanted[..., [0, 0, 0, 3]]
        else:
            against = wanted
        frames = [_at(image, role, tile, scale) for image, tile in zip(got, tiles, strict=True)]
        apart = map_between(against, _stacked(frames), role)
        steps.append(float(np.sqrt(share * np.mean(np.square(apart, dtype=np.float64)))))
    return steps


def _scaled(tile: Image, share: float, how: Resampling) -> Image:
    return resample(tile, max(1, round(tile.width * share)), max(1, round(tile.height * share)), how, 1)


def _at(image: Image, role: Role, tile: Image, scale: int) -> NDArray[np.float32]:
    """Return a decoded tile as it is seen in the frame of its source."""
    values = working_values(image, role)
    if "A" not in image.channels:
        values[..., 3] = 1.0
    width, height = -(-tile.width // scale), -(-tile.height // scale)
    over = max(1, min(values.shape[1] // width, values.shape[0] // height))
    return magnified(reduced(values, over), width, height)


def _stacked(parts: Sequence[NDArray[np.float32]]) -> NDArray[np.float32]:
    return np.concatenate(parts, axis=0) if len(parts) > 1 else parts[0]


def _through(tiles: list[Image], name: str, counted: Counted) -> list[Image]:
    """Return tiles encoded and decoded."""
    row, options = format_named(name), EncodeOptions(Effort.DRAFT, threads=1, counted=counted)
    out = []
    for tile in tiles:
        data = encode_level(tile, row, options)
        out.append(decode_level(EncodedTexture(row, tile.width, tile.height, tile.transfer, (data,))))
    return out
