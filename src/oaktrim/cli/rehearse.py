"""`oak-trim rehearse`: what an upload makes of textures by the target's own rules, beside cuts by hand of the same size."""

from __future__ import annotations

from pathlib import Path

import click
import msgspec
import numpy as np

from oaktrim.cli.exits import fail
from oaktrim.cli.progress import run
from oaktrim.cli.sources import source_at, weigh_source
from oaktrim.cli.tables import console, table
from oaktrim.core.plan.query import Assets, select
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.proof.rehearse import Rehearsal, rehearse
from oaktrim.core.units import size_text


@click.command(name="rehearse")
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--target", "name", required=True, metavar="ID", help="The target that it is uploaded to.")
@click.option("--where", default="", metavar="FILTER", help="Which textures; without, those that the target changes.")
@click.option("--most", type=click.IntRange(1), default=20, show_default=True, help="How many, the largest first.")
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
def rehearse_command(path: Path, name: str, where: str, most: int, form: str) -> None:
    """Say what uploading the sources of PATH costs in looks, against cutting them here first.

    Errors are in JND (just noticeable differences), at the size that a texture has on the screen.
    Exit status: 0; 1 when --where keeps nothing; 2 when PATH cannot be read.
    """
    source = source_at(path)
    found = weigh_source(source, (name,))
    target, inventory = found.plans[0].target, found.inventory
    plan = resolve(inventory, target, demand=found.plans[0].demand)
    readable = inventory.column("pixels") != ""
    if where:
        readable &= np.asarray(select(where, Assets(plan, found.plans[0], ())))[: len(readable)]
    else:
        footprint = plan.footprint
        readable &= (footprint.width != inventory.width) | (footprint.height != inventory.height)
    rows = np.flatnonzero(readable)
    if not len(rows):
        if where:
            raise fail(f"no texture is kept by {where!r}", 1)
        click.echo("[]" if form == "json" else f"{target.name} takes all of them as they are.")
        return
    rows = rows[np.argsort(-(inventory.width * inventory.height)[rows], kind="stable")][:most]
    done: list[Rehearsal] = [run(rehearse(plan, int(row), source.job.max_pixels)) for row in rows]
    if form == "json":
        click.echo(msgspec.json.format(msgspec.json.encode([row.as_json() for row in done]), indent=1))
        return
    cells = [
        (
            row.path, size_text(*row.sent), size_text(*row.becomes), row.format, f"{row.upload.quality.jnd:.2f}",
            f"{row.by_hand.quality.jnd:.2f}", str(row.advised or "as large as it is"),
        )
        for row in done
    ]  # fmt: skip
    heads = [f"on {target.name}", "sent", "becomes", "as", "upload JND", "cut here JND", "enough"]
    console().print(table(heads, cells, right=(4, 5, 6)))
