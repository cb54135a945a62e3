"""Atlases as a kind of maker: sheets by map, and models that read them, in the place of what they are made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from math import floor, log2
from pathlib import PurePosixPath
from typing import Any
from urllib.parse import quote

import msgspec
import numpy as np

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.makers.atlas.contents import Gathered
from oaktrim.core.makers.atlas.making import Links, atlas_json, lay_out, made
from oaktrim.core.makers.atlas.naming import SheetName, model_names, sheet_names, sheet_uri
from oaktrim.core.makers.atlas.opened import Pictures, gathered_of, picture_of_facts, pictures_read_by
from oaktrim.core.makers.atlas.reading import SourcePicture
from oaktrim.core.makers.atlas.settings import Atlas
from oaktrim.core.makers.atlas.sheets import materials_of, shift_of
from oaktrim.core.makers.firstformat import format_of_all
from oaktrim.core.makers.names import folder_of, safe
from oaktrim.core.makers.registry import FirstCut, MakerContext, MakerKind
from oaktrim.core.makers.sourcemodel import SourceModel, image_path, model_at, model_in
from oaktrim.core.pixels.image import Image
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.scene.model import AlphaMode
from oaktrim.core.survey.derived import Derivation, Output, Sources
from oaktrim.core.survey.products import Products
from oaktrim.core.survey.roles import Role

# Of a level, by which a sheet may have more than its sources ship with.
_OVER = 0.35


@dataclass(frozen=True)
class AtlasDerivation(Derivation):
    """How an atlas is made.

    Parameters
    ----------
    outputs : its sheets; inputs : paths of the pictures that the merged materials read
    about : what is known of every picture that its models read, by path
    """

    atlas: Atlas
    sheets: tuple[Output, ...]
    merged: tuple[str, ...]
    about: Mapping[str, SourcePicture]

    kind = "atlas"
    costly = True

    @property
    def name(self) -> str:
        return self.atlas.name

    @property
    def outputs(self) -> tuple[Output, ...]:
        return self.sheets

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.merged

    @property
    def models(self) -> tuple[str, ...]:
        return self.atlas.source_models

    @property
    def replaces(self) -> Mapping[str, str]:
        names = model_names(self.atlas)
        return {path: f"{name}.glb" for path, name in zip(self.atlas.source_models, names, strict=True)}

    def settings_key(self) -> bytes:
        return msgspec.json.encode(self.atlas)

    def make(self, sources: Sources) -> Task[Products]:
        models = tuple(model_at(sources.root, path) for path in self.atlas.source_models)
        gathered = gathered_of(models, self.atlas, self._about)
        plan = yield from lay_out(gathered, self.atlas)
        result = yield from made(plan, Pictures(sources.picture), self._links(models))
        written = {self.replaces[path]: again.glb() for path, again in result.models.items()}
        return Products(result.sheets, written, {f"{self.name}.atlas.json": atlas_json(result)})

    def _about(self, path: str) -> SourcePicture:
        if path not in self.about:
            raise FileError(path, "cannot go into an atlas")
        return self.about[path]

    def _links(self, models: tuple[SourceModel, ...]) -> Links:
        """Name images by the way from the new model to textures of the inventory."""
        opened = {model.path: model for model in models}

        def sheet(model: str, name: SheetName, _: Image) -> dict[str, Any]:
            return {"uri": quote(sheet_uri(self.replaces[model], name.path)), "name": name.path}

        def rest(model: str, place: int) -> dict[str, Any]:
            return {"uri": quote(sheet_uri(self.replaces[model], image_path(opened[model], place)))}

        return Links(sheet, rest)


class AtlasKind(MakerKind[Atlas]):
    """The materials of models as one."""

    settings = Atlas
    label = "atlases"
    name_pattern = "{folder}/{model}_atlas"
    name_fields = ("folder", "model")

    def origin(self, maker: Atlas) -> str:
        return ", ".join(maker.source_models)

    def name_values(self, maker: Atlas, context: MakerContext) -> dict[str, object]:
        return {"folder": folder_of(maker.source_models), "model": safe(PurePosixPath(maker.source_models[0]).stem)}

    def derivation(self, maker: Atlas, context: MakerContext) -> Derivation:
        look = gathered_in(context, maker)
        if not look.groups:
            reasons = "; ".join(f"{note.material.name}: {note.reason}" for note in look.notes if note.reason)
            raise Unsupported(f"no material can go into an atlas: {reasons[:600] or 'nothing is drawn'}")
        pictures = {
            row.picture.path: row.picture for material in look.sources.materials for row in material.maps.values()
        }
        merged = {
            row.picture.path for note in look.notes if note.taken for row in note.material.maps.values()
        }  # fmt: skip
        outputs = tuple(
            Output(
                name.path, name.kind.role, f"{name.kind.ending} map of an atlas",
                channels=name.kind.channels(look.groups[name.group].alpha is not AlphaMode.OPAQUE),
            )
            for name in sheet_names(look, maker)
        )  # fmt: skip
        return AtlasDerivation(maker, outputs, tuple(sorted(merged)), pictures)

    def first_cuts(self, maker: Atlas, plan: Plan, context: MakerContext) -> list[FirstCut]:
        """Keep the format that most texels of a kind of map ship as, and no more texels than they ship with, in whole levels."""
        inventory = plan.inventory
        facts = {row.path: row for row in inventory.textures}
        roles = {row.path: guess.role for row, guess in zip(inventory.textures, inventory.roles, strict=True)}
        look = gathered_in(MakerContext(inventory.root, context.makers, context.layouts, facts, roles), maker)
        found = []
        for name in sheet_names(look, maker):
            group = look.groups[name.group]
            slots = [slot for slot, _ in name.kind.slots]
            uses = [
                row for material in materials_of(look, group) for slot, row in material.maps.items() if slot in slots
            ]
            rows = inventory.rows(sorted({row.picture.path for row in uses}))
            if not len(rows):
                continue
            shipped = plan.footprint.width[rows].astype(np.float64) * plan.footprint.height[rows]
            whole = maker.size >> shift_of(name.kind, look, group)
            # Of a sheet as high as wide, and a little over.
            levels = floor(log2(float(shipped.sum()) / max(1, whole * whole)) / 2 + _OVER)
            names = [ORDER[plan.formats[rows[place]]] for place in np.argsort(-shipped, kind="stable")]
            alpha = name.kind.channels(group.alpha is not AlphaMode.OPAQUE) == 4
            side = max(1, whole >> -levels) if whole and levels < 0 else 0
            found.append(FirstCut(name.path, side, format_of_all(plan, names, name.kind.role, alpha)))
        return found


def gathered_in(context: MakerContext, maker: Atlas) -> Gathered:
    """Return what goes into an atlas of a job.

    Raises
    ------
    OakTrimError : a model cannot be read
    """
    models = tuple(model_in(context.root, path) for path in maker.source_models)
    known: list[tuple[str, SourcePicture]] = []
    for path in dict.fromkeys(path for model in models for path in pictures_read_by(model)):
        facts = context.facts.get(path)
        if facts is not None:
            known.append((path, picture_of_facts(path, facts, context.roles.get(path, Role.UNKNOWN))))
    return _gathered(models, maker, tuple(known))


@lru_cache(maxsize=4)
def _gathered(models: tuple[SourceModel, ...], maker: Atlas, known: tuple[tuple[str, SourcePicture], ...]) -> Gathered:
    """Return what goes into an atlas; the last are kept, as every change of a job asks for them."""
    pictures = dict(known)

    def about(path: str) -> SourcePicture:
        if path not in pictures:
            raise FileError(path, "is not among the textures that were found")
        return pictures[path]

    return gathered_of(models, maker, about)
