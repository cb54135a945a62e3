"""The inventory with what makers make: their textures in the place of those that they are made of."""

from __future__ import annotations

import logging
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.makers.assign import by_rows, taken_over
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.registry import Maker, MakerContext, kind_of
from oaktrim.core.progress import Progress, Task
from oaktrim.core.survey.cache import SurveyCache, packed_sample
from oaktrim.core.survey.derived import Derivation, Sources
from oaktrim.core.survey.facts import ModelFacts, TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.products import ProductStore
from oaktrim.core.survey.read import made_facts, made_model_facts
from oaktrim.core.survey.roles import RoleChoice, RolePattern
from oaktrim.core.survey.scan import ScanSettings, remembered, scan
from oaktrim.core.survey.walk import Unreadable

_LOG = logging.getLogger(__name__)


@dataclass(frozen=True)
class BuildSpec:
    """What is to be made: a job's makers, and what they and their textures are told by."""

    makers: tuple[Maker, ...] = ()
    layouts: tuple[Layout, ...] = ()
    patterns: tuple[RolePattern, ...] = ()
    roles: tuple[RoleChoice, ...] = ()


@dataclass
class DerivedFacts:
    """What has been found out by making.

    Parameters
    ----------
    facts : of textures, by the hash that an output is known by
    models : by the hash of all that a maker makes, then by path
    faults : why something could not be made, by the same hash
    store : where what took long to make is kept
    """

    facts: dict[str, TextureFacts] = field(default_factory=dict)
    models: dict[str, dict[str, ModelFacts]] = field(default_factory=dict)
    faults: dict[str, str] = field(default_factory=dict)
    store: ProductStore = field(default_factory=ProductStore, compare=False)

    def copy(self) -> DerivedFacts:
        """Return another that can be added to."""
        return DerivedFacts(dict(self.facts), dict(self.models), dict(self.faults), self.store)


def _fault_of_name(name: str, taken: set[str]) -> str:
    path = PurePosixPath(name)
    if not name or path.is_absolute() or ".." in path.parts or "#" in name or "\\" in name or str(path) != name:
        return f"{name!r} cannot be the name of a texture: it is a path below the root, with slashes"
    return "another maker makes a texture of that name; give one of them another name" if name.lower() in taken else ""


def with_makers(found: Inventory, build_spec: BuildSpec, derived_facts: DerivedFacts) -> Inventory:
    """Return what a survey found with the textures of makers, each in the place of its sources.

    A texture that has not been made yet stands with what its settings tell; where these do not tell its size, it is
    left out until it is made. A maker that cannot work is listed in `unmade`, and its sources stay.
    """
    if not build_spec.makers:
        return found
    facts = {texture.path: texture for texture in found.textures}
    roles = {texture.path: guess.role for texture, guess in zip(found.textures, found.roles, strict=True)}
    hashes = {model.path: model.content for model in found.models}
    hashes |= {path: texture.content for path, texture in facts.items()}
    made: dict[str, Derivation] = {}
    new_models: dict[str, ModelFacts] = {}
    unmade: list[Unreadable] = []
    names: set[str] = set()
    context = MakerContext(found.root, build_spec.makers, build_spec.layouts, facts, roles)
    for maker in build_spec.makers:
        fault, rows, derived = "", {}, {}
        try:
            derivation = kind_of(maker).derivation(maker, context)
            fault = next(filter(None, (_fault_of_name(o.path, names) for o in derivation.outputs)), "")
            whole = derivation.content(lambda path: _known(hashes, path))
            fault = fault or derived_facts.faults.get(whole, "")
            rows = _facts_of(derivation, whole, derived_facts)
            derived = derived_facts.models.get(whole, {})
        except OakTrimError as error:
            fault = fault or str(error)
        if fault:
            unmade.append(Unreadable(maker.name, fault))
            continue
        if any(row is None for row in rows.values()) or set(derived) != set(derivation.new_models):
            continue
        for output in derivation.outputs:
            row = rows[output.path]
            assert row is not None
            made[output.path], facts[output.path], roles[output.path] = derivation, row, output.role
            names.add(output.path.lower())
            hashes[output.path] = row.content
        made |= dict.fromkeys(derived, derivation)
        new_models |= derived
    return _put_together(found, build_spec, derived_facts.store, facts, new_models, made, unmade)


def _known(hashes: Mapping[str, str], path: str) -> str:
    if path not in hashes:
        raise FileError(path, "is not there, and a maker needs it")
    return hashes[path]


def _facts_of(derivation: Derivation, whole: str, derived_facts: DerivedFacts) -> dict[str, TextureFacts | None]:
    """Return the facts of each output by path, as its settings tell them where it has not been made; None if they do not."""
    found: dict[str, TextureFacts | None] = {}
    contents = derivation.contents(whole)
    for output in derivation.outputs:
        path, content = output.path, contents[output.path]
        kept = derived_facts.facts.get(content)
        if kept is not None:
            found[path] = _renamed(kept, path)
        elif output.size is None:
            found[path] = None
        else:
            shape = (*output.size, output.channels, output.bits, False)
            found[path] = TextureFacts(path, 0, 0, content, derivation.kind, *shape, 1, "", "")
    return found


def _renamed(facts: TextureFacts, path: str) -> TextureFacts:
    values = {name: getattr(facts, name) for name in facts.__struct_fields__}
    return TextureFacts(**{**values, "path": path})


def _put_together(
    found: Inventory,
    build_spec: BuildSpec,
    store: ProductStore,
    facts: Mapping[str, TextureFacts],
    new_models: Mapping[str, ModelFacts],
    made: dict[str, Derivation],
    unmade: list[Unreadable],
) -> Inventory:
    derivations = {id(d): d for d in made.values()}.values()
    ownership, owners = taken_over(found, new_models, list(derivations))
    replaced = {
        source: derivation.outputs[0].path
        for derivation in derivations
        if not derivation.keeps and derivation.outputs
        for source in derivation.inputs
        if not owners.get(source)
    }
    outputs = [path for path in made if path in facts]
    stems = {_stem(path) for path in facts if path not in made and path not in replaced}
    clash = [path for path in outputs if path.lower() in stems]
    if clash:
        # Sources stay where their maker cannot work, so all is put together again without it.
        fault = "a texture that ships has that name too; give the made one another name"
        unmade += [Unreadable(path, fault) for path in clash]
        gone = {id(made[path]) for path in clash}
        left = {path: derivation for path, derivation in made.items() if id(derivation) not in gone}
        kept = {path: row for path, row in facts.items() if path in left or path not in made}
        models = {path: model for path, model in new_models.items() if path in left}
        return _put_together(found, build_spec, store, kept, models, left, unmade)
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
        ownership=by_rows(ownership, by_row),
        made=made,
        replaced=replaced,
        unmade=tuple(unmade),
        store=store,
    )
    return inventory.with_roles(build_spec.patterns, build_spec.roles)


def _stem(path: str) -> str:
    """Return a path without its ending, in lower case."""
    folder, _, name = path.rpartition("/")
    return f"{folder}/{name.rpartition('.')[0] or name}".lstrip("/").lower()


def learn(
    found: Inventory, build_spec: BuildSpec, derived_facts: DerivedFacts, cache: SurveyCache | None, max_pixels: int
) -> Task[DerivedFacts]:
    """Make what has not been made yet, to know its facts; what cannot be made is noted with its fault."""
    made, due = _due(found, build_spec, derived_facts, cache)
    sources = Sources(found.root, made, max_pixels, derived_facts.store)
    for done, (name, derivation, whole) in enumerate(due):
        yield Progress(done, len(due), f"making {name}")
        try:
            yield from _learn_one(derivation, whole, sources, derived_facts, cache)
        except OakTrimError as error:
            derived_facts.faults[whole] = str(error)
        except MemoryError:
            derived_facts.faults[whole] = f"{name}: does not fit in memory"
    return derived_facts


def _due(
    found: Inventory, build_spec: BuildSpec, derived_facts: DerivedFacts, cache: SurveyCache | None
) -> tuple[dict[str, Derivation], list[tuple[str, Derivation, str]]]:
    """Return the derivation of each output, and what is still to be made: name, derivation and hash."""
    made = dict(with_makers(found, build_spec, derived_facts).made)
    by_name = {derivation.name: derivation for derivation in made.values()}
    facts = {texture.path: texture for texture in found.textures}
    hashes = {model.path: model.content for model in found.models}
    hashes |= {path: texture.content for path, texture in facts.items()}
    context = MakerContext(found.root, build_spec.makers, build_spec.layouts, facts)

    def hash_of(path: str) -> str:
        return _known(hashes, path)

    due = []
    for maker in build_spec.makers:
        try:
            derivation = by_name.get(maker.name) or kind_of(maker).derivation(maker, context)
            whole = derivation.content(hash_of)
        except OakTrimError:
            continue
        made |= {output.path: derivation for output in derivation.outputs}
        contents = derivation.contents(whole)
        hashes |= contents
        for content in contents.values():
            kept = None if cache is None or content in derived_facts.facts else cache.made(content)
            if kept is not None:
                derived_facts.facts[content] = kept
        known = all(content in derived_facts.facts for content in contents.values())
        known &= whole in derived_facts.models or not derivation.new_models
        if not known and whole not in derived_facts.faults:
            due.append((maker.name, derivation, whole))
    return made, due


def _learn_one(
    derivation: Derivation, whole: str, sources: Sources, derived_facts: DerivedFacts, cache: SurveyCache | None
) -> Task[None]:
    """Make what one maker makes, and note the facts of it."""
    products = yield from sources.products_in_steps(derivation)
    for path, content in derivation.contents(whole).items():
        row, sample = made_facts(path, derivation.kind, content, products.textures[path])
        derived_facts.facts[content] = row
        if cache is not None:
            cache.keep_made(row, packed_sample(sample))
    derived_facts.models[whole] = {
        path: made_model_facts(sources.root, path, data) for path, data in products.models.items()
    }


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
    started = time.monotonic()
    kept = remembered(root, settings, cache) if remember and cache is not None and root.is_dir() else None
    found = kept or (yield from scan(root, settings, cache, threads))
    folder = None if cache is None else cache.folder / "products"
    derived_facts = DerivedFacts(store=ProductStore(folder))
    if build_spec.makers:
        yield from learn(found, build_spec, derived_facts, cache, settings.max_pixels)
    _LOG.info(
        "%s surveyed in %.1f s: %d textures, %d models, %d files not read", root, time.monotonic() - started,
        len(found.textures), len(found.models), len(found.unreadable),
    )  # fmt: skip
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
    sketched = {texture.path for texture in inventory.textures if not texture.pixels}
    by_name = {derivation.name: derivation for derivation in inventory.made.values()}

    def stands(name: str) -> bool:
        return name in by_name and not any(output.path in sketched for output in by_name[name].outputs)

    return [maker.name for maker in build_spec.makers if maker.name not in refused and not stands(maker.name)]
