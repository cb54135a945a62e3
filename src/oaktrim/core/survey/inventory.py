"""What a survey found: a row of facts for each file, roles, owners, and the columns to weigh."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from operator import attrgetter
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.survey.derived import Derivation, Output, Sources
from oaktrim.core.survey.facts import CLIP_MARK, IMAGE_MARK, AudioFacts, ModelFacts, TextureFacts, natural_format
from oaktrim.core.survey.guesses import guessed
from oaktrim.core.survey.ownership import Ownership
from oaktrim.core.survey.pixelkinds import PixelKind, pixel_kind
from oaktrim.core.survey.products import ProductStore
from oaktrim.core.survey.roles import (
    Certainty,
    Family,
    Role,
    RoleChoice,
    RoleGuess,
    RolePattern,
    bare_name,
    role_guesser,
    role_of_slots,
    slot_words,
)
from oaktrim.core.survey.walk import Unreadable
from oaktrim.core.targets.footprint import FORMAT_INDEX
from oaktrim.core.targets.lines import Counts

_KINDS: dict[str, Any] = {"int": np.int64, "float": np.float64, "bool": np.bool_, "str": np.str_}


@dataclass(frozen=True)
class OtherAsset:
    """What is shipped as it is: the geometry of a model, one of its clips, or a sound.

    Parameters
    ----------
    file : path of the file; path : the same, of a clip with `#animations/N`
    about : its facts in words
    bytes : as it ships
    content : hash of all that its file holds, `of` bytes, of which this may be a part
    packed : packed over plain bytes of a piece, by packing method
    """

    file: str
    path: str
    name: str
    family: Family
    about: str
    bytes: int
    content: str
    of: int
    packed: dict[str, float]


@dataclass(frozen=True, eq=False)
class Inventory:
    """All that a survey found below a root.

    Parameters
    ----------
    textures : in the order of their paths
    roles : one for each texture
    files : how many files were seen in all, ignored ones left out
    ownership : models over the textures that they use
    made : how textures and models come about that no file holds, by path
    replaced : by path of a texture that was found and is not here, what was made in its place
    unmade : what a maker could not make, and why
    store : where what takes long to make is kept
    """

    root: Path
    textures: tuple[TextureFacts, ...]
    roles: tuple[RoleGuess, ...]
    unreadable: tuple[Unreadable, ...]
    files: int
    audio: tuple[AudioFacts, ...]
    ownership: Ownership
    made: Mapping[str, Derivation] = field(default_factory=dict)
    replaced: Mapping[str, str] = field(default_factory=dict)
    unmade: tuple[Unreadable, ...] = ()
    store: ProductStore = field(default_factory=ProductStore, repr=False, compare=False)
    _told_by: tuple[tuple[RolePattern, ...], Sequence[RoleChoice]] | None = field(
        default=None, repr=False, compare=False
    )
    _columns: dict[str, NDArray[Any]] = field(default_factory=dict, repr=False, compare=False)
    _asked: dict[int, tuple[Sequence[str], NDArray[np.int64]]] = field(default_factory=dict, repr=False, compare=False)

    def sources(self, max_pixels: int) -> Sources:
        """Return where the pictures of textures come from."""
        return Sources(self.root, self.made, max_pixels, self.store)

    @property
    def models(self) -> tuple[ModelFacts, ...]:
        return self.ownership.models

    def column(self, name: str) -> NDArray[Any]:
        """Return a field of `TextureFacts` of all textures as an array."""
        if name not in self._columns:
            kind = _KINDS[TextureFacts.__annotations__[name]]
            self._columns[name] = np.array(list(map(attrgetter(name), self.textures)), kind)
        return self._columns[name]

    @cached_property
    def names(self) -> list[str]:
        """What each texture is called, for people: its file's name; of one that a model holds, by its own, or by who wears it."""
        return [_name_of(self, row, texture.path) for row, texture in enumerate(self.textures)]

    @cached_property
    def shared_names(self) -> frozenset[str]:
        """Names that several textures have."""
        return frozenset(name for name, count in Counter(self.names).items() if count > 1)

    @cached_property
    def row_of(self) -> dict[str, int]:
        """The row of each texture by its path."""
        return {texture.path: row for row, texture in enumerate(self.textures)}

    @cached_property
    def path_by_lower(self) -> dict[str, str]:
        """The path of each texture, replaced ones too, by itself in lower case."""
        return {path.lower(): path for path in (*self.replaced, *reversed(self.row_of))}

    @cached_property
    def outputs(self) -> dict[str, Output]:
        """The textures that makers make, by path."""
        return {output.path: output for derivation in self.made.values() for output in derivation.outputs}

    @cached_property
    def rows_by_content(self) -> dict[str, list[int]]:
        """The rows of the textures that hold each content."""
        found: dict[str, list[int]] = {}
        for row, texture in enumerate(self.textures):
            found.setdefault(texture.content, []).append(row)
        return found

    @property
    def width(self) -> NDArray[np.int64]:
        return self.column("width")

    @property
    def height(self) -> NDArray[np.int64]:
        return self.column("height")

    @cached_property
    def natural(self) -> NDArray[np.int64]:
        """The place in the catalogue of each texture's natural format."""
        channels, depths, floating = (self.column(name) for name in ("channels", "bit_depth", "floating"))
        found = np.empty(len(self.textures), np.int64)
        for shape in set(zip(channels.tolist(), depths.tolist(), floating.tolist(), strict=True)):
            alike = (channels == shape[0]) & (depths == shape[1]) & (floating == shape[2])
            found[alike] = FORMAT_INDEX[natural_format(*shape)]
        for row in np.flatnonzero(self.column("format") != ""):
            found[row] = FORMAT_INDEX[self.textures[row].format]
        return found

    @cached_property
    def stored_levels(self) -> NDArray[np.int64]:
        """Levels as stored in GPU containers; 0 for pictures, whose levels are still to be made."""
        return np.where(self.column("format") != "", self.column("levels"), 0)

    @cached_property
    def families(self) -> NDArray[np.str_]:
        """The family of each texture's role, by its value."""
        return np.array([role.family.value for role in Role], np.str_)[self.role_codes]

    @cached_property
    def family_places(self) -> tuple[NDArray[np.str_], NDArray[np.int64]]:
        """All families, and the place of each texture's among them."""
        families, of_role = np.unique([role.family.value for role in Role], return_inverse=True)
        return families, of_role.astype(np.int64)[self.role_codes]

    @cached_property
    def role_codes(self) -> NDArray[np.int64]:
        """The place of each texture's role among the roles."""
        # By identity: members of an enumeration take long to hash.
        places = {id(role): place for place, role in enumerate(Role)}
        return np.array([places[id(guess.role)] for guess in self.roles], np.int64)

    @property
    def pixel_kinds(self) -> NDArray[np.int64]:
        """The place of what each texture's pixels hold among the kinds."""
        if "pixel kinds" not in self._columns:
            places = {kind: place for place, kind in enumerate(PixelKind)}
            self._columns["pixel kinds"] = np.array([places[pixel_kind(row)] for row in self.textures], np.int64)
        return self._columns["pixel kinds"]

    @cached_property
    def base_of(self) -> NDArray[np.int64]:
        """The row of the base colour that stands in the same material, or in the same set by name; -1 without one."""
        return _base_rows(self)

    @cached_property
    def others(self) -> tuple[OtherAsset, ...]:
        """What ships beside the textures: geometry, clips and sounds."""
        return (*(row for model in self.models for row in _others_of(model)), *map(_other_sound, self.audio))

    @cached_property
    def other_contents(self) -> frozenset[str]:
        """The contents of what is passed through."""
        return frozenset(row.content for row in self.others)

    @cached_property
    def other_bytes(self) -> dict[str, int]:
        """The bytes of what is passed through, by family."""
        return {family: sum(row.bytes for row in rows) for family, rows in self.other_families.items()}

    @cached_property
    def other_families(self) -> dict[str, list[OtherAsset]]:
        """What is passed through, by family."""
        found: dict[str, list[OtherAsset]] = {}
        for row in self.others:
            found.setdefault(row.family.value, []).append(row)
        return found

    @cached_property
    def counts(self) -> Counts:
        """What of all models is counted in numbers."""
        return counts_of(self.models)

    def rows(self, paths: Sequence[str]) -> NDArray[np.int64]:
        """Return the rows of the paths that are here; paths that are gone are passed over."""
        kept = self._asked.get(id(paths))
        if kept is not None and kept[0] is paths:
            return kept[1]
        row_of = self.row_of
        found = np.fromiter((row_of.get(path, -1) for path in paths), np.int64, len(paths))
        found = found[found >= 0]
        self.keep_rows(paths, found)
        return found

    def keep_rows(self, paths: Sequence[str], rows: NDArray[np.int64]) -> None:
        """Remember the rows of some paths: a cut keeps its paths from one plan to the next, so thousands are told once."""
        if len(self._asked) >= 64:
            self._asked.clear()
        self._asked[id(paths)] = (paths, rows)

    def with_roles(self, patterns: tuple[RolePattern, ...], chosen: Sequence[RoleChoice]) -> Inventory:
        """Return the inventory with roles told anew: by hand, by materials, by name, or guessed, in this order."""
        if self._told_by == (patterns, chosen):
            return self
        by_hand = {path: choice.role for choice in chosen for path in choice.assets}
        guess, owners, outputs = role_guesser(patterns), self.ownership.owners, self.outputs
        roles = []
        for row, texture in enumerate(self.textures):
            path = texture.path
            if path in by_hand:
                roles.append(RoleGuess(by_hand[path], "you chose it", Certainty.CHOSEN))
            elif path in outputs:
                roles.append(RoleGuess(outputs[path].role, outputs[path].reason, Certainty.STATED))
            else:
                stated = role_of_slots(self.ownership.slots_of(row)) if row in owners else None
                roles.append(stated or guess(path))
        return replace(
            self, roles=tuple(guessed(self.textures, roles)), _told_by=(patterns, chosen), _columns=self._columns
        )


def _name_of(inventory: Inventory, row: int, path: str) -> str:
    file, mark, number = path.partition(IMAGE_MARK)
    name = file.rpartition("/")[2]
    if not mark:
        return name
    model = next((model for model in inventory.models if model.path == file), None)
    own = model.images[int(number)].name if model is not None and number.isdecimal() else ""
    if not own:
        owners = inventory.ownership.owners.get(row, ())
        if owners:
            slots = dict.fromkeys(slot_words(owner.slot.slot) for owner in owners)
            own = f"{inventory.ownership.material(owners[0]).name}, {' and '.join(slots)}"
    return f"{name}: {own}" if own else f"{name}: image {number}"


def _others_of(model: ModelFacts) -> list[OtherAsset]:
    name = model.path.rsplit("/", 1)[-1]
    triangles = sum(row.triangles for row in model.objects)
    about = f"{len(model.objects)} objects, {triangles:,} triangles, {len(model.materials)} materials"
    rows = [(model.path, model.path, name, Family.MESH, about, model.mesh_bytes)]
    for number, clip in enumerate(model.clips):
        about = f"{clip.seconds:.1f} s, {clip.channels} channels, {clip.keys:,} keys"
        path = f"{model.path}{CLIP_MARK}{number}"
        rows.append((model.path, path, f"{name}: {clip.name}", Family.ANIMATION, about, clip.data_bytes))
    whole = sum(row[-1] for row in rows)
    return [OtherAsset(*row, model.content, whole, model.packed) for row in rows]


def _other_sound(sound: AudioFacts) -> OtherAsset:
    channels = {1: "mono", 2: "stereo"}.get(sound.channels, f"{sound.channels} channels")
    about = f"{sound.seconds:.1f} s, {sound.rate:,} Hz, {channels}, {sound.decoded_bytes:,} bytes decoded"
    name, size = sound.path.rsplit("/", 1)[-1], sound.file_bytes
    return OtherAsset(sound.path, sound.path, name, Family.AUDIO, about, size, sound.content, size, sound.packed)


def _base_rows(inventory: Inventory) -> NDArray[np.int64]:
    base = np.full(len(inventory.textures), -1, np.int64)
    longest = np.maximum(inventory.width, inventory.height)
    is_base = [guess.role is Role.BASE_COLOUR for guess in inventory.roles]
    by_name: dict[tuple[str, str], list[int]] = {}
    for row, texture in enumerate(inventory.textures):
        stem = bare_name(texture.path).rpartition("_")[0]
        if stem:
            by_name.setdefault((texture.path.rpartition("/")[0], stem), []).append(row)
    for sets in (inventory.ownership.rows_of.values(), by_name.values()):
        told = base >= 0
        for rows in sets:
            bases = [row for row in rows if is_base[row]]
            if not bases:
                continue
            largest = max(bases, key=lambda row: int(longest[row]))
            for row in rows:
                # A texture that several materials share is measured against the largest of their base colours.
                if not (is_base[row] or told[row]) and (base[row] < 0 or longest[base[row]] < longest[largest]):
                    base[row] = largest
    return base


def counts_of(models: Sequence[ModelFacts]) -> Counts:
    """Return materials, triangles and draw calls of models: scenes with all copies, and nothing batched."""
    objects = [row for model in models for row in model.objects]
    materials = sum(len(model.materials) for model in models)
    return Counts(0, materials, sum(row.triangles for row in objects), sum(row.draws for row in objects))


def difference(before: Inventory, after: Inventory) -> str:
    """Return what a newer survey of the same tree found different, in words; empty where nothing is."""

    def stamps(inventory: Inventory) -> dict[str, object]:
        found: dict[str, object] = {t.path: (t.content, t.file_time) for t in inventory.textures}
        found |= {sound.path: sound for sound in inventory.audio}
        found |= {model.path: model for model in inventory.models}
        return found | {row.path: row.error for row in inventory.unreadable}

    old, new = stamps(before), stamps(after)
    counts = (
        ("changed", sum(new[path] != old[path] for path in new.keys() & old.keys())),
        ("added", len(new.keys() - old.keys())),
        ("gone", len(old.keys() - new.keys())),
    )
    return ", ".join(f"{count} {what}" for what, count in counts if count)
