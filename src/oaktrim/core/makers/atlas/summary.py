"""What an atlas changes: draws, materials, vertices and texture memory, before and after."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass
from typing import Any

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.atlas.contents import Gathered
from oaktrim.core.makers.atlas.making import AtlasMade
from oaktrim.core.pixels.levels import level_count

_PLAIN, _COMPRESSED = FORMATS["rgba8"], FORMATS["bc7"]


@dataclass(frozen=True)
class Weighed:
    """What models take, each model and each picture counted once.

    Parameters
    ----------
    draws, materials, vertices : of the models' meshes
    textures : pictures that their materials read; plain_bytes : of these in RGBA8 with all levels; block_bytes : in BC7
    """

    draws: int
    materials: int
    vertices: int
    textures: int
    plain_bytes: int
    block_bytes: int


@dataclass(frozen=True)
class Change:
    """Models before and after an atlas.

    Parameters
    ----------
    seams : vertices added where islands were parted; apart : draws that could not become one with others of their material
    """

    before: Weighed
    after: Weighed
    seams: int
    apart: int

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return asdict(self)


def change_of(made: AtlasMade) -> Change:
    """Return what an atlas changes."""
    gathered = made.laid_out.gathered
    models = made.models.values()
    left = {note.material.path for note in gathered.notes if not note.taken}
    sheets = {path: image.size for path, image in made.sheets.items()}
    before = _weighed((row.before for row in models), _pictures(gathered))
    after = _weighed((row.after for row in models), _pictures(gathered, left) | sheets)
    return Change(before, after, sum(row.seams for row in models), sum(row.apart for row in models))


def _pictures(gathered: Gathered, of: set[str] | None = None) -> dict[str, tuple[int, int]]:
    """Return the sizes of the pictures that materials read, all where none are named."""
    return {
        row.picture.path: row.picture.size
        for material in gathered.sources.materials
        if of is None or material.path in of
        for row in material.maps.values()
    }


def _weighed(counts: Iterable[Any], pictures: Mapping[str, tuple[int, int]]) -> Weighed:
    rows = list(counts)
    plain, compressed = (
        sum(form.mip_chain_bytes(w, h, level_count(w, h)) for w, h in pictures.values())
        for form in (_PLAIN, _COMPRESSED)
    )
    return Weighed(
        sum(row.draws for row in rows), sum(row.materials for row in rows), sum(row.vertices for row in rows),
        len(pictures), plain, compressed,
    )  # fmt: skip
