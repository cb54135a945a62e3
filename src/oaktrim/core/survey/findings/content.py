"""Pixels that hold less than their format pays for."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from oaktrim.core.survey.findings.finding import Finding, Ground, Severity
from oaktrim.core.survey.roles import Family, Role


def opaque_alpha(ground: Ground) -> Iterator[Finding]:
    """There is an alpha channel, and it is full everywhere."""
    for row, texture in ground.pictures():
        if texture.opaque:
            yield ground.finding(
                "opaque-alpha",
                Severity.WARNING,
                texture.path,
                "the alpha channel is full everywhere: it carries nothing, and a format with alpha pays for it",
                ground.memory(row) // 4,
                "choose a format without alpha",
            )


def grey_as_colour(ground: Ground) -> Iterator[Finding]:
    """Red, green and blue are equal everywhere."""
    for row, texture in ground.pictures():
        has_alpha = texture.channels == 4 and not texture.opaque
        if texture.grey and not texture.constant and not has_alpha:
            single = "r8" if texture.bit_depth == 8 else "r16"
            yield ground.finding(
                "grey-as-colour",
                Severity.WARNING,
                texture.path,
                "red, green and blue are the same everywhere: one channel would hold it",
                ground.saved_as(row, single) if not texture.floating else 0,
                "choose a format of one channel",
            )


def constant_image(ground: Ground) -> Iterator[Finding]:
    """Every pixel is the same."""
    for row, texture in ground.pictures():
        if texture.constant and (texture.width, texture.height) != (1, 1):
            yield ground.finding(
                "constant-image",
                Severity.WARNING,
                texture.path,
                f"all {texture.width}x{texture.height} pixels are the same: a single value would do",
                max(0, ground.memory(row) - 64),
                "cap it at 4, or set the value in the material",
            )


def duplicate_pixels(ground: Ground) -> Iterator[Finding]:
    """The same pixels stand under several names."""
    groups: dict[tuple[str, Family], list[int]] = defaultdict(list)
    for row, texture in ground.pictures():
        role = ground.inventory.roles[row].role
        # Read as colour and read as data are two different textures on a GPU.
        groups[texture.pixels, Family.COLOUR if role is Role.UNKNOWN else role.family].append(row)
    for rows in groups.values():
        first, *copies = (ground.inventory.textures[row].path for row in rows)
        for row, path in zip(rows[1:], copies, strict=True):
            yield ground.finding(
                "duplicate-pixels",
                Severity.WARNING,
                path,
                f"holds the same pixels as {first}: both are loaded",
                ground.memory(row),
                "let the materials share one",
            )
