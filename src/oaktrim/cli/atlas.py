"""`oak-trim atlas`: the materials of models into one, without a job."""

from __future__ import annotations

import os
from collections.abc import Sequence
from fnmatch import fnmatchcase
from math import inf
from mimetypes import guess_type
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import quote, unquote

import click
import msgspec

from oaktrim.cli.progress import run
from oaktrim.cli.sources import source_at
from oaktrim.cli.tables import console, table
from oaktrim.core.errors import FileError, Unsupported, shown
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.files.pictures import png_of, write_png
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.makers.atlas.contents import Gathered
from oaktrim.core.makers.atlas.making import (
    AtlasMade,
    Links,
    atlas_json,
    lay_out,
    made,
    material_rows,
    sheet_rows,
)
from oaktrim.core.makers.atlas.naming import SheetName, model_names
from oaktrim.core.makers.atlas.opened import Pictures, gathered_of
from oaktrim.core.makers.atlas.reading import SourceMaterial
from oaktrim.core.makers.atlas.scaling import visible_scales
from oaktrim.core.makers.atlas.settings import (
    Atlas,
    FactorUse,
    MaterialChoice,
    Repeats,
    Rotation,
    Shrink,
    Take,
    VisibleScale,
    Weight,
)
from oaktrim.core.makers.atlas.summary import Change, change_of
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.makers.names import safe
from oaktrim.core.makers.sourcemodel import SourceModel, model_at
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import Task
from oaktrim.core.proof.alike import Alike, alike, atlas_drawables
from oaktrim.core.scene.read import parse_images
from oaktrim.core.sight.targets import demands_of
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.places import source_bytes
from oaktrim.core.units import bytes_text

_KINDS = {".ktx2": "image/ktx2", ".dds": "image/vnd-ms.dds", ".webp": "image/webp", ".avif": "image/avif"}


def _choice(kind: type[Weight] | type[Repeats] | type[Rotation] | type[Shrink] | type[FactorUse]) -> click.Choice[str]:
    return click.Choice([row.value for row in kind])


@click.command()
@click.argument("models", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option(
    "--size", type=click.IntRange(16, 1 << 14), help="Of a sheet; the smallest that loses nothing if left out."
)
@click.option("--sheets", type=click.IntRange(1, 16), default=1, show_default=True, help="At most, of each material.")
@click.option(
    "--weight", type=_choice(Weight), default=Weight.AREA.value, show_default=True,
    help="What texels go to: what is seen (by the sightlines of --job; else as area), area on the model, or as it was.",
)  # fmt: skip
@click.option(
    "--repeats", type=_choice(Repeats), default=Repeats.BAKE.value, show_default=True,
    help="Of textures that repeat: write them out, split their triangles at whole tiles, or leave their materials.",
)  # fmt: skip
@click.option("--gutter", type=click.IntRange(0, 256), default=8, show_default=True, help="Texels between islands.")
@click.option("--rotate", type=_choice(Rotation), default=Rotation.QUARTER.value, show_default=True)
@click.option(
    "--shrink", type=_choice(Shrink), default=Shrink.LEVELS.value, show_default=True,
    help="Islands that lose texels: by whole levels, whose texels stay the same, or freely, which fills sheets better.",
)  # fmt: skip
@click.option(
    "--factors", type=_choice(FactorUse), default=FactorUse.COMMON.value, show_default=True,
    help="Of materials: into the sheets where they differ, all of them, or materials of other factors stay apart.",
)  # fmt: skip
@click.option(
    "--enough", type=click.FloatRange(0, 1, min_open=True), metavar="SHARE",
    help="Of the sources' texels: take the smallest sheet that keeps so many, such as 0.5.",
)  # fmt: skip
@click.option(
    "--job",
    type=click.Path(path_type=Path, dir_okay=False, exists=True),
    help="Whose sightlines weigh, for --weight seen.",
)
@click.option("--target", metavar="ID", help="Of the job, whose screen counts; its first without.")
@click.option("--square", is_flag=True, help="Sheets as high as wide.")
@click.option("--project", is_flag=True, help="Give meshes without UVs some, of the box around them.")
@click.option("--object", "objects", multiple=True, metavar="NAME", help="Take this node alone, and what hangs on it.")
@click.option(
    "--keep", "kept", multiple=True, metavar="FILTER",
    help="Materials that lose no texel: a name such as face*, or path: and the path of a texture they read.",
)  # fmt: skip
@click.option(
    "--leave", "left", multiple=True, metavar="FILTER", help="Materials that are left out, named as with --keep."
)
@click.option("--name", default="", help="What the sheets are called; the first model's name and _atlas if left out.")
@click.option("--loose", is_flag=True, help="A .gltf with its .bin, and PNG files, beside each other.")
@click.option("--prove", is_flag=True, help="Look at each model before and after from 12 views.")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
def atlas(
    models: tuple[Path, ...],
    size: int | None,
    sheets: int,
    weight: str,
    repeats: str,
    gutter: int,
    rotate: str,
    shrink: str,
    factors: str,
    enough: float | None,
    job: Path | None,
    target: str | None,
    square: bool,
    project: bool,
    objects: tuple[str, ...],
    kept: tuple[str, ...],
    left: tuple[str, ...],
    name: str,
    loose: bool,
    prove: bool,
    out: Path,
    form: str,
) -> None:
    """Merge the materials of MODELS into one, or one for each way of being drawn, with one sheet for each kind of map.

    Writes a .glb with its sheets inside, or of several models one each, which share PNG files beside them; and atlas.json.
    Exit status: 0; 2 when a model cannot be read or nothing can be merged.
    """
    root, paths = below_one_root(models)
    stem = safe(name) if name else f"{safe(models[0].stem)}_atlas"
    try:
        settings = Atlas(
            stem,
            paths,
            objects=tuple(objects),
            size=size or 0,
            sheets=sheets,
            weight=Weight(weight),
            repeats=Repeats(repeats),
            rotate=Rotation(rotate),
            shrink=Shrink(shrink),
            factors=FactorUse(factors),
            share_kept=enough or 0.0,
            seen=_visible(job, target, root) if job is not None and weight == Weight.SEEN.value else (),
            gutter=gutter,
            square=square,
            project=project,
        )
    except ValueError as error:
        raise click.UsageError(str(error)) from error
    task = _whole(root, settings, out, loose or len(paths) > 1, loose, (kept, left), prove)
    result, change, proofs, written = run(task)
    if settings.weight is Weight.SEEN and not settings.seen:
        words = "no sightline sees what it reads" if job is not None else "there are no sightlines without --job"
        click.echo(f"oak-trim: {words}: weighed by area", err=True)
    if form == "json":
        click.echo(msgspec.json.format(msgspec.json.encode(_as_json(result, change, proofs)), indent=1))
        return
    _print(result, change, proofs)
    for path in written:
        click.echo(shown(path))


def _visible(path: Path, target: str | None, root: Path) -> tuple[VisibleScale, ...]:
    """Return what a job's sightlines show of its textures, named below another root."""
    source = source_at(path)
    chosen = source.job.target(target or source.job.targets[0])
    inventory = run(survey_tree(source.root, source.job.scan_settings, source.job.build_spec, SurveyCache())).inventory
    demand = run(demands_of(inventory, (chosen,), source.job.sightlines, source.job.max_pixels))[chosen.id]
    paths = [os.path.relpath(source.root / row.path, root) for row in inventory.textures]
    return tuple(row for row in visible_scales(paths, demand) if not row.picture.startswith(".."))


def below_one_root(models: tuple[Path, ...]) -> tuple[Path, tuple[str, ...]]:
    """Return a folder that holds models and all that they read, and their paths below it."""
    files = [Path(os.path.abspath(path)) for path in models]
    root = Path(os.path.commonpath([file.parent for file in files]))
    for file in files:
        anchored = ReferenceFolder(Path(file.anchor), "/".join(file.parts[1:]))
        for row in parse_images(read_bytes(file), anchored):
            up = _climbs(unquote(row.uri))
            if up:
                root = Path(os.path.commonpath([root, file.parents[min(up, len(file.parents) - 1)]]))
    return root, tuple(str(PurePosixPath(file.relative_to(root))) for file in files)


def _climbs(uri: str) -> int:
    """Return how many folders above its file a relative reference leads."""
    depth = least = 0
    for part in uri.replace("\\", "/").split("/"):
        depth += -1 if part == ".." else int(part not in ("", "."))
        least = min(least, depth)
    return -least


def _whole(
    root: Path,
    settings: Atlas,
    out: Path,
    beside: bool,
    loose: bool,
    filters: tuple[tuple[str, ...], tuple[str, ...]],
    prove: bool,
) -> Task[tuple[AtlasMade, Change, dict[str, Alike], list[Path]]]:
    """Make an atlas and write it."""
    pictures = Pictures(Sources(root, {}, MAX_PIXELS).picture)
    models = tuple(model_at(root, path) for path in settings.source_models)
    gathered = gathered_of(models, settings, pictures.about)
    settings = _with_choices(settings, gathered, *filters)
    if settings.materials:
        gathered = gathered_of(models, settings, pictures.about)
    plan = yield from lay_out(gathered, settings)
    linking = _Linking(root, models, beside, loose)
    result = yield from made(plan, pictures, Links(linking.sheet, linking.rest))
    written = _targets(settings, result, out, beside, loose)
    written += [out / name for name in linking.copied]
    _spare(written, [root / path for path in _source_files(models)])
    out.mkdir(parents=True, exist_ok=True)
    if beside:
        for sheet, image in result.sheets.items():
            write_png(out / f"{sheet}.png", image)
    for name, data in linking.copied.items():
        write_atomic(out / name, data)
    for model, name in zip(settings.source_models, model_names(settings), strict=True):
        again = result.models[model]
        if loose:
            text, binary = again.gltf(f"{name}.bin")
            write_atomic(out / f"{name}.bin", binary)
            write_atomic(out / f"{name}.gltf", text)
        else:
            write_atomic(out / f"{name}.glb", again.glb())
    write_atomic(out / "atlas.json", atlas_json(result))
    proofs: dict[str, Alike] = {}
    if prove:
        for source in models:
            proofs[source.path] = yield from alike(*atlas_drawables(source, result, pictures))
    return result, change_of(result), proofs, written


def _source_files(models: Sequence[SourceModel]) -> list[str]:
    """Return the paths of all files that models are read from."""
    found: list[str] = []
    for model in models:
        place = model.document.place
        found += [
            model.path,
            *model.model.files,
            *(place.target_of(image.uri) for image in model.model.images if image.uri),
        ]
    return found


def _spare(written: Sequence[Path], sources: Sequence[Path]) -> None:
    """Raise FileError where a source would be written over."""
    for path in written:
        for source in sources:
            if path.exists() and source.exists() and path.samefile(source):
                raise FileError(path, "would be written over; sources are never written")


class _Linking:
    """How written models name their images: inside themselves, or files beside them."""

    def __init__(self, root: Path, models: tuple[SourceModel, ...], beside: bool, loose: bool) -> None:
        self._root, self._beside, self._loose = root, beside, loose
        self._models = {model.path: model for model in models}
        self._packed: dict[str, bytes] = {}
        self._sheets: set[str] = set()
        # Files that models keep, by the name that they are copied to.
        self.copied: dict[str, bytes] = {}

    def sheet(self, _: str, name: SheetName, image: Image) -> dict[str, Any]:
        if self._beside:
            self._sheets.add(f"{name.path}.png")
            return {"uri": f"{name.path}.png", "name": name.path}
        if name.path not in self._packed:
            self._packed[name.path] = png_of(image, Path(f"{name.path}.png"))
        return {"data": self._packed[name.path], "mimeType": "image/png", "name": name.path}

    def rest(self, model: str, place: int) -> dict[str, Any] | None:
        """Bring along a file that a model keeps reading."""
        source = self._models[model]
        image = source.model.images[place]
        if not image.uri:
            return None
        path = source.document.place.target_of(image.uri)
        data = source_bytes(self._root, path)
        if not self._loose:
            return {"data": data, "mimeType": picture_kind(path)}
        name = PurePosixPath(path).name
        while name in self._sheets or self.copied.get(name, data) != data:
            name = f"{PurePosixPath(name).stem}_2{PurePosixPath(name).suffix}"
        self.copied[name] = data
        return {"uri": quote(name)}


def picture_kind(path: str) -> str:
    """Return the media type of a picture by its name."""
    return guess_type(path)[0] or _KINDS.get(PurePosixPath(path).suffix.lower(), "image/png")


def _targets(settings: Atlas, result: AtlasMade, out: Path, beside: bool, loose: bool) -> list[Path]:
    """Return the files that are written."""
    endings = (".gltf", ".bin") if loose else (".glb",)
    found = [out / f"{name}{ending}" for name in model_names(settings) for ending in endings]
    found += [out / f"{path}.png" for path in result.sheets] if beside else []
    return [*found, out / "atlas.json"]


def _with_choices(settings: Atlas, gathered: Gathered, kept: tuple[str, ...], left: tuple[str, ...]) -> Atlas:
    """Return settings that say of materials what filters say.

    Raises
    ------
    Unsupported : a filter meets no material
    """
    choices: dict[str, MaterialChoice] = {}
    for rows, change in ((kept, {"keep": True}), (left, {"take": Take.LEAVE})):
        for row in rows:
            met = [note.material for note in gathered.notes if _meets(note.material, row)]
            if not met:
                raise Unsupported(f"no material is met by {row!r}")
            for material in met:
                choice = choices.get(material.path, MaterialChoice(material.path))
                choices[material.path] = msgspec.structs.replace(choice, **change)
    return msgspec.structs.replace(settings, materials=tuple(choices.values()))


def _meets(material: SourceMaterial, row: str) -> bool:
    if row.startswith("path:"):
        return any(fnmatchcase(use.picture.path, row[5:]) for use in material.maps.values())
    return fnmatchcase(material.name, row)


def _as_json(result: AtlasMade, change: Change, proofs: dict[str, Alike]) -> dict[str, Any]:
    rows = {"schema": "oak-trim.atlas-change/1", **change.as_json(), "materials": material_rows(result.laid_out)}
    rows["sheets"] = sheet_rows(result)
    rows["warnings"] = list(result.warnings)
    rows["proof"] = {path: row.as_json() for path, row in proofs.items()}
    return rows


def _print(result: AtlasMade, change: Change, proofs: dict[str, Alike]) -> None:
    before, after = change.before, change.after
    cells = [
        ("draws", f"{before.draws:,}", f"{after.draws:,}"),
        ("materials", f"{before.materials:,}", f"{after.materials:,}"),
        ("vertices", f"{before.vertices:,}", f"{after.vertices:,}"),
        ("textures", f"{before.textures:,}", f"{after.textures:,}"),
        ("memory, RGBA8", bytes_text(before.plain_bytes), bytes_text(after.plain_bytes)),
        ("memory, BC7", bytes_text(before.block_bytes), bytes_text(after.block_bytes)),
    ]
    console().print(table(["", "before", "after"], cells, right=(1, 2)))
    for row in sheet_rows(result):
        console().print(f"{row['path']}: {row['width']}x{row['height']}, {row['map']} of {row['material']}")
    if change.seams:
        console().print(f"{change.seams:,} vertices added at seams")
    for note in result.laid_out.gathered.notes:
        if note.reason:
            console().print(f"left as it is: {note.material.name}: {note.reason}")
        elif note.same_as >= 0:
            same = result.laid_out.gathered.notes[note.same_as].material
            console().print(f"{note.material.name} is the same as {same.name}")
    for path, proof in proofs.items():
        decibels = "no pixel differs" if proof.psnr == inf else f"{proof.psnr:.1f} dB"
        console().print(f"{path} from {len(proof.views)} views: outline differs in {proof.outline} pixels, {decibels}")
    for warning in result.warnings:
        click.echo(f"oak-trim: {warning}", err=True)
