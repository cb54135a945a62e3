"""The inventory with what makers make: their textures in the place of those that they are made of."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.maker import MATERIAL_MARK, GlyphMaking, Maker, PatchMaking, making_of
from oaktrim.core.makers.patch import Patch
from oaktrim.core.progress import Progress, Task
from oaktrim.core.survey.cache import SurveyCache, packed_sample
from oaktrim.core.survey.facts import SlotFacts, TextureFacts
from oaktrim.core.survey.inventory import Inventory, Unreadable
from oaktrim.core.survey.making import DerivedTexture, Sources
from oaktrim.core.survey.ownership import Owner, Ownership
from oaktrim.core.survey.read import made_facts
from oaktrim.core.survey.roles import Role, RoleChoice, RolePattern
from oaktrim.core.survey.scan import ScanSettings, remembered, scan


@dataclass(frozen=True)
class BuildSpec:
    """What is to be made: a job's makers, and what they and their textures are told by."""

    makers: tuple[Maker, ...] = ()
    layouts: tuple[Layout, ...] = ()
    patterns: tuple[RolePattern, ...] = ()
    roles: tuple[RoleChoice, ...] = ()


@dataclass
class DerivedFacts:
    """What has been found out by making: facts and faults, by content."""

    facts: dict[str, TextureFacts] = field(default_factory=dict)
    faults: dict[str, str] = field(default_factory=dict)


def material_path(model: str, material: str) -> str:
    """Return what a material is called by makers."""
    return f"{model}{MATERIAL_MARK}{material}"


def _fault_of_name(name: str) -> str:
    path = PurePosixPath(name)
    if not name or path.is_absolute() or ".." in path.parts or "#" in name or "\\" in name or str(path) != name:
        return f"{name!r} cannot be the name of a texture: it is a path below the root, with slashes"
    return ""


def with_makers(found: Inventory, build_spec: BuildSpec, derived_facts: DerivedFacts) -> Inventory:
    """Return what a survey found with the textures of makers, each in the place of its sources.

    A texture that has not been made yet stands with what its settings tell; where these do not tell its size, it is
    left out until it is made. A maker that cannot work is listed in `unmade`, and its sources stay.
    """
    if not build_spec.makers:
        return found
    facts = {texture.path: texture for texture in found.textures}
    roles = {texture.path: guess.role for texture, guess in zip(found.textures, found.roles, strict=True)}
    made: dict[str, DerivedTexture] = {}
    unmade: list[Unreadable] = []
    names: set[str] = set()
    patches = Counter(maker.source for maker in build_spec.makers if isinstance(maker, Patch))
    for maker in build_spec.makers:
        fault = _fault_of_name(maker.name)
        if not fault and maker.name.lower() in names:
            fault = "another maker makes a texture of that name; give one of them another name"
        try:
            first = maker.inputs[0] if maker.inputs else ""
            making = making_of(maker, found.root, build_spec.layouts, facts.get(first), roles.get(first, Role.UNKNOWN))
            if isinstance(making, PatchMaking):
                making = replace(making, alone=patches[making.patch.source] == 1)
            content = making.content(lambda path: _known(facts, path))
            fault = fault or derived_facts.faults.get(content, "")
        except OakTrimError as error:
            fault = fault or str(error)
        if fault:
            unmade.append(Unreadable(maker.name, fault))
            continue
        row = _facts_of(making, maker.name, content, facts, derived_facts)
        if row is not None:
            made[maker.name], facts[maker.name], roles[maker.name] = making, row, making.role
            names.add(maker.name.lower())
    return _put_together(found, build_spec, facts, made, unmade)


def _known(facts: Mapping[str, TextureFacts], path: str) -> str:
    if path not in facts:
        raise FileError(path, "is not there, and a maker needs it")
    return facts[path].content


def _facts_of(
    making: DerivedTexture, path: str, content: str, facts: Mapping[str, TextureFacts], derived_facts: DerivedFacts
) -> TextureFacts | None:
    kept = derived_facts.facts.get(content)
    if kept is not None:
        return _renamed(kept, path)
    if isinstance(making, GlyphMaking):
        return None
    width, height, channels, bits = making.sketch([facts[source] for source in making.inputs])  # type: ignore[attr-defined]
    return TextureFacts(path, 0, 0, content, making.kind, width, height, channels, bits, False, 1, "", "")


def _renamed(facts: TextureFacts, path: str) -> TextureFacts:
    values = {name: getattr(facts, name) for name in facts.__struct_fields__}
    return TextureFacts(**{**values, "path": path})


def _put_together(
    found: Inventory,
    build_spec: BuildSpec,
    facts: Mapping[str, TextureFacts],
    made: dict[str, DerivedTexture],
    unmade: list[Unreadable],
) -> Inventory:
    owners = _taken_over(found, made)
    replaced = {
        source: path
        for path, making in made.items()
        if not making.keeps
        for source in making.inputs
        if not owners.get(source)
    }
    stems = {_stem(path) for path in facts if path not in made and path not in replaced}
    clash = [path for path in made if path.lower() in stems]
    if clash:
        # Sources stay where their maker cannot work, so all is put together again without it.
        fault = "a texture that ships has that name too; give the made one another name"
        unmade += [Unreadable(path, fault) for path in clash]
        left = {path: making for path, making in made.items() if path not in clash}
        kept = {path: row for path, row in facts.items() if path not in clash}
        return _put_together(found, build_spec, kept, left, unmade)
    textures = tuple(facts[path] for path in sorted(facts) if path not in replaced)
    rows = {texture.path: row for row, texture in enumerate(textures)}
    by_row = {rows[path]: tuple(mine) for path, mine in owners.items() if mine and path in rows}
    inventory = Inventory(
        root=found.root,
        textures=textures,
        roles=(),
        unreadable=found.unreadable,
        files=found.files,
        audio=found.audio,
        ownership=_owned(found.ownership, by_row),
        made=made,
        replaced=replaced,
        unmade=tuple(unmade),
    )
    return inventory.with_roles(build_spec.patterns, build_spec.roles)


def _stem(path: str) -> str:
    """Return a path without its ending, in lower case."""
    folder, _, name = path.rpartition("/")
    return f"{folder}/{name.rpartition('.')[0] or name}".lstrip("/").lower()


def _taken_over(found: Inventory, made: Mapping[str, DerivedTexture]) -> dict[str, list[Owner]]:
    """Return the owners of each texture by path, after makers have taken over what they are assigned to."""
    by_wearer: dict[str, list[str]] = {}
    by_source: dict[str, list[str]] = {}
    for path, making in made.items():
        for material in making.materials:
            by_wearer.setdefault(material, []).append(path)
        for source in making.inputs:
            by_source.setdefault(source, []).append(path)
    owners: dict[str, list[Owner]] = {}
    ownership = found.ownership
    served: set[tuple[str, str]] = set()
    for row, mine in ownership.owners.items():
        source = found.textures[row].path
        for owner in mine:
            material = material_path(ownership.models[owner.model].path, ownership.material(owner).name)
            wanting = (*by_wearer.get(material, ()), *by_source.get(source, ()))
            taker = next((p for p in wanting if made[p].takes(material, owner.slot.slot, source)), source)
            owners.setdefault(taker, []).append(owner)
            served.add((taker, material))
    for model, holder in enumerate(ownership.models if by_wearer else ()):
        for number, worn in enumerate(holder.materials):
            name = material_path(holder.path, worn.name)
            for path in by_wearer.get(name, ()):
                if (path, name) not in served:
                    # It had no texture in those slots so far.
                    tiles = any(slot.tiles for slot in worn.slots)
                    slot = min(made[path].layout.reads, key=lambda s: s.value)  # type: ignore[attr-defined]
                    use = SlotFacts(slot, slot.value, -1, tiles, False)
                    owners.setdefault(path, []).append(Owner(model, number, use))
    return owners


def _owned(before: Ownership, by_row: dict[int, tuple[Owner, ...]]) -> Ownership:
    worn: dict[tuple[int, int], dict[int, None]] = {key: {} for key in before.worn}
    order = sorted(
        (
            (owner.model, owner.material, _slot_place(before, owner), row)
            for row, mine in by_row.items()
            for owner in mine
        )
    )
    for model, material, _, row in order:
        worn.setdefault((model, material), {})[row] = None
    return replace(before, owners=by_row, worn={key: tuple(rows) for key, rows in worn.items()})


def _slot_place(ownership: Ownership, owner: Owner) -> int:
    slots = ownership.material(owner).slots
    return slots.index(owner.slot) if owner.slot in slots else len(slots)


def learn(
    found: Inventory, build_spec: BuildSpec, derived_facts: DerivedFacts, cache: SurveyCache | None, max_pixels: int
) -> Task[DerivedFacts]:
    """Make what has not been made yet, to know its facts; what cannot be made is noted with its fault."""
    inventory = with_makers(found, build_spec, derived_facts)
    contents: dict[str, str] = {}
    due: list[tuple[str, DerivedTexture, str]] = []
    facts = {texture.path: texture for texture in found.textures}
    for maker in build_spec.makers:
        making = inventory.made.get(maker.name)
        try:
            if making is None:
                role = Role.UNKNOWN
                making = making_of(maker, found.root, build_spec.layouts, facts.get((*maker.inputs, "")[0]), role)
            content = making.content(lambda path: contents.get(path) or _known(facts, path))
        except OakTrimError:
            continue
        contents[maker.name] = content
        if content not in derived_facts.facts and content not in derived_facts.faults:
            kept = None if cache is None else cache.made(content)
            if kept is not None:
                derived_facts.facts[content] = kept
            else:
                due.append((maker.name, making, content))
    sources = Sources(found.root, dict(inventory.made), max_pixels)
    for done, (path, making, content) in enumerate(due):
        yield Progress(done, len(due), f"making {path}")
        try:
            row, sample = made_facts(path, making.kind, content, making.picture(sources))
        except OakTrimError as error:
            derived_facts.faults[content] = str(error)
            continue
        except MemoryError:
            derived_facts.faults[content] = f"{path}: does not fit in memory"
            continue
        derived_facts.facts[content] = row
        if cache is not None:
            cache.keep_made(row, packed_sample(sample))
    return derived_facts


@dataclass(frozen=True)
class Tree:
    """A tree as surveyed, and as it ships.

    Parameters
    ----------
    found : what files hold; inventory : with what makers make in the place of their sources
    remembered : as the tree was when it was last surveyed; the disk has not been looked at
    """

    found: Inventory
    inventory: Inventory
    derived_facts: DerivedFacts
    remembered: bool = False


def survey_tree(
    root: Path,
    settings: ScanSettings,
    build_spec: BuildSpec,
    cache: SurveyCache | None = None,
    threads: int | None = None,
    remember: bool = False,
) -> Task[Tree]:
    """Survey a tree and make once what its makers make.

    Parameters
    ----------
    remember : take a large tree as the cache has it, if it does, so that there is something to look at meanwhile

    Raises
    ------
    FileError : the root itself cannot be read
    """
    yield Progress(0, 0, "opening what is known")
    kept = remembered(root, settings, cache) if remember and cache is not None and root.is_dir() else None
    found = kept or (yield from scan(root, settings, cache, threads))
    derived_facts = DerivedFacts()
    if build_spec.makers:
        yield from learn(found, build_spec, derived_facts, cache, settings.max_pixels)
    return Tree(found, with_makers(found, build_spec, derived_facts), derived_facts, kept is not None)


def made_anew(before: Inventory | None, after: Inventory) -> str:
    """Return what is made of other inputs than before, in words, as of a font that no survey lists; empty where nothing is."""
    if before is None:
        return ""
    contents = [
        {path: i.textures[i.row_of[path]].content for path in i.made if path in i.row_of} for i in (before, after)
    ]
    count = sum(contents[0].get(path) != content for path, content in contents[1].items())
    return f"{count} made anew" if count else ""


def unknown(inventory: Inventory, build_spec: BuildSpec) -> Sequence[str]:
    """Return the names of makers whose textures stand with what their settings tell, or do not stand yet."""
    refused = {row.path for row in inventory.unmade}
    known = {texture.path for texture in inventory.textures if texture.pixels}
    return [maker.name for maker in build_spec.makers if maker.name not in refused and maker.name not in known]
