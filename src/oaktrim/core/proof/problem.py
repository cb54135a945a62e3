"""What can be decided when a budget is to be met: for each texture, or several alike, the sizes and formats it could ship as.

Loss is the mean square of JND, weighted by what a texture is used as, how large it is, and by how many; those with
the same pixels decide as one and count once.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, partial
from math import log2

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.format import Prominence
from oaktrim.core.plan.advice import FormatOption, format_options
from oaktrim.core.plan.budget import Choices
from oaktrim.core.plan.cuts import Change
from oaktrim.core.plan.others import other_plan
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.resolve import NOT_CUT, Plan, estimate_sizes, file_bytes, key_as, recipe_key
from oaktrim.core.plan.rolerules import RoleRule
from oaktrim.core.proof.trial import screen_scale
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.footprint import FORMAT_INDEX, TargetFootprint
from oaktrim.core.targets.lines import LINES, Weights, byte_lines
from oaktrim.core.targets.target import Target

# What one square step of difference counts by what the texture is used as: values that light hides count less.
_ROLE_WEIGHTS = {
    Role.ENVIRONMENT: 0.7, Role.NORMAL: 0.8, Role.SURFACE: 0.5, Role.ROUGHNESS: 0.5, Role.METALNESS: 0.5,
    Role.OCCLUSION: 0.35, Role.HEIGHT: 0.5, Role.MASK: 0.5, Role.GLYPHS: 2.0, Role.LOOKUP: 2.0,
}  # fmt: skip
_UNUSED = 0.5
_EXACT = (Role.GLYPHS, Role.LOOKUP)
# The least longest side that is proposed, unless a role rule says another; how often a side may be halved.
FLOOR, _HALVINGS = 64, 5
_COLOUR_CHANNELS = 3
# What may be given up for the download where that has a limit, in dB.
_LOSSES = (1.0,)


@dataclass(frozen=True)
class Option:
    """What a group of textures could ship as.

    Parameters
    ----------
    side : a cap, 0 for the size that it ships at now
    effort : how hard the encoder searches; loss : dB that may go for the download
    """

    side: int
    format: str
    effort: Effort = Effort.STANDARD
    loss: float = 0.0

    @property
    def label(self) -> str:
        """The format, and what is given up for the download, in words."""
        row = FORMATS[self.format]
        given = f", {self.loss:g} dB given up" if self.loss and row.compressed else ""
        return f"{row.label}{given}"


@dataclass(frozen=True)
class Exchange:
    """How many square steps of a picture one of a sound, or of a clip, counts as; 0 leaves these as they are."""

    sounds: float = 1.0
    motion: float = 1.0


@dataclass(frozen=True)
class Bounds:
    """What may be proposed.

    Parameters
    ----------
    floors : the least longest side by role
    exchange : what losses of sounds and clips count beside those of textures
    ruled : what a format rule says stays in that format, and only its size is decided
    """

    floors: Mapping[Role, int] = field(default_factory=dict)
    ruled: bool = False
    exchange: Exchange = field(default_factory=Exchange)


@dataclass(frozen=True)
class Group:
    """Textures that decide as one; the first stands for all.

    Parameters
    ----------
    options : the first is what ships now
    weight : of a square step of its difference
    """

    rows: tuple[int, ...]
    options: tuple[Option, ...]
    weight: float


@dataclass(frozen=True)
class OtherOption:
    """What a sound or a clip could ship as.

    Parameters
    ----------
    changes : cuts that make it so; none for what ships now
    steps : of loss, on its own scale; costs : bytes on each line of the problem
    """

    label: str
    changes: tuple[Change, ...]
    steps: float
    costs: tuple[int, ...]


@dataclass(frozen=True)
class OtherGroup:
    """A sound or a clip that decides by itself; the first of its options is what ships now."""

    path: str
    options: tuple[OtherOption, ...]
    weight: float


@dataclass(frozen=True, eq=False)
class Problem:
    """What can be decided, and within which limits.

    Parameters
    ----------
    lines : names of the lines that have a limit; limits : in bytes; fixed : bytes of what is not decided here
    choices : over all options of all groups, one after the other; their losses are NaN until they are measured
    keys : of the recipe of each choice, for the first row of its group
    exact : choices whose loss comes from the whole texture, really made, and not from tiles
    measured : choices whose loss was measured, on tiles at least, and is not guessed from parts
    locked : how many textures may not be touched
    others : sounds and clips that decide beside them; their choices stand after those of the groups
    made : choices of sounds that were really made
    """

    plan: Plan
    groups: tuple[Group, ...]
    lines: tuple[str, ...]
    limits: NDArray[np.int64]
    fixed: NDArray[np.int64]
    choices: Choices
    keys: tuple[str, ...]
    exact: NDArray[np.bool_]
    measured: NDArray[np.bool_]
    locked: int
    exchange: Exchange = field(default_factory=Exchange)
    others: tuple[OtherGroup, ...] = ()
    made: frozenset[int] = frozenset()

    @property
    def texture_choices(self) -> int:
        """How many choices are of textures."""
        return int(self.choices.first[len(self.groups)])

    def option(self, choice: int) -> Option:
        """Return what a choice ships as."""
        group = int(self.choices.texture[choice])
        return self.groups[group].options[choice - int(self.choices.first[group])]

    def jnd(self, choice: int) -> float:
        """Return how far a choice is seen to differ, in JND."""
        weight = self.groups[int(self.choices.texture[choice])].weight
        return float(np.sqrt(self.choices.loss[choice] / weight)) if weight else 0.0

    def total(self, picks: NDArray[np.int64], line: str) -> int:
        """Return what a target's line comes to with some picks, what is not decided here counted."""
        at = self.lines.index(line)
        return int(self.fixed[at] + self.choices.cost[at, picks].sum())

    @property
    def room(self) -> NDArray[np.int64]:
        """What the limits leave for what is decided."""
        return self.limits - self.fixed

    def with_losses(self, loss: NDArray[np.float64]) -> Problem:
        """Return the problem with other losses of its choices, (C,)."""
        return replace(self, choices=replace(self.choices, loss=loss))


def loss_key(problem: Problem, choice: int) -> str:
    """Return all that decides how far a choice is seen to differ, as text: its recipe, and how large it is ever seen."""
    row = problem.groups[int(problem.choices.texture[choice])].rows[0]
    return f"{problem.keys[choice]} seen {screen_scale(problem.plan, row):.4g}"


def pose(
    plan: Plan,
    ratios: CompressionRatios,
    limits: dict[str, int],
    locked: NDArray[np.bool_],
    bounds: Bounds,
    effort: Effort | None = None,
) -> Problem:
    """Return what can be decided on a plan.

    Parameters
    ----------
    limits : bytes of each line that has a limit
    locked : textures that may not be touched
    bounds : what may be proposed
    effort : what is changed is encoded with this; each with its own where left out
    """
    inventory = plan.inventory
    losses = _LOSSES if "package" in limits else ()
    free = ~locked & ~plan.left_out & (inventory.column("pixels") != "")
    # Few uses are asked about many times.
    offered = cache(partial(format_options, plan.target))
    groups = [_group(plan, rows, bounds, effort, losses, offered) for rows in _alike(plan, np.flatnonzero(free))]
    lines = tuple(line for line in byte_lines() if line in limits)
    options = [option for group in groups for option in group.options]
    first = np.cumsum([0] + [len(group.options) for group in groups])
    cost, keys = np.zeros((len(lines), len(options)), np.int64), [""] * len(options)
    for turn in range(max((len(group.options) for group in groups), default=0)):
        sides, formats = np.zeros(len(plan.formats), np.int64), plan.formats.copy()
        losses_here = np.zeros(len(plan.formats))
        here = [(place, group) for place, group in enumerate(groups) if turn < len(group.options)]
        for _, group in here:
            option = group.options[turn]
            rows = list(group.rows)
            sides[rows], formats[rows], losses_here[rows] = option.side, FORMAT_INDEX[option.format], option.loss
        footprint, package = estimate_sizes(plan, sides, formats, ratios, losses_here)
        files = (
            file_bytes(inventory, plan.target, footprint, formats, package) if "unpacked" in lines else footprint.stored
        )
        weights = Weights.of_textures(footprint.memory, package, files, footprint.levels)
        # What ships now keeps what levels its file holds, and may have been measured.
        columns = [plan.line(line) if turn == 0 else LINES[line].weigh(weights) for line in lines]
        for place, group in here:
            choice = int(first[place]) + turn
            rows = list(group.rows)
            option = group.options[turn]
            keys[choice] = key_as(plan, rows[0], _settings_as(plan, rows[0], footprint, option))
            cost[:, choice] = [column[rows].sum() for column in columns]
    decided = np.zeros(len(plan.formats), np.bool_)
    decided[[row for group in groups for row in group.rows]] = True
    fixed = [_fixed(plan, line, ratios, np.flatnonzero(~decided)) for line in lines]
    return Problem(
        plan,
        tuple(groups),
        lines,
        np.array([limits[line] for line in lines], np.int64),
        np.array(fixed, np.int64),
        Choices(first, np.full(len(options), np.nan), cost),
        tuple(keys),
        np.zeros(len(options), np.bool_),
        np.zeros(len(options), np.bool_),
        int(locked.sum()),
        bounds.exchange,
    )


def _settings_as(plan: Plan, row: int, footprint: TargetFootprint, option: Option) -> EncodeSettings:
    """Return the settings of a texture under an option, which arrives as `footprint` says."""
    size = {name: int(getattr(footprint, name)[row]) for name in ("width", "height", "levels")}
    chosen = {"format": option.format, "effort": option.effort, "loss": option.loss}
    return msgspec.structs.replace(plan.encode_settings(row), **size, **chosen)


def _fixed(plan: Plan, line: str, ratios: CompressionRatios, rows: NDArray[np.int64]) -> int:
    """Return what a line comes to beside what is decided; packages as they were measured, whatever the plan knew of it."""
    sizes = plan.line(line)
    total = plan.total(line) - int(sizes.sum())
    if line == "package":
        total = int(
            other_plan(plan.inventory, plan.target, plan.others.recipes, plan.others.models, ratios).package.sum()
        )
    for row in rows:
        known = ratios.made_size(int(row), recipe_key(plan, int(row))) if line == "package" else None
        total += int(sizes[row]) if known is None else known
    return total


def _alike(plan: Plan, rows: NDArray[np.int64]) -> list[tuple[int, ...]]:
    """Return rows together whose pixels, use and present shape are the same."""
    inventory, found = plan.inventory, dict[tuple[object, ...], list[int]]()
    for row in rows:
        shape = (inventory.roles[row].role, plan.formats[row], plan.footprint.width[row], plan.footprint.height[row])
        found.setdefault((inventory.textures[row].pixels, *shape), []).append(int(row))
    return [tuple(rows) for rows in found.values()]


def _group(
    plan: Plan,
    rows: tuple[int, ...],
    bounds: Bounds,
    effort: Effort | None,
    losses: Sequence[float],
    offered: Callable[[Role, bool, bool], list[FormatOption]],
) -> Group:
    inventory, first = plan.inventory, rows[0]
    texture, role = inventory.textures[first], inventory.roles[first].role
    alpha = texture.channels in (2, 4) and not texture.opaque
    present = ORDER[plan.formats[first]]
    formats = [present]
    by_rule = bounds.ruled and plan.format_rule[first] != NOT_CUT
    for option in () if by_rule else offered(role, alpha, texture.floating):
        row = option.format
        fewer_channels = not row.compressed and row.bit_depth == 8 and len(row.channels) < _COLOUR_CHANNELS
        fits = not option.against and (row.compressed or fewer_channels) and (alpha or not row.only_for_alpha)
        if fits and row.name != present and row.prominence is not Prominence.BY_NAME:
            formats.append(row.name)
    longest = int(max(plan.footprint.width[first], plan.footprint.height[first]))
    floor = min(longest, bounds.floors.get(role, FLOOR))
    # A table is looked up by place: at another size it says something else.
    halvings = 0 if role in _EXACT else _HALVINGS
    sides = [0, *(longest >> k for k in range(1, halvings + 1) if longest >> k >= floor)]
    now = plan.encode_settings(first)
    kept = now.loss
    options = [Option(0, present, now.effort, kept)]
    for side in sides:
        for name in formats:
            plain = Option(side, name, effort or now.effort, kept)
            options += [plain] if plain != options[0] else []
            if FORMATS[name].compressed and not FORMATS[name].floating:
                options += [replace(plain, loss=loss) for loss in losses if loss > kept]
    return Group(rows, tuple(options), _weight(plan, rows))


def _weight(plan: Plan, rows: tuple[int, ...]) -> float:
    """Return what a square step counts: by role, by the root of the size, and by how many use it.

    The size is that on the screen where sightlines say it.
    """
    inventory, demand = plan.inventory, plan.demand
    texture, role = inventory.textures[rows[0]], inventory.roles[rows[0]].role
    uses = sum(len(inventory.ownership.owners.get(row, ())) for row in rows)
    worn = log2(1 + uses) if uses else (_UNUSED if inventory.models else 1.0)
    size = float(max(texture.width, texture.height))
    if demand is not None and any(demand.looked[row] for row in rows):
        seen = sum(int(demand.pixels[row]) for row in rows) / max(1, len(demand.views))
        size = max(1.0, float(np.sqrt(seen)))
    return _ROLE_WEIGHTS.get(role, 1.0) * float(np.sqrt(size / 1024)) * worn


def bounds_of(
    rules: Sequence[RoleRule], target: Target, ruled: bool = False, exchange: Exchange = Exchange()
) -> Bounds:
    """Return what may be proposed by the floors of a job's role rules on a target, and, if asked, by its format rules."""
    floors = {rule.role: rule.floor for rule in rules if rule.floor is not None and rule.is_for(target.id)}
    return Bounds(floors, ruled, exchange)
