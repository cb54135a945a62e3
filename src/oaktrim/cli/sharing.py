"""`oak-trim sharing`: near-same textures that one could serve, and letting it."""

from __future__ import annotations

from pathlib import Path

import click
import msgspec

from oaktrim.cli.exits import fail
from oaktrim.cli.job import save
from oaktrim.cli.sources import plans_of, source_at
from oaktrim.core.job.begin import with_begun
from oaktrim.core.proof.sharing import Sharing, sharings
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.units import bytes_text


@click.command()
@click.argument("path", type=click.Path(path_type=Path))
@click.option(
    "--accept", type=int, metavar="NUMBER", help="Let the first texture of this group serve all; the job keeps it."
)
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
def sharing(path: Path, accept: int | None, form: str) -> None:
    """List textures of PATH that are nearly the same, at any size, as they are, mirrored or turned, with what one for all saves.

    Exit status: 0; 2 when PATH cannot be read, or there is no such group.
    """
    source = source_at(path)
    plans = plans_of(source)
    cache = SurveyCache()
    found = sharings(plans, cache.thumbnail)
    if accept is not None:
        if not 1 <= accept <= len(found):
            raise fail(f"there are groups 1 to {len(found)}, not {accept}")
        if path.is_dir():
            raise fail(f"{path}: what is accepted is kept in a job; make one with oak-trim job new")
        maker = source.job.named(found[accept - 1].share)
        save(with_begun(source.job, maker, plans), path, source)
        click.echo(f"{maker.name}: {maker.source} for {len(maker.others) + 1}")
        return
    names = [plan.target.id for plan in plans]
    if form == "json":
        rows = [
            {"share": row.share, "apart": round(row.apart, 4), "saved": dict(zip(names, row.saved, strict=True))}
            for row in found
        ]
        click.echo(msgspec.json.format(msgspec.json.encode(rows), indent=1))
        return
    for number, row in enumerate(found, 1):
        click.echo(f"{number:4}. {_words(row, names)}")
    if not found:
        click.echo("No textures are nearly the same.")


def _words(row: Sharing, names: list[str]) -> str:
    others = ", ".join(other.path + (f" ({other.words})" if other.words else "") for other in row.share.others)
    saved = ", ".join(f"{bytes_text(size)} on {name}" for name, size in zip(names, row.saved, strict=True))
    return f"{row.share.source} could serve {others}: saves {saved}"
