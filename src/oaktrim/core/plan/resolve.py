"""From a job's cuts to a plan: what each texture ships as on a target, why, and what it costs; all in columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.effort import Counted, Effort
from oaktrim.core.files.pictures import bytes_beside
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.pixels.resample import Filter
from oaktrim.core.plan.cuts import (
    Cap,
    Cut,
    Drop,
    KeepCoverage,
    SetCounted,
    SetEffort,
    SetFilter,
    SetFormat,
    SetLevels,
    SetLoss,
)
from oaktrim.core.plan.forecast import Forecast, corrected, forecast, half_width
from oaktrim.core.plan.packing import CarriedSizes, Key, PackedShares, left_of
from oaktrim.core.plan.rolerules import RoleRule, apply_rules
from oaktrim.core.survey.inventory import Carried, Inventory
from oaktrim.core.survey.sample import SCALES
from oaktrim.core.survey.uses import counted_as
from oaktrim.core.targets.arrival import FORMAT_INDEX, Arrival, Flags, Ints, arrive, fit_side
from oaktrim.core.targets.target import Target

NOT_CUT = -1
_EFFORTS, _FILTERS, _COUNTED = list(Effort), list(Filter), list(Counted)
# Kinds of change, in the order in which they act on a texture.
KINDS = (Cap, Drop, SetFormat, SetLevels, SetEffort, SetFilter, SetLoss, KeepCoverage, SetCounted)
# Losses are held in hundredths of a dB.
_LOSS_UNIT = 100


@dataclass(frozen=True)
class Recipe:
    """What one texture ships as on one target."""

    path: str
    width: int
    height: int
    levels: int
    format: str
    effort: Effort
    filter: Filter
    loss: float
    coverage: int
    counted: Counted
    touched: bool


@dataclass(frozen=True)
class Plan:
    """All recipes of a target, a column each.

    Parameters
    ----------
    settings : the value that each kind of change leaves on each texture, -1 where there is none
    causes : the place in the cuts of what set it, likewise
    rules : the job's role rules; rule : place of the one that made the texture smaller, -1 where none did
    overruled : a cut by hand stands in the place of a role rule
    cut_width, cut_height : after cap and drop by hand; ruled_width, ruled_height : after the role rules too
    formats : places in the catalogue's order
    arrival : what the target makes of it
    forecast : bytes of each texture in the package, measured where it was really made and packed, estimated elsewhere
    beside : what meshes, clips and sounds take in the package
    """

    target: Target
    inventory: Inventory
    cuts: tuple[Cut, ...]
    rules: tuple[RoleRule, ...]
    settings: dict[type, Ints]
    causes: dict[type, Ints]
    cut_width: Ints
    cut_height: Ints
    ruled_width: Ints
    ruled_height: Ints
    rule: Ints
    overruled: Flags
    formats: Ints
    arrival: Arrival
    forecast: Forecast
    beside: CarriedSizes
    _totals: dict[str, int] = field(default_factory=dict, repr=False)
    _columns: dict[str, Ints] = field(default_factory=dict, repr=False)

    @property
    def package(self) -> Ints:
        """Bytes of each texture in the package."""
        return self.forecast.package

    @property
    def measured(self) -> Flags:
        """Which textures were really made and packed."""
        return self.forecast.measured

    def line(self, name: str) -> Ints:
        """Return what each texture adds to a limit counted in bytes: memory, package, unpacked or streaming."""
        if name == "memory":
            return self.arrival.memory
        if name == "package":
            return self.package
        if name == "unpacked":
            if name not in self._columns:
                self._columns[name] = file_bytes(self.inventory, self.target, self.arrival, self.formats)
            return self._columns[name]
        if name == "streaming":
            # What has no levels is not streamed: it is resident whole, outside the pool.
            return np.where(self.arrival.levels > 1, self.arrival.memory, 0)
        raise KeyError(name)

    def total(self, name: str) -> int:
        """Return the sum of a line, what is carried beside the textures counted."""
        if name not in self._totals:
            self._totals[name] = int(self.line(name).sum()) + sum(self._carried_sums(name).values())
        return self._totals[name]

    def carried(self, row: Carried, line: str) -> int:
        """Return what a mesh, a clip or a sound adds to a line: its bytes, packed in the package; it is no texture."""
        if line == "unpacked":
            return row.bytes
        return self.beside.sizes[row.path] if line == "package" else 0

    def _carried_sums(self, line: str) -> dict[str, int]:
        """Return what is carried beside the textures adds to a line, by family; it is never texture memory."""
        if line == "unpacked":
            return self.inventory.carried_bytes
        return self.beside.by_family if line == "package" else {}

    @property
    def all_measured(self) -> bool:
        """No figure of the package is an estimate."""
        return bool(self.measured.all()) and not self.beside.guessed

    @property
    def uncertainty(self) -> int:
        """By how many bytes the package may be off: nine of ten final figures lie within."""
        return half_width(self.forecast.spread, self.beside.guessed)

    def by_family(self, name: str) -> dict[str, int]:
        """Return the sum of a line for each family of assets, families of nothing left out."""
        families, place = self.inventory.family_places
        sums = np.bincount(place, weights=self.line(name), minlength=len(families))
        found = {str(family): int(total) for family, total in zip(families, sums, strict=True)}
        found |= self._carried_sums(name)
        return {family: total for family, total in found.items() if total}

    @cached_property
    def touched(self) -> Flags:
        """Which textures are encoded anew; the others ship as their file holds them, levels added to pictures."""
        kinds = (Cap, Drop, SetFormat, SetLevels, KeepCoverage)
        changed = self.rule >= 0
        for kind in kinds:
            changed |= self.settings[kind] != NOT_CUT
        a = self.arrival
        same = (a.width == self.inventory.width) & (a.height == self.inventory.height)
        same &= (self.inventory.stored_levels == 0) | (a.levels == self.inventory.stored_levels)
        renewed: Flags = (changed & ~(same & (self.formats == self.inventory.natural))) | ~same
        return renewed

    def recipe(self, row: int) -> Recipe:
        """Return the recipe of one texture; `plan.ladder` says how it gets there."""
        texture, a = self.inventory.textures[row], self.arrival
        return Recipe(
            path=texture.path,
            width=int(a.width[row]),
            height=int(a.height[row]),
            levels=int(a.levels[row]),
            format=ORDER[self.formats[row]],
            effort=self.effort(row),
            filter=self.filter(row),
            loss=self.loss(row),
            coverage=self.coverage(row),
            counted=self.counted(row),
            touched=bool(self.touched[row]),
        )

    def effort(self, row: int) -> Effort:
        """Return how hard the encoder searches for a texture."""
        effort = int(self.settings[SetEffort][row])
        return _EFFORTS[effort] if effort != NOT_CUT else Effort.STANDARD

    def filter(self, row: int) -> Filter:
        """Return what brings a texture down."""
        picked = int(self.settings[SetFilter][row])
        return _FILTERS[picked] if picked != NOT_CUT else Filter.LANCZOS3

    def loss(self, row: int) -> float:
        """Return how many dB of a texture may go for the download."""
        return max(0, int(self.settings[SetLoss][row])) / _LOSS_UNIT

    def coverage(self, row: int) -> int:
        """Return the alpha from which a texture's levels keep the cut-out, or 0."""
        return max(0, int(self.settings[KeepCoverage][row]))

    def counted(self, row: int) -> Counted:
        """Return what the encoder counts a texture's errors on."""
        picked = int(self.settings[SetCounted][row])
        return _COUNTED[picked] if picked != NOT_CUT else counted_as(self.inventory.roles[row].role)


def _value(cut: Cut) -> int:
    """Return the number that stands for a change in the plan's columns."""
    change = cut.change
    match change:
        case Cap():
            return change.side
        case Drop():
            return change.levels
        case SetFormat():
            return FORMAT_INDEX[change.format]
        case SetLevels():
            return int(change.on)
        case SetEffort():
            return _EFFORTS.index(change.effort)
        case SetFilter():
            return _FILTERS.index(change.filter)
        case KeepCoverage():
            return change.threshold
        case SetCounted():
            return _COUNTED.index(change.counted)
        case SetLoss():
            return round(change.decibels * _LOSS_UNIT)


def resolve(
    inventory: Inventory,
    target: Target,
    cuts: Sequence[Cut] = (),
    shares: PackedShares | None = None,
    rules: Sequence[RoleRule] = (),
) -> Plan:
    """Return what every texture ships as on a target.

    A later cut of one kind takes the place of an earlier one on the same texture. Cap and drop are different kinds:
    they add up, and the ladder says so.

    Parameters
    ----------
    shares : how well the textures pack; guessed from the survey alone when left out
    rules : for textures whose size no cut says
    """
    count = len(inventory.textures)
    settings: dict[type, Ints] = {kind: np.full(count, NOT_CUT, np.int64) for kind in KINDS}
    causes: dict[type, Ints] = {kind: np.full(count, NOT_CUT, np.int64) for kind in KINDS}
    for place, cut in enumerate(cuts):
        if cut.is_for(target.id):
            rows = inventory.rows(cut.assets)
            kind = type(cut.change)
            settings[kind][rows] = _value(cut)
            causes[kind][rows] = place
    caps, drops = settings[Cap], np.maximum(settings[Drop], 0)
    width, height = inventory.width, inventory.height
    width, height = fit_side(width, height, np.where(caps == NOT_CUT, np.maximum(width, height), caps))
    width, height = np.maximum(1, width >> drops), np.maximum(1, height >> drops)
    by_hand = (caps != NOT_CUT) | (settings[Drop] != NOT_CUT)
    ruled = apply_rules(inventory, target.id, rules, width, height, by_hand)
    formats = np.where(settings[SetFormat] == NOT_CUT, inventory.natural, settings[SetFormat])
    # Stored levels are kept for as long as nothing but the format's place in the file is asked for.
    stored = np.maximum(inventory.stored_levels - drops, np.minimum(inventory.stored_levels, 1))
    as_stored = (caps == NOT_CUT) & (ruled.rule == NOT_CUT) & (settings[SetLevels] == NOT_CUT)
    levels = np.where(as_stored, stored, 0)
    levels = np.where(settings[SetLevels] == 0, 1, levels)
    arrival = arrive(target, ruled.width, ruled.height, levels, formats, inventory.column("slices"))
    shares = shares or PackedShares(inventory)
    estimates, sampled = _packed(
        inventory, target, arrival, formats, shares, np.maximum(settings[SetLoss], 0) / _LOSS_UNIT
    )
    plan = Plan(
        target, inventory, tuple(cuts), tuple(rules), settings, causes, width, height, ruled.width, ruled.height,
        ruled.rule, ruled.overruled, formats, arrival, _nothing_measured(estimates), shares.carried(target.packing),
    )  # fmt: skip
    sizes = np.full(count, -1, np.int64)
    for row, known in shares.measured.items():
        sizes[row] = known.get(recipe_key(plan, row), -1)
    return replace(plan, forecast=forecast(estimates, formats, sampled, sizes))


def _nothing_measured(estimates: NDArray[np.float64]) -> Forecast:
    count = len(estimates)
    return forecast(estimates, np.zeros(count, np.int64), np.zeros(count, np.bool_), np.full(count, -1, np.int64))


def recipe_key(plan: Plan, row: int) -> str:
    """Return all that decides what a texture's shipped file holds and how it packs, as text."""
    return key_as(plan, row, plan.arrival, ORDER[plan.formats[row]], plan.effort(row), plan.loss(row))


def key_as(plan: Plan, row: int, arrival: Arrival, name: str, effort: Effort, loss: float) -> str:
    """Return the key of a texture that ships at another size, in another format or made otherwise than its plan says."""
    target = plan.target
    size = int(arrival.width[row]), int(arrival.height[row]), int(arrival.levels[row])
    held = content_key(
        plan.inventory, row, size, name, effort, plan.filter(row), loss, plan.coverage(row), plan.counted(row)
    )
    return f"{held} {target.container} {target.packing.method} {target.packing.level}"


def content_key(
    inventory: Inventory,
    row: int,
    size: tuple[int, int, int],
    name: str,
    effort: Effort,
    how: Filter,
    loss: float,
    coverage: int,
    counted: Counted,
) -> str:
    """Return all that decides what a texture holds once it is made, as text that begins with the content of its source.

    Parameters
    ----------
    size : width, height and levels; name : of the format; how : what brings it down
    loss : dB that may go for the download; coverage : alpha from which levels keep the cut-out, or 0
    counted : what errors count on
    """
    parts = (
        inventory.textures[row].content, inventory.roles[row].role.value, name, *size, effort.value, how.value, loss,
        coverage, counted.value,
    )  # fmt: skip
    return " ".join(str(part) for part in parts)


def weigh_as(
    plan: Plan, sides: Ints, formats: Ints, shares: PackedShares, losses: NDArray[np.float64]
) -> tuple[Arrival, Ints]:
    """Return how a plan's textures would arrive under a cap each and in another format, and their bytes in the package.

    Parameters
    ----------
    sides : longest side of each, 0 where it ships as the plan says
    formats : places in the catalogue's order
    losses : dB that may go for the download
    """
    arrival = arrival_as(plan, np.arange(len(plan.formats)), sides, formats)
    estimates, sampled = _packed(plan.inventory, plan.target, arrival, formats, shares, losses)
    return arrival, corrected(estimates, formats, sampled, plan.forecast.factors)


def arrival_as(plan: Plan, rows: Ints, sides: Ints, formats: Ints) -> Arrival:
    """Return how some of a plan's textures would arrive under a cap each and in another format; all arrays (R,)."""
    inventory, a = plan.inventory, plan.arrival
    capped = fit_side(inventory.width[rows], inventory.height[rows], np.maximum(1, sides))
    width, height = (
        np.where(sides > 0, small, now[rows]) for small, now in zip(capped, (a.width, a.height), strict=True)
    )
    levels = np.where((sides > 0) & (plan.settings[SetLevels][rows] != 0), 0, a.levels[rows])
    return arrive(plan.target, width, height, levels, formats, inventory.column("slices")[rows])


def scales_of(inventory: Inventory, arrival: Arrival) -> Ints:
    """Return how often each texture's source was halved to what ships, rounded to whole steps."""
    source = np.maximum(inventory.width, inventory.height)
    ships = np.maximum(1, np.maximum(arrival.width, arrival.height))
    steps: Ints = np.rint(np.log2(np.maximum(1.0, source / ships))).astype(np.int64)
    return np.minimum(steps, SCALES - 1)


def missing_of(plan: Plan, shares: PackedShares) -> list[Key]:
    """Return what would have to be measured on samples for a plan's package to guess nothing."""
    scale, method = scales_of(plan.inventory, plan.arrival), plan.target.packing.method
    deeper = np.where(plan.arrival.levels > 1, np.minimum(scale + 1, SCALES - 1), scale)
    return list(
        dict.fromkeys(shares.missing(plan.formats, scale, method) + shares.missing(plan.formats, deeper, method))
    )


def file_bytes(inventory: Inventory, target: Target, arrival: Arrival, formats: Ints) -> Ints:
    """Return the bytes of each texture's file, as it ships."""
    found, slices = arrival.stored.copy(), inventory.column("slices")
    for place in np.unique(formats):
        mine = formats == place
        sizes = (column[mine] for column in (arrival.width, arrival.height, arrival.levels, slices))
        found[mine] += bytes_beside(target.container, FORMATS[ORDER[place]], *sizes)
    return found


def _packed(
    inventory: Inventory,
    target: Target,
    arrival: Arrival,
    formats: Ints,
    shares: PackedShares,
    losses: NDArray[np.float64],
) -> tuple[NDArray[np.float64], Flags]:
    """Return about how many bytes each texture takes in the package, and whether that is told from a sample.

    Smaller levels pack like the picture at their own scale.
    """
    scale, method = scales_of(inventory, arrival), target.packing.method
    share, sampled = shares.of(formats, scale, method)
    below, _ = shares.of(formats, np.minimum(scale + 1, SCALES - 1), method)
    # Three quarters of a chain's bytes are in its first level.
    share = np.where(arrival.levels > 1, 0.75 * share + 0.25 * below, share)
    return arrival.stored * share.astype(np.float64) * left_of(formats, losses), sampled


def limits_of(plan: Plan) -> list[Standing]:
    """Return how a plan stands against each limit of its target."""
    standings = [Standing(line, plan.total(line), limit, True) for line, limit in plan.target.limit_bytes.items()]
    longest = int(np.maximum(plan.arrival.width, plan.arrival.height).max()) if len(plan.formats) else 0
    return standings + counted(plan.target, plan.inventory, longest)


def counted(target: Target, inventory: Inventory, longest: int) -> list[Standing]:
    """Return how an inventory stands against the limits that are not of bytes; `longest` is the longest side shipped."""
    limits = target.limits
    found = [Standing("longest-side", longest, limits.longest_side, False)] if limits.longest_side and longest else []
    if inventory.models:
        for line, value in (
            ("materials", inventory.materials),
            ("triangles", inventory.triangles),
            ("draws", inventory.draws),
        ):
            limit = getattr(limits, line)
            if limit is not None:
                found.append(Standing(line, value, limit, False))
    return found


@dataclass(frozen=True)
class Standing:
    """A total against its limit; `in_bytes` says what it counts."""

    line: str
    value: int
    limit: int
    in_bytes: bool

    @property
    def over(self) -> bool:
        return self.value > self.limit


def weigh_rows(plan: Plan, rows: NDArray[np.int64], line: str) -> int:
    """Return the sum of a line over some rows."""
    return int(plan.line(line)[rows].sum())
