"""What choices lose, measured on tiles of the source: enough to decide by, in a small part of the time.

First, where there is much to measure, by parts: what each format loses at the present size, and what each size loses by itself;
what both lose together is guessed from these. Then each choice is measured on its own.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.effort import Effort, EncodeOptions, ErrorMetric
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.errors import OakTrimError
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import Resampling, resample
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task, map_unordered
from oaktrim.core.proof.measures import frame_scale, magnified, mean_square_between, reduced, working_values
from oaktrim.core.proof.problem import Group, Option, Problem, loss_key
from oaktrim.core.proof.trial import screen_scale
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
# By how much what encoding loses in squares grows with each halving, seen at the source's size: our own choice; on 14 pictures of
# games 0.4 to 1.5 guess alike, on noise 1.5 is nearer.
_BROADER = 1.5
# What is taken of an option that no texture told anything of.
_UNKNOWN_STEPS = 1.0


@dataclass
class Clock:
    """When an answer is wanted: at the end of the work where `deadline` (of the monotonic clock) is infinite."""

    deadline: float = float("inf")

    @classmethod
    def within(cls, seconds: float | None) -> Clock:
        """Return a clock that runs out after some seconds, or never."""
        return cls() if seconds is None else cls(time.monotonic() + seconds)

    @property
    def is_over(self) -> bool:
        return time.monotonic() >= self.deadline

    def sooner(self, seconds: float) -> Clock:
        """Return a clock that runs out after some seconds, or with this one."""
        return Clock(min(self.deadline, time.monotonic() + seconds))

    def until(self, places: Iterable[int]) -> Iterator[int]:
        """Yield places until the clock runs out."""
        for place in places:
            if self.is_over:
                return
            yield place


def measure(
    problem: Problem,
    cache: SurveyCache,
    max_pixels: int = MAX_PIXELS,
    threads: int | None = None,
    clock: Clock = Clock(),
    places: Sequence[int] | None = None,
) -> Task[Problem]:
    """Measure the loss of every choice on tiles; what was measured once is kept in the cache.

    Parameters
    ----------
    clock : when it runs out, what is not measured keeps its guess
    places : of the groups to measure, in their order; all by default
    """
    known, first = cache.losses(), problem.choices.first
    loss, measured = problem.choices.loss.copy(), problem.measured.copy()
    waiting: list[int] = []

    def take(place: int, jnd: Sequence[float]) -> None:
        mine = slice(first[place], first[place + 1])
        loss[mine], measured[mine] = problem.groups[place].weight * np.square(jnd), True

    for place in range(len(problem.groups)) if places is None else places:
        names = _names(problem, place)
        if all(name in known for name in names):
            take(place, [known[name] for name in names])
        else:
            waiting.append(place)
    fresh: dict[str, float] = {}

    def work(place: int) -> list[float]:
        options = problem.groups[place].options
        plain = list(dict.fromkeys(replace(option, loss=0.0) for option in options))
        tiles = _Tiles.of(problem.plan, problem.groups[place], max_pixels, _TILES)
        return _with_losses(options, dict(zip(plain, _all_steps(tiles, plain), strict=True)))

    try:
        for done, (position, jnd) in enumerate(map_unordered(work, clock.until(waiting), threads), 1):
            place = waiting[position]
            take(place, jnd)
            fresh |= zip(_names(problem, place), jnd, strict=True)
            if len(fresh) >= 64 * _KEEP_EVERY:
                cache.keep_losses(fresh)
                fresh = {}
            path = problem.plan.inventory.textures[problem.groups[place].rows[0]].path
            yield Progress(done, len(waiting), f"measuring {path}")
    finally:
        cache.keep_losses(fresh)
    return replace(problem.with_losses(loss), measured=measured)


def _names(problem: Problem, place: int) -> list[str]:
    """Return what the losses of a group's choices on tiles are kept by."""
    first = problem.choices.first
    return [f"tiles {loss_key(problem, choice)}" for choice in range(first[place], first[place + 1])]


def sketch(
    problem: Problem,
    cache: SurveyCache,
    max_pixels: int = MAX_PIXELS,
    threads: int | None = None,
    clock: Clock = Clock(),
) -> Task[Problem]:
    """Guess the loss of every choice from parts measured on one tile of each texture, the largest first.

    Where the clock runs out, textures that nothing was measured of lose what others of their role and shape do.
    """
    known, first = cache.losses(), problem.choices.first
    sizes = [max(problem.choices.cost[:, first[place]].tolist(), default=0) for place in range(len(problem.groups))]
    order = sorted(range(len(problem.groups)), key=lambda place: (-sizes[place], place))
    loss, found = problem.choices.loss.copy(), dict[int, NDArray[np.float64]]()

    def work(place: int) -> NDArray[np.float64]:
        options = problem.groups[place].options
        names = _names(problem, place)
        if all(name in known for name in names):
            return np.array([known[name] for name in names])
        tiles = _Tiles.of(problem.plan, problem.groups[place], max_pixels, 1)
        return np.array(_with_losses(options, _by_parts(tiles, options)))

    for done, (position, jnd) in enumerate(map_unordered(work, clock.until(order), threads), 1):
        found[order[position]] = jnd
        yield Progress(done, len(order), "a first look at all textures")
    by_kind = _typical(problem, found)
    for place, group in enumerate(problem.groups):
        jnd = found[place] if place in found else np.array([by_kind(group, option) for option in group.options])
        loss[first[place] : first[place + 1]] = group.weight * np.square(jnd)
    return problem.with_losses(loss)


def _by_parts(tiles: _Tiles, options: Sequence[Option]) -> dict[Option, float]:
    """Return the JND of options without a loss: those of the present size measured, others from both their parts."""
    plain = list(dict.fromkeys(replace(option, loss=0.0) for option in options))
    here = {option: tiles.jnd(option.side, option.format) for option in plain if not option.side}
    of_format = {option.format: jnd for option, jnd in here.items()}
    of_size = {side: tiles.jnd(side, None) for side in dict.fromkeys(option.side for option in plain if option.side)}
    found = dict(here)
    for option in plain:
        if option.side:
            encoding = of_format.get(option.format, 0.0) ** 2 * _BROADER ** tiles.halvings(option.side)
            found[option] = float(np.sqrt(of_size[option.side] ** 2 + encoding))
    return found


def _typical(problem: Problem, found: dict[int, NDArray[np.float64]]) -> Callable[[Group, Option], float]:
    """Return what tells the JND of an option from those of other textures, by role, halvings and format."""
    inventory, footprint = problem.plan.inventory, problem.plan.footprint
    gathered: dict[tuple[object, ...], list[float]] = {}

    def keys(group: Group, option: Option) -> Iterator[tuple[object, ...]]:
        row = group.rows[0]
        now = int(max(footprint.width[row], footprint.height[row]))
        halvings = round(np.log2(now / option.side)) if option.side else 0
        yield inventory.roles[row].role, halvings, option.format, option.loss
        yield halvings, option.format, option.loss
        yield (halvings,)

    for place, jnd in found.items():
        for option, value in zip(problem.groups[place].options, jnd, strict=True):
            for key in keys(problem.groups[place], option):
                gathered.setdefault(key, []).append(float(value))
    medians = {key: float(np.median(values)) for key, values in gathered.items()}

    def tell(group: Group, option: Option) -> float:
        if option == group.options[0]:
            return 0.0
        return next((medians[key] for key in keys(group, option) if key in medians), _UNKNOWN_STEPS)

    return tell


def _with_losses(options: Sequence[Option], plain: dict[Option, float]) -> list[float]:
    """Return the JND of options from those of the same without a loss: what is lost is a part of what encoding loses.

    Beside the format that is nearest to the source at that size, the rest is what that size loses.
    """
    nearest: dict[int, float] = {}
    for option, jnd in plain.items():
        nearest[option.side] = min(jnd, nearest.get(option.side, jnd))
    found = []
    for option in options:
        jnd = plain[replace(option, loss=0.0)]
        encoding = max(jnd**2 - nearest[option.side] ** 2, _LEAST_PART * jnd**2)
        found.append(float(np.sqrt(jnd**2 + (10 ** (option.loss * _GROWS) - 1) * encoding)))
    return found


def _cut_tiles(image: Image, count: int) -> list[Image]:
    """Return so many tiles along each side, spread evenly over a picture, or the whole of a small one."""
    if image.width * image.height <= (_TILE * count) ** 2:
        return [image]
    wide, high = min(_TILE, image.width), min(_TILE, image.height)
    down, across = (count if side > count * _TILE else 1 for side in (image.height, image.width))
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


@dataclass(frozen=True, eq=False)
class _Tiles:
    """Tiles of a source made ready to judge what sizes and formats make of them.

    Parameters
    ----------
    tiles : parts of the source; empty where it cannot be read
    share : of the picture that they stand for
    scale : by how much both are brought down to be compared
    wanted : what each tile says, as `working_values` returns it, at that scale
    now, longest : longest side that ships now, and of the source
    """

    role: Role
    error_metric: ErrorMetric
    how: Resampling | None
    tiles: list[Image]
    share: float
    scale: int
    wanted: list[NDArray[np.float32]]
    now: int
    longest: int

    @classmethod
    def of(cls, plan: Plan, group: Group, max_pixels: int, count: int) -> _Tiles:
        """Return tiles of a group's first texture, so many along each side."""
        row = group.rows[0]
        inventory, texture = plan.inventory, plan.inventory.textures[row]
        role, longest = inventory.roles[row].role, max(texture.width, texture.height)
        now = int(max(plan.footprint.width[row], plan.footprint.height[row]))
        settings = plan.encode_settings(row)
        try:
            source = read_source(inventory, row, max_pixels)
        except (OakTrimError, MemoryError):
            return cls(role, settings.error_metric, None, [], 0.0, 1, [], now, longest)
        part = _in_use(source, texture.used)
        tiles, share = _cut_tiles(part, count), part.width * part.height / (source.width * source.height)
        scale = frame_scale(texture.width, texture.height, screen_scale(plan, row))
        scale = min(scale, *(min(tile.size) for tile in tiles))
        wanted = [reduced(working_values(tile, role), scale) for tile in tiles]
        how = resampled_as(role, tiles[0], settings.filter)
        return cls(role, settings.error_metric, how, tiles, share, scale, wanted, now, longest)

    def halvings(self, side: int) -> float:
        """Return how often the present size is halved to a side."""
        return max(0.0, float(np.log2(self.now / side)))

    def jnd(self, side: int, name: str | None) -> float:
        """Return how far the source is seen to differ from itself at a size and in a format, in JND.

        Parameters
        ----------
        side : longest, 0 for the present one
        name : of the format; None for none, which tells what the size alone loses
        """
        if not self.tiles or self.how is None:
            # Nothing can be told, and what ships now is kept.
            return 1e3
        share = (side or self.now) / self.longest
        small = [_scaled(tile, share, self.how) for tile in self.tiles]
        got = small if name is None else _through(small, name, self.error_metric)
        total, count = 0.0, 0
        lone = len(got[0].channels) == 1 and self.role is not Role.UNKNOWN
        for image, tile, whole in zip(got, self.tiles, self.wanted, strict=True):
            frame, wanted = _at(image, self.role, tile, self.scale), whole[..., [0, 0, 0, 3]] if lone else whole
            pixels = frame.shape[0] * frame.shape[1]
            total += mean_square_between(wanted, frame, self.role) * pixels
            count += pixels
        return float(np.sqrt(self.share * total / count))


def _all_steps(tiles: _Tiles, options: Sequence[Option]) -> list[float]:
    """Return the JND of options; where the source cannot be read, what ships now loses nothing."""
    if not tiles.tiles:
        return [0.0] + [1e3] * (len(options) - 1)
    return [tiles.jnd(option.side, option.format) for option in options]


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


def _through(tiles: list[Image], name: str, error_metric: ErrorMetric) -> list[Image]:
    """Return tiles encoded and decoded."""
    row, options = format_named(name), EncodeOptions(Effort.DRAFT, threads=1, error_metric=error_metric)
    out = []
    for tile in tiles:
        data = encode_level(tile, row, options)
        out.append(decode_level(EncodedTexture(row, tile.width, tile.height, tile.transfer, (data,))))
    return out
