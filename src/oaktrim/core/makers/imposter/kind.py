"""Imposters as a kind of maker: a sheet and a small model beside the one that it stands for, or that one with its levels."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import Any
from urllib.parse import quote

import msgspec
import numpy as np

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.makers.atlas.naming import sheet_uri
from oaktrim.core.makers.atlas.opened import Pictures
from oaktrim.core.makers.firstformat import format_of_all
from oaktrim.core.makers.imposter.chain import branches_of, chain_plan, chained
from oaktrim.core.makers.imposter.frames.glsl import shader_file
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.made import AnyMade, imposter_glb, imposter_json, imposter_of
from oaktrim.core.makers.imposter.settings import Imposter, SheetMap
from oaktrim.core.makers.imposter.subject import Subject, subject_of
from oaktrim.core.makers.names import folder_of, safe
from oaktrim.core.makers.registry import FirstCut, MakerContext, MakerKind
from oaktrim.core.makers.sourcemodel import SourceModel, image_path, model_at, model_in
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.scene.model import Model
from oaktrim.core.survey.derived import Derivation, Output, Sources
from oaktrim.core.survey.products import Products
from oaktrim.core.survey.roles import Role

_ROLES = {
    SheetMap.BASE: Role.BASE_COLOUR, SheetMap.NORMAL: Role.NORMAL, SheetMap.ORM: Role.SURFACE,
    SheetMap.EMISSIVE: Role.EMISSIVE, SheetMap.DEPTH: Role.HEIGHT,
}  # fmt: skip
# Alpha of 255 at which imposters are cut out.
CUT_OUT = 128
_CHANNELS = {SheetMap.BASE: 4, SheetMap.DEPTH: 1}


@dataclass(frozen=True)
class ImposterDerivation(Derivation):
    """How an imposter is made; `pictures` are the paths of what its materials read."""

    imposter: Imposter
    pictures: tuple[str, ...]

    kind = "imposter"
    costly = True
    keeps = True

    @property
    def name(self) -> str:
        return self.imposter.name

    @property
    def outputs(self) -> tuple[Output, ...]:
        return tuple(
            Output(
                sheet_path(self.imposter, kind),
                _ROLES[kind],
                f"{kind.value} map of an imposter",
                None,
                _CHANNELS.get(kind, 3),
            )
            for kind in self.imposter.sheet_maps
        )

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.pictures

    @property
    def models(self) -> tuple[str, ...]:
        return (self.imposter.source_model,)

    @property
    def replaces(self) -> Mapping[str, str]:
        return {} if self.imposter.chain is None else {self.imposter.source_model: f"{self.name}_levels.glb"}

    @property
    def adds(self) -> tuple[str, ...]:
        return (f"{self.name}.glb",) if self.imposter.chain is None else ()

    def stands_for(self, model: str, thing: str) -> bool:
        settings = self.imposter
        mine = settings.source_model == model or model in self.replaces.values()
        return mine and (not settings.nodes or thing in settings.nodes)

    def settings_key(self) -> bytes:
        return msgspec.json.encode(self.imposter)

    def make(self, sources: Sources) -> Task[Products]:
        settings = self.imposter
        opened = model_at(sources.root, settings.source_model)
        subject = subject_in(opened, sources, settings)
        made = yield from imposter_of(subject, settings)
        (path,) = self.new_models

        def sheet(kind: SheetMap) -> Mapping[str, Any]:
            return {"uri": quote(sheet_uri(path, sheet_path(settings, kind)))}

        stem = PurePosixPath(self.name).name
        data = imposter_glb(made, sheet, stem)
        plan = chain_plan(opened.model, settings, subject.pivot, made.triangles)
        if plan is not None:

            def rest(place: int) -> dict[str, Any] | None:
                image = opened.model.images[place]
                return {
                    "uri": quote(sheet_uri(path, image_path(opened, place))),
                    "name": image.name or f"image {place}",
                }

            data = chained(opened, plan, parse_gltf(data, opened.document.place), rest)
        textures = {sheet_path(settings, kind): image for kind, image in made.sheet.maps.items()}
        told = imposter_json(made, levels=() if plan is None else plan.levels)
        return Products(textures, {path: data}, {f"{self.name}.imposter.json": told, **shaders(made, self.name)})


def shaders(made: AnyMade, name: str) -> dict[str, bytes]:
    """Return the shader files of an imposter of frames, by what they are called; none of cards."""
    if not isinstance(made, FramesMade):
        return {}
    steps = made.settings.steps
    return {
        f"{name}.glsl": shader_file(steps, "330").encode(), f"{name}.es.glsl": shader_file(steps, "300 es").encode(),
    }  # fmt: skip


class ImposterKind(MakerKind[Imposter]):
    """Models, or parts of them, as a few cards."""

    settings = Imposter
    label = "imposters"
    name_pattern = "{folder}/{model}{node}_imposter"
    name_fields = ("folder", "model", "node")

    def origin(self, maker: Imposter) -> str:
        return f"{', '.join(maker.nodes)} of {maker.source_model}" if maker.nodes else maker.source_model

    def name_values(self, maker: Imposter, context: MakerContext) -> dict[str, object]:
        model = safe(PurePosixPath(maker.source_model).stem)
        node = f"_{safe(maker.nodes[0])}" if maker.nodes else ""
        return {"folder": folder_of((maker.source_model,)), "model": model, "node": node}

    def derivation(self, maker: Imposter, context: MakerContext) -> Derivation:
        if maker.chain is not None:
            others = (row for row in context.makers if row is not maker and row.name != maker.name)
            clash = next((row for row in others if takes_the_place(row, maker.source_model)), None)
            if clash is not None:
                raise Unsupported(
                    f"{maker.source_model}: {clash.name} takes its place already, so that a chain of levels cannot; let the "
                    "imposter stand beside it"
                )
        opened = model_in(context.root, maker.source_model)
        branches_of(opened.model, maker.nodes, maker.source_model)
        read = (path for path in pictures_of(opened, maker) if path in context.facts)
        return ImposterDerivation(maker, tuple(read))

    def first_cuts(self, maker: Imposter, plan: Plan, context: MakerContext) -> list[FirstCut]:
        """Keep the format that most of what it is made of ships as."""
        inventory = plan.inventory
        opened = model_in(inventory.root, maker.source_model)
        rows = inventory.rows(sorted(path for path in pictures_of(opened, maker) if path in inventory.row_of))
        order = np.argsort(-plan.line("memory")[rows], kind="stable")
        names = [ORDER[plan.formats[row]] for row in rows[order]]
        return [
            FirstCut(
                sheet_path(maker, kind),
                format=format_of_all(plan, names, _ROLES[kind], kind is SheetMap.BASE),
                # What is cut out at a half stays as much of it on all levels: thin things would vanish.
                coverage=CUT_OUT if kind is SheetMap.BASE else 0,
            )
            for kind in maker.sheet_maps
        ]


def sheet_path(settings: Imposter, kind: SheetMap) -> str:
    """Return what a map of an imposter's sheet is called, below the root and without ending."""
    return f"{settings.name}_{kind.value}"


def takes_the_place(maker: Any, model: str) -> bool:
    """Say whether a maker puts another model in the place of one."""
    if isinstance(maker, Imposter):
        return maker.chain is not None and maker.source_model == model
    return model in getattr(maker, "source_models", ())


def subject_in(opened: SourceModel, sources: Sources, settings: Imposter) -> Subject:
    """Return what an imposter of a job is baked of.

    Raises
    ------
    OakTrimError : a node is named that is not there, or nothing is drawn
    """
    pictures = Pictures(sources.picture)
    return subject_of(
        opened.model,
        lambda place: pictures(image_path(opened, place)),
        settings.nodes,
        settings.pivot,
        settings.source_model,
        settings.moment,
    )


def pictures_of(opened: SourceModel, settings: Imposter) -> list[str]:
    """Return the paths of the pictures that what is baked reads, but for those that lie outside the root."""
    model = opened.model
    meshes = _meshes_of(model, settings)
    used = {
        primitive.material for mesh in meshes for primitive in model.meshes[mesh].primitives if primitive.material is not None
    }  # fmt: skip
    found: dict[str, None] = {}
    for place in sorted(used):
        if not 0 <= place < len(model.materials):
            continue
        for use in model.materials[place].uses:
            if use.image is not None:
                with suppress(FileError):
                    found[image_path(opened, use.image)] = None
    return list(found)


def _meshes_of(model: Model, settings: Imposter) -> set[int]:
    branches = branches_of(model, settings.nodes, settings.source_model)
    nodes = (model.nodes[place] for branch in branches for place in model.below(branch))
    return {node.mesh for node in nodes if node.mesh is not None}
