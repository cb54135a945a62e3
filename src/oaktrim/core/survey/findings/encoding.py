"""Formats that the hardware lacks, or that lose what the texture is for."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Alpha, Suits
from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity
from oaktrim.core.survey.roles import Family, Role
from oaktrim.core.units import bytes_text

_PICTURE_FILES = ("png", "jpeg", "webp")


def format_not_on_hardware(context: RuleContext) -> Iterator[Finding]:
    """A texture ships in a format that the target lacks."""
    footprint, target = context.footprint, context.target
    for row, texture in context.each(footprint.expanded):
        row_format = context.format(row)
        stored, memory = int(footprint.stored[row]), int(footprint.memory[row])
        plain = row_format.expands_to
        yield context.finding(
            "format-not-on-hardware",
            Severity.ERROR,
            texture.path,
            f"{target.name} has no hardware for {row_format.label}: it is expanded to "
            f"{FORMATS[plain].label} at load, slower and {memory / stored:.1f} times the memory",
            memory - stored,
            f"choose a format that {target.name} has",
            Fix(Remedy.FORMAT, "rgba8" if "A" in texture.live else context.usable(Suits.OPAQUE) or "rgb565")
            if texture.pixels and not row_format.floating
            else None,
        )


def format_not_everywhere(context: RuleContext) -> Iterator[Finding]:
    """A texture ships in a format that part of the audience lacks."""
    target = context.target
    missing = np.array([1 - target.share_of(row) for row in FORMATS.values()])[context.formats]
    for row, texture in context.each((missing > 0) & ~context.footprint.expanded):
        held = context.format(row)
        plain = context.memory_as(row, FORMATS[held.expands_to])
        yield context.finding(
            "format-not-everywhere",
            Severity.NOTE,
            texture.path,
            f"{missing[row] * 100:.0f} % of the audience of {target.name} has no hardware for {held.label}: there it is "
            f"expanded at load, to {bytes_text(plain)} instead of {bytes_text(context.memory(row))}",
            plain - context.memory(row),
            "ship a second set for them, or a format that all have",
        )


def alpha_lost(context: RuleContext) -> Iterator[Finding]:
    """Alpha is in use, and the format swallows it."""
    none = context.shipped_as(lambda row: row.alpha is Alpha.NONE)
    for row, texture in context.each(none & context.has_pixels):
        if "A" not in texture.live or len(texture.live) < 2:
            continue
        owners = context.inventory.ownership.owners.get(row, ())
        if owners and not any(owner.slot.reads_alpha for owner in owners):
            continue
        name = context.usable(Suits.SOFT_ALPHA)
        yield context.finding(
            "alpha-lost",
            Severity.ERROR,
            texture.path,
            f"its alpha is in use, and {context.format(row).label} keeps none: it will be solid on {context.target.name}",
            0,
            "choose a format with alpha",
            None if name is None else Fix(Remedy.FORMAT, name),
        )


def colour_compressed_data(context: RuleContext) -> Iterator[Finding]:
    """Directions or exact values in a format made for colour."""
    mixing = context.shipped_as(lambda row: row.mixes_channels)
    for row, texture in context.each(context.of_role(Role.NORMAL) & mixing):
        better = context.usable(Suits.NORMALS)
        yield context.finding(
            "colour-compressed-data",
            Severity.ERROR,
            texture.path,
            f"a normal map in {context.format(row).label}, which mixes the channels: its directions break into steps",
            0,
            "choose a format that keeps two channels apart",
            None if better is None else Fix(Remedy.FORMAT, better),
        )
    exact = context.of_role(Role.LOOKUP, Role.GLYPHS) & context.shipped_as(
        lambda row: row.compressed or row.packed_bits is not None
    )
    masks = context.of_role(Role.MASK) & mixing
    for row, texture in context.each(
        (exact | masks) & ~context.shipped_as(lambda row: row.compressed and len(row.channels) == 1)
    ):
        what = context.inventory.roles[row].role.label.lower()
        yield context.finding(
            "colour-compressed-data",
            Severity.ERROR,
            texture.path,
            f"a {what} in {context.format(row).label}: its values are read as numbers, and each comes back a little off",
            0,
            "choose a plain format",
            Fix(Remedy.FORMAT, "r8" if texture.channels == 1 or texture.grey else "rgba8"),
        )


def packed_file(context: RuleContext) -> Iterator[Finding]:
    """A file that is small because it is packed, and is not small in memory."""
    i = context.inventory
    memory, file_bytes = context.footprint.memory, i.column("file_bytes")
    for row, texture in context.each((memory >= 1 << 22) & (file_bytes * 16 < memory)):
        if texture.kind not in (*_PICTURE_FILES, "ktx2") or (texture.kind == "ktx2" and not texture.format):
            continue
        name = {"jpeg": "JPEG", "webp": "WebP"}.get(texture.kind, texture.kind.upper())
        yield context.finding(
            "packed-file",
            Severity.NOTE,
            texture.path,
            f"the file is {bytes_text(texture.file_bytes)} and takes {bytes_text(int(memory[row]))} in memory: packing as "
            f"{name} ends at load, and packing the package saves download, not memory",
            0,
            "a smaller size or a block format saves both",
        )


def sixteen_bit_bands(context: RuleContext) -> Iterator[Finding]:
    """Smooth colour in a 16-bit format."""
    smooth = (context.inventory.column("detail") < 1) & (context.inventory.families == Family.COLOUR.value)
    few_bits = context.shipped_as(lambda row: row.packed_bits is not None)
    for row, texture in context.each(few_bits & smooth & ~context.flags("constant")):
        name = context.usable(Suits.OPAQUE)
        yield context.finding(
            "sixteen-bit-bands",
            Severity.NOTE,
            texture.path,
            f"smooth colour in {context.format(row).label}: steps of 1/31 show as bands where dithering cannot hide them",
            0,
            "look at it in Proof, or choose a block format",
            None if name is None else Fix(Remedy.FORMAT, name),
        )
