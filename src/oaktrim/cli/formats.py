"""`oak-trim formats`: what there is, what it costs, what it is good for and what it breaks."""

from __future__ import annotations

import click

from oaktrim.cli.tables import console, table
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import TextureFormat
from oaktrim.core.plan.advice import format_options
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import target_named


@click.command()
@click.option("--target", "target_id", metavar="ID", help="Put what this target has hardware for first.")
@click.option("--role", type=click.Choice([role.value for role in Role]), help="Put what fits this use first.")
def formats(target_id: str | None, role: str | None) -> None:
    """List the texture formats."""
    if target_id is None:
        rows = [_row(row, None) for row in FORMATS.values()]
    else:
        use = Role(role) if role else Role.UNKNOWN
        rows = [_row(offer.format, offer.against) for offer in format_options(target_named(target_id), use)]
    last = "what it breaks" if target_id is None else f"why not on {target_id}"
    console().print(table(["format", "bits", "keeps", "hardware", "good for", last], rows, right=(1,)))


def _row(row: TextureFormat, against: str | None) -> tuple[str, ...]:
    good, breaks = row.good_for, row.weakness
    said = breaks if against is None else against
    return row.name, f"{row.bits_per_pixel:.3g}", row.channels, row.hardware.value, good, said
