"""What a run came to: what was shipped against each limit of the target, and against what was forecast."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.status import BudgetStatus, statuses_of
from oaktrim.core.ship.manifest import Manifest
from oaktrim.core.targets.lines import LINES, Weights
from oaktrim.core.units import bytes_text


@dataclass(frozen=True)
class Shipped:
    """What a run did.

    Parameters
    ----------
    written, unchanged, removed : counts of textures and sounds; removed files were shipped earlier and are no longer in the plan
    beside : how many files were written that are no textures: models, their buffers, and what makers say
    statuses : what was shipped against the target's limits, measured
    """

    manifest: Manifest
    written: int
    unchanged: int
    removed: int
    beside: int
    statuses: tuple[BudgetStatus, ...]


def weigh(manifest: Manifest, plan: Plan) -> tuple[BudgetStatus, ...]:
    """Return what was shipped against each limit of the target, measured on the files.

    Of models that counts which is no image.
    """
    entries, heard = manifest.textures, manifest.sounds
    columns = [(e.memory, e.package, e.file_bytes, e.settings.levels) for e in entries]
    textures = Weights.of_textures(*np.array(columns, np.int64).reshape(-1, 4).T)
    rows = [(m.package, m.file_bytes, 0) for m in manifest.models] + [
        (s.package, s.file_bytes, s.memory) for s in heard
    ]
    rest = Weights.beside_textures(*np.array(rows, np.int64).reshape(-1, 3).T)

    def total(line: str) -> int:
        return int(LINES[line].weigh(textures).sum() + LINES[line].weigh(rest).sum())

    longest = max((max(entry.settings.width, entry.settings.height) for entry in entries), default=0)
    return tuple(statuses_of(plan, total, longest))


def forecast_missed(plan: Plan, statuses: Sequence[BudgetStatus]) -> str:
    """Say by how much the package was forecast wrong, where that is more than was stated; empty where it is not."""
    weighed = next((status.value for status in statuses if status.line.name == "package"), None)
    if weighed is None or not len(plan.package):
        return ""
    apart, stated = weighed - plan.total("package"), plan.uncertainty
    if abs(apart) <= stated:
        return ""
    way = "more" if apart > 0 else "less"
    return f"the package weighs {bytes_text(abs(apart))} {way} than forecast; ± {bytes_text(stated)} was stated"
