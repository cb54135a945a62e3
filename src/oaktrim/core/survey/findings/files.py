"""Files that are wrong in themselves: unreadable, misnamed, or referred to by what they are not."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from pathlib import PurePosixPath

from oaktrim.core.survey.facts import IMAGE_MARK
from oaktrim.core.survey.findings.finding import Finding, RuleContext, Severity

_ENDINGS = {"jpeg": (".jpg", ".jpeg"), "tiff": (".tif", ".tiff")}


def unreadable(context: RuleContext) -> Iterator[Finding]:
    """A file that was to be surveyed and cannot be read, and what a maker cannot make."""
    for row in context.inventory.unreadable:
        yield context.finding("unreadable", Severity.ERROR, row.path, row.error, 0, "repair or replace the file")
    for row in context.inventory.unmade:
        message = f"cannot be made: {row.error}"
        yield context.finding("unreadable", Severity.ERROR, row.path, message, 0, "change its maker, or remove it")


def wrong_extension(context: RuleContext) -> Iterator[Finding]:
    """A picture or a sound of another kind than its name says."""
    i = context.inventory
    for path, kind in [*((t.path, t.kind) for t in i.textures), *((a.path, a.kind) for a in i.audio)]:
        suffix = PurePosixPath(path).suffix.lower()
        if IMAGE_MARK not in path and path not in i.made and suffix not in _ENDINGS.get(kind, (f".{kind}",)):
            yield context.finding(
                "wrong-extension",
                Severity.WARNING,
                path,
                f"is named {suffix} and holds {kind.upper()}: some importers go by the name and fail",
                0,
                f"rename it to end in .{kind}",
            )


def references(context: RuleContext) -> Iterator[Finding]:
    """References of models that do not hold."""
    grave = {"letter-case": Severity.WARNING}
    remedies = {
        "letter-case": "write the reference as the file is named",
        "outside-root": "bring the file below the root",
    }
    for fault in context.inventory.ownership.faults:
        yield context.finding(
            fault.code,
            grave.get(fault.code, Severity.ERROR),
            fault.path,
            fault.message,
            0,
            remedies.get(fault.code, "put the file there, or correct the reference"),
        )


def same_name(context: RuleContext) -> Iterator[Finding]:
    """Textures of one name in different folders, with different pixels."""
    groups: dict[str, list[int]] = defaultdict(list)
    textures = context.inventory.textures
    for row, texture in enumerate(textures):
        if IMAGE_MARK not in texture.path:
            groups[texture.path.rsplit("/", 1)[-1].lower()].append(row)
    for rows in groups.values():
        for row in rows[1:]:
            if textures[row].content != textures[rows[0]].content:
                yield context.finding(
                    "same-name",
                    Severity.NOTE,
                    textures[row].path,
                    f"has the name of {textures[rows[0]].path} and other pixels: what loads by name alone takes either",
                    0,
                    "give them names of their own",
                )
