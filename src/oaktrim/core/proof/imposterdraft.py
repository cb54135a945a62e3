"""An imposter as it would come out, step by step, for who decides: the thing, the imposter, how like they are, the cost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.codecs.texture import decode_level, encode_texture
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.imposter.chain import Level, chain_plan
from oaktrim.core.makers.imposter.kind import sheet_path, subject_in
from oaktrim.core.makers.imposter.made import AnyMade, imposter_of
from oaktrim.core.makers.imposter.settings import Imposter, SheetMap
from oaktrim.core.makers.registry import MakerContext, kind_of
from oaktrim.core.makers.sourcemodel import model_in
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.imposteradvice import Trial, bare_model, trials
from oaktrim.core.proof.imposterlikeness import ImposterLikeness, StandIn, likeness, stand_in
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.scene.read import parse_model
from oaktrim.core.survey.inventory import Inventory


@dataclass(frozen=True, eq=False)
class ImposterDraft:
    """An imposter as far as it has come: each part is there when the ones before it are.

    Parameters
    ----------
    thing : ready to be drawn; triangles, draws : that it takes
    made : the imposter; instead : ready to be drawn, its sheet as it ships on the first target
    levels : of its chain; memory : bytes that its sheet takes, by target
    likeness : how far it is from the thing
    """

    settings: Imposter
    thing: Drawable
    triangles: int
    draws: int
    height: float
    made: AnyMade | None = None
    instead: StandIn | None = None
    levels: tuple[Level, ...] = ()
    memory: tuple[tuple[str, int], ...] = ()
    likeness: ImposterLikeness | None = None


def draft(found: Inventory, settings: Imposter, plans: Sequence[Plan], max_pixels: int) -> Task[ImposterDraft]:
    """Make an imposter without keeping it; each part is brought as it comes (`ImposterDraft`).

    Parameters
    ----------
    found : what files hold, without what makers make
    plans : of the targets that its cost is told for; on the first of them it is looked at as it ships

    Raises
    ------
    OakTrimError : the model cannot be read, or nothing of it can be baked
    """
    yield Progress(0, 4, "reading the model")
    source = model_in(found.root, settings.source_model)
    subject = subject_in(source, found.sources(max_pixels), settings)
    draws = len({*zip(subject.draws.objects.tolist(), subject.draws.materials.tolist(), strict=True)})
    now = ImposterDraft(settings, subject.scene(), len(subject.draws.triangles), draws, subject.height)
    yield Progress(1, 4, "choosing cards", now)
    made = yield from imposter_of(subject, settings)
    yield Progress(2, 4, "packing as it ships", now)
    place = ReferenceFolder(found.root, settings.source_model)
    model = parse_model(bare_model(made, place), place, whole=True)
    maps = yield from _shipped(made, plans[0]) if plans else _as_baked(made)
    plan = chain_plan(source.model, settings, subject.pivot, made.triangles)
    now = replace(
        now, made=made, instead=stand_in(made, model, maps), levels=() if plan is None else plan.levels,
        memory=tuple((row.target.name, memory_of(made, row)) for row in plans),
    )  # fmt: skip
    yield Progress(3, 4, "looking at it from afar", now)
    assert now.instead is not None
    return replace(now, likeness=(yield from likeness(subject, now.instead)))


def advice(found: Inventory, settings: Imposter, max_pixels: int) -> Task[list[Trial]]:
    """Bake small imposters of each family of what settings are of; see `imposteradvice.trials`.

    Raises
    ------
    OakTrimError : the model cannot be read, or nothing of it can be baked
    """
    yield Progress(0, 3, "reading the model")
    source = model_in(found.root, settings.source_model)
    return (yield from trials(subject_in(source, found.sources(max_pixels), settings), settings))


def _as_baked(made: AnyMade) -> Task[dict[SheetMap, Image]]:
    yield Progress(0, 1, "as it is baked")
    return dict(made.sheet.maps)


def formats_on(made: AnyMade, plan: Plan) -> dict[SheetMap, str]:
    """Return the format that each map ships as on a plan's target from the beginning."""
    inventory = plan.inventory
    settings = made.settings
    cuts = kind_of(settings).first_cuts(settings, plan, MakerContext(inventory.root))
    by_path = {cut.path: cut.format or "rgba8" for cut in cuts}
    return {kind: by_path.get(sheet_path(settings, kind), "rgba8") for kind in settings.sheet_maps}


def memory_of(made: AnyMade, plan: Plan) -> int:
    """Return the bytes that an imposter's sheet takes on a plan's target."""
    total = 0
    for kind, name in formats_on(made, plan).items():
        held = FORMATS[name] if plan.target.decodes(FORMATS[name]) else FORMATS[FORMATS[name].expands_to]
        image = made.sheet.maps[kind]
        total += held.mip_chain_bytes(image.width, image.height, level_count(image.width, image.height))
    return total


def _shipped(made: AnyMade, plan: Plan) -> Task[dict[SheetMap, Image]]:
    """Return the maps as a target decodes them: encoded quickly, which loses a little more than what ships."""
    found = dict(made.sheet.maps)
    for kind, name in formats_on(made, plan).items():
        if kind is SheetMap.DEPTH or not FORMATS[name].compressed:
            continue
        image = found[kind]
        how = EncodeSettings(image.width, image.height, 1, name, Effort.DRAFT)
        encoded = yield from encode_texture([image], FORMATS[name], how.options())
        found[kind] = decode_level(encoded)
    return found
