"""`oak-trim surface`: photographs that become usable textures, without a job."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
import msgspec

from oaktrim.cli.progress import run
from oaktrim.cli.tables import console, table
from oaktrim.core.errors import FileError
from oaktrim.core.files.pictures import read_picture, write_exr, write_png
from oaktrim.core.makers.surface.cut import Cut
from oaktrim.core.makers.surface.measures import (
    GOOD_DETAIL,
    GOOD_REPETITION,
    GOOD_SEAM,
    GOOD_SHADING,
    SurfaceMeasures,
    measures_of,
)
from oaktrim.core.makers.surface.settings import Axes, Calm, Flatten, Match, Surface, Tile
from oaktrim.core.makers.surface.stack import MapOf, SurfaceMade, surface_of
from oaktrim.core.progress import Task
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, Role, role_guesser

_PICTURE = click.Path(path_type=Path, exists=True, dir_okay=False)


@click.command()
@click.argument("images", nargs=-1, required=True, type=_PICTURE)
@click.option("--flatten", type=click.FloatRange(0, 1), metavar="STRENGTH", help="Take baked-in light out, 0 to 1.")
@click.option(
    "--radius", type=click.FloatRange(0.02, 0.5), default=0.18, show_default=True, help="Of what light is, as a share."
)
@click.option(
    "--cast", type=click.FloatRange(0, 1), help="Take light from one side out by this much; as --flatten without."
)
@click.option("--calm", type=click.FloatRange(0.01, 1), metavar="SPREAD", help="Bring lightness down to this spread.")
@click.option(
    "--match", type=_PICTURE, metavar="IMAGE", help="Bring mean, spread and colour to those of another picture."
)
@click.option("--tile", type=click.Choice([row.value for row in Axes]), help="Make it repeat along one axis, or both.")
@click.option("--wrap", type=click.Choice(["x", "y"]), help="Make it go round a pole: as --tile along that axis.")
@click.option(
    "--overlap", type=click.FloatRange(0.02, 0.45), default=0.15, show_default=True, help="Of a side, for the cut."
)
@click.option(
    "--with", "followers", multiple=True, type=_PICTURE, metavar="IMAGE", help="Another map, through the same cut."
)
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
def surface(
    images: tuple[Path, ...],
    flatten: float | None,
    radius: float,
    cast: float | None,
    calm: float | None,
    match: Path | None,
    tile: str | None,
    wrap: str | None,
    overlap: float,
    followers: tuple[Path, ...],
    out: Path,
    form: str,
) -> None:
    """Flatten the light of IMAGES, calm or match their contrast, and make them repeat; each on its own.

    Writes a PNG, or of what holds light an EXR, of the same size, channels and bits for each, and for the maps --with it.
    Exit status: 0; 2 when a picture cannot be read, or nothing is asked for.
    """
    if all(value is None for value in (flatten, cast, calm, match, tile, wrap)):
        raise click.UsageError("say what to do: --flatten, --cast, --calm, --match, --tile or --wrap")
    if tile and wrap:
        raise click.UsageError("--wrap is --tile along one axis: give one of them")
    if followers and len(images) > 1:
        raise click.UsageError("--with goes with one image")
    light = flatten is not None or cast is not None
    settings = Surface(
        "surface", "source",
        flatten=Flatten(flatten or 0.0, radius, cast=(flatten or 0.0) if cast is None else cast) if light else None,
        calm=None if calm is None else Calm(calm),
        match=None if match is None else Match(str(match)),
        tile=Tile(Axes(tile or wrap), overlap) if tile or wrap else None,
    )  # fmt: skip
    rows = []
    for path in images:
        made, before, after = run(_whole(path, followers, settings, match, out))
        rows.append(_row(path, made, before, after))
        if form == "table":
            _print(path, made, before, after)
    if form == "json":
        click.echo(msgspec.json.format(msgspec.json.encode(rows), indent=1))


def _whole(
    path: Path, followers: tuple[Path, ...], settings: Surface, match: Path | None, out: Path
) -> Task[tuple[SurfaceMade, SurfaceMeasures, SurfaceMeasures]]:
    role_of = role_guesser(DEFAULT_PATTERNS)
    source = MapOf(str(path), read_picture(path), _role(role_of(path.name).role))
    rest = [MapOf(str(row), read_picture(row), _role(role_of(row.name).role)) for row in followers]
    made = yield from surface_of(source, rest, settings, None if match is None else read_picture(match))
    out.mkdir(parents=True, exist_ok=True)
    for row in (source, *rest):
        image = made.images[row.path]
        target = out / f"{Path(row.path).stem}{'.exr' if image.is_float else '.png'}"
        if target.exists() and target.samefile(row.path):
            raise FileError(target, "would be written over; sources are never written")
        (write_exr if image.is_float else write_png)(target, image)
    axes = Axes.BOTH if settings.tile is None else settings.tile.axes
    after = measures_of(made.images[source.path], source.transfer, axes)
    return made, measures_of(source.image, source.transfer, axes), after


def _role(role: Role) -> Role:
    """Return what a picture is taken for: what no name tells is a colour."""
    return Role.BASE_COLOUR if role is Role.UNKNOWN else role


def _row(path: Path, made: SurfaceMade, before: SurfaceMeasures, after: SurfaceMeasures) -> dict[str, Any]:
    return {
        "image": str(path),
        "before": before.as_json(),
        "after": after.as_json(before),
        "clipped_share": round(made.clipped, 5),
        "cuts": {"across": _path(made.across), "down": _path(made.down)},
    }


def _path(cut: Cut | None) -> list[float] | None:
    return None if cut is None else [round(float(value), 4) for value in cut.path]


def _edge(measures: SurfaceMeasures) -> str:
    return f"{measures.edge.words}, {measures.edge.strength:.1f}x"


def _print(path: Path, made: SurfaceMade, before: SurfaceMeasures, after: SurfaceMeasures) -> None:
    click.echo(f"{path}:")
    rows = [
        ("shading left", f"{before.shading:.2f} stops", f"{after.shading:.2f} stops", f"{GOOD_SHADING:g}"),
        (f"cast from {before.side}", f"{before.cast:.2f} stops", f"{after.cast:.2f} stops", ""),
        ("repetition", f"{before.repetition.peak:.2f}", f"{after.repetition.peak:.2f}", f"{GOOD_REPETITION:g}"),
        ("seam", f"{before.seam:.1f}x", f"{after.seam:.1f}x", f"{GOOD_SEAM:g}x"),
        ("strongest straight edge", _edge(before), _edge(after), ""),
        ("spread of lightness", f"{before.spread:.2f}", f"{after.spread:.2f}", ""),
        ("detail kept", "", f"{100 * after.kept(before):.0f} %", f"{100 * GOOD_DETAIL:.0f} %"),
    ]
    console().print(table(["", "before", "after", "good enough"], rows, right=(1, 2, 3)))
    if made.clipped > 0:
        click.echo(f"{100 * made.clipped:.1f} % of it is clipped, and left alone")
