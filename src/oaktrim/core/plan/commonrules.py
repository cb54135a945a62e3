"""The common rules: formats that suit each role on a target's hardware, and sizes that bring its limits within reach."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from oaktrim.core.codecs.effort import ErrorMetric
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.formatrules import FormatRule, Rules
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.rolerules import RoleRule, share_text
from oaktrim.core.survey.findings.finding import COMMON_SHARES
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Role
from oaktrim.core.survey.uses import error_metric_of
from oaktrim.core.targets.lines import byte_lines
from oaktrim.core.targets.target import Target

# Under this longest side a texture is not worth its blocks: a dozen of them fit into a page of memory.
LEAST = 16
# Ceilings that are tried, the largest first.
CEILINGS = (4096, 2048, 1024, 512, 256, 128, 64)
_SEEN_FIRST = (Role.BASE_COLOUR, Role.OVERLAY, Role.ENVIRONMENT, Role.NORMAL)


@dataclass(frozen=True)
class Advice:
    """Formats for a use, the one to take first where a target has it, and why."""

    roles: tuple[Role, ...]
    pixels: PixelKind
    formats: tuple[str, ...]
    why: str


_VALUES = (Role.ROUGHNESS, Role.METALNESS, Role.OCCLUSION, Role.HEIGHT, Role.MASK)
_EXACT = (Role.GLYPHS, Role.LOOKUP)
_UNIVERSAL = "uastc"
ADVICE: tuple[Advice, ...] = (
    Advice((Role.BASE_COLOUR, Role.UNKNOWN), PixelKind.OPAQUE, ("astc-6x6", "bc1", "etc2-rgb"),
           "four bits a pixel and less: a larger picture in few bits beats a smaller one in many"),
    Advice((Role.BASE_COLOUR, Role.UNKNOWN), PixelKind.CUT_OUT, ("astc-5x5", "bc1-a1", "etc2-rgb-a1"),
           "alpha that is all or nothing costs no bits of its own"),
    Advice((Role.BASE_COLOUR, Role.UNKNOWN), PixelKind.SOFT, ("astc-5x5", "bc7", "etc2-rgba"), "soft alpha needs its own steps"),
    Advice((Role.OVERLAY,), PixelKind.OPAQUE, ("astc-5x5", "bc7", "etc2-rgb"), "lettering shows the errors of blocks first"),
    Advice((Role.OVERLAY,), PixelKind.CUT_OUT, ("astc-5x5", "bc7", "etc2-rgba"), "lettering shows the errors of blocks first"),
    Advice((Role.OVERLAY,), PixelKind.SOFT, ("astc-5x5", "bc7", "etc2-rgba"), "lettering shows the errors of blocks first"),
    Advice((Role.EMISSIVE,), PixelKind.ANY, ("astc-6x6", "bc1", "etc2-rgb"), "mostly black, and small where it is not"),
    Advice((Role.ENVIRONMENT,), PixelKind.ANY, ("astc-6x6", "bc1", "etc2-rgb"), "soft and far away"),
    Advice((Role.ENVIRONMENT,), PixelKind.ANY, ("bc6h", "rgb9e5"), "light beyond 0..1"),
    Advice((Role.NORMAL,), PixelKind.ANY, ("bc5", "astc-5x5", "eac-rg11"), "X and Y each to themselves; Z follows from them"),
    Advice((Role.SURFACE,), PixelKind.ANY, ("astc-6x6", "bc7", "etc2-rgba"), "channels that have nothing to do with each other"),
    Advice(_VALUES, PixelKind.ANY, ("astc-6x6", "bc7", "etc2-rgba"), "several channels, or values in alpha"),
    Advice(_VALUES, PixelKind.GREY, ("bc4", "eac-r11", "astc-6x6"), "one channel to itself, in fine steps"),
    Advice(_EXACT, PixelKind.ANY, (), "values that have to stay exact"),
)  # fmt: skip


def common_formats(target: Target, roles: frozenset[Role] = frozenset(Role)) -> tuple[FormatRule, ...]:
    """Return the rules of formats that suit a target's hardware and its files, for roles."""
    found = []
    for advice in ADVICE:
        # What no hardware of the target takes, its loader may make blocks for; light is beyond those.
        light = any(FORMATS[row].floating for row in advice.formats)
        wanted = advice.formats if light or not advice.formats else (*advice.formats, _UNIVERSAL)
        name = next((row for row in wanted if _can_ship(target, row)), None)
        if name is None and advice.formats:
            continue
        least = LEAST if name else 0
        found += [
            FormatRule(role, name or "", advice.pixels, least=least, targets=(target.id,))
            for role in advice.roles
            if role in roles
        ]
    return tuple(found)


def why_of(rule: FormatRule) -> str:
    """Return why a rule is common, empty where it is not."""
    if rule.format == _UNIVERSAL:
        return "its loader makes blocks of it for whatever hardware it meets"
    return next(
        (
            row.why
            for row in ADVICE
            if rule.role in row.roles and row.pixels is rule.pixels and (rule.format in row.formats or not row.formats)
        ),
        "",
    )


def _can_ship(target: Target, name: str) -> bool:
    row = FORMATS[name]
    return target.decodes(row) and (target.container != "dds" or row.dxgi is not None)


def common_rules(target: Target, inventory: Inventory, planned: Callable[[Rules], Plan]) -> Rules:
    """Return rules of sizes and formats that bring what textures add to a target's limits within these.

    The largest ceiling is taken under which all limits are met; one that what is no texture passes alone does not count.

    Parameters
    ----------
    planned : returns what the job would ship by other rules
    """
    roles = frozenset(guess.role for guess in inventory.roles)
    formats = common_formats(target, roles)
    sized = [role for role in Role if role in roles and role not in _EXACT]
    ceilings: dict[Role, int | None] = dict.fromkeys(sized)
    if reach(planned(Rules(_sizes(ceilings, target), formats))) > 1:
        for ceiling in CEILINGS:
            ceilings = dict.fromkeys(sized, ceiling)
            if reach(planned(Rules(_sizes(ceilings, target), formats))) <= 1:
                break
        # What is seen most may have twice as much, where there is room.
        for role in sorted(
            sized, key=lambda role: _SEEN_FIRST.index(role) if role in _SEEN_FIRST else len(_SEEN_FIRST)
        ):
            more = ceilings | {role: 2 * (ceilings[role] or 0)}
            if reach(planned(Rules(_sizes(more, target), formats))) <= 1:
                ceilings = more
    return Rules(_sizes(ceilings, target), formats)


def _sizes(ceilings: Mapping[Role, int | None], target: Target) -> tuple[RoleRule, ...]:
    return tuple(
        RoleRule(role, COMMON_SHARES.get(role, 1.0), ceiling=ceiling, targets=(target.id,))
        for role, ceiling in ceilings.items()
        if ceiling is not None or role in COMMON_SHARES
    )


def reach(plan: Plan) -> float:
    """Return the largest part of a limit in bytes that a plan comes to, 1 where it is just met; 0 without limits."""
    found = [0.0]
    for name in byte_lines():
        limit = plan.target.limits.of(name)
        if not limit:
            continue
        beside = int(np.sum(plan.others_line(name)))
        if beside < limit:
            found.append((plan.total(name) - beside) / (limit - beside))
    return max(found)


def role_words(target: Target, role: Role) -> str:
    """Return what a role changes on a target: the share of its base colour's side, the formats, and what errors count on."""
    share = COMMON_SHARES.get(role)
    size = "its own size" if share is None else f"{share_text(share)} of its base colour's side"
    names = dict.fromkeys(
        FORMATS[rule.format].label if rule.format else "raw pixels"
        for rule in common_formats(target, frozenset({role}))
    )
    metric = {ErrorMetric.NORMALS: "angles", ErrorMetric.COLOUR: "colour as it is seen"}.get(
        error_metric_of(role), "values, each channel for itself"
    )
    return f"{role.label}: {size}; {', '.join(names) or 'no common format'}; errors count on {metric}"
