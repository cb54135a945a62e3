"""The survey as a document: stable JSON for machines, and rows for a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import msgspec

from oaktrim.core.errors import shown
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.plan.checks import Checks
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.formatrules import Rules
from oaktrim.core.plan.measured import measured_plans
from oaktrim.core.plan.otherfacts import ships_as
from oaktrim.core.plan.query import Assets, select
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.plan.status import BudgetStatus, limits_of
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.progress import Task
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.findings.rules import Merged, merge
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.places import file_path
from oaktrim.core.targets.target import Target

SCHEMA = "oak-trim.survey/1"


@dataclass(frozen=True)
class Survey:
    """An inventory weighed on several targets.

    Parameters
    ----------
    suppressed : how many findings the job keeps quiet
    kept : the paths that a filter lets through, or None without one; totals are always of everything
    checks : what the job says of findings
    """

    inventory: Inventory
    plans: tuple[Plan, ...]
    findings: tuple[Merged, ...]
    suppressed: int = 0
    kept: frozenset[str] | None = None
    checks: Checks = field(default_factory=Checks)

    @property
    def rows(self) -> list[int]:
        """The textures that the filter lets through."""
        textures = self.inventory.textures
        return [row for row, t in enumerate(textures) if self.kept is None or t.path in self.kept]

    @property
    def others(self) -> list[int]:
        """The places of the meshes, clips and sounds that the filter lets through."""
        rows = enumerate(self.inventory.others)
        return [place for place, row in rows if self.kept is None or row.path in self.kept]

    @property
    def checked(self) -> dict[str, int]:
        """What was looked at and what is wrong, by what it is."""
        i = self.inventory
        wrong = {finding.path for finding in self.findings if finding.severity is not Severity.NOTE}
        return {
            "files": i.files,
            "textures": len(i.textures),
            "models": len(i.models),
            "audio": len(i.audio),
            "unreadable": len(i.unreadable),
            "wrong": len(wrong),
            "findings": len(self.findings),
            "suppressed": self.suppressed,
        }

    @property
    def over(self) -> bool:
        """Some limit of some target is passed."""
        return any(status.over for plan in self.plans for status in limits_of(plan))

    @property
    def grave(self) -> bool:
        """There is a finding of severity error."""
        return any(finding.severity is Severity.ERROR for finding in self.findings)


def survey(
    inventory: Inventory,
    targets: tuple[Target, ...],
    cache: SurveyCache,
    cuts: tuple[Cut, ...] = (),
    rules: Rules = Rules(),
    checks: Checks = Checks(),
    demands: Mapping[str, Demand] | None = None,
) -> Task[Survey]:
    """Weigh an inventory on targets; what the cuts ask for is really packed first, on samples.

    Parameters
    ----------
    demands : what sightlines ask for, by target, where they were asked
    checks : what the job says of findings
    """
    plans = yield from measured_plans(inventory, targets, cache, cuts, rules, demands)
    found = merge([findings_of(plan, checks) for plan in plans])
    heard = tuple(finding for finding in found if (finding.code, finding.path) not in checks.suppressed)
    return Survey(inventory, plans, heard, len(found) - len(heard), checks=checks)


def filtered(found: Survey, text: str) -> Survey:
    """Return a survey with only the assets and the findings that a filter keeps, seen on its first target.

    Raises
    ------
    QueryError : the filter cannot be understood
    """
    after = found.plans[0]
    now = resolve(found.inventory, after.target)
    heard = {(f.code, f.path) for f in found.findings}
    on_target = [f for f in findings_of(after, found.checks) if (f.code, f.path) in heard]
    assets = Assets(now, after, on_target)
    kept = frozenset(path for path, keep in zip(assets.paths, select(text, assets), strict=True) if keep)
    return replace(found, kept=kept, findings=tuple(f for f in found.findings if f.path in kept))


def _limit(plan: Plan, status: BudgetStatus) -> dict[str, object]:
    return {
        "line": status.line.name,
        "bytes" if status.line.in_bytes else "value": status.value,
        "limit": status.limit,
        "over": status.over,
        "estimated": status.line.estimated and not plan.all_measured,
    }


def ships_at(plan: Plan, row: int) -> list[object]:
    """Return width, height, levels and format of a texture on a plan's target."""
    a = plan.footprint
    return [int(a.width[row]), int(a.height[row]), int(a.levels[row]), ORDER[plan.formats[row]]]


def rules_of(plan: Plan, row: int) -> list[str]:
    """Return the rules that a texture ships by on a plan's target, in words."""
    size, encoded = int(plan.rule[row]), int(plan.format_rule[row])
    found = [] if size < 0 else [f"size: {plan.rules.sizes[size].label}"]
    return found if encoded < 0 else [*found, f"format: {plan.rules.formats[encoded].label}"]


def as_json(found: Survey) -> bytes:
    """Return the survey as JSON of schema `oak-trim.survey/1`."""
    inventory, plans = found.inventory, found.plans
    codes = _codes(found)
    document = {
        "schema": SCHEMA,
        "root": shown(inventory.root),
        "counts": found.checked,
        "targets": [{"id": plan.target.id, "limits": [_limit(plan, s) for s in limits_of(plan)]} for plan in plans],
        "textures": [
            {
                "path": texture.path,
                "width": texture.width,
                "height": texture.height,
                "channels": texture.channels,
                "bit_depth": texture.bit_depth,
                "orientation": texture.orientation,
                "ignored": list(texture.ignored),
                "role": inventory.roles[row].role.value,
                "memory": {plan.target.id: int(plan.footprint.memory[row]) for plan in plans},
                "package": {plan.target.id: int(plan.package[row]) for plan in plans},
                "ships_at": {plan.target.id: ships_at(plan, row) for plan in plans},
                "rules": {plan.target.id: rules_of(plan, row) for plan in plans},
                "used_by": inventory.ownership.users(row),
                "findings": codes.get(texture.path, []),
            }
            for row, texture in ((row, inventory.textures[row]) for row in found.rows)
        ],
        "others": [_other(plans, place, codes) for place in found.others],
        "findings": [
            {
                "code": finding.code,
                "severity": finding.severity.value,
                "path": finding.path,
                "message": finding.message,
                "bytes": finding.bytes,
                "remedy": finding.remedy,
                "targets": list(finding.targets),
            }
            for finding in found.findings
        ],
        "contents": contents_of(inventory),
        "unreadable": [{"path": row.path, "error": row.error} for row in inventory.unreadable],
        "made": [
            {"path": path, "kind": making.kind, "inputs": list(making.inputs)}
            for path, making in inventory.made.items()
        ],
        "unmade": [{"path": row.path, "error": row.error} for row in inventory.unmade],
    }
    return msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n"


def contents_of(inventory: Inventory) -> dict[str, str]:
    """Return a hash of what each surveyed file holds, by its path; of a model with all that it was read with."""
    textures = {row.path: row.content for row in inventory.textures if file_path(row.path) == row.path}
    sounds = {row.path: row.content for row in inventory.audio}
    return textures | sounds | {row.path: row.whole for row in inventory.models}


def _codes(found: Survey) -> dict[str, list[str]]:
    """Return the codes of the findings of each path."""
    codes: dict[str, list[str]] = {}
    for finding in found.findings:
        codes.setdefault(finding.path, []).append(finding.code)
    return codes


def _other(plans: tuple[Plan, ...], place: int, codes: Mapping[str, list[str]]) -> dict[str, object]:
    """Return what a mesh, a clip or a sound is, and what it weighs on each target."""
    row = plans[0].inventory.others[place]

    def on(column: str) -> dict[str, int]:
        return {plan.target.id: int(getattr(plan.others, column)[place]) for plan in plans}

    recipes = [(plan, plan.others.recipes.get(row.path), plan.others.models.settings.get(row.file)) for plan in plans]
    made = {
        plan.target.id: msgspec.to_builtins(recipe.settings if recipe is not None else trimmed)
        for plan, recipe, trimmed in recipes
    }
    told: dict[str, object] = {"path": row.path, "family": row.family.value, "about": row.about, "bytes": row.bytes}
    first = recipes[0][1]
    if first is not None:
        told["role"] = first.role.value
    told |= {"files": on("files"), "package": on("package"), "memory": on("sounds"), "settings": made}
    return told | {"findings": codes.get(row.path, [])}


def as_csv(found: Survey) -> bytes:
    """Return one row a texture, mesh, clip and sound, with columns of what it ships as and weighs on each target.

    What only textures have is empty in the other rows.
    """
    inventory, plans = found.inventory, found.plans
    codes = _codes(found)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    head = ["path", "family", "width", "height", "channels", "bit_depth", "role"]
    for plan in plans:
        head += [f"{plan.target.id}_{what}" for what in ("memory", "package", "ships_at", "format")]
    writer.writerow([*head, "findings"])
    for row in found.rows:
        texture = inventory.textures[row]
        line: list[object] = [texture.path, inventory.families[row]]
        line += [texture.width, texture.height, texture.channels, texture.bit_depth, inventory.roles[row].role.value]
        for plan in plans:
            width, height, _, name = ships_at(plan, row)
            line += [int(plan.footprint.memory[row]), int(plan.package[row]), f"{width}x{height}", name]
        writer.writerow([*line, " ".join(codes.get(texture.path, []))])
    for place in found.others:
        other = inventory.others[place]
        recipe = plans[0].others.recipes.get(other.path)
        line = [other.path, other.family.value, "", "", "", "", "" if recipe is None else recipe.role.value]
        for plan in plans:
            line += [int(plan.others.sounds[place]), int(plan.others.package[place]), "", ships_as(plan, place)]
        writer.writerow([*line, " ".join(codes.get(other.path, []))])
    return out.getvalue().encode("utf-8", "backslashreplace")
