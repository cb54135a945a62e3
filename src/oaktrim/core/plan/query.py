"""The filter syntax: `role:normal side>2048 saves>1MiB -path:old`, over all assets of a plan.

`plan.syntax` reads it into a tree. `field:a,b` holds for either value; `*` and `?` stand for any letters; `~` is a regular
expression; a word without a field is looked for in the path; quotes keep spaces together. Numbers are compared with numbers or
with other fields. docs/filters.md has all of it.
"""

from __future__ import annotations

import fnmatch
import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.plan import syntax
from oaktrim.core.plan.cuts import KINDS
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.soundrules import SoundRecipe
from oaktrim.core.plan.syntax import Either, Negated, Node, QueryError, Term
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.facts import IMAGE_MARK
from oaktrim.core.survey.findings.finding import Finding
from oaktrim.core.survey.findings.rules import LABELS
from oaktrim.core.survey.inventory import Inventory, OtherAsset
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Family, Role, bare_name
from oaktrim.core.survey.soundroles import SoundRole
from oaktrim.core.targets.target import parse_bytes

Flags = NDArray[np.bool_]
_BYTE_FIELDS = ("memory", "package", "saves", "file", "wasted", "resident")
_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    ">": np.greater, "<": np.less, ">=": np.greater_equal, "<=": np.less_equal, ":": np.equal, "=": np.equal,
    "!=": np.not_equal,
}  # fmt: skip


# Fields that depend on the inventory alone, and are kept with it.
_FIXED = (
    "path", "name", "folder", "family", "kind", "known", "material", "object", "model", "side", "width", "height",
    "channels", "bits", "file", "users", "alpha", "pixels", "transfer", "has", "ratio", "multiple",
)  # fmt: skip
# Fields that depend on the inventory and on what was found wrong.
_OF_FINDINGS = ("finding", "findings")


@dataclass(frozen=True)
class Assets:
    """All assets of a plan as the filter sees them: its textures, then what is passed through beside them.

    Parameters
    ----------
    now : the plan without any cut; after : with the job's
    """

    now: Plan
    after: Plan
    findings: Sequence[Finding]
    _told: dict[str, Any] = field(default_factory=dict, repr=False)

    @property
    def inventory(self) -> Inventory:
        return self.after.inventory

    @property
    def demand(self) -> Demand | None:
        """What sightlines ask for, where they were asked."""
        return self.after.demand

    def __len__(self) -> int:
        return len(self.inventory.textures) + len(self.inventory.others)

    @cached_property
    def counts(self) -> Counter[str]:
        """Findings by path."""
        return Counter(finding.path for finding in self.findings)

    @cached_property
    def by_path(self) -> dict[str, list[Finding]]:
        """The findings of each path."""
        found: dict[str, list[Finding]] = {}
        for finding in self.findings:
            found.setdefault(finding.path, []).append(finding)
        return found

    def keep_of(self, other: Assets) -> None:
        """Take over from another plan of the same inventory what does not change with the plan or the findings."""
        same = {*_FIXED, *(_OF_FINDINGS if other.findings is self.findings else ())}
        self._told.update({name: values for name, values in other._told.items() if name in same})
        if other.findings is not self.findings:
            return
        found = {name: value for name, value in other.__dict__.items() if name in ("counts", "by_path", "codes")}
        self.__dict__.update(found)

    @cached_property
    def codes(self) -> dict[str, str]:
        """The codes of the findings of each path, joined by spaces."""
        found: dict[str, set[str]] = {}
        for finding in self.findings:
            found.setdefault(finding.path, set()).add(finding.code)
        return {path: " ".join(sorted(codes)) for path, codes in found.items()}

    @cached_property
    def paths(self) -> list[str]:
        """The path of each asset."""
        return [t.path for t in self.inventory.textures] + [row.path for row in self.inventory.others]

    def texts(self, name: str) -> list[str]:
        """Return a field of words of all assets, in lower case; several values are joined by line breaks."""
        texts: list[str] = self._kept(name, lambda: list(map(str.lower, TEXTS[name](self))))
        return texts

    def numbers(self, name: str) -> NDArray[Any]:
        """Return a field of numbers of all assets."""
        values: NDArray[Any] = self._kept(name, lambda: NUMBERS[name](self))
        return values

    def _kept(self, name: str, tell: Callable[[], Any]) -> Any:
        if name not in self._told:
            self._told[name] = tell()
        return self._told[name]

    def padded_unknown(self, values: NDArray[Any]) -> NDArray[Any]:
        """Return a column of textures, with nothing known of what is passed through after it."""
        return np.concatenate([values, np.full(len(self.inventory.others), np.nan)])

    def padded(self, values: NDArray[Any], rest: Sequence[int] | NDArray[np.int64] | int = 0) -> NDArray[Any]:
        """Return a column of textures with values for what is passed through after it."""
        tail = np.full(len(self.inventory.others), rest) if isinstance(rest, int) else np.array(rest, np.int64)
        return np.concatenate([values, tail.astype(values.dtype)])


def _owners(assets: Assets, pick: Callable[[Any, Any], Sequence[str]]) -> list[str]:
    ownership = assets.inventory.ownership
    rows = range(len(assets.inventory.textures))
    return ["\n".join(n for o in ownership.owners.get(row, ()) for n in pick(ownership, o)) for row in rows] + [
        ""
    ] * len(assets.inventory.others)


def _words(of_texture: Callable[[Assets, int], str], of_carried: Callable[[Any], str]) -> Callable[[Assets], list[str]]:
    def all_words(assets: Assets) -> list[str]:
        rows = range(len(assets.inventory.textures))
        return [of_texture(assets, row) for row in rows] + [of_carried(row) for row in assets.inventory.others]

    return all_words


def _coded(
    words: Sequence[str], codes: Callable[[Assets], NDArray[Any]], of_carried: Callable[[Any], str]
) -> Callable[[Assets], list[str]]:
    """Return what says of each texture the word of its code."""
    return lambda a: [*(words[code] for code in codes(a).tolist()), *map(of_carried, a.inventory.others)]


def _nothing(_: Any) -> str:
    return ""


_ALPHAS = ("none", "full", "even", "cut-out", "soft")


def _alpha_codes(inventory: Inventory) -> NDArray[Any]:
    """Return what the alpha of each texture holds: none, full everywhere, the same everywhere, all or nothing, or more."""
    codes = np.zeros(len(inventory.textures), np.int64)
    for row, (texture, kind) in enumerate(zip(inventory.textures, inventory.pixel_kinds.tolist(), strict=True)):
        if texture.channels in (2, 4):
            pixels = list(PixelKind)[kind]
            by_pixels = {PixelKind.CUT_OUT: 3, PixelKind.SOFT: 4}.get(pixels, 1)
            codes[row] = 1 if texture.opaque else 2 if texture.alpha_constant else by_pixels
    return codes


def _siblings(inventory: Inventory) -> list[str]:
    """Return the roles that stand beside each texture: in its materials, or under the same name in its folder."""
    sets: dict[object, set[int]] = {}
    mine: list[list[object]] = []
    codes = inventory.role_codes.tolist()
    for row, texture in enumerate(inventory.textures):
        keys: list[object] = [(owner.model, owner.material) for owner in inventory.ownership.owners.get(row, ())]
        folder, name = texture.path.rpartition("/")[0], bare_name(texture.path)
        keys += [(folder, name)] + ([(folder, name.rpartition("_")[0])] if "_" in name else [])
        mine.append(keys)
        for key in keys:
            sets.setdefault(key, set()).add(row)
    found = []
    for row, keys in enumerate(mine):
        beside = set().union(*(sets[key] for key in keys)) - {row}
        found.append("\n".join(sorted({_ROLES[codes[other]] for other in beside})))
    return found


_ROLES = [role.value for role in Role]


def _kind_of_other(row: OtherAsset) -> str:
    """Return what a mesh, a clip or a sound is, and the kind of its file."""
    words = {Family.AUDIO: "sound", Family.ANIMATION: "clip"}.get(row.family, "mesh")
    return f"{words}\n{row.file.rsplit('.', 1)[-1]}"


def _sound_role(assets: Assets, path: str) -> str:
    recipe = assets.after.others.recipes.get(path)
    return "" if recipe is None else recipe.role.value


def _of_sounds(assets: Assets, tell: Callable[[SoundRecipe], float]) -> NDArray[Any]:
    """Return a number of what sounds ship as, of all assets; nothing is known of the others."""
    recipes = assets.after.others.recipes
    found = [np.nan if row.path not in recipes else tell(recipes[row.path]) for row in assets.inventory.others]
    return np.concatenate([np.full(len(assets.inventory.textures), np.nan), np.array(found, np.float64)])


TEXTS: dict[str, Callable[[Assets], list[str]]] = {
    "path": lambda a: a.paths,
    "name": lambda a: [path.rsplit("/", 1)[-1] for path in a.paths],
    "folder": lambda a: [path.rpartition("/")[0] for path in a.paths],
    "role": lambda a: [
        *(_ROLES[code] for code in a.inventory.role_codes.tolist()),
        *(_sound_role(a, row.path) for row in a.inventory.others),
    ],
    "family": _coded([role.family.value for role in Role], lambda a: a.inventory.role_codes, lambda r: r.family.value),
    "format": _coded(ORDER, lambda a: a.after.formats, _nothing),
    "kind": _words(lambda a, r: f"texture\n{a.inventory.textures[r].kind}", _kind_of_other),
    "known": _words(lambda a, r: a.inventory.roles[r].certainty.name, _nothing),
    "alpha": _coded(_ALPHAS, lambda a: _alpha_codes(a.inventory), _nothing),
    "pixels": _coded([kind.value for kind in PixelKind], lambda a: a.inventory.pixel_kinds, _nothing),
    "transfer": _words(lambda a, r: a.inventory.roles[r].role.transfer.value, _nothing),
    "has": lambda a: [*_siblings(a.inventory), *([""] * len(a.inventory.others))],
    "finding": lambda a: [a.codes.get(path, "").replace(" ", "\n") for path in a.paths],
    "material": lambda a: _owners(a, lambda all_owners, o: [all_owners.material(o).name]),
    "object": lambda a: _owners(a, lambda all_owners, o: all_owners.objects_of(o)),
    "model": lambda a: _owners(a, lambda all_owners, o: [all_owners.models[o.model].path]),
}


def _longest(plan: Plan) -> NDArray[Any]:
    return np.maximum(plan.footprint.width, plan.footprint.height)


def _longest_side(assets: Assets) -> NDArray[Any]:
    return np.maximum(assets.inventory.width, assets.inventory.height)


def _users(assets: Assets) -> NDArray[Any]:
    counts = np.zeros(len(assets.inventory.textures), np.int64)
    for row, owners in assets.inventory.ownership.owners.items():
        counts[row] = len({(owner.model, owner.material) for owner in owners})
    return counts


def _fit(assets: Assets) -> NDArray[Any]:
    if assets.demand is None:
        return np.full(len(assets.inventory.textures), np.nan)
    inventory = assets.inventory
    return assets.demand.fit(_longest(assets.after), np.maximum(inventory.width, inventory.height))


def _wanted(assets: Assets) -> NDArray[Any]:
    if assets.demand is None:
        return np.full(len(assets.inventory.textures), np.nan)
    return np.maximum(assets.inventory.width, assets.inventory.height) * 2.0**-assets.demand.levels


def _seen(assets: Assets) -> NDArray[Any]:
    if assets.demand is None:
        return np.full(len(assets.inventory.textures), np.nan)
    return np.where(assets.demand.looked, assets.demand.pixels, np.nan)


def _wasted(assets: Assets) -> NDArray[Any]:
    """Return the bytes of memory that levels which are never shown take: three quarters for each, three quarters of the rest ..."""
    if assets.demand is None:
        return np.zeros(len(assets.inventory.textures), np.int64)
    inventory = assets.inventory
    spare = assets.demand.spare(_longest(assets.after), np.maximum(inventory.width, inventory.height))
    share = np.where(np.isfinite(spare), 1 - 4.0 ** -np.maximum(spare, 0), np.where(assets.demand.unseen, 1.0, 0.0))
    return (assets.after.footprint.memory * share).astype(np.int64)


NUMBERS: dict[str, Callable[[Assets], NDArray[Any]]] = {
    "side": lambda a: a.padded(_longest_side(a)),
    "width": lambda a: a.padded(a.inventory.width),
    "height": lambda a: a.padded(a.inventory.height),
    "ships": lambda a: a.padded(_longest(a.after)),
    "channels": lambda a: a.padded(a.inventory.column("channels")),
    "bits": lambda a: a.padded(a.inventory.column("bit_depth")),
    "levels": lambda a: a.padded(a.after.footprint.levels),
    "rate": lambda a: _of_sounds(a, lambda recipe: recipe.rate),
    "seconds": lambda a: _of_sounds(a, lambda recipe: recipe.seconds),
    "resident": lambda a: a.padded(a.after.sounds, a.after.others_line("sounds")),
    "memory": lambda a: a.padded(a.after.footprint.memory),
    "package": lambda a: a.padded(a.after.package, a.after.others_line("package")),
    "saves": lambda a: a.padded(a.now.footprint.memory - a.after.footprint.memory),
    "file": lambda a: a.padded(a.inventory.column("file_bytes"), [row.bytes for row in a.inventory.others]),
    "ratio": lambda a: a.padded(_longest_side(a) / np.maximum(1, np.minimum(a.inventory.width, a.inventory.height)), 1),
    "multiple": lambda a: a.padded(np.gcd(a.inventory.width, a.inventory.height)),
    "fit": lambda a: a.padded_unknown(_fit(a)),
    "wanted": lambda a: a.padded_unknown(_wanted(a)),
    "seen": lambda a: a.padded_unknown(_seen(a)),
    "wasted": lambda a: a.padded(_wasted(a)),
    "users": lambda a: a.padded(_users(a)),
    "findings": lambda a: np.array([a.counts.get(path, 0) for path in a.paths], np.int64),
}


def _cut(assets: Assets) -> NDArray[Any]:
    cut = np.logical_or.reduce([assets.after.settings[kind] >= 0 for kind in KINDS])
    return _flagged(assets, cut, lambda recipe: any(place >= 0 for _, place in recipe.changes))


def _ruled(assets: Assets) -> NDArray[Any]:
    ruled = (assets.after.rule >= 0) | (assets.after.format_rule >= 0)
    return _flagged(assets, ruled, lambda recipe: any(place < 0 for _, place in recipe.changes))


def _flagged(assets: Assets, textures: Flags, of_sound: Callable[[SoundRecipe], bool]) -> Flags:
    """Return a column of flags of textures with those of sounds after it, and of what else there is, which has none."""
    recipes = assets.after.others.recipes
    rest = [row.path in recipes and of_sound(recipes[row.path]) for row in assets.inventory.others]
    return np.concatenate([textures, np.array(rest, np.bool_)])


FLAGS: dict[str, Callable[[Assets], NDArray[Any]]] = {
    "cut": _cut,
    "ruled": _ruled,
    "overruled": lambda a: a.padded(a.after.overruled | a.after.format_overruled),
    "shared": lambda a: a.numbers("users") > 1,
    "unused": lambda a: (a.numbers("users") == 0) & (np.arange(len(a)) < len(a.inventory.textures)),
    "held": lambda a: np.array([IMAGE_MARK in path for path in a.paths], np.bool_),
    "unseen": lambda a: a.padded(
        np.zeros(len(a.inventory.textures), np.bool_) if a.demand is None else a.demand.unseen
    ),
    "power-of-two": lambda a: a.padded(
        np.logical_and(*((side & (side - 1)) == 0 for side in (a.inventory.width, a.inventory.height)))
    ),
    "expanded": lambda a: a.padded(a.after.footprint.expanded),
    "texture": lambda a: a.padded(np.ones(len(a.inventory.textures), np.bool_)),
}
FIELDS = (*TEXTS, *NUMBERS, "is")


def parse(text: str) -> Node:
    """Return the tree of a filter whose fields and values make sense.

    Raises
    ------
    QueryError : says what is wrong, where, and what would be right
    """
    found = syntax.parse(text, FIELDS)
    for term in syntax.terms(found):
        _check_value(term)
    return found


def select(text: str, assets: Assets) -> Flags:
    """Return which assets a filter keeps.

    Raises
    ------
    QueryError : the filter cannot be understood
    """
    return _kept(parse(text), assets)


def _kept(node: Node, assets: Assets) -> Flags:
    if isinstance(node, Term):
        return _holds(node, assets)
    if isinstance(node, Negated):
        return ~_kept(node.part, assets)
    parts = [_kept(part, assets) for part in node.parts]
    if isinstance(node, Either):
        either: Flags = np.logical_or.reduce(parts)
        return either
    every: Flags = np.logical_and.reduce([np.ones(len(assets), np.bool_), *parts])
    return every


def _check_value(term: Term) -> None:
    """Raise QueryError where a term's sign or value is none that its field has."""
    name, compare, value = term.name, term.compare, term.value
    if name == "is":
        if value.lower() not in FLAGS:
            raise QueryError(f"nothing is {value!r}; known are {', '.join(FLAGS)}", term.at)
    elif name == "multiple":
        if compare not in (":", "=", "!=") or not value.isdecimal() or int(value) < 1:
            raise QueryError("multiple is asked of a whole number: write multiple:4 or multiple!=4", term.at)
    elif name in NUMBERS:
        if compare == "~":
            raise QueryError(f"{name} is a number: write {name}>{value} or {name}={value}", term.at)
        if value.lower() not in NUMBERS:
            _number(term)
    elif compare == "~":
        try:
            re.compile(value)
        except re.error as error:
            raise QueryError(f"{value!r} is no regular expression: {error}", term.at + (error.pos or 0)) from None
    elif compare not in (":", "=", "!="):
        raise QueryError(f"{name} holds words: write {name}:{value}", term.at)


def _holds(term: Term, assets: Assets) -> Flags:
    if term.name == "is":
        return FLAGS[term.value.lower()](assets).astype(np.bool_)
    if term.name == "multiple":
        return _is_multiple(term, assets)
    if term.name in NUMBERS:
        if term.compare == "~":
            raise QueryError(
                f"{term.name} is a number: write {term.name}>{term.value} or {term.name}={term.value}", term.at
            )
        other = _other_side(term, assets)
        values = assets.numbers(term.name)
        held = np.asarray(_COMPARE[term.compare](values, other), np.bool_)
        # What is not known is not unlike anything.
        return held & ~(np.isnan(values) | np.isnan(other)) if term.compare == "!=" else held
    if term.compare == "~":
        # Letters are told from capitals here, as naming conventions want it.
        return _by_expression(term, TEXTS[term.name or "path"](assets))
    texts = assets.texts(term.name or "path")
    if term.compare == "!=" and term.value.lower() in TEXTS:
        return np.array([a != b for a, b in zip(texts, assets.texts(term.value.lower()), strict=True)], np.bool_)
    wanted = [value for value in term.value.lower().split(",") if value]
    found = np.zeros(len(assets), np.bool_)
    for value in wanted:
        found |= np.array(_word_test(value, texts, exact=term.compare in ("=", "!=")), np.bool_)
    return ~found if term.compare == "!=" else found


def _is_multiple(term: Term, assets: Assets) -> Flags:
    """Say which have both sides a multiple of a number."""
    found: Flags = assets.numbers("multiple") % int(term.value) == 0
    return ~found if term.compare == "!=" else found


def _other_side(term: Term, assets: Assets) -> NDArray[Any]:
    """Return what a field of numbers is compared with: another field of numbers, or a number."""
    other = term.value.lower()
    if other in NUMBERS:
        return assets.numbers(other)
    return np.full(len(assets), _number(term))


def _by_expression(term: Term, texts: list[str]) -> Flags:
    """Say in which texts a regular expression is found; of several values, in one."""
    search = re.compile(term.value).search
    return np.array([any(search(line) for line in text.split("\n")) for text in texts], np.bool_)


def _word_test(value: str, texts: list[str], exact: bool) -> list[bool]:
    """Say of each text whether one of its lines is, fits or holds a value."""
    if "*" in value or "?" in value:
        match = re.compile(fnmatch.translate(value)).match
        # Most hold one line, and the pattern's dot any letter, so that a break has to be looked for.
        return [any(map(match, text.split("\n"))) if "\n" in text else match(text) is not None for text in texts]
    if exact:
        return [value in text.split("\n") for text in texts]
    return [value in text for text in texts]


def _number(term: Term) -> float:
    try:
        if term.name in _BYTE_FIELDS and term.value[-1:].isalpha():
            return float(parse_bytes(term.value))
        return float(term.value)
    except ValueError:
        what = "a size such as 1MiB" if term.name in _BYTE_FIELDS else "a number"
        raise QueryError(f"{term.name} is compared with {what}, not {term.value!r}", term.at) from None


VALUES: dict[str, tuple[str, ...]] = {
    "role": (*_ROLES, *(role.value for role in SoundRole)),
    "kind": ("texture", "sound", "clip", "mesh"),
    "family": tuple(family.value for family in Family),
    "format": tuple(FORMATS),
    "has": tuple(role.value for role in Role),
    "alpha": _ALPHAS,
    "pixels": tuple(kind.value for kind in PixelKind if kind is not PixelKind.ANY),
    "transfer": tuple(transfer.value for transfer in Transfer),
    "finding": tuple(LABELS),
    "is": tuple(FLAGS),
}


def completions(text: str, cursor: int) -> tuple[int, list[str]]:
    """Return what could stand at a cursor, and where the word that it would replace begins."""
    start = max(text.rfind(" ", 0, cursor) + 1, 0)
    word = text[start:cursor]
    while word.startswith(("-", "(")):
        start, word = start + 1, word[1:]
    name, colon, begun = word.partition(":")
    if colon and name.lower() in VALUES:
        done, comma, last = begun.rpartition(",")
        head = f"{name}:{done}{comma}"
        return start, [head + _quoted(v) for v in VALUES[name.lower()] if v.startswith(last.lower().lstrip('"'))]
    if colon or not word:
        return start, []
    marks = {**dict.fromkeys(TEXTS, ":"), **dict.fromkeys(NUMBERS, ">"), "is": ":"}
    return start, [f"{each}{marks[each]}" for each in FIELDS if each.startswith(word.lower())]


def _quoted(value: str) -> str:
    return f'"{value}"' if " " in value else value
