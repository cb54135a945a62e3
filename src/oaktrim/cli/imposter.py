"""`oak-trim imposter`: a model, or some of its nodes, as a few cards, without a job."""

from __future__ import annotations

from math import inf
from pathlib import Path, PurePosixPath
from typing import Any

import click
import msgspec

from oaktrim.cli.atlas import below_one_root
from oaktrim.cli.console import console, run, table
from oaktrim.core.errors import FileError, shown
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.files.pictures import MAX_PIXELS, png_of
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.atlas.opened import Pictures
from oaktrim.core.makers.imposter.made import ImposterMade, imposter_glb, imposter_json, imposter_of
from oaktrim.core.makers.imposter.settings import Family, Imposter, Pivot, SheetMap
from oaktrim.core.makers.imposter.subject import subject_of
from oaktrim.core.makers.names import safe
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.progress import Task
from oaktrim.core.proof.imposterlikeness import ImposterLikeness, likeness
from oaktrim.core.scene.read import parse_model
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.facts import IMAGE_MARK
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


@click.command()
@click.argument("models", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option("--kind", "family", type=click.Choice([row.value for row in Family]), required=True)
@click.option("--node", "nodes", multiple=True, metavar="NAME", help="Bake this node alone, and what hangs on it.")
@click.option("--axes", default="xz", show_default=True, help="Which way cards face: of x, y, z, or star:N.")
@click.option("--cards", type=click.IntRange(1, 512), default=24, show_default=True, help="Of a cloud, at most.")
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
    "--switch", default="auto", show_default=True, metavar="auto|PIXELS|none", help="Measure from where it will do."
)
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
def imposter(
    models: tuple[Path, ...],
    family: str,
    nodes: tuple[str, ...],
    axes: str,
    cards: int,
    size: int,
    maps: tuple[SheetMap, ...],
    sides: int,
    outline: int,
    upright: float,
    gutter: int,
    pivot: str,
    switch: str,
    out: Path,
    form: str,
) -> None:
    """Bake MODELS onto a few cards each, for where they are far away.

    Writes NAME.glb with its sheet inside, and NAME.imposter.json with the cards, their places on the sheet, and how far it is from
    the model by its height on the screen. Exit status: 0; 2 when a model cannot be read or there is nothing to bake.
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
                size=size,
                gutter=gutter,
                sides=sides,
                outline=outline,
                pivot=Pivot(pivot),
                maps=maps,
            )
        except ValueError as error:
            raise click.UsageError(str(error)) from error
        made, before, curve = run(_whole(path, settings, out, wanted is not None))
        found.append(_row(made, before, curve))
        if form == "table":
            _print(made, before, curve, wanted, out)
    if form == "json":
        click.echo(msgspec.json.format(msgspec.json.encode(found), indent=1))


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


def _whole(
    path: Path, settings: Imposter, out: Path, look: bool
) -> Task[tuple[ImposterMade, tuple[int, int], ImposterLikeness | None]]:
    """Make one imposter and write it; with it come the triangles and draws of the thing."""
    root, (name,) = below_one_root((path,))
    place = ReferenceFolder(root, name)
    model = parse_model(read_bytes(root / name), place, whole=True)
    pictures = Pictures(Sources(root, {}, MAX_PIXELS).picture)

    def picture(number: int) -> Image:
        source = model.images[number]
        return pictures(place.target_of(source.uri) if source.uri else f"{name}{IMAGE_MARK}{number}")

    subject = subject_of(model, picture, settings.nodes, settings.pivot, str(path))
    made = yield from imposter_of(subject, settings)
    stem = PurePosixPath(settings.name).name
    target, beside = out / f"{stem}.glb", out / f"{stem}.imposter.json"
    if target.exists() and target.samefile(path):
        raise FileError(target, "would be written over; sources are never written")
    packed = {kind: png_of(image, target) for kind, image in made.sheet.maps.items()}
    data = imposter_glb(made, lambda kind: {"data": packed[kind], "uri": f"{stem}_{kind.value}"}, stem)
    curve: ImposterLikeness | None = None
    if look:
        curve = yield from likeness(made, parse_model(data, ReferenceFolder(root, f"{stem}.glb"), whole=True))
    out.mkdir(parents=True, exist_ok=True)
    write_atomic(target, data)
    if SheetMap.DEPTH in packed:
        write_atomic(out / f"{stem}_depth.png", packed[SheetMap.DEPTH])
    write_atomic(beside, imposter_json(made, None if curve is None else curve.as_json()))
    draws = len({(int(o), int(m)) for o, m in zip(subject.draws.objects, subject.draws.materials, strict=True)})
    return made, (len(subject.draws.triangles), draws), curve


def _bytes(made: ImposterMade) -> int:
    """Return what the sheet takes in BC7 with all levels."""
    return sum(
        FORMATS["bc7"].mip_chain_bytes(image.width, image.height, level_count(image.width, image.height))
        for image in made.sheet.maps.values()
    )


def _row(made: ImposterMade, before: tuple[int, int], curve: ImposterLikeness | None) -> dict[str, Any]:
    return {
        "model": made.settings.source_model,
        "before": {"triangles": before[0], "draws": before[1]},
        "after": {"triangles": made.triangles, "draws": 1, "cards": len(made.sheet.cards), "block_bytes": _bytes(made)},
        "clear_share": round(made.clear_share, 4),
        "likeness": None if curve is None else curve.as_json(),
        "warnings": list(made.warnings),
    }


def _print(
    made: ImposterMade, before: tuple[int, int], curve: ImposterLikeness | None, wanted: float | None, out: Path
) -> None:
    base = made.sheet.maps[SheetMap.BASE]
    console().print(
        f"{made.settings.source_model}: {before[0]:,} triangles in {before[1]} draws → {made.triangles} in 1; "
        f"{len(made.sheet.cards)} cards on {base.width}x{base.height}, {bytes_text(_bytes(made))} in BC7; "
        f"{made.clear_share * 100:.0f} % of what is drawn is clear"
    )
    if made.cloud is not None:
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
    for warning in made.warnings:
        click.echo(f"oak-trim: {warning}", err=True)
    click.echo(shown(out / f"{PurePosixPath(made.settings.name).name}.glb"))
