"""The list of rules with their short names, and running them on what ships to several targets."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oaktrim.core.progress import Progress, Task, finish
from oaktrim.core.survey.findings import content, encoding, files, movement, sight, sizes, sounds, structure, vertices
from oaktrim.core.survey.findings.finding import Finding, Fix, Rule, RuleContext, Severity
from oaktrim.core.targets.lines import LINES, Unit

# A rule's codes with what a chip calls them; the order is that of working: broken, refused, wasted, worth a look.
_SHIPPED: tuple[tuple[Rule, dict[str, str]], ...] = (
    (files.unreadable, {"unreadable": "Unreadable"}),
    (structure.model_faults, {"model-fault": "Broken model"}),
    (vertices.not_trimmed, {"not-trimmed": "Not trimmed"}),
    (
        files.references,
        {"broken-reference": "Broken reference", "outside-root": "Outside the root", "letter-case": "Letter case"},
    ),
    (files.wrong_extension, {"wrong-extension": "Wrong ending"}),
    (encoding.format_not_on_hardware, {"format-not-on-hardware": "Not on hardware"}),
    (sounds.kind_not_played, {"sound-kind": "Not played"}),
    (encoding.alpha_lost, {"alpha-lost": "Alpha lost"}),
    (encoding.colour_compressed_data, {"colour-compressed-data": "Data as colour"}),
    (
        structure.over_counts,
        {f"over-{line.name}": f"Too many {line.label}" for line in LINES.values() if line.unit is Unit.COUNT},
    ),
    (sizes.over_longest_side, {"over-longest-side": "Over the longest side"}),
    (sizes.not_power_of_two, {"not-power-of-two": "Not power of two"}),
    (sizes.not_block_multiple, {"not-block-multiple": "Not block multiple"}),
    (sizes.over_role_share, {"over-role-share": "Large for its role"}),
    (sight.levels_short, {"levels-short": "Levels short"}),
    (sight.levels_to_spare, {"levels-to-spare": "Levels to spare"}),
    (content.more_size_than_detail, {"more-size-than-detail": "More size than detail"}),
    (content.mostly_empty, {"mostly-empty": "Mostly empty"}),
    (content.duplicate_pixels, {"duplicate-pixels": "Same pixels"}),
    (content.scaled_copy, {"scaled-copy": "Scaled copy"}),
    (content.constant_image, {"constant-image": "Constant"}),
    (content.grey_as_colour, {"grey-as-colour": "Grey as colour"}),
    (content.one_live_channel, {"one-live-channel": "One live channel"}),
    (content.constant_channel, {"constant-channel": "Constant channel"}),
    (content.opaque_alpha, {"opaque-alpha": "Opaque alpha"}),
    (content.constant_alpha, {"constant-alpha": "Constant alpha"}),
    (content.unused_alpha, {"unused-alpha": "Unused alpha"}),
    (content.eight_in_sixteen, {"eight-in-sixteen": "8 bits in 16"}),
    (content.normal_length, {"normal-length": "Normal length"}),
    (content.green_turned, {"green-turned": "Green axis turned"}),
    (content.colour_profile, {"colour-profile": "Colour profile"}),
    (content.baked_light, {"baked-light": "Baked light"}),
    (content.tiling_seam, {"tiling-seam": "Seam"}),
    (sizes.without_levels, {"no-levels": "No levels"}),
    (encoding.sixteen_bit_bands, {"sixteen-bit-bands": "May band"}),
    (encoding.format_not_everywhere, {"format-not-everywhere": "Not on all hardware"}),
    (encoding.packed_file, {"packed-file": "Small file, large in memory"}),
    (sizes.heaviest_tenth, {"heaviest-tenth": "Heaviest tenth"}),
    (structure.duplicate_materials, {"duplicate-material": "Same material"}),
    (structure.mergeable_materials, {"mergeable-materials": "Could be one material"}),
    (sight.never_seen, {"never-seen": "Never seen"}),
    (structure.unused_textures, {"unused-texture": "Unused"}),
    (structure.far_objects, {"far-object": "Far object"}),
    (structure.tiling_uvs, {"tiling-uvs": "Tiling UVs"}),
    (structure.overlapping_uvs, {"overlapping-uvs": "Overlapping UVs"}),
    (files.same_name, {"same-name": "Same name"}),
    (sounds.rate_to_spare, {"rate-to-spare": "Rate to spare"}),
    (sounds.stereo_is_mono, {"stereo-is-mono": "Stereo that is mono"}),
    (sounds.long_silence, {"long-silence": "Silence"}),
    (sounds.long_audio, {"long-audio": "Long audio"}),
    (sounds.clipped, {"clipped": "Clipped"}),
    (movement.heavy_animation, {"heavy-animation": "Heavy animation"}),
    (movement.idle_motion, {"idle-motion": "Idle motion"}),
    (movement.unused_clip, {"unused-clip": "Unused clip"}),
    (movement.long_clip, {"long-clip": "Long clip"}),
    (vertices.unused_vertex_data, {"unused-vertex-data": "Unused vertex data"}),
    (vertices.vertex_order, {"vertex-order": "Vertex order"}),
)
# Filled by `register`: the rules in the order of working, and what a chip calls each code.
RULES: list[Rule] = []
LABELS: dict[str, str] = {}


def register(rule: Rule, labels: Mapping[str, str]) -> None:
    """Add a rule with what a chip calls each code of its findings.

    Raises
    ------
    ValueError : another rule has one of the codes
    """
    known = LABELS.keys() & labels.keys()
    if known:
        raise ValueError(f"there is a finding {min(known)!r} already")
    RULES.append(rule)
    LABELS.update(labels)


for _rule, _labels in _SHIPPED:
    register(_rule, _labels)


@dataclass(frozen=True)
class Merged:
    """One finding with what it says on each target; `fixes` by target where it can be done."""

    code: str
    severity: Severity
    path: str
    message: str
    bytes: int
    remedy: str
    targets: tuple[str, ...]
    fixes: tuple[Fix | None, ...]


def findings_on(context: RuleContext) -> list[Finding]:
    """Return all findings on one target, in the order of the rules."""
    return finish(judge(context))


def judge(context: RuleContext) -> Task[list[Finding]]:
    """Return all findings on one target, in the order of the rules; can be stopped between two of them."""
    found: list[Finding] = []
    for place, rule in enumerate(RULES):
        yield Progress(place, len(RULES), "looking for what is wrong")
        found += rule(context)
    return found


def merge(found: Sequence[Sequence[Finding]]) -> list[Merged]:
    """Return the findings of several targets with one entry for each code and path, dearest first within a code.

    The gravest severity and the most bytes stand; messages that differ follow each other.
    """
    grave = list(Severity)
    groups: dict[tuple[str, str], list[Finding]] = {}
    for finding in (finding for rows in found for finding in rows):
        groups.setdefault((finding.code, finding.path), []).append(finding)
    merged = [
        Merged(
            code=code,
            severity=min((f.severity for f in rows), key=grave.index),
            path=path,
            message="; ".join(dict.fromkeys(f.message for f in rows)),
            bytes=max(f.bytes for f in rows),
            remedy=rows[0].remedy,
            targets=tuple(dict.fromkeys(f.target for f in rows)),
            fixes=tuple({f.target: f.fix for f in rows}.values()),
        )
        for (code, path), rows in groups.items()
    ]
    return sorted(merged, key=lambda m: (grave.index(m.severity), m.code, -m.bytes, m.path))
