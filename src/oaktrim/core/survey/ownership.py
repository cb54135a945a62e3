"""Who uses what: scenes, objects and materials over the textures that they use, and references that do not hold."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote

from oaktrim.core.errors import FileError
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.facts import MaterialFacts, ModelFacts, SlotFacts


@dataclass(frozen=True, slots=True)
class Owner:
    """One material's use of a texture: places of the model and of the material in it, and the slot."""

    model: int
    material: int
    slot: SlotFacts


@dataclass(frozen=True)
class ReferenceFault:
    """A reference of a model that does not hold: `broken-reference`, `letter-case` or `outside-root`."""

    path: str
    code: str
    message: str


@dataclass(frozen=True)
class Ownership:
    """All links between models and textures.

    Parameters
    ----------
    owners : by row of the texture; textures that no material uses are left out
    rows_of : by (model, material), the rows of the textures it uses, each once, in the order of its slots
    faults : references that do not hold
    """

    models: tuple[ModelFacts, ...]
    owners: Mapping[int, tuple[Owner, ...]]
    rows_of: Mapping[tuple[int, int], tuple[int, ...]]
    faults: tuple[ReferenceFault, ...]

    def material(self, owner: Owner) -> MaterialFacts:
        """Return the material of a use."""
        return self.models[owner.model].materials[owner.material]

    def slots_of(self, row: int) -> list[tuple[Slot, str, str]]:
        """Return what each use of a texture reads it as: slot, its name, and the material's name."""
        return [(o.slot.slot, o.slot.name, self.material(o).name) for o in self.owners.get(row, ())]

    def objects_of(self, owner: Owner) -> list[str]:
        """Return the names of the objects that have a use's material."""
        return [row.name for row in self.models[owner.model].objects if owner.material in row.materials]

    def users(self, row: int) -> list[str]:
        """Return the owners of a texture as paths: model, object and material; each once."""
        paths: dict[str, None] = {}
        for owner in self.owners.get(row, ()):
            model, material = self.models[owner.model].path, self.material(owner).name
            for name in self.objects_of(owner) or ["no object"]:
                paths[f"{model} > {name} > {material}"] = None
        return list(paths)

    def tiles(self, row: int) -> bool:
        """Say whether some use reads a texture beyond one tile."""
        return any(owner.slot.tiles for owner in self.owners.get(row, ()))


def link(root: Path, models: Sequence[ModelFacts], rows: Mapping[str, int], files: Mapping[str, str]) -> Ownership:
    """Return the links of models to textures.

    Parameters
    ----------
    rows : row of each texture by its path
    files : all files seen, true path by path in lower case
    """
    owners: dict[int, list[Owner]] = {}
    rows_of: dict[tuple[int, int], tuple[int, ...]] = {}
    faults: list[ReferenceFault] = []
    for place, model in enumerate(models):
        found = [_row_of(root, model, image.uri, image.held, rows, files, faults) for image in model.images]
        for number, material in enumerate(model.materials):
            mine: dict[int, None] = {}
            for slot in material.slots:
                row = found[slot.image] if 0 <= slot.image < len(found) else None
                if row is not None:
                    owners.setdefault(row, []).append(Owner(place, number, slot))
                    mine[row] = None
            rows_of[place, number] = tuple(mine)
    return Ownership(tuple(models), {row: tuple(o) for row, o in owners.items()}, rows_of, tuple(dict.fromkeys(faults)))


def _row_of(
    root: Path,
    model: ModelFacts,
    uri: str,
    held: str,
    rows: Mapping[str, int],
    files: Mapping[str, str],
    faults: list[ReferenceFault],
) -> int | None:
    """Return the row of the texture that an image of a model is; what does not hold is noted."""
    if not uri:
        return rows.get(held)
    try:
        target = ReferenceFolder(root, model.path).target_of(unquote(uri))
    except FileError as error:
        faults.append(ReferenceFault(model.path, "outside-root", f"{error.fault}: it is not followed"))
        return None
    true = files.get(target.lower())
    if true is None:
        faults.append(ReferenceFault(model.path, "broken-reference", f"refers to {uri!r}, which is not there"))
        return None
    if true != target and target not in rows:
        faults.append(
            ReferenceFault(
                model.path,
                "letter-case",
                f"refers to {uri!r}, and the file is {true!r}: on a disk that tells letter case it is not found",
            )
        )
        target = true
    return rows.get(target)
