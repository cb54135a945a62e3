"""Formats that the hardware lacks, or that lose what the texture is for."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from oaktrim.core.formats.catalogue import FORMATS, Alpha
from oaktrim.core.survey.findings.finding import Finding, Fix, Ground, Remedy, Severity
from oaktrim.core.survey.roles import Family, Role
from oaktrim.core.units import bytes_text

# Formats whose blocks or bits mix the channels of a colour: directions and numbers do not survive that.
_MIXING = ("bc1", "bc1-a1", "bc3", "etc2-rgb", "etc2-rgb-a1", "etc2-rgba", "rgb565", "rgba5551", "rgba4444")
_SIXTEEN_BIT = ("rgb565", "rgba5551", "rgba4444")
_EXACT = tuple(name for name, row in FORMATS.items() if row.compressed)
_PICTURE_FILES = ("png", "jpeg", "webp")


def format_not_on_hardware(ground: Ground) -> Iterator[Finding]:
    """A texture ships in a format that the target lacks."""
    arrival, target = ground.arrival, ground.target
    for row, texture in ground.each(arrival.expanded):
        row_format = ground.format(row)
        stored, memory = int(arrival.stored[row]), int(arrival.memory[row])
        plain = row_format.expands_to
        yield ground.finding(
            "format-not-on-hardware",
            Severity.ERROR,
            texture.path,
            f"{target.name} has no hardware for {row_format.label}: it is expanded to "
            f"{FORMATS[plain].label} at load, slower and {memory / stored:.1f} times the memory",
            memory - stored,
            f"choose a format that {target.name} has",
            Fix(Remedy.FORMAT, "rgba8" if "A" in texture.live else ground.without_alpha() or "rgb565")
            if texture.pixels and not row_format.floating
            else None,
        )


def format_not_everywhere(ground: Ground) -> Iterator[Finding]:
    """A texture ships in a format that part of the audience lacks."""
    target = ground.target
    missing = np.array([1 - target.share_of(row) for row in FORMATS.values()])[ground.formats]
    for row, texture in ground.each((missing > 0) & ~ground.arrival.expanded):
        held = ground.format(row)
        plain = ground.memory_as(row, FORMATS[held.expands_to])
        yield ground.finding(
            "format-not-everywhere",
            Severity.NOTE,
            texture.path,
            f"{missing[row] * 100:.0f} % of the audience of {target.name} has no hardware for {held.label}: there it is "
            f"expanded at load, to {bytes_text(plain)} instead of {bytes_text(ground.memory(row))}",
            plain - ground.memory(row),
            "ship a second set for them, or a format that all have",
        )


def alpha_lost(ground: Ground) -> Iterator[Finding]:
    """Alpha is in use, and the format swallows it."""
    none = ground.shipped_as(*(name for name, row in FORMATS.items() if row.alpha is Alpha.NONE))
    for row, texture in ground.each(none & ground.has_pixels):
        if "A" not in texture.live or len(texture.live) < 2:
            continue
        owners = ground.inventory.ownership.owners.get(row, ())
        if owners and not any(owner.slot.reads_alpha for owner in owners):
            continue
        name = ground.usable("bc3", "bc7", "astc-6x6", "etc2-rgba", "rgba4444")
        yield ground.finding(
            "alpha-lost",
            Severity.ERROR,
            texture.path,
            f"its alpha is in use, and {ground.format(row).label} keeps none: it will be solid on {ground.target.name}",
            0,
            "choose a format with alpha",
            None if name is None else Fix(Remedy.FORMAT, name),
        )


def colour_compressed_data(ground: Ground) -> Iterator[Finding]:
    """Directions or exact values in a format made for colour."""
    mixing = ground.shipped_as(*_MIXING)
    for row, texture in ground.each(ground.of_role(Role.NORMAL) & mixing):
        better = ground.for_normals()
        yield ground.finding(
            "colour-compressed-data",
            Severity.ERROR,
            texture.path,
            f"a normal map in {ground.format(row).label}, which mixes the channels: its directions break into steps",
            0,
            "choose a format that keeps two channels apart",
            None if better is None else Fix(Remedy.FORMAT, better),
        )
    exact = ground.of_role(Role.LOOKUP, Role.GLYPHS) & ground.shipped_as(*_EXACT, *_SIXTEEN_BIT)
    masks = ground.of_role(Role.MASK) & mixing
    for row, texture in ground.each((exact | masks) & ~ground.shipped_as("bc4", "eac-r11")):
        what = ground.inventory.roles[row].role.label.lower()
        yield ground.finding(
            "colour-compressed-data",
            Severity.ERROR,
            texture.path,
            f"a {what} in {ground.format(row).label}: its values are read as numbers, and each comes back a little off",
            0,
            "choose a plain format",
            Fix(Remedy.FORMAT, "r8" if texture.channels == 1 or texture.grey else "rgba8"),
        )


def packed_file(ground: Ground) -> Iterator[Finding]:
    """A file that is small because it is packed, and is not small in memory."""
    i = ground.inventory
    memory, file_bytes = ground.arrival.memory, i.column("file_bytes")
    for row, texture in ground.each((memory >= 1 << 22) & (file_bytes * 16 < memory)):
        if texture.kind not in (*_PICTURE_FILES, "ktx2") or (texture.kind == "ktx2" and not texture.format):
            continue
        name = {"jpeg": "JPEG", "webp": "WebP"}.get(texture.kind, texture.kind.upper())
        yield ground.finding(
            "packed-file",
            Severity.NOTE,
            texture.path,
            f"the file is {bytes_text(texture.file_bytes)} and takes {bytes_text(int(memory[row]))} in memory: packing as "
            f"{name} ends at load, and packing the package saves download, not memory",
            0,
            "a smaller size or a block format saves both",
        )


def sixteen_bit_bands(ground: Ground) -> Iterator[Finding]:
    """Smooth colour in a 16-bit format."""
    smooth = (ground.inventory.column("detail") < 1) & (ground.inventory.families == Family.COLOUR.value)
    for row, texture in ground.each(ground.shipped_as(*_SIXTEEN_BIT) & smooth & ~ground.flags("constant")):
        name = ground.without_alpha()
        yield ground.finding(
            "sixteen-bit-bands",
            Severity.NOTE,
            texture.path,
            f"smooth colour in {ground.format(row).label}: steps of 1/31 show as bands where dithering cannot hide them",
            0,
            "look at it in Proof, or choose a block format",
            None if name is None else Fix(Remedy.FORMAT, name),
        )
