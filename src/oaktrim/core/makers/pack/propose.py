"""What a pack would best be made of: the channel that holds the data, sources by material or by name, and what is amiss."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath

import msgspec

from oaktrim.core.makers.layouts import OUTPUT_NAMES, Layout, LayoutSlot
from oaktrim.core.makers.pack.pack import Channel, ChannelSource, Lane, Pack, filled
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.derived import material_path
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role, bare_name

_COLOURS = ("red", "green", "blue")
_FIELD = "{name}"
_SPLIT = re.compile(r"[,;\s]+")
# Where glTF 2.0 keeps what (clauses 3.9.2 and 3.9.3).
_IN_SURFACE = {Role.OCCLUSION: Channel.RED, Role.ROUGHNESS: Channel.GREEN, Role.METALNESS: Channel.BLUE}


@dataclass(frozen=True)
class Proposal:
    """A feed with why it is proposed, in a sentence."""

    feed: ChannelSource
    reason: str


def is_opposite(slot: LayoutSlot, path: str) -> bool:
    """Say whether a name stands for the opposite of what a slot holds, such as gloss for roughness."""
    return bare_name(path).rpartition("_")[2] in slot.opposite


def proposal(slot: LayoutSlot, texture: TextureFacts, role: Role) -> Proposal:
    """Return the feed of a texture for a slot, by which of its channels carry data."""
    channel, reason = _carrier(slot, texture, role)
    invert = is_opposite(slot, texture.path)
    decode = role is not Role.UNKNOWN and role.family.name == "COLOUR" and not texture.floating
    if invert:
        reason += f" The name says the opposite of {slot.name}, so it is turned over."
    if decode:
        reason += " It is used as colour, so its sRGB codes are brought to linear values."
    return Proposal(ChannelSource(texture.path, channel, invert, decode), reason)


def _carrier(slot: LayoutSlot, texture: TextureFacts, role: Role) -> tuple[Channel, str]:  # noqa: PLR0911 - a list of cases
    live = texture.live
    if not texture.pixels:
        return Channel.RED, "Not looked at yet."
    colours = [letter for letter in live if letter in "RGB"]
    if texture.constant or not live:
        return Channel.RED, f"{_shown(texture)} over the whole picture: a fill would do."
    if texture.channels < 3:
        if live == "A":
            return Channel.ALPHA, "Alpha holds the data; the grey is constant."
        return Channel.RED, "A grey picture: its one channel holds the data."
    if role is Role.SURFACE and slot.role in _IN_SURFACE and not texture.grey:
        channel = _IN_SURFACE[slot.role]
        name = _COLOURS["RGB".index(channel.value)]
        if channel.value in live:
            return channel, f"{name.capitalize()} holds {slot.name} in a texture of surface values (glTF 2.0)."
        return channel, f"{name.capitalize()}, where glTF 2.0 keeps {slot.name}, is constant: a fill would do."
    if not colours:
        return Channel.ALPHA, "Alpha holds the data; the colours are constant."
    if texture.grey:
        return Channel.RED, "Red holds the data; green and blue repeat it."
    if len(colours) == 1:
        return Channel(colours[0]), f"{_COLOURS['RGB'.index(colours[0])].capitalize()} alone holds data."
    return Channel.LUMINANCE, "The colours differ: the luminance is taken; choose one of them if only that is meant."


def _shown(texture: TextureFacts) -> str:
    code = texture.means[0] if texture.means else 0
    return f"Constant {code}"


def lane_warnings(pack: Pack, layout: Layout, facts: Mapping[str, TextureFacts]) -> dict[int, list[str]]:
    """Return what is amiss with each lane of a pack, by channel."""
    found: dict[int, list[str]] = {}
    seen: dict[object, int] = {}
    for place, (lane, slot) in enumerate(zip(pack.lanes, layout.slots, strict=True)):
        mine = found.setdefault(place, [])
        for feed in lane.feeds:
            texture = facts.get(feed.source)
            if texture is None:
                mine.append(f"{feed.source} is not there.")
            elif texture.pixels and feed.channel.value in "RGBA" and _is_constant(texture, feed.channel):
                mine.append(f"{feed.channel.value} of {_name(feed.source)} is constant: a fill would do.")
        if len(lane.feeds) == 1 and slot.name:
            key = _identity(lane.feeds[0], facts)
            if key in seen:
                first = seen[key]
                mine.append(f"Would hold the same as {OUTPUT_NAMES[first]}, {layout.slots[first].name}.")
            else:
                seen[key] = place
    return {place: rows for place, rows in found.items() if rows}


def _is_constant(texture: TextureFacts, channel: Channel) -> bool:
    if channel is Channel.ALPHA:
        return "A" not in texture.live
    return texture.constant or (channel.value if texture.channels > 2 else "L") not in texture.live


def _identity(feed: ChannelSource, facts: Mapping[str, TextureFacts]) -> object:
    """Return what two feeds share that give a lane the same."""
    texture = facts.get(feed.source)
    alike = feed.channel
    if texture is not None and texture.grey and feed.channel is not Channel.ALPHA:
        alike = Channel.RED
    pixels = texture.pixels if texture is not None and texture.pixels else feed.source
    return msgspec.json.encode((pixels, alike, feed.invert, feed.decode, feed.input, feed.output))


def _name(path: str) -> str:
    return path.rsplit("/", 1)[-1]


@dataclass(frozen=True)
class BatchRow:
    """One pack of a batch.

    Parameters
    ----------
    pack : without a name, which patterns give; problems : what is amiss, in sentences
    """

    pack: Pack
    problems: tuple[str, ...]


def default_patterns(layout: Layout) -> dict[str, str]:
    """Return the patterns of names by slot, several of them apart by spaces."""
    found = {}
    for slot in layout.slots:
        if slot.name:
            words = (*slot.words, *slot.opposite) or (slot.name,)
            found[slot.name] = " ".join(f"{_FIELD}_{word}" for word in words)
    return found


def check_name_pattern(pattern: str) -> None:
    """Check patterns of one slot.

    Raises
    ------
    ValueError : one lacks `{name}`
    """
    for part in _SPLIT.split(pattern.strip()):
        if part and part.count(_FIELD) != 1:
            raise ValueError(f"{part!r} needs {_FIELD} once, for the part that all maps of a material share")


@dataclass(frozen=True)
class _Matcher:
    """A pattern of one slot: what stands before and after the shared name; `wild` where either has asterisks."""

    slot: str
    before: str
    after: str
    wild: re.Pattern[str] | None

    def name_in(self, bare: str) -> str:
        """Return the shared part of a name; empty where it does not fit."""
        if self.wild is not None:
            fits = self.wild.fullmatch(bare)
            return fits["name"] if fits is not None else ""
        if bare.endswith(self.after) and bare.startswith(self.before):
            return bare[len(self.before) : len(bare) - len(self.after)]
        return ""


def _matchers(patterns: Mapping[str, str]) -> list[_Matcher]:
    found = []
    for slot, pattern in patterns.items():
        check_name_pattern(pattern)
        for part in _SPLIT.split(pattern.strip().lower()):
            if part:
                before, _, after = part.partition(_FIELD)
                heads = [".*".join(map(re.escape, text.split("*"))) for text in (before, after)]
                wild = re.compile(f"{heads[0]}(?P<name>.+){heads[1]}") if "*" in part else None
                found.append(_Matcher(slot, before, after, wild))
    return found


def sets_by_name(
    inventory: Inventory, patterns: Mapping[str, str]
) -> dict[tuple[str, str], dict[str, list[TextureFacts]]]:
    """Return textures by folder and shared name, then by slot; of several patterns of a slot the first that fits."""
    matchers = _matchers(patterns)
    found: dict[tuple[str, str], dict[str, list[TextureFacts]]] = {}
    for texture in inventory.textures:
        bare, folder = bare_name(texture.path), texture.path.rpartition("/")[0]
        for matcher in matchers:
            name = matcher.name_in(bare)
            if name:
                found.setdefault((folder, name), {}).setdefault(matcher.slot, []).append(texture)
                break
    return found


def by_names(inventory: Inventory, layout: Layout, patterns: Mapping[str, str]) -> list[BatchRow]:
    """Return a pack for each set of names in one folder that has at least two maps, those with problems first."""
    rows = []
    wearing = materials_of(inventory)
    for (_, name), slots in sorted(sets_by_name(inventory, patterns).items()):
        sources = {slot: textures[0] for slot, textures in slots.items()}
        if len({texture.path for texture in sources.values()}) < 2:
            continue
        several = [
            f"Several files could be {slot}: {', '.join(_name(t.path) for t in textures)}; the first is taken."
            for slot, textures in slots.items()
            if len(textures) > 1
        ]
        materials = dict.fromkeys(m for texture in sources.values() for m in wearing.get(texture.path, ()))
        rows.append(_row(inventory, layout, name, sources, tuple(materials), several))
    return _sorted(rows)


def by_materials(inventory: Inventory, layout: Layout, patterns: Mapping[str, str]) -> list[BatchRow]:
    """Return a pack for each material of the models: from its slots, and for what these lack from names beside them.

    Materials that use the same maps share a pack. One whose maps are all in one texture already gets none.
    """
    named = sets_by_name(inventory, patterns)
    ownership = inventory.ownership
    rows: dict[tuple[tuple[str, str], ...], tuple[str, dict[str, TextureFacts], list[str]]] = {}
    for model, facts in enumerate(ownership.models):
        for number, material in enumerate(facts.materials):
            worn = [inventory.textures[row] for row in ownership.rows_of.get((model, number), ())]
            slots = _slots_of(inventory, model, number)
            sources: dict[str, TextureFacts] = {}
            for slot in layout.slots:
                texture = next((slots[read] for read in slot.reads if read in slots), None)
                if texture is not None:
                    sources[slot.name] = texture
            for texture in worn:
                folder, stem = texture.path.rpartition("/")[0], bare_name(texture.path).rpartition("_")[0]
                for slot_name, textures in named.get((folder, stem), {}).items():
                    held = sources.get(slot_name)
                    if held is None or (
                        held.path not in {t.path for t in textures} and _is_empty(layout, slot_name, held)
                    ):
                        sources[slot_name] = textures[0]
            paths = {texture.path for texture in sources.values()}
            if len(paths) < 2:
                continue
            key = tuple(sorted((slot, texture.path) for slot, texture in sources.items()))
            rows.setdefault(key, (material.name, sources, []))[2].append(material_path(facts.path, material.name))
    return _sorted(
        [_row(inventory, layout, name, sources, tuple(materials), []) for name, sources, materials in rows.values()]
    )


def _is_empty(layout: Layout, slot_name: str, texture: TextureFacts) -> bool:
    """Say whether a texture in a material's slot holds nothing where the slot would read it."""
    slot = layout.slots[layout.place(slot_name)]
    channel = _IN_SURFACE.get(slot.role)
    return channel is not None and texture.channels > 2 and not texture.grey and channel.value not in texture.live


def _slots_of(inventory: Inventory, model: int, number: int) -> dict[Slot, TextureFacts]:
    found = {}
    for row in inventory.ownership.rows_of.get((model, number), ()):
        for owner in inventory.ownership.owners[row]:
            if (owner.model, owner.material) == (model, number):
                found[owner.slot.slot] = inventory.textures[row]
    return found


def materials_of(inventory: Inventory) -> dict[str, list[str]]:
    """Return the materials that use each texture, by path, and those whose other maps share its name."""
    found: dict[str, list[str]] = {}
    by_stem: dict[tuple[str, str], list[str]] = {}
    for row, owners in inventory.ownership.owners.items():
        path = inventory.textures[row].path
        names = [material_path(inventory.models[o.model].path, inventory.ownership.material(o).name) for o in owners]
        found[path] = names
        by_stem.setdefault((path.rpartition("/")[0], bare_name(path).rpartition("_")[0]), []).extend(names)
    for texture in inventory.textures:
        key = texture.path.rpartition("/")[0], bare_name(texture.path).rpartition("_")[0]
        if texture.path not in found and key in by_stem:
            found[texture.path] = by_stem[key]
    return found


def _row(
    inventory: Inventory,
    layout: Layout,
    subject: str,
    sources: Mapping[str, TextureFacts],
    materials: tuple[str, ...],
    problems: Sequence[str],
) -> BatchRow:
    facts = {texture.path: texture for texture in sources.values()}
    lanes, said = [], list(problems)
    for slot in layout.slots:
        texture = sources.get(slot.name)
        if texture is None:
            lanes.append(filled(slot))
            if slot.name:
                said.append(f"No {slot.name} found: filled with {slot.fill:g}.")
            continue
        role = inventory.roles[inventory.row_of[texture.path]].role
        lanes.append(Lane((proposal(slot, texture, role).feed,)))
    first, second, third, fourth = lanes
    reads = materials if layout.reads else ()
    pack = Pack("", layout.id, (first, second, third, fourth), reads, subject)
    said += [warning for rows in lane_warnings(pack, layout, facts).values() for warning in rows]
    sizes = {(t.width, t.height) for t in facts.values()}
    if len({round(width / height, 2) for width, height in sizes}) > 1:
        said.append("The sources differ in proportion: they are stretched to the largest.")
    return BatchRow(pack, tuple(said))


def _sorted(rows: list[BatchRow]) -> list[BatchRow]:
    return sorted(rows, key=lambda row: (not row.problems, row.pack.subject.lower()))


def size_losses(pack: Pack, facts: Mapping[str, TextureFacts], size: tuple[int, int]) -> dict[int, str]:
    """Return what each lane loses or only seems to gain by the pack's size, in words, by channel."""
    found = {}
    for place, lane in enumerate(pack.lanes):
        sides = [max(facts[f.source].width, facts[f.source].height) for f in lane.feeds if f.source in facts]
        if sides and max(sides) > max(size):
            found[place] = f"{max(sides)} → {max(size)} px"
        elif sides and max(sides) < max(size):
            found[place] = f"{max(sides)} enlarged to {max(size)} px"
    return found


def stem_of(path: str) -> str:
    """Return what a pack of a texture is called by default: its name without the part that says the map."""
    name = PurePosixPath(path).stem
    return name.rpartition("_")[0] or name
