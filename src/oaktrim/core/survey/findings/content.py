"""Pixels that hold less than their format or their size pays for."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np
from scipy.spatial import cKDTree

from oaktrim.core.formats.format import Suits
from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity
from oaktrim.core.survey.roles import Family, Role

_COLOUR_NAMES = {"R": "red", "G": "green", "B": "blue", "A": "alpha"}
# Mean codes of cells that differ by no more than this are the same picture at another size.
_SAME_CODES = 2.5


def _colour_fix(context: RuleContext) -> Fix | None:
    name = context.usable(Suits.OPAQUE)
    return None if name is None else Fix(Remedy.FORMAT, name)


def _ships_alpha(context: RuleContext, row: int) -> bool:
    return "A" in context.format(row).channels


def opaque_alpha(context: RuleContext) -> Iterator[Finding]:
    """There is an alpha channel, and it is full everywhere."""
    for row, texture in context.each(context.flags("opaque")):
        if _ships_alpha(context, row):
            yield context.finding(
                "opaque-alpha",
                Severity.WARNING,
                texture.path,
                "the alpha channel is full everywhere: it says nothing, and a format with alpha pays for it",
                context.memory(row) // 4,
                "choose a format without alpha",
                _colour_fix(context),
            )


def constant_alpha(context: RuleContext) -> Iterator[Finding]:
    """The alpha channel is the same everywhere, and not full."""
    for row, texture in context.each(context.flags("alpha_constant")):
        if _ships_alpha(context, row) and not texture.constant:
            yield context.finding(
                "constant-alpha",
                Severity.WARNING,
                texture.path,
                "the alpha channel is the same everywhere: one number in the material would do",
                context.memory(row) // 4,
                "set it in the material, and choose a format without alpha",
                _colour_fix(context),
            )


def unused_alpha(context: RuleContext) -> Iterator[Finding]:
    """Alpha is there and changes, and no material looks at it."""
    owners = context.inventory.ownership.owners
    for row, uses in owners.items():
        texture = context.inventory.textures[row]
        if "A" in texture.live and _ships_alpha(context, row) and not any(owner.slot.reads_alpha for owner in uses):
            yield context.finding(
                "unused-alpha",
                Severity.WARNING,
                texture.path,
                "it has an alpha channel, and no material that uses it looks at alpha",
                context.memory(row) // 4,
                "choose a format without alpha",
                _colour_fix(context),
            )


def _single(context: RuleContext, row: int) -> str:
    return "r8" if context.inventory.textures[row].bit_depth == 8 else "r16"


def grey_as_colour(context: RuleContext) -> Iterator[Finding]:
    """Red, green and blue are equal everywhere."""
    for row, texture in context.each(context.flags("grey") & ~context.flags("constant")):
        has_alpha = texture.channels == 4 and not texture.opaque
        if not has_alpha and len(context.format(row).channels) > 1:
            single = _single(context, row)
            yield context.finding(
                "grey-as-colour",
                Severity.WARNING,
                texture.path,
                "red, green and blue are the same everywhere: one channel would hold it",
                context.saved_as(row, single) if not texture.floating else 0,
                "choose a format of one channel",
                None if texture.floating else Fix(Remedy.FORMAT, single),
            )


def one_live_channel(context: RuleContext) -> Iterator[Finding]:
    """One channel holds data and the others do not."""
    for row, texture in context.each(context.has_pixels):
        if len(texture.live) == 1 and texture.channels >= 3 and len(context.format(row).channels) > 1:
            name = _COLOUR_NAMES.get(texture.live, texture.live)
            yield context.finding(
                "one-live-channel",
                Severity.WARNING,
                texture.path,
                f"only {name} changes; the other {texture.channels - 1} channels are the same everywhere and are paid for",
                context.saved_as(row, _single(context, row)) if not texture.floating else 0,
                "pack it into a channel of another texture",
                Fix(Remedy.PACK),
            )


def constant_channel(context: RuleContext) -> Iterator[Finding]:
    """A channel of a data texture is the same everywhere."""
    for _, texture in context.each(context.of_role(Role.SURFACE, Role.MASK) & context.has_pixels):
        dead = [name for name in "RGB"[: texture.channels] if name not in texture.live]
        if texture.channels < 3 or texture.grey or not dead or len(texture.live) <= 1:
            continue
        names = " and ".join(_COLOUR_NAMES[name] for name in dead)
        yield context.finding(
            "constant-channel",
            Severity.NOTE,
            texture.path,
            f"{names} {'is' if len(dead) == 1 else 'are'} the same everywhere: there is room for another map",
            0,
            "set the number in the material, or pack another map there",
            Fix(Remedy.PACK),
        )


def constant_image(context: RuleContext) -> Iterator[Finding]:
    """Every pixel is the same."""
    for row, texture in context.each(context.flags("constant")):
        width, height = context.size(row)
        if max(width, height) > 4:
            yield context.finding(
                "constant-image",
                Severity.WARNING,
                texture.path,
                f"all {texture.width}x{texture.height} pixels are the same: a single value would do",
                max(0, context.memory(row) - 64),
                "cap it at 4, or set the value in the material",
                Fix(Remedy.CAP, 4),
            )


def duplicate_pixels(context: RuleContext) -> Iterator[Finding]:
    """The same pixels stand under several names."""
    groups: dict[tuple[str, Family], list[int]] = defaultdict(list)
    for row, texture in context.each(context.has_pixels):
        role = context.inventory.roles[row].role
        # Read as colour and read as data are two different textures on a GPU.
        groups[texture.pixels, Family.COLOUR if role is Role.UNKNOWN else role.family].append(row)
    for rows in groups.values():
        first = context.inventory.textures[rows[0]].path
        for row in rows[1:]:
            yield context.finding(
                "duplicate-pixels",
                Severity.WARNING,
                context.inventory.textures[row].path,
                f"holds the same pixels as {first}: both are loaded",
                context.memory(row),
                "let the materials share one",
            )


def scaled_copy(context: RuleContext) -> Iterator[Finding]:
    """A picture is another one at a smaller size."""
    i = context.inventory
    shape = i.column("width") / np.maximum(1, i.column("height"))
    # Of equal pictures one will do: that they are equal is a finding of its own.
    alone = np.zeros(len(i.textures), np.bool_)
    alone[np.unique(i.column("pixels"), return_index=True)[1]] = True
    large_enough = np.minimum(i.width, i.height) >= 16
    rows = np.flatnonzero(context.has_pixels & alone & ~context.flags("constant") & large_enough)
    if len(rows) < 2:
        return
    means = (
        np.frombuffer(b"".join(i.textures[row].means for row in rows), np.uint8)
        .reshape(len(rows), -1)
        .astype(np.float32)
    )
    # Flat pictures are all alike at this scale; only those with some contrast can be told apart.
    told = means.reshape(len(rows), 16, 4).std(axis=1).max(axis=1) > 4
    rows, means = rows[told], means[told]
    pairs = (
        cKDTree(means).query_pairs(_SAME_CODES * 4, output_type="ndarray") if len(rows) > 1 else np.zeros((0, 2), int)
    )
    copies: dict[int, int] = {}
    for one, other in pairs:
        small, large = sorted((int(rows[one]), int(rows[other])), key=lambda row: int(i.width[row]))
        same_shape = abs(shape[small] - shape[large]) < 0.01 * shape[large]
        near = np.abs(means[one] - means[other]).max() <= _SAME_CODES * 2
        if i.width[small] < i.width[large] and same_shape and near and i.roles[small].role is i.roles[large].role:
            copies.setdefault(small, large)
    for row in sorted(copies):
        whole = i.textures[copies[row]]
        yield context.finding(
            "scaled-copy",
            Severity.NOTE,
            i.textures[row].path,
            f"looks like {whole.path} at {i.width[row]} instead of {whole.width} pixels: its levels hold this picture already",
            context.memory(row),
            "let the materials share the larger one",
        )


def more_size_than_detail(context: RuleContext) -> Iterator[Finding]:
    """There is no detail above a half, or a quarter, of the resolution."""
    i = context.inventory
    longest = np.maximum(context.footprint.width, context.footprint.height)
    side = (np.maximum(i.width, i.height) * i.column("detail")).astype(np.int64)
    coarse = context.has_pixels & (i.column("detail") < 1) & ~context.of_role(Role.LOOKUP, Role.GLYPHS)
    for row, texture in context.each(coarse & (longest > np.maximum(side, 64))):
        part = {0.5: "half", 0.25: "a quarter of"}[texture.detail]
        yield context.finding(
            "more-size-than-detail",
            Severity.WARNING,
            texture.path,
            f"holds no detail above {part} its {texture.width}x{texture.height} pixels: it was enlarged, or is that smooth",
            context.saved_at_side(row, int(side[row])),
            f"cap it at {side[row]}",
            Fix(Remedy.CAP, int(side[row])),
        )


def mostly_empty(context: RuleContext) -> Iterator[Finding]:
    """An overlay or a mask of which a small rectangle is in use."""
    kinds = context.of_role(Role.OVERLAY, Role.MASK, Role.GLYPHS)
    for row, texture in context.each(context.has_pixels):
        x, y, width, height = texture.used
        whole = texture.width * texture.height
        clear = texture.channels in (2, 4) and "A" in texture.live
        if not (clear or kinds[row]) or not width or width * height * 2 > whole:
            continue
        yield context.finding(
            "mostly-empty",
            Severity.WARNING,
            texture.path,
            f"only {width}x{height} at {x}, {y} from the top left is in use: {width * height / whole * 100:.1f} % of the picture",
            context.memory(row) * (whole - width * height) // whole,
            "crop it to a patch",
            Fix(Remedy.PATCH),
        )


def eight_in_sixteen(context: RuleContext) -> Iterator[Finding]:
    """A picture of 16 bits whose codes are 8-bit codes."""
    for row, texture in context.each(context.flags("eight_bit")):
        if context.format(row).bits_per_pixel <= 8 * len(context.format(row).channels):
            continue
        plain = "r8" if texture.channels == 1 else "rgba8"
        yield context.finding(
            "eight-in-sixteen",
            Severity.WARNING,
            texture.path,
            "has 16 bits a channel, and every code is an 8-bit code: half of it is empty",
            context.saved_as(row, plain),
            "choose an 8-bit format",
            Fix(Remedy.FORMAT, plain),
        )


def normal_length(context: RuleContext) -> Iterator[Finding]:
    """A normal map whose vectors are not of unit length."""
    off = context.inventory.column("length_error") > 0.06
    for _, texture in context.each(
        context.of_role(Role.NORMAL) & context.has_pixels & off & (context.inventory.column("channels") >= 3)
    ):
        yield context.finding(
            "normal-length",
            Severity.WARNING,
            texture.path,
            f"its vectors miss unit length by {texture.length_error * 100:.0f} % on average: two-channel formats rebuild the "
            "third axis from the others, and the light will be wrong",
            0,
            "normalise it, or check that it is a normal map",
        )


def green_turned(context: RuleContext) -> Iterator[Finding]:
    """A normal map whose green axis points the other way than its neighbours'."""
    i = context.inventory
    rows = np.flatnonzero(context.of_role(Role.NORMAL) & context.has_pixels & (i.column("green") != 0))
    signs = i.column("green")[rows]
    if len(rows) < 3 or abs(int(signs.sum())) == len(rows) or signs.sum() == 0:
        return
    common = int(np.sign(signs.sum()))
    way = "up" if common > 0 else "down"
    for row in rows[signs != common]:
        yield context.finding(
            "green-turned",
            Severity.WARNING,
            i.textures[row].path,
            f"its green axis points {'down' if common > 0 else 'up'}, and {way} in {int((signs == common).sum())} other normal "
            "maps of the job: dents will look like bumps",
            0,
            "invert its green channel at the source",
        )


def colour_profile(context: RuleContext) -> Iterator[Finding]:
    """A colour profile other than sRGB is embedded."""
    profiles = context.inventory.column("profile")
    for _, texture in context.each(np.array([bool(p) and "srgb" not in p.lower() for p in profiles], np.bool_)):
        yield context.finding(
            "colour-profile",
            Severity.WARNING,
            texture.path,
            f"has the colour profile {texture.profile!r}; its codes are read as sRGB on {context.target.name}, so colours shift",
            0,
            "convert it to sRGB at the source",
        )


def baked_light(context: RuleContext) -> Iterator[Finding]:
    """A base colour with light in it."""
    strong = context.inventory.column("light") > 1.0
    for _, texture in context.each(context.of_role(Role.BASE_COLOUR) & context.has_pixels & strong):
        yield context.finding(
            "baked-light",
            Severity.NOTE,
            texture.path,
            f"brightness runs over {texture.light:.1f} stops from one side to another while the hue stays: light is baked in, "
            "and will fight the light of the scene",
            0,
            "flatten the light",
            Fix(Remedy.SURFACE),
        )


def tiling_seam(context: RuleContext) -> Iterator[Finding]:
    """A picture with a seam, on UVs that repeat it."""
    for row in context.inventory.ownership.owners:
        texture = context.inventory.textures[row]
        if texture.pixels and texture.seam > 4 and context.inventory.ownership.tiles(row):
            yield context.finding(
                "tiling-seam",
                Severity.WARNING,
                texture.path,
                f"its borders do not meet (a step {texture.seam:.0f} times those beside it), and UVs that use it repeat it: "
                "a seam will show",
                0,
                "make it tile",
                Fix(Remedy.SURFACE),
            )
