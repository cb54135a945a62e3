"""`oak-trim imposter`: a model, or some of its nodes, as a few cards, without a job."""

from __future__ import annotations

import os
from dataclasses import asdict, dataclass, replace
from functools import partial
from math import inf
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import unquote

import click
import msgspec

from oaktrim.cli.atlas import below_one_root, picture_kind
from oaktrim.cli.progress import run
from oaktrim.cli.sources import source_at
from oaktrim.cli.tables import console, table
from oaktrim.core.errors import FileError, shown
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.pictures import png_of
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.atlas.opened import Pictures
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.makers.imposter.chain import Level, chain_plan, chained
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.kind import shaders
from oaktrim.core.makers.imposter.made import SCREEN, AnyMade, ImposterMade, imposter_glb, imposter_json, imposter_of
from oaktrim.core.makers.imposter.seenfrom import ring_of, seen_in
from oaktrim.core.makers.imposter.settings import Chain, ChainForm, Family, Imposter, Moment, Pivot, SheetMap, Steps
from oaktrim.core.makers.imposter.subject import subject_of
from oaktrim.core.makers.names import safe
from oaktrim.core.makers.sourcemodel import SourceModel, image_path, model_at
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.progress import Task
from oaktrim.core.proof.imposteradvice import Variant, variants
from oaktrim.core.proof.imposterlikeness import HEIGHTS, ImposterLikeness, likeness, stand_in
from oaktrim.core.scene.read import parse_model
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.places import source_bytes
from oaktrim.core.targets.target import target_named
from oaktrim.core.units import bytes_text, decibels_text


class _Maps(click.ParamType[tuple[SheetMap, ...]]):
    """Maps of a sheet, after another with commas."""

    name = "MAPS"

    def convert(
        self, value: object, param: click.Parameter | None, context: click.Context | None
    ) -> tuple[SheetMap, ...]:
        if isinstance(value, tuple):
            return value
        try:
            return tuple(dict.fromkeys(SheetMap(part.strip()) for part in str(value).split(",")))
        except ValueError:
            self.fail(f"{value!r} are not some of {', '.join(kind.value for kind in SheetMap)}", param, context)


class _Pose(click.ParamType[Moment]):
    """A time of an animation."""

    name = "CLIP@SECONDS"

    def convert(self, value: object, param: click.Parameter | None, context: click.Context | None) -> Moment:
        if isinstance(value, Moment):
            return value
        clip, _, seconds = str(value).rpartition("@")
        try:
            return msgspec.convert({"clip": clip or seconds, "seconds": float(seconds) if clip else 0.0}, Moment)
        except (ValueError, msgspec.ValidationError):
            self.fail(f"{value!r} is not the name of an animation and a time, such as walk@0.5", param, context)


@click.command()
@click.argument("models", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option("--kind", "family", type=click.Choice([row.value for row in Family]), required=True)
@click.option("--node", "nodes", multiple=True, metavar="NAME", help="Bake this node alone, and what hangs on it.")
@click.option("--axes", default="xz", show_default=True, help="Which way cards face: of x, y, z, or star:N.")
@click.option("--cards", type=click.IntRange(1, 512), default=24, show_default=True, help="Of a cloud, at most.")
@click.option(
    "--frames", type=click.IntRange(2, 32), default=12, show_default=True, help="To a side, or in a row of a ring."
)
@click.option("--rows", type=click.IntRange(1, 8), default=2, show_default=True, help="Of a ring.")
@click.option(
    "--seen", "job", metavar="JOB", type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="Make a ring of those frames alone that the sightlines of this job can see.",
)  # fmt: skip
@click.option(
    "--frame-size", type=click.Choice(["32", "64", "128", "256"]), default="128", show_default=True, metavar="PX",
    help="Side of a frame.",
)  # fmt: skip
@click.option(
    "--steps", type=click.Choice([row.value for row in Steps]), default=Steps.TWO.value, show_default=True,
    help="How often the look into a frame is corrected by its depth.",
)  # fmt: skip
@click.option(
    "--size", type=click.IntRange(32, 1 << 13), default=1024, show_default=True, help="Longest side of the sheet."
)
@click.option(
    "--maps", type=_Maps(), default="base,normal", show_default=True, help="base, normal, orm, emissive, depth."
)
@click.option("--sides", type=click.IntRange(1, 2), default=1, show_default=True, help="2 bakes backs apart.")
@click.option(
    "--outline", type=click.IntRange(0, 16), default=0, help="Corners around what is covered; 0 for rectangles."
)
@click.option(
    "--upright", type=click.FloatRange(0, 1), default=0.3, show_default=True, help="Of a cloud, for upright planes."
)
@click.option("--gutter", type=click.IntRange(0, 64), default=8, show_default=True, help="Texels between cards.")
@click.option("--pivot", type=click.Choice([row.value for row in Pivot]), default=Pivot.ORIGIN.value, show_default=True)
@click.option(
    "--pose",
    type=_Pose(),
    metavar="CLIP@SECONDS",
    help="Bake what moves at this time of an animation; at rest without.",
)
@click.option(
    "--switch", default="auto", show_default=True, metavar="auto|PIXELS|none", help="Measure from where it will do."
)
@click.option(
    "--chain", "form", is_flag=False, flag_value=ChainForm.LEVELS.value, default=None,
    type=click.Choice([row.value for row in ChainForm]),
    help="Write the model with its imposter as a level too: by MSFT_lod, or as nodes told by their names.",
)  # fmt: skip
@click.option(
    "--vanish",
    type=click.FloatRange(min=0),
    default=0.0,
    metavar="PIXELS",
    help="Of a chain: below it, nothing is drawn.",
)
@click.option("--target", metavar="ID", help="Whose screen pixels are counted on; 1920x1080 without.")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
@click.option("--as", "shape", type=click.Choice(["table", "json"]), default="table", show_default=True)
def imposter(
    models: tuple[Path, ...],
    family: str,
    nodes: tuple[str, ...],
    axes: str,
    cards: int,
    frames: int,
    rows: int,
    job: Path | None,
    frame_size: str,
    steps: str,
    size: int,
    maps: tuple[SheetMap, ...],
    sides: int,
    outline: int,
    upright: float,
    gutter: int,
    pivot: str,
    pose: Moment | None,
    switch: str,
    form: str | None,
    vanish: float,
    target: str | None,
    out: Path,
    shape: str,
) -> None:
    """Bake MODELS onto a few cards, or view frames, each, for where they are far away.

    Writes NAME.glb with its sheet inside, and NAME.imposter.json with the cards, their places on the sheet, and how far it is from
    the model by its height on the screen; with --chain the model with its levels as NAME_levels.glb. Exit status: 0; 2 when a
    model cannot be read or there is nothing to bake.
    """
    wanted = _switch(switch)
    found = []
    for path in models:
        try:
            settings = Imposter(
                f"{safe(path.stem)}_imposter",
                path.name,
                nodes=tuple(nodes),
                family=Family(family),
                axes=axes,
                cards=cards,
                upright=upright,
                frames=frames,
                rows=rows,
                frame_size=int(frame_size),
                steps=Steps(steps),
                size=size,
                gutter=gutter,
                sides=sides,
                outline=outline,
                pivot=Pivot(pivot),
                maps=maps,
                moment=pose,
            )
        except ValueError as error:
            raise click.UsageError(str(error)) from error
        link = _Link(form, wanted, vanish, SCREEN if target is None else target_named(target).screen)
        if job is not None:
            if settings.family is not Family.RING:
                raise click.UsageError("--seen is of a ring")
            settings = run(_as_seen(path, settings, job))
        done = run(_whole(path, settings, out, link))
        found.append(_row(done))
        if shape == "table":
            _print(done, wanted, out)
    if shape == "json":
        click.echo(msgspec.json.format(msgspec.json.encode(found), indent=1))


def _as_seen(path: Path, settings: Imposter, job: Path) -> Task[Imposter]:
    """Return a ring without the frames that no sightline of a job sees."""
    source = source_at(job)
    name = os.path.relpath(path.absolute(), source.root.absolute())
    surveyed = yield from survey_tree(source.root, source.job.scan_settings, source.job.build_spec, SurveyCache())
    found, wanted = surveyed.inventory, msgspec.structs.replace(settings, source_model=name)
    seen = yield from seen_in(found, wanted, source.job.sightlines, source.job.max_pixels)
    return msgspec.structs.replace(ring_of(wanted, seen), source_model=settings.source_model)


def _switch(text: str) -> float | None:
    """Return the height on the screen from which an imposter is wanted, 0 for one that is measured, None for none."""
    if text == "none":
        return None
    if text == "auto":
        return 0.0
    try:
        value = float(text)
    except ValueError:
        value = -1
    if not 1 <= value <= 1 << 14:
        raise click.BadParameter(f"{text!r} is not auto, none, or a height of 1 to {1 << 14} pixels")
    return value


@dataclass(frozen=True)
class _Link:
    """How an imposter is joined to its model: in which form, and from which height on in pixels; None is not looked at."""

    form: str | None
    switch: float | None
    vanish: float
    screen: tuple[int, int]

    def chain(self, advised: int) -> Chain | None:
        """Return the chain's settings, where one is wanted."""
        if self.form is None:
            return None
        pixels = self.switch or advised or min(HEIGHTS)
        return Chain(pixels / self.screen[1], self.vanish / self.screen[1], form=ChainForm(self.form))


@dataclass(frozen=True, eq=False)
class _Done:
    """What came of one imposter; triangles and draws are of the thing."""

    made: AnyMade
    triangles: int
    draws: int
    curve: ImposterLikeness | None
    levels: tuple[Level, ...]
    variants: tuple[Variant, ...] = ()


def _whole(path: Path, settings: Imposter, out: Path, link: _Link) -> Task[_Done]:
    """Make one imposter and write it."""
    root, (name,) = below_one_root((path,))
    source = model_at(root, name)
    pictures = Pictures(Sources(root, {}, MAX_PIXELS).picture)
    subject = subject_of(
        source.model,
        lambda n: pictures(image_path(source, n)),
        settings.nodes,
        settings.pivot,
        str(path),
        settings.moment,
    )
    made = yield from imposter_of(subject, settings)
    stem = PurePosixPath(settings.name).name
    target, beside = out / f"{stem}.glb", out / f"{stem}.imposter.json"
    if target.exists() and target.samefile(path):
        raise FileError(target, "would be written over; sources are never written")
    packed = {kind: png_of(image, target) for kind, image in made.sheet.maps.items()}
    data = imposter_glb(made, lambda kind: {"data": packed[kind], "uri": f"{stem}_{kind.value}"}, stem)
    place = ReferenceFolder(root, f"{stem}.glb")
    curve: ImposterLikeness | None = None
    ways: tuple[Variant, ...] = ()
    if link.switch is not None:
        instead = stand_in(made, parse_model(data, place, whole=True))
        curve = yield from likeness(subject, instead)
        if isinstance(made, FramesMade):
            ways = tuple((yield from variants(made, instead)))
    out.mkdir(parents=True, exist_ok=True)
    write_atomic(target, data)
    loose = packed if settings.family.of_frames else {k: v for k, v in packed.items() if k is SheetMap.DEPTH}
    for kind, png in loose.items():
        write_atomic(out / f"{stem}_{kind.value}.png", png)
    for name_of_shader, text in shaders(made, stem).items():
        write_atomic(out / name_of_shader, text)
    linked = msgspec.structs.replace(settings, chain=link.chain(0 if curve is None else curve.switch))
    plan = chain_plan(source.model, linked, subject.pivot, made.triangles)
    if plan is not None:
        whole = chained(source, plan, parse_gltf(data, place), partial(_image_row, source, root))
        write_atomic(out / f"{stem}_levels.glb", whole)
    levels = () if plan is None else plan.levels
    told = None if curve is None else curve.as_json() | ({"variants": [way.as_json() for way in ways]} if ways else {})
    write_atomic(beside, imposter_json(replace(made, settings=linked), told, levels, link.screen))
    draws = len({(int(o), int(m)) for o, m in zip(subject.draws.objects, subject.draws.materials, strict=True)})
    return _Done(made, len(subject.draws.triangles), draws, curve, levels, ways)


def _image_row(source: SourceModel, root: Path, place: int) -> dict[str, Any] | None:
    """Return an image of the source as the file that it lies in, to be held inside what is written."""
    image = source.model.images[place]
    if not image.uri:
        return None
    path = source.document.place.target_of(unquote(image.uri))
    return {"data": source_bytes(root, path), "mimeType": picture_kind(path)}


def _bytes(made: AnyMade) -> int:
    """Return what the sheet takes in BC7 with all levels."""
    return sum(
        FORMATS["bc7"].mip_chain_bytes(image.width, image.height, level_count(image.width, image.height))
        for image in made.sheet.maps.values()
    )


def _row(done: _Done) -> dict[str, Any]:
    made, curve = done.made, done.curve
    return {
        "model": made.settings.source_model,
        "before": {"triangles": done.triangles, "draws": done.draws},
        "after": {
            "triangles": made.triangles,
            "draws": 1,
            "cards": len(made.sheet.cards),
            "frames": made.sheet.grid.count if isinstance(made, FramesMade) else 0,
            "block_bytes": _bytes(made),
        },
        "clear_share": round(made.clear_share, 4),
        "likeness": None if curve is None else curve.as_json(),
        "variants": [way.as_json() for way in done.variants],
        "levels": [asdict(level) for level in done.levels],
        "warnings": list(made.warnings),
    }


def _print(done: _Done, wanted: float | None, out: Path) -> None:
    made, curve = done.made, done.curve
    base = made.sheet.maps[SheetMap.BASE]
    what = f"{made.sheet.grid.count} frames" if isinstance(made, FramesMade) else f"{len(made.sheet.cards)} cards"
    console().print(
        f"{made.settings.source_model}: {done.triangles:,} triangles in {done.draws} draws → {made.triangles} in 1; "
        f"{what} on {base.width}x{base.height}, {bytes_text(_bytes(made))} in BC7; "
        f"{made.clear_share * 100:.0f} % of what is drawn is clear"
    )
    if isinstance(made, ImposterMade) and made.cloud is not None:
        console().print(f"planes hold what they hold within {made.cloud.error:.4g}")
    if curve is not None:
        cells = []
        for row in curve.rows:
            colour = "–" if row.psnr == inf else decibels_text(row.psnr)
            cells.append(
                (
                    f"{row.pixels} px",
                    f"{row.overlap:.3f}",
                    f"{row.ceiling:.3f}",
                    colour,
                    f"{row.jnd:.2f}",
                    f"{row.own_jnd:.2f}",
                )
            )
        console().print(table(["height", "overlap", "its own", "colour", "JND", "its own"], cells, right=range(6)))
        console().print(
            f"advised from {curve.switch} pixels of height on"
            if curve.switch
            else "it is noticed at every height looked at"
        )
        console().print("its own: of the model, and itself moved by half a pixel")
        if wanted and wanted > curve.switch:
            click.echo(f"oak-trim: at {wanted:.0f} pixels it would be noticed", err=True)
    for way in done.variants:
        console().print(
            f"{way.frames} frame{'s' if way.frames > 1 else ''}, depth steps {way.steps.value}: {way.reads} reads, "
            f"overlap {way.likeness.overlap:.3f}, {decibels_text(way.likeness.psnr)} at 128 px"
        )
    for level in done.levels:
        share = f"down to {level.share:.3f} of the screen's height" if level.share > 0 else "from there on"
        console().print(f"{level.name}: {level.triangles:,} triangles, {share}")
    for warning in made.warnings:
        click.echo(f"oak-trim: {warning}", err=True)
    click.echo(shown(out / f"{PurePosixPath(made.settings.name).name}.glb"))
