"""Models, materials and what uses what."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from oaktrim.core.survey.facts import ModelFacts, ObjectFacts
from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity
from oaktrim.core.survey.inventory import counts_of
from oaktrim.core.targets.lines import LINES, Unit
from oaktrim.core.units import bytes_text

# An object that is never taller than this part of the picture is far: 64 lines of 1080.
_FAR = 64 / 1080
_FAR_TRIANGLES = 500
# Draws that merging spares at least, and tiles of a texture that can be written out in an atlas.
_LEAST_SPARED, _MOST_TILES = 2, 8


def duplicate_materials(context: RuleContext) -> Iterator[Finding]:
    """Materials that are the same but for their names."""
    models = context.inventory.models
    groups: dict[str, list[tuple[int, str]]] = defaultdict(list)
    for place, model in enumerate(models):
        for material in model.materials:
            groups[material.content].append((place, material.name))
    told: dict[int, list[str]] = defaultdict(list)
    for rows in groups.values():
        first_place, first = rows[0]
        for place, name in rows[1:]:
            where = "" if place == first_place else f" of {models[first_place].path}"
            told[place].append(f"{name!r} is the same as {first!r}{where}")
    for place, texts in told.items():
        yield context.finding(
            "duplicate-material",
            Severity.WARNING,
            models[place].path,
            f"{'; '.join(texts[:6])}{' and more' if len(texts) > 6 else ''}: each is a draw of its own",
            0,
            "let the objects share one material",
        )


def mergeable(model: ModelFacts) -> dict[str, list[str]]:
    """Return the names of materials that could be one, by how they are drawn; those that tile their texture often cannot."""
    ways: dict[str, list[str]] = defaultdict(list)
    for material in model.materials:
        if material.drawn and 0 < material.spread <= _MOST_TILES:
            ways[material.drawn].append(material.name)
    return {way: names for way, names in ways.items() if len(names) > 1}


def mergeable_materials(context: RuleContext) -> Iterator[Finding]:
    """Materials of a model that could be one, with their maps in one sheet."""
    for model in context.inventory.models:
        merged = mergeable(model)
        spared = sum(len(names) - 1 for names in merged.values())
        if spared < _LEAST_SPARED or model.path in context.inventory.made:
            continue
        drawn = sum(material.spread > 0 for material in model.materials)
        parts = "; ".join(f"{len(names)} that are {way}: {_listed(names)}" for way, names in merged.items())
        yield context.finding(
            "mergeable-materials",
            Severity.NOTE,
            model.path,
            f"{drawn} materials could be {drawn - spared}, each a draw: {parts}",
            0,
            "merge them into an atlas",
            Fix(Remedy.ATLAS),
        )


def over_counts(context: RuleContext) -> Iterator[Finding]:
    """More materials, triangles or draw calls than the target allows."""
    i = context.inventory
    for line in LINES.values():
        limit = context.target.limits.of(line.name)
        if limit is None or line.unit is not Unit.COUNT:
            continue
        total = line.count(context.counts or i.counts)
        if total <= limit:
            continue
        each = [line.count(counts_of([model])) for model in i.models]
        most = each.index(max(each))
        yield context.finding(
            f"over-{line.name}",
            Severity.ERROR,
            i.models[most].path,
            f"the job has {total:,} {line.label} and {context.target.name} takes {limit:,}; most are here, {each[most]:,}",
            0,
            line.remedy,
        )


def unused_textures(context: RuleContext) -> Iterator[Finding]:
    """No material uses a texture, where there are models."""
    i = context.inventory
    if not i.models:
        return
    for row, texture in enumerate(i.textures):
        if row not in i.ownership.owners and texture.path not in i.made:
            yield context.finding(
                "unused-texture",
                Severity.NOTE,
                texture.path,
                "no material of any model uses it: if code does not load it by name, it ships for nothing",
                context.memory(row),
                "take it out of the tree, or leave it out by a pattern",
            )


def is_far(row: ObjectFacts) -> bool:
    """Say whether no camera of its scene ever sees an object large, and it has enough triangles for an imposter to pay."""
    return bool(0 <= row.largest < _FAR and row.triangles >= _FAR_TRIANGLES)


def far_objects(context: RuleContext) -> Iterator[Finding]:
    """Objects that no camera of their scene ever sees large."""
    i = context.inventory
    for place, model in enumerate(i.models):
        for row in model.objects:
            if not is_far(row) or any(d.stands_for(model.path, row.name) for d in context.inventory.made.values()):
                continue
            worn = {texture for material in row.materials for texture in i.ownership.rows_of[place, material]}
            memory = sum(context.memory(texture) for texture in worn)
            yield context.finding(
                "far-object",
                Severity.NOTE,
                model.path,
                f"{row.name} is at most {row.largest * 1080:.0f} of 1,080 lines high at any camera of the scene, with "
                f"{row.triangles:,} triangles and {bytes_text(memory)} of textures",
                memory,
                "replace it by an imposter",
                Fix(Remedy.IMPOSTER),
            )


def tiling_uvs(context: RuleContext) -> Iterator[Finding]:
    """UVs outside one tile, which forbid an atlas."""
    for model in context.inventory.models:
        names = [m.name for m in model.materials if any(slot.tiles for slot in m.slots)]
        if names:
            yield context.finding(
                "tiling-uvs",
                Severity.NOTE,
                model.path,
                f"the UVs of {_listed(names)} go beyond 0 to 1: these textures repeat, and cannot go into an atlas as they are",
                0,
                "leave them out of atlases, or bake the repeats",
            )


def overlapping_uvs(context: RuleContext) -> Iterator[Finding]:
    """UVs that cover a place twice."""
    for model in context.inventory.models:
        names = [material.name for material in model.materials if material.overlapping]
        if names:
            yield context.finding(
                "overlapping-uvs",
                Severity.NOTE,
                model.path,
                f"triangles of {_listed(names)} share places of their texture: good for size, but nothing can be baked there",
                0,
                "unwrap a second UV set before baking",
            )


def model_faults(context: RuleContext) -> Iterator[Finding]:
    """Parts of a model that cannot be read."""
    for model in context.inventory.models:
        if model.faults:
            more = f"; and {len(model.faults) - 4} more" if len(model.faults) > 4 else ""
            yield context.finding(
                "model-fault",
                Severity.ERROR,
                model.path,
                "; ".join(model.faults[:4]) + more,
                0,
                "export the model again",
            )


def _listed(names: list[str]) -> str:
    return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
