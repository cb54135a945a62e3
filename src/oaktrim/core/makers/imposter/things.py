"""What imposters could be made of in a job: objects that are far away, and settings that suit how large they are seen."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, log2

from oaktrim.core.makers.imposter.settings import Chain, Family, Imposter, SheetMap
from oaktrim.core.survey.facts import ModelFacts
from oaktrim.core.survey.findings.structure import is_far
from oaktrim.core.survey.inventory import Inventory

# A thing that is seen higher than so many pixels is baked as a cloud of as many cards; below the last, as two crossed ones.
_SIZE_CLASSES = ((96, 48), (48, 24), (24, 12))
_LEAST_SIDE, _MOST_SIDE = 64, 2048
# Texels along a side of the sheet to each pixel of height: cards of several sides share it.
_TEXELS_A_PIXEL = 4.0


@dataclass(frozen=True)
class Thing:
    """A model or an object of one.

    Parameters
    ----------
    model : its path; node : the object's name, empty for all of the model
    triangles : that it is drawn with; share : of the screen's height at most, -1 where no camera of its scene says
    """

    model: str
    node: str
    triangles: int
    share: float

    @property
    def key(self) -> tuple[str, tuple[str, ...]]:
        """What tells it: the path of its model, and the names of its nodes."""
        return self.model, (self.node,) if self.node else ()

    @property
    def name(self) -> str:
        """What it is called."""
        return self.node or self.model.rpartition("/")[2].rpartition(".")[0]


def things_of(inventory: Inventory) -> list[Thing]:
    """Return what imposters could be made of: whole models, and the objects of those that have several."""
    found = []
    for model in inventory.models:
        rows = [row for row in model.objects if row.triangles]
        if rows:
            shares = [row.largest for row in rows]
            found.append(Thing(model.path, "", sum(row.triangles for row in rows), max(shares)))
        names = [row.name for row in rows]
        if len(rows) > 1:
            found += [
                Thing(model.path, row.name, row.triangles, row.largest)
                for row in rows
                if row.name and names.count(row.name) == 1
            ]
    return found


def far_things(inventory: Inventory) -> list[Thing]:
    """Return the objects that no camera of their scene ever sees large."""
    far = {(model.path, row.name) for model in inventory.models for row in model.objects if is_far(row)}
    found = things_of(inventory)
    return [row for row in found if (row.model, row.node or _only_object(inventory, row.model)) in far]


def _only_object(inventory: Inventory, path: str) -> str:
    model: ModelFacts = next(row for row in inventory.models if row.path == path)
    rows = [row for row in model.objects if row.triangles]
    return rows[0].name if len(rows) == 1 else ""


def advised(thing: Thing, lines: int, chain: bool = True) -> Imposter:
    """Return settings for a thing by how high it is seen, on a screen of so many lines; named by the caller."""
    pixels = thing.share * lines if thing.share > 0 else lines / 4
    cards = next((count for height, count in _SIZE_CLASSES if pixels > height), 0)
    side = 2 ** ceil(log2(max(1.0, pixels * _TEXELS_A_PIXEL)))
    return Imposter(
        "imposter",
        thing.model,
        nodes=thing.key[1],
        family=Family.CLOUD if cards else Family.CARDS,
        cards=max(1, cards),
        size=min(_MOST_SIDE, max(_LEAST_SIDE, side)),
        outline=8,
        maps=(SheetMap.BASE, SheetMap.NORMAL, SheetMap.ORM),
        chain=Chain(min(4.0, max(thing.share * 1.05, 8 / lines)) if thing.share > 0 else 0.1) if chain else None,
    )
