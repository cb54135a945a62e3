"""`oak-trim targets`: the platforms that are known, and one of them in full."""

from __future__ import annotations

import click
import msgspec

from oaktrim.cli.tables import console, table
from oaktrim.core.targets.target import shipped_targets, target_named


@click.command()
@click.argument("name", metavar="[ID]", required=False)
def targets(name: str | None) -> None:
    """List the targets, or show the one of this ID."""
    if name is None:
        rows = [
            (t.id, t.name, *(str(t.limits.stated(line) or "") for line in ("memory", "package")), t.about)
            for t in shipped_targets().values()
        ]
        console().print(table(["id", "name", "memory", "package", "what it is"], rows, right=(2, 3)))
        return
    facts: list[tuple[str, str]] = []
    document = msgspec.to_builtins(target_named(name))
    for key, value in document.items():
        for line, inner in value.items() if isinstance(value, dict) else [("", value)]:
            text = ", ".join(map(str, inner)) if isinstance(inner, list | tuple) else str(inner)
            facts.append((f"{key} {line}".strip().replace("_", " "), "not watched" if inner is None else text))
    console().print(table([name, ""], facts))
