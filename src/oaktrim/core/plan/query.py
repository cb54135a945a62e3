"""The filter syntax: `role:normal side>2048 saves>1MiB -path:old`, over all assets of a plan.

Terms stand beside each other and all have to hold; a minus before a term turns it round. `field:a,b` holds for either
value; `*` and `?` stand for any letters; a word without a field is looked for in the path; quotes keep spaces together.
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

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.plan.cuts import KINDS
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.facts import IMAGE_MARK
from oaktrim.core.survey.findings.finding import Finding
from oaktrim.core.survey.findings.rules import LABELS
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Family, Role
from oaktrim.core.targets.target import parse_bytes

Flags = NDArray[np.bool_]
_TERM = re.compile(r'(-?)(?:([A-Za-z-]+)(>=|<=|:|=|>|<))?("[^"]*"?|[^\s"]+)?')
_BYTE_FIELDS = ("memory", "package", "saves", "file", "wasted")
_COMPARE: dict[str, Callable[[Any, float], Any]] = {
    ">": np.greater, "<": np.less, ">=": np.greater_equal, "<=": np.less_equal, ":": np.equal, "=": np.equal,
}  # fmt: skip


# Fields that depend on the inventory alone, and are kept with it.
_FIXED = (
    "path", "name", "folder", "role", "family", "kind", "known", "material", "object", "model", "side", "width", "height",
    "channels", "bits", "file", "users",
)  # fmt: skip
# Fields that depend on the inventory and on what was found wrong.
_OF_FINDINGS = ("finding", "findings")


class QueryError(OakTrimError):
    """A filter that cannot be understood; `at` is where in the text."""

    def __init__(self, fault: str, at: int) -> None:
        self.at = at
        super().__init__(fault)


@dataclass(frozen=True)
class Term:
    """One condition; `name` is empty for a bare word."""

    negated: bool
    name: str
    compare: str
    value: str
    at: int


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
        return len(self.inventory.textures) + len(self.inventory.passthrough)

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
        return [t.path for t in self.inventory.textures] + [row.path for row in self.inventory.passthrough]

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
        return np.concatenate([values, np.full(len(self.inventory.passthrough), np.nan)])

    def padded(self, values: NDArray[Any], rest: Sequence[int] | NDArray[np.int64] | int = 0) -> NDArray[Any]:
        """Return a column of textures with values for what is passed through after it."""
        tail = np.full(len(self.inventory.passthrough), rest) if isinstance(rest, int) else np.array(rest, np.int64)
        return np.concatenate([values, tail.astype(values.dtype)])


def _owners(assets: Assets, pick: Callable[[Any, Any], Sequence[str]]) -> list[str]:
    ownership = assets.inventory.ownership
    rows = range(len(assets.inventory.textures))
    return ["\n".join(n for o in ownership.owners.get(row, ()) for n in pick(ownership, o)) for row in rows] + [
        ""
    ] * len(assets.inventory.passthrough)


def _words(of_texture: Callable[[Assets, int], str], of_carried: Callable[[Any], str]) -> Callable[[Assets], list[str]]:
    def all_words(assets: Assets) -> list[str]:
        rows = range(len(assets.inventory.textures))
        return [of_texture(assets, row) for row in rows] + [of_carried(row) for row in assets.inventory.passthrough]

    return all_words


def _coded(
    words: Sequence[str], codes: Callable[[Assets], NDArray[Any]], of_carried: Callable[[Any], str]
) -> Callable[[Assets], list[str]]:
    """Return what says of each texture the word of its code."""
    return lambda a: [*(words[code] for code in codes(a).tolist()), *map(of_carried, a.inventory.passthrough)]


def _nothing(_: Any) -> str:
    return ""


TEXTS: dict[str, Callable[[Assets], list[str]]] = {
    "path": lambda a: a.paths,
    "name": lambda a: [path.rsplit("/", 1)[-1] for path in a.paths],
    "folder": lambda a: [path.rpartition("/")[0] for path in a.paths],
    "role": _coded([role.value for role in Role], lambda a: a.inventory.role_codes, _nothing),
    "family": _coded([role.family.value for role in Role], lambda a: a.inventory.role_codes, lambda r: r.family.value),
    "format": _coded(ORDER, lambda a: a.after.formats, _nothing),
    "kind": _words(lambda a, r: a.inventory.textures[r].kind, lambda row: row.path.rsplit(".", 1)[-1]),
    "known": _words(lambda a, r: a.inventory.roles[r].certainty.name, _nothing),
    "finding": lambda a: [a.codes.get(path, "").replace(" ", "\n") for path in a.paths],
    "material": lambda a: _owners(a, lambda all_owners, o: [all_owners.material(o).name]),
    "object": lambda a: _owners(a, lambda all_owners, o: all_owners.objects_of(o)),
    "model": lambda a: _owners(a, lambda all_owners, o: [all_owners.models[o.model].path]),
}


def _longest(plan: Plan) -> NDArray[Any]:
    return np.maximum(plan.footprint.width, plan.footprint.height)


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
    "side": lambda a: a.padded(np.maximum(a.inventory.width, a.inventory.height)),
    "width": lambda a: a.padded(a.inventory.width),
    "height": lambda a: a.padded(a.inventory.height),
    "ships": lambda a: a.padded(_longest(a.after)),
    "channels": lambda a: a.padded(a.inventory.column("channels")),
    "bits": lambda a: a.padded(a.inventory.column("bit_depth")),
    "levels": lambda a: a.padded(a.after.footprint.levels),
    "memory": lambda a: a.padded(a.after.footprint.memory),
    "package": lambda a: a.padded(a.after.package, a.after.passthrough("package")),
    "saves": lambda a: a.padded(a.now.footprint.memory - a.after.footprint.memory),
    "file": lambda a: a.padded(a.inventory.column("file_bytes"), [row.bytes for row in a.inventory.passthrough]),
    "fit": lambda a: a.padded_unknown(_fit(a)),
    "wanted": lambda a: a.padded_unknown(_wanted(a)),
    "seen": lambda a: a.padded_unknown(_seen(a)),
    "wasted": lambda a: a.padded(_wasted(a)),
    "users": lambda a: a.padded(_users(a)),
    "findings": lambda a: np.array([a.counts.get(path, 0) for path in a.paths], np.int64),
}


def _cut(assets: Assets) -> NDArray[Any]:

    return assets.padded(np.logical_or.reduce([assets.after.settings[kind] >= 0 for kind in KINDS]))


FLAGS: dict[str, Callable[[Assets], NDArray[Any]]] = {
    "cut": _cut,
    "ruled": lambda a: a.padded(a.after.rule >= 0),
    "overruled": lambda a: a.padded(a.after.overruled),
    "shared": lambda a: a.numbers("users") > 1,
    "unused": lambda a: (a.numbers("users") == 0) & (np.arange(len(a)) < len(a.inventory.textures)),
    "held": lambda a: np.array([IMAGE_MARK in path for path in a.paths], np.bool_),
    "unseen": lambda a: a.padded(
        np.zeros(len(a.inventory.textures), np.bool_) if a.demand is None else a.demand.unseen
    ),
    "expanded": lambda a: a.padded(a.after.footprint.expanded),
    "texture": lambda a: a.padded(np.ones(len(a.inventory.textures), np.bool_)),
}
FIELDS = (*TEXTS, *NUMBERS, "is")


def parse(text: str) -> list[Term]:
    """Return the terms of a filter.

    Raises
    ------
    QueryError : says what is wrong, and where
    """
    terms, at = [], 0
    while at < len(text):
        if text[at].isspace():
            at += 1
            continue
        match = _TERM.match(text, at)
        assert match is not None
        negated, name, compare, value = match.groups()
        if match.end() == at or not (name or value):
            raise QueryError(f"nothing can begin with {text[at]!r}", at)
        if name and name.lower() not in FIELDS:
            raise QueryError(f"there is no field {name!r}; known are {', '.join(FIELDS)}", at + len(negated))
        if not value:
            raise QueryError(f"{name} needs a value after {compare!r}", match.end())
        if value.startswith('"'):
            if len(value) < 2 or not value.endswith('"'):
                raise QueryError("a quote is not closed", match.start(4))
            value = value[1:-1]
        terms.append(Term(bool(negated), (name or "").lower(), compare or ":", value, match.start(4)))
        at = match.end()
    return terms


def select(text: str, assets: Assets) -> Flags:
    """Return which assets a filter keeps.

    Raises
    ------
    QueryError : the filter cannot be understood
    """
    kept: Flags = np.ones(len(assets), np.bool_)
    for term in parse(text):
        kept &= _holds(term, assets) != term.negated
    return kept


def _holds(term: Term, assets: Assets) -> Flags:
    if term.name == "is":
        if term.value.lower() not in FLAGS:
            raise QueryError(f"nothing is {term.value!r}; known are {', '.join(FLAGS)}", term.at)
        return FLAGS[term.value.lower()](assets).astype(np.bool_)
    if term.name in NUMBERS:
        return np.asarray(_COMPARE[term.compare](assets.numbers(term.name), _number(term)), np.bool_)
    if term.compare not in (":", "="):
        raise QueryError(f"{term.name} holds words: write {term.name}:{term.value}", term.at)
    wanted = [value for value in term.value.lower().split(",") if value]
    found = np.zeros(len(assets), np.bool_)
    texts = assets.texts(term.name or "path")
    for value in wanted:
        found |= np.array(_word_test(value, texts, exact=term.compare == "="), np.bool_)
    return found


def _word_test(value: str, texts: list[str], exact: bool) -> list[bool]:
    """Say of each text whether one of its lines is, fits or holds a value."""
    if "*" in value or "?" in value:
        match = re.compile(fnmatch.translate(value)).match
        return [any(match(line) for line in text.split("\n")) for text in texts]
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
    "role": tuple(role.value for role in Role),
    "family": tuple(family.value for family in Family),
    "format": tuple(FORMATS),
    "finding": tuple(LABELS),
    "is": tuple(FLAGS),
}


def completions(text: str, cursor: int) -> tuple[int, list[str]]:
    """Return what could stand at a cursor, and where the word that it would replace begins."""
    start = max(text.rfind(" ", 0, cursor) + 1, 0)
    word = text[start:cursor]
    start, word = (start + 1, word[1:]) if word.startswith("-") else (start, word)
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
