"""From a job's cuts to a plan: what each texture ships as on a target, why, and what it costs; all in columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.files.pictures import bytes_beside
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.plan.cuts import (
    KINDS,
    SETTING_KINDS,
    Cap,
    Cut,
    Drop,
    KeepCoverage,
    SetFormat,
    SetLevels,
    SetLoss,
    TextureChange,
    losses_of,
)
from oaktrim.core.plan.forecast import Forecast, corrected, forecast, half_width
from oaktrim.core.plan.formatrules import Rules, apply_format_rules
from oaktrim.core.plan.modelrecipes import model_recipes
from oaktrim.core.plan.others import OtherPlan, other_plan
from oaktrim.core.plan.packing import CompressionRatios, Key, left_of, packing_name
from oaktrim.core.plan.rolerules import apply_rules
from oaktrim.core.plan.soundrules import sound_recipes
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.sample import SCALES
from oaktrim.core.survey.uses import error_metric_of
from oaktrim.core.targets.footprint import Flags, Ints, TargetFootprint, apply_target_rules, fit_side, left_out
from oaktrim.core.targets.lines import LINES
from oaktrim.core.targets.target import Target

NOT_CUT = -1


@dataclass(frozen=True)
class Recipe:
    """What one texture ships as on one target; `touched` where it is encoded anew."""

    path: str
    settings: EncodeSettings
    touched: bool


@dataclass(frozen=True)
class Plan:
    """All recipes of a target, a column each.

    Parameters
    ----------
    settings : the value that each kind of change leaves on each texture, -1 where there is none
    causes : the place in the cuts of what set it, likewise
    rules : the job's rules; rule : place of the role rule that made the texture smaller, -1 where none did
    overruled : a cut by hand stands in the place of a role rule
    format_rule, format_overruled : the same of format rules
    cut_width, cut_height : after cap and drop by hand; ruled_width, ruled_height : after the role rules too
    formats : places in the catalogue's order
    footprint : what the target makes of it
    forecast : bytes of each texture in the package, measured where it was really made and packed, estimated elsewhere
    others : what ships beside the textures
    demand : what sightlines ask for, where they were asked
    """

    target: Target
    inventory: Inventory
    cuts: tuple[Cut, ...]
    rules: Rules
    settings: dict[type, Ints]
    causes: dict[type, Ints]
    cut_width: Ints
    cut_height: Ints
    ruled_width: Ints
    ruled_height: Ints
    rule: Ints
    overruled: Flags
    format_rule: Ints
    format_overruled: Flags
    formats: Ints
    footprint: TargetFootprint
    forecast: Forecast
    others: OtherPlan
    demand: Demand | None = None
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

    # Its textures as `Weighed` has them.

    @property
    def memory(self) -> Ints:
        """Bytes of each texture on the target."""
        return self.footprint.memory

    @property
    def levels(self) -> Ints:
        """Levels that each texture ships with."""
        return self.footprint.levels

    @property
    def left_out(self) -> Flags:
        """Which textures do not ship, as only parts of models wear them that do not."""
        return self.others.models.textures

    @property
    def sounds(self) -> Ints:
        """Bytes of sounds in memory: none of a texture."""
        return self.footprint.memory * 0

    @cached_property
    def files(self) -> Ints:
        """Bytes of each texture's file, as it ships."""
        files = file_bytes(self.inventory, self.target, self.footprint, self.formats, self.forecast.package)
        return np.where(self.left_out, 0, files)

    def line(self, name: str) -> Ints:
        """Return what each texture adds to a limit counted in bytes."""
        if name not in self._columns:
            self._columns[name] = LINES[name].weigh(self)
        return self._columns[name]

    def total(self, name: str) -> int:
        """Return the sum of a line, meshes, clips and sounds counted."""
        if name not in self._totals:
            self._totals[name] = int(self.line(name).sum()) + sum(self._other_sums(name).values())
        return self._totals[name]

    def others_line(self, line: str) -> Ints:
        """Return what each mesh, clip and sound adds to a line, in the inventory's order."""
        return LINES[line].weigh(self.others.weights)

    def _other_sums(self, line: str) -> dict[str, int]:
        """Return what meshes, clips and sounds add to a line, by family."""
        found: dict[str, int] = {}
        for row, size in zip(self.inventory.others, self.others_line(line).tolist(), strict=True):
            found[row.family.value] = found.get(row.family.value, 0) + size
        return found

    @property
    def all_measured(self) -> bool:
        """No figure of the package is an estimate."""
        return bool(self.measured.all()) and not self.others.guessed

    @property
    def uncertainty(self) -> int:
        """By how many bytes the package may be off: nine of ten final figures lie within."""
        return half_width(self.forecast.spread, self.others.guessed)

    def by_family(self, name: str) -> dict[str, int]:
        """Return the sum of a line for each family of assets, families of nothing left out."""
        families, place = self.inventory.family_places
        sums = np.bincount(place, weights=self.line(name), minlength=len(families))
        found = {str(family): int(total) for family, total in zip(families, sums, strict=True)}
        found |= self._other_sums(name)
        return {family: total for family, total in found.items() if total}

    @cached_property
    def touched(self) -> Flags:
        """Which textures are encoded anew; the others ship as their file holds them, levels added to pictures."""
        kinds = (Cap, Drop, SetFormat, SetLevels, KeepCoverage)
        changed = (self.rule >= 0) | (self.format_rule >= 0)
        for kind in kinds:
            changed |= self.settings[kind] != NOT_CUT
        a = self.footprint
        same = (a.width == self.inventory.width) & (a.height == self.inventory.height)
        same &= (self.inventory.stored_levels == 0) | (a.levels == self.inventory.stored_levels)
        renewed: Flags = (changed & ~(same & (self.formats == self.inventory.natural))) | ~same
        return renewed

    def recipe(self, row: int) -> Recipe:
        """Return the recipe of one texture; `plan.ladder` says how it gets there."""
        return Recipe(self.inventory.textures[row].path, self.encode_settings(row), bool(self.touched[row]))

    def encode_settings(self, row: int) -> EncodeSettings:
        """Return how one texture is brought down and encoded."""
        a = self.footprint
        chosen: dict[str, Any] = {"error_metric": error_metric_of(self.inventory.roles[row].role)}
        place = int(self.format_rule[row])
        if place != NOT_CUT:
            rule = self.rules.formats[place]
            chosen |= {} if rule.effort is None else {"effort": rule.effort}
            chosen |= {} if rule.error_metric is None else {"error_metric": rule.error_metric}
        for kind in SETTING_KINDS:
            code = int(self.settings[kind][row])
            if code != NOT_CUT:
                chosen[kind.setting] = kind.value_of(code)
        size = int(a.width[row]), int(a.height[row]), int(a.levels[row])
        return EncodeSettings(*size, ORDER[self.formats[row]], **chosen)


# What stands in a plan until its textures are weighed.
_UNWEIGHED = forecast(np.zeros(0), np.zeros(0, np.int64), np.zeros(0, np.bool_), np.zeros(0, np.int64))


def resolve(
    inventory: Inventory,
    target: Target,
    cuts: Sequence[Cut] = (),
    ratios: CompressionRatios | None = None,
    rules: Rules = Rules(),
    demand: Demand | None = None,
) -> Plan:
    """Return what every texture ships as on a target.

    A later cut of one kind takes the place of an earlier one on the same texture. Cap and drop are different kinds:
    they add up, and the ladder says so.

    Parameters
    ----------
    ratios : how well the textures pack; guessed from the survey alone when left out
    rules : for textures whose size or format no cut says
    demand : what sightlines ask for on the target, where they were asked
    """
    count = len(inventory.textures)
    settings: dict[type, Ints] = {kind: np.full(count, NOT_CUT, np.int64) for kind in KINDS}
    causes: dict[type, Ints] = {kind: np.full(count, NOT_CUT, np.int64) for kind in KINDS}
    for place, cut in enumerate(cuts):
        if cut.is_for(target.id):
            change, kind = cut.change, type(cut.change)
            if not isinstance(change, TextureChange):
                continue
            rows = inventory.rows(cut.assets)
            settings[kind][rows] = change.code
            causes[kind][rows] = place
    caps, drops = settings[Cap], np.maximum(settings[Drop], 0)
    width, height = inventory.width, inventory.height
    width, height = fit_side(width, height, np.where(caps == NOT_CUT, np.maximum(width, height), caps))
    width, height = np.maximum(1, width >> drops), np.maximum(1, height >> drops)
    by_hand = (caps != NOT_CUT) | (settings[Drop] != NOT_CUT)
    ruled = apply_rules(inventory, target.id, rules.sizes, width, height, by_hand, demand)
    encoded = apply_format_rules(inventory, target, rules.formats, settings[SetFormat] != NOT_CUT)
    formats = np.where(encoded.formats == NOT_CUT, inventory.natural, encoded.formats)
    formats = np.where(settings[SetFormat] == NOT_CUT, formats, settings[SetFormat])
    # Stored levels are kept for as long as nothing but the format's place in the file is asked for.
    stored = np.maximum(inventory.stored_levels - drops, np.minimum(inventory.stored_levels, 1))
    as_stored = (caps == NOT_CUT) & (ruled.rule == NOT_CUT) & (settings[SetLevels] == NOT_CUT)
    levels = np.where(as_stored, stored, 0)
    levels = np.where(settings[SetLevels] == 0, 1, levels)
    footprint = apply_target_rules(target, ruled.width, ruled.height, levels, formats, inventory.column("slices"))
    ratios = ratios or CompressionRatios(inventory)
    recipes, models = sound_recipes(inventory, target.id, cuts, rules.sounds), model_recipes(inventory, target.id, cuts)
    if models.textures.any():
        footprint = left_out(footprint, models.textures)
    plan = Plan(
        target, inventory, tuple(cuts), rules, settings, causes, width, height, ruled.width, ruled.height,
        ruled.rule, ruled.overruled, encoded.rule, encoded.overruled, formats,
        footprint, _UNWEIGHED, other_plan(inventory, target, recipes, models, ratios),
        demand,
    )  # fmt: skip
    return _weighed(plan, ratios)


def reweighed(plan: Plan, ratios: CompressionRatios) -> Plan:
    """Return a plan with what is known by now of how well its textures and all else pack."""
    others = plan.others
    others = other_plan(plan.inventory, plan.target, others.recipes, others.models, ratios)
    return _weighed(replace(plan, others=others, _totals={}, _columns={}), ratios)


def _weighed(plan: Plan, ratios: CompressionRatios) -> Plan:
    models, losses = plan.others.models, losses_of(plan.settings[SetLoss])
    estimates, sampled = _packed(plan.inventory, plan.target, plan.footprint, plan.formats, ratios, losses)
    sizes = np.where(models.textures, 0, -1)
    if ratios.measured:
        rows = np.fromiter(ratios.measured, np.int64, len(ratios.measured))
        groups, endings = _recipe_endings(plan, rows)
        pairs = zip(ratios.measured.values(), groups.tolist(), strict=True)
        known = np.array([sizes_of.get(endings[group], -1) for sizes_of, group in pairs], np.int64)
        sizes[rows] = np.where(sizes[rows] < 0, known, sizes[rows])
    return replace(plan, forecast=forecast(estimates, plan.formats, sampled, sizes))


def _recipe_endings(plan: Plan, rows: Ints) -> tuple[Ints, list[str]]:
    """Return which textures are made alike, groups (R,), and what the recipes of each group say after the content."""
    a = plan.footprint
    columns = (plan.inventory.role_codes, a.width, a.height, a.levels, plan.formats, plan.format_rule)
    groups, count = np.zeros(len(rows), np.int64), 1
    for column in (*columns, *(plan.settings[kind] for kind in SETTING_KINDS)):
        values = column[rows] - column[rows].min()
        many = int(values.max()) + 1
        if count * many >= 1 << 62:
            groups = np.unique(groups, return_inverse=True)[1]
            count = int(groups.max()) + 1
        groups, count = groups * many + values, count * many
    _, first, groups = np.unique(groups, return_index=True, return_inverse=True)
    return groups, [recipe_key(plan, int(rows[place])).partition(" ")[2] for place in first]


def recipe_key(plan: Plan, row: int) -> str:
    """Return all that decides what a texture's shipped file holds and how it packs, as text."""
    return key_as(plan, row, plan.encode_settings(row))


def key_as(plan: Plan, row: int, settings: EncodeSettings) -> str:
    """Return the key of a texture that ships by other settings than its plan says."""
    target = plan.target
    return f"{content_key(plan.inventory, row, settings)} {target.container} {packing_name(target.packing)}"


def content_key(inventory: Inventory, row: int, settings: EncodeSettings) -> str:
    """Return all that decides what a texture holds once it is made, as text that begins with the content of its source."""
    return f"{inventory.textures[row].content} {inventory.roles[row].role.value} {settings.key}"


def estimate_sizes(
    plan: Plan, sides: Ints, formats: Ints, ratios: CompressionRatios, losses: NDArray[np.float64]
) -> tuple[TargetFootprint, Ints]:
    """Return how a plan's textures would arrive under a cap each and in another format, and their bytes in the package.

    Parameters
    ----------
    sides : longest side of each, 0 where it ships as the plan says
    formats : places in the catalogue's order
    losses : dB that may go for the download
    """
    footprint = footprint_as(plan, np.arange(len(plan.formats)), sides, formats)
    estimates, sampled = _packed(plan.inventory, plan.target, footprint, formats, ratios, losses)
    return footprint, corrected(estimates, formats, sampled, plan.forecast.factors)


def footprint_as(plan: Plan, rows: Ints, sides: Ints, formats: Ints) -> TargetFootprint:
    """Return how some of a plan's textures would arrive under a cap each and in another format; all arrays (R,)."""
    inventory, a = plan.inventory, plan.footprint
    capped = fit_side(inventory.width[rows], inventory.height[rows], np.maximum(1, sides))
    width, height = (
        np.where(sides > 0, small, now[rows]) for small, now in zip(capped, (a.width, a.height), strict=True)
    )
    levels = np.where((sides > 0) & (plan.settings[SetLevels][rows] != 0), 0, a.levels[rows])
    return apply_target_rules(plan.target, width, height, levels, formats, inventory.column("slices")[rows])


def scales_of(inventory: Inventory, footprint: TargetFootprint) -> Ints:
    """Return how often each texture's source was halved to what ships, rounded to whole steps."""
    source = np.maximum(inventory.width, inventory.height)
    ships = np.maximum(1, np.maximum(footprint.width, footprint.height))
    steps: Ints = np.rint(np.log2(np.maximum(1.0, source / ships))).astype(np.int64)
    return np.minimum(steps, SCALES - 1)


def missing_of(plan: Plan, ratios: CompressionRatios) -> list[Key]:
    """Return what would have to be measured on samples for a plan's package to guess nothing."""
    scale, method = scales_of(plan.inventory, plan.footprint), plan.target.packing.method
    deeper = np.where(plan.footprint.levels > 1, np.minimum(scale + 1, SCALES - 1), scale)
    return list(
        dict.fromkeys(ratios.missing(plan.formats, scale, method) + ratios.missing(plan.formats, deeper, method))
    )


def file_bytes(inventory: Inventory, target: Target, footprint: TargetFootprint, formats: Ints, package: Ints) -> Ints:
    """Return the bytes of each texture's file, as it ships, (N,).

    Parameters
    ----------
    formats : places in the catalogue, (N,)
    package : bytes in the package, (N,): what is packed in its file takes the same there
    """
    found, slices = footprint.stored.copy(), inventory.column("slices")
    for place in np.unique(formats):
        mine = formats == place
        sizes = (column[mine] for column in (footprint.width, footprint.height, footprint.levels, slices))
        row = FORMATS[ORDER[place]]
        found[mine] = (
            package[mine] if row.supercompressed else found[mine] + bytes_beside(target.container, row, *sizes)
        )
    return found


def _packed(
    inventory: Inventory,
    target: Target,
    footprint: TargetFootprint,
    formats: Ints,
    ratios: CompressionRatios,
    losses: NDArray[np.float64],
) -> tuple[NDArray[np.float64], Flags]:
    """Return about how many bytes each texture takes in the package, and whether that is told from a sample.

    Smaller levels pack like the picture at their own scale.
    """
    scale, method = scales_of(inventory, footprint), target.packing.method
    share, sampled = ratios.of(formats, scale, method)
    below, _ = ratios.of(formats, np.minimum(scale + 1, SCALES - 1), method)
    # Three quarters of a chain's bytes are in its first level.
    share = np.where(footprint.levels > 1, 0.75 * share + 0.25 * below, share)
    return footprint.stored * share.astype(np.float64) * left_of(formats, losses), sampled


def weigh_rows(plan: Plan, rows: NDArray[np.int64], line: str) -> int:
    """Return the sum of a line over some rows."""
    return int(plan.line(line)[rows].sum())
