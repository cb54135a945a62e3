"""The survey as one self-contained HTML page: rulers, planks, findings with pictures, and a table that sorts."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable
from importlib.resources import files
from typing import Any

import numpy as np
from jinja2 import Environment, StrictUndefined

from oaktrim.core.errors import shown
from oaktrim.core.files.pictures import png_bytes
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.image import Pixels
from oaktrim.core.plan.breakdown import Grouping, asset_costs, breakdown
from oaktrim.core.plan.checks import label_of
from oaktrim.core.plan.otherfacts import ships_as
from oaktrim.core.plan.report import Survey, ships_at
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.plan.status import BudgetStatus, limits_of
from oaktrim.core.survey.roles import Family
from oaktrim.core.units import bytes_text, size_text

_MOST_FINDINGS = 400
# Shares of the whole under which boards stand together, and under which they bear no text.
_LEAST_SHARE, _ROOM_FOR_TEXT = 0.005, 0.03
_LEVELS = ("scene", "object", "material", "texture")


def _percent(value: float) -> str:
    return f"{value * 100:.3f}%"


def _ruler(plan: Plan, before: Plan, status: BudgetStatus) -> dict[str, Any]:
    """Return what a ruler draws, in parts of its length."""
    line, value, limit, gap = status.words(plan.target)
    said = {"line": line, "over": status.over, "value": value, "limit": limit}
    if not status.line.in_bytes:
        return said
    name = status.line.name
    span = 1.12 * max(status.limit, status.value, min(before.total(name), 3 * status.limit))
    strips, at = [], 0.0
    for family in Family:
        part = plan.by_family(name).get(family.value, 0) / span
        if part:
            strips.append({"family": family.value, "left": _percent(at), "width": _percent(part)})
            at += part
    return {
        **said,
        "gap": gap,
        "strips": strips,
        "notch": _percent(status.limit / span),
        "now": _percent(min(1.0, before.total(name) / span)),
        "estimated": status.line.estimated,
    }


def _board(name: str, cost: float, left: float, total: float, family: str) -> dict[str, Any]:
    label, share = f"{name} {bytes_text(round(cost))}", cost / total
    place = {"left": _percent(left), "width": _percent(share), "family": family, "label": label}
    return {**place, "text": label if share >= _ROOM_FOR_TEXT else ""}


def _planks(plan: Plan) -> list[list[dict[str, Any]]]:
    """Return the rows of planks by owner on texture memory; boards under half a percent make up one remainder."""
    tree = breakdown(plan.inventory, Grouping.OWNER)
    costs = tree.costs(asset_costs(plan, "memory"))
    below, total = tree.children(), float(costs[0]) or 1.0
    rows, spans = [], [(0, 0.0)]
    for _ in _LEVELS:
        row, deeper = [], []
        for board, start in spans:
            left, small = start, []
            for child in sorted(below[board], key=lambda b: -costs[b]):
                cost, asset = float(costs[child]), tree.asset[child]
                if cost < _LEAST_SHARE * total:
                    small.append(cost)
                    continue
                family = str(plan.inventory.families[asset]) if asset >= 0 else ""
                row.append(_board(tree.names[child], cost, left, total, family))
                deeper.append((child, left))
                left += cost / total
            if sum(small) >= _LEAST_SHARE * total / 2:
                row.append(_board(f"{np.count_nonzero(small)} smaller", sum(small), left, total, "rest"))
        rows.append(row)
        spans = deeper
    return rows


def as_html(found: Survey, picture: Callable[[int], Pixels | None]) -> bytes:
    """Return the survey as a page that needs nothing beside it.

    Parameters
    ----------
    picture : a small picture of a texture (h, w, 4) uint8, by its row; None where there is none
    """
    inventory = found.inventory
    before = [resolve(inventory, plan.target) for plan in found.plans]

    def image(path: str) -> str:
        row = inventory.row_of.get(path)
        codes = picture(row) if row is not None else None
        return "" if codes is None else "data:image/png;base64," + base64.b64encode(png_bytes(codes)).decode()

    listed = found.findings[:_MOST_FINDINGS]
    page = {
        "root": shown(inventory.root),
        "made": time.strftime("%Y-%m-%d %H:%M"),
        "checked": found.checked,
        "targets": [
            {"name": p.target.name, "about": p.target.about, "rulers": [_ruler(p, b, s) for s in limits_of(p)]}
            for p, b in zip(found.plans, before, strict=True)
        ],
        "planks": [{"name": plan.target.name, "rows": _planks(plan)} for plan in found.plans],
        "levels": _LEVELS,
        "findings": [
            {
                "label": label_of(f.code),
                "severity": f.severity.value,
                "path": f.path,
                "message": f.message,
                "bytes": bytes_text(f.bytes) if f.bytes else "",
                "remedy": f.remedy,
                "picture": image(f.path),
            }
            for f in listed
        ],
        "unlisted": len(found.findings) - len(listed),
        "columns": [plan.target.name for plan in found.plans],
        "rows": [_row(found, row) for row in found.rows],
        "others": [_other(found, place) for place in found.others],
        "families": [family.value for family in Family],
    }
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    template = (files("oaktrim.core.plan") / "page.html").read_text()
    return environment.from_string(template).render(**page).encode("utf-8", "backslashreplace")


def _row(found: Survey, row: int) -> dict[str, Any]:
    texture = found.inventory.textures[row]
    targets = []
    for plan in found.plans:
        width, height, _, name = ships_at(plan, row)
        memory, package = int(plan.footprint.memory[row]), int(plan.package[row])
        targets.append(
            _cells(f"{size_text(int(str(width)), int(str(height)))} {FORMATS[str(name)].label}", memory, package)
        )
    role = found.inventory.roles[row].role
    return {
        "path": texture.path,
        "role": role.label,
        "size": size_text(texture.width, texture.height),
        "pixels": texture.width * texture.height,
        "targets": targets,
    }


def _other(found: Survey, place: int) -> dict[str, Any]:
    row, first = found.inventory.others[place], found.plans[0].others.recipes
    recipe = first.get(row.path)
    return {
        "path": row.path,
        "role": row.family.value if recipe is None else recipe.role.label,
        "size": bytes_text(row.bytes),
        "bytes": row.bytes,
        "targets": [
            _cells(ships_as(p, place), int(p.others.sounds[place]), int(p.others.package[place])) for p in found.plans
        ],
    }


def _cells(ships: str, memory: int, package: int) -> dict[str, Any]:
    """Return what a table says of something on one target."""
    return {
        "ships": ships,
        "memory": bytes_text(memory),
        "memory_bytes": memory,
        "package": bytes_text(package),
        "package_bytes": package,
    }
