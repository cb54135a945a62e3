"""What sightlines say, as JSON of schema `oak-trim.sight/1`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np

from oaktrim.core.plan.resolve import Plan
from oaktrim.core.sight.residency import Residency
from oaktrim.core.sight.sightlines import Sightlines, Station
from oaktrim.core.survey.demand import Demand

SCHEMA = "oak-trim.sight/1"


def fits_of(plan: Plan, demand: Demand) -> np.ndarray:
    """Return whole levels to spare of what ships, (N,) floats, NaN where a texture is not seen."""
    inventory, footprint = plan.inventory, plan.footprint
    source = np.maximum(inventory.width, inventory.height)
    return demand.fit(np.maximum(footprint.width, footprint.height), source)


def texture_rows(plan: Plan, demand: Demand) -> list[dict[str, Any]]:
    """Return a row of facts for each texture that is seen, the one that lacks most first."""
    inventory, fits = plan.inventory, fits_of(plan, demand)
    rows = []
    for row in sorted(np.flatnonzero(demand.seen).tolist(), key=lambda r: (fits[r], inventory.textures[r].path)):
        texture = inventory.textures[row]
        wanted = demand.wanted(row, (texture.width, texture.height))
        distance = float(demand.distance[row])
        rows.append({
            "path": texture.path, "width": texture.width, "height": texture.height, "wanted": list(wanted),
            "side": demand.side(row, max(texture.width, texture.height)), "fit": int(fits[row]),
            "ships": [int(plan.footprint.width[row]), int(plan.footprint.height[row])],
            "seen_pixels": int(demand.pixels[row]), "estimated": bool(demand.estimated[row]),
            "without_levels": bool(plan.footprint.levels[row] <= 1),
            "most_demanding": {
                "station": demand.views[demand.view[row]], "distance": distance if np.isfinite(distance) else None,
                "object": demand.object[row],
            },
        })  # fmt: skip
    return rows


def as_json(
    plan: Plan, demand: Demand, stations: Sequence[Station], sightlines: Sightlines, walked: Sequence[Residency]
) -> bytes:
    """Return all of it."""
    document = {
        "schema": SCHEMA,
        "target": plan.target.id,
        "filtering": plan.target.filtering.value,
        "percentile": sightlines.percentile,
        "stations": [
            {
                "name": row.name, "eye": row.eye, "target": row.target, "yfov": row.yfov,
                "screen": list(row.screen or plan.target.screen), "scene": row.scene,
            }
            for row in stations
        ],
        "views": list(demand.views),
        "textures": texture_rows(plan, demand),
        "unseen": [plan.inventory.textures[row].path for row in np.flatnonzero(demand.unseen)],
        "residency": {
            found.name: [
                {"time": float(t), "wanted": int(w), "kept": int(k), "blurred": int(w - k), "loads": int(n), "late": float(s)}
                for t, w, k, n, s in zip(found.times, found.wanted, found.kept, found.loads, found.late, strict=True)
            ]
            for found in walked
        },
    }  # fmt: skip
    return msgspec.json.format(msgspec.json.encode(document), indent=2) + b"\n"
