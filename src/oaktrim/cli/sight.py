"""`oak-trim sight` and `oak-trim station`: how large textures need to be from where a player can stand."""

from __future__ import annotations

from math import degrees, pi, radians
from pathlib import Path

import click
import msgspec
import numpy as np
from rich.text import Text

from oaktrim.cli.exits import fail
from oaktrim.cli.progress import run
from oaktrim.cli.sources import Source, plan_of, source_at
from oaktrim.cli.tables import console, table
from oaktrim.core.errors import Unsupported, shown
from oaktrim.core.files.pictures import write_png
from oaktrim.core.job.document import Job, save_job
from oaktrim.core.pixels.image import Image
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.render.picture import Settings, draw, footprints
from oaktrim.core.sight.demand import (
    NothingToLookFrom,
    Stage,
    demand_of,
    least_levels,
    places_looked_at,
    stage_of,
    with_cameras,
)
from oaktrim.core.sight.ramp import fit_picture
from oaktrim.core.sight.report import as_json, texture_rows
from oaktrim.core.sight.residency import Residency, residency, walk
from oaktrim.core.sight.sightlines import YFOV, Nearest, Portrait, Sightlines, Station
from oaktrim.core.sight.targets import selecting
from oaktrim.core.sight.views import path_scene, scene_of, station_camera
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.drawables import TextureCache, ready
from oaktrim.core.units import point_of, size_of, size_text

_JOB = click.Path(path_type=Path, dir_okay=False, exists=True)


class _Point(click.ParamType[tuple[float, float, float]]):
    """Three numbers, X,Y,Z."""

    name = "X,Y,Z"

    def convert(
        self, value: object, param: click.Parameter | None, context: click.Context | None
    ) -> tuple[float, float, float]:
        if isinstance(value, tuple):
            return value
        try:
            return point_of(str(value))
        except ValueError as error:
            self.fail(str(error), param, context)


class _Screen(click.ParamType[tuple[int, int]]):
    """Width and height in pixels, WxH."""

    name = "WxH"

    def convert(self, value: object, param: click.Parameter | None, context: click.Context | None) -> tuple[int, int]:
        if isinstance(value, tuple):
            return value
        try:
            return size_of(str(value))
        except ValueError as error:
            self.fail(str(error), param, context)


def _looking(
    source: Source, plan: Plan, sightlines: Sightlines, pictures: Path | None
) -> Task[tuple[Demand, list[Station], list[Residency]]]:
    """Ask everything there is to ask, and draw pictures of it if they are wanted."""
    inventory, target = plan.inventory, plan.target
    cache, selected = TextureCache(), selecting(inventory, target)
    places = places_looked_at(sightlines, inventory)
    if not places:
        raise NothingToLookFrom
    demand = yield from demand_of(inventory, target, sightlines, selected, cache, source.job.max_pixels)
    stations: list[Station] = []
    walked: list[Residency] = []
    if not demand.looked.any():
        raise Unsupported("no sightline stands in any model that could be read")
    for place in places:
        path = inventory.models[place].path
        stage = None
        if pictures is not None or not sightlines or sightlines.paths:
            stage = yield from stage_of(inventory, place, inventory.sources(source.job.max_pixels), cache)
        lines = with_cameras(sightlines, inventory, stage.loaded) if stage is not None else sightlines
        mine = [row for row in lines.stations if scene_of(inventory, row.scene) == place]
        stations += [row if row.scene else msgspec.structs.replace(row, scene=path) for row in mine]
        if stage is None:
            continue
        for path_named in lines.paths:
            if scene_of(inventory, path_scene(lines, path_named.name)[0]) == place:
                seen = yield from walk(stage, lines, path_named.name, target)
                walked.append(residency(plan, stage, seen))
        if pictures is not None:
            yield from _picture(plan, stage, mine, cache, pictures)
    return demand, stations, walked


def _picture(plan: Plan, stage: Stage, stations: list[Station], cache: TextureCache, folder: Path) -> Task[None]:
    """Write each station as it is seen, and with its fit in colours."""
    inventory = plan.inventory
    scene, _ = yield from ready(inventory, stage.loaded, inventory.sources(1 << 28), cache)
    sizes = np.stack([plan.footprint.width, plan.footprint.height], axis=1)[stage.reads.rows].astype(np.float64)
    for station in stations:
        camera, screen = station_camera(station), station.screen or plan.target.screen
        seen = yield from draw(scene, camera, screen, Settings(4, background=(0.35, 0.4, 0.46, 1.0)))
        prints = yield from footprints(scene, camera, screen)
        levels = least_levels(prints, stage.loaded, stage.reads, plan.target.filtering, sizes)
        name = "".join(letter if letter.isalnum() or letter in "-_" else "-" for letter in station.name)
        folder.mkdir(parents=True, exist_ok=True)
        write_png(folder / f"{name}.png", Image.of(np.ascontiguousarray(seen.codes()[..., :3])))
        write_png(folder / f"{name}-fit.png", Image.of(np.ascontiguousarray(fit_picture(levels)[..., :3])))


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--target", "target_name", required=True, metavar="ID", help="Whose screen and filtering count.")
@click.option("--station", "names", multiple=True, metavar="NAME", help="Only from this station; may be given again.")
@click.option(
    "--percentile", type=click.FloatRange(50, 100), help="Of a view's pixels that have to have what they show."
)
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
@click.option("--pictures", type=click.Path(path_type=Path, file_okay=False), help="Write each station as PNG here.")
def sight(
    path: Path, target_name: str, names: tuple[str, ...], percentile: float | None, form: str, pictures: Path | None
) -> None:
    """Say how large each texture of PATH, a folder or a job, needs to be from its sightlines.

    Without sightlines the cameras in the models are looked from. Exit status: 2 where there are none either, or PATH
    cannot be read.
    """
    source = source_at(path)
    plan = plan_of(source, target_name)
    sightlines = source.job.sightlines
    if percentile is not None:
        sightlines = msgspec.structs.replace(sightlines, percentile=percentile)
    if names:
        sightlines = run(_only(source, plan, sightlines, names))
    demand, stations, walked = run(_looking(source, plan, sightlines, pictures))
    if form == "json":
        click.echo(as_json(plan, demand, stations, sightlines, walked), nl=False)
        return
    _print(plan, demand, stations, walked)


def _only(source: Source, plan: Plan, sightlines: Sightlines, names: tuple[str, ...]) -> Task[Sightlines]:
    """Return sightlines of the named stations alone, those of the job or cameras of models."""
    known = {row.name: row for row in sightlines.stations}
    if not sightlines:
        for place in places_looked_at(sightlines, plan.inventory):
            stage = yield from stage_of(
                plan.inventory, place, plan.inventory.sources(source.job.max_pixels), TextureCache()
            )
            known |= {row.name: row for row in with_cameras(sightlines, plan.inventory, stage.loaded).stations}
    yield Progress(0, 1, "choosing stations")
    lost = next((name for name in names if name not in known), None)
    if lost is not None:
        raise Unsupported(f"there is no station {lost!r}; known are {', '.join(known) or 'none'}")
    return Sightlines(stations=tuple(known[name] for name in names), percentile=sightlines.percentile)


def _print(plan: Plan, demand: Demand, stations: list[Station], walked: list[Residency]) -> None:
    out = console()
    count = len(stations)
    out.print(
        Text(
            f"{count} station{'s' if count != 1 else ''} on {plan.target.name}, {size_text(*plan.target.screen)}, "
            f"{plan.target.filtering.value} filtering"
        )
    )
    rows = []
    for row in texture_rows(plan, demand):
        far = row["most_demanding"]["distance"]
        fit = row["fit"]
        rows.append(
            (
                row["path"],
                size_text(row["width"], row["height"]),
                size_text(*row["ships"]),
                str(row["side"]),
                f"{fit:+d}" if fit else "fits",
                f"{row['seen_pixels']:,}",
                row["most_demanding"]["station"] + (f", {far:.1f} away" if far is not None else ""),
            )
        )
    out.print(
        table(["texture", "source", "ships at", "wants", "fit", "pixels", "most demanding"], rows, right=(3, 4, 5))
    )
    unseen = [plan.inventory.textures[row].path for row in np.flatnonzero(demand.unseen)]
    if unseen:
        out.print(Text(f"\nNever seen: {', '.join(unseen)}"))
    for found in walked:
        pool = f"{found.limit / (1 << 20):.1f} MiB" if found.limit is not None else "no limit"
        worst = found.worst
        lacking = (found.wanted[worst] - found.kept[worst]) / (1 << 20)
        out.print(
            Text(
                f"\nAlong {found.name}: pool {pool}, {found.enough / (1 << 20):.1f} MiB blurs nothing; "
                + (
                    f"worst at {found.times[worst]:.1f} s, {lacking:.1f} MiB short"
                    if lacking > 0
                    else "nothing is blurred"
                )
                + f"; at most {found.loads_a_second / (1 << 20):.1f} MiB a second come in"
                + (
                    f", the disk is up to {found.late.max():.1f} s late"
                    if found.late.any()
                    else ", which the disk brings in time"
                    if found.rate is not None
                    else ""
                )
            )
        )


@click.group(invoke_without_command=True)
@click.argument("path", metavar="JOB", type=_JOB)
@click.pass_context
def station(context: click.Context, path: Path) -> None:
    """List, add and remove the sightlines of JOB; without a command they are listed."""
    context.obj = path
    if context.invoked_subcommand is None:
        _list(path)


def _edit(path: Path, change: object) -> None:
    source = source_at(path)
    assert callable(change)
    job: Job = source.job
    save_job(msgspec.structs.replace(job, sightlines=change(job.sightlines)), path, source.root)


@station.command(name="list")
@click.pass_obj
def list_stations(path: Path) -> None:
    """List a job's stations, paths, zones and rules."""
    _list(path)


def _list(path: Path) -> None:
    lines = source_at(path).job.sightlines
    for row in lines.stations:
        eye, target = (", ".join(f"{value:g}" for value in point) for point in (row.eye, row.target))
        screen = f", {size_text(*row.screen)}" if row.screen else ""
        click.echo(
            f"{row.name}: from {eye} to {target}, {degrees(row.yfov):.1f} degrees{screen}{f', in {row.scene}' if row.scene else ''}"
        )
    for way in lines.paths:
        click.echo(f"path {way.name}: " + ", ".join(f"{step.station} at {step.time:g} s" for step in way.steps))
    for zone in lines.zones:
        where = f"on {zone.ground}" if zone.ground else "in a box"
        click.echo(f"zone {zone.name}: {where}, nothing nearer than {zone.nearest:g}")
    for place, rule in enumerate(lines.nearest, 1):
        click.echo(f"nearest {place}: {rule.metres:g} to {rule.where}")
    for place, portrait in enumerate(lines.portraits, 1):
        how = f"at {portrait.metres:g}" if portrait.metres is not None else f"at most {portrait.height or 0:.0%} high"
        click.echo(f"portrait {place}: {portrait.model or 'every model'} seen whole {how}")
    if not (lines or lines.paths):
        click.echo("No sightlines: the cameras in the models are looked from.")


@station.command(name="add")
@click.argument("name", required=False, default="")
@click.option("--eye", type=_Point(), help="Where it stands.")
@click.option("--target", "look", type=_Point(), help="A point that it looks at.")
@click.option(
    "--yfov",
    type=click.FloatRange(0.01, 179),
    help="Vertical field of view in degrees; below 3.1 in radians, as glTF has it.",
)
@click.option("--screen", type=_Screen(), help="Pixels, as 1920x1080; the target's without.")
@click.option("--scene", default="", metavar="PATH", help="The model that it stands in; the largest without.")
@click.option(
    "--nearest",
    type=click.FloatRange(min=0, min_open=True),
    metavar="METRES",
    help="What --where keeps is never nearer.",
)
@click.option("--where", default="", metavar="FILTER", help="Textures that --nearest is about: 'path:trees/*'.")
@click.option(
    "--portrait", metavar="METRES|PERCENT%", help="Models seen whole: from so far, or at most so high: 1.5 or 30%."
)
@click.pass_obj
def add(
    path: Path,
    name: str,
    eye: tuple[float, float, float] | None,
    look: tuple[float, float, float] | None,
    yfov: float | None,
    screen: tuple[int, int] | None,
    scene: str,
    nearest: float | None,
    where: str,
    portrait: str | None,
) -> None:
    """Add a station NAME, or a rule of how near things are seen, to JOB; one of the same name is replaced."""
    angle = YFOV if yfov is None else yfov if yfov < pi else radians(yfov)

    def change(lines: Sightlines) -> Sightlines:
        if nearest is not None:
            if not where:
                raise fail("--nearest needs --where: what is never nearer")
            return msgspec.structs.replace(lines, nearest=(*lines.nearest, Nearest(nearest, where)))
        if portrait is not None:
            return msgspec.structs.replace(lines, portraits=(*lines.portraits, _portrait(portrait, scene or name)))
        if not name or eye is None or look is None:
            raise fail("a station has a name, --eye and --target; or say --nearest or --portrait")
        return lines.with_station(Station(name, eye, look, angle, screen, scene))

    try:
        _edit(path, change)
    except ValueError as error:
        raise fail(str(error)) from error
    click.echo(f"{shown(path)}: {name or 'a rule'} added")


def _portrait(text: str, model: str) -> Portrait:
    try:
        if text.endswith("%"):
            return Portrait(model, height=float(text[:-1]) / 100)
        return Portrait(model, metres=float(text))
    except ValueError as error:
        raise fail(f"--portrait takes a distance such as 1.5 or a height such as 30%, not {text!r}: {error}") from error


@station.command(name="remove")
@click.argument("name")
@click.pass_obj
def remove(path: Path, name: str) -> None:
    """Remove the station, path or zone NAME from JOB, or a rule as `list` numbers it: 'nearest 1', 'portrait 2'."""

    def change(lines: Sightlines) -> Sightlines:
        kind, _, number = name.partition(" ")
        rules = {"nearest": lines.nearest, "portrait": lines.portraits}.get(kind, ())
        if number.isdigit() and 0 < int(number) <= len(rules):
            kept = tuple(row for place, row in enumerate(rules, 1) if place != int(number))
            return msgspec.structs.replace(lines, **{"nearest" if kind == "nearest" else "portraits": kept})
        left = lines.without(name)
        if left == lines:
            raise fail(f"there is no sightline {name!r} in {path}")
        return left

    _edit(path, change)
    click.echo(f"{shown(path)}: {name} removed")
