"""The filter syntax, read into a tree of terms.

Terms that stand beside each other all have to hold; `or` stands between alternatives, parentheses keep them together, and a minus
turns round what follows it. docs/filters.md lists the fields.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass

from oaktrim.core.errors import OakTrimError

_TERM = re.compile(r'(?:([A-Za-z-]+)(>=|<=|!=|:|=|>|<|~))?("[^"]*"?|[^\s"()]+)?')
# A word that could be a field, and its sign: names of files have both, too.
_DEEPEST = 64


class QueryError(OakTrimError):
    """A filter that cannot be understood; `at` is where in the text."""

    def __init__(self, fault: str, at: int) -> None:
        self.at = at
        super().__init__(fault)


@dataclass(frozen=True)
class Term:
    """One condition; `name` is empty for a bare word."""

    name: str
    compare: str
    value: str
    at: int


@dataclass(frozen=True)
class Negated:
    """What holds where its part does not."""

    part: Node


@dataclass(frozen=True)
class All:
    """What holds where all parts do; everywhere without parts."""

    parts: tuple[Node, ...]


@dataclass(frozen=True)
class Either:
    """What holds where one part does."""

    parts: tuple[Node, ...]


Node = Term | Negated | All | Either


def parse(text: str, fields: Collection[str]) -> Node:
    """Return the tree of a filter.

    Parameters
    ----------
    fields : names that a term may have

    Raises
    ------
    QueryError : says what is wrong, where, and what would be right
    """
    reader = _Reader(text, fields)
    found = reader.either(0)
    if reader.at < len(text):
        raise QueryError("there is a ) without its (", reader.at)
    return found


def terms(node: Node) -> Iterator[Term]:
    """Yield all terms of a tree."""
    if isinstance(node, Term):
        yield node
    elif isinstance(node, Negated):
        yield from terms(node.part)
    else:
        for part in node.parts:
            yield from terms(part)


class _Reader:
    """Reads a text from its beginning on; `at` is how far it came."""

    def __init__(self, text: str, fields: Collection[str]) -> None:
        self.text, self.fields, self.at = text, fields, 0

    def _peek(self) -> str:
        while self.at < len(self.text) and self.text[self.at].isspace():
            self.at += 1
        return self.text[self.at : self.at + 1]

    def _word_or(self) -> bool:
        """Say whether `or` stands here, and step over it."""
        self._peek()
        if re.match(r"or(?=[\s(]|$)", self.text[self.at :], re.IGNORECASE):
            self.at += 2
            return True
        return False

    def either(self, depth: int) -> Node:
        if depth > _DEEPEST:
            raise QueryError(f"parentheses are more than {_DEEPEST} deep", self.at)
        parts = [self._all(depth)]
        while True:
            before = self.at
            if not self._word_or():
                return parts[0] if len(parts) == 1 else Either(tuple(parts))
            if parts[-1] == All(()):
                raise QueryError("or stands between two conditions: nothing is before it", before)
            at = self.at
            parts.append(self._all(depth))
            if parts[-1] == All(()):
                raise QueryError("or stands between two conditions: nothing is after it", at)

    def _all(self, depth: int) -> Node:
        parts: list[Node] = []
        while (letter := self._peek()) and letter != ")":
            start = self.at
            if self._word_or():
                self.at = start
                break
            parts.append(self._one(depth))
        return parts[0] if len(parts) == 1 else All(tuple(parts))

    def _one(self, depth: int) -> Node:
        if self.text[self.at] == "-" and self.text[self.at + 1 : self.at + 2].strip():
            self.at += 1
            return Negated(self._one(depth))
        if self.text[self.at] == "(":
            start = self.at
            self.at += 1
            inside = self.either(depth + 1)
            if self._peek() != ")":
                raise QueryError("a ( is not closed", start)
            self.at += 1
            return inside
        return self._term()

    def _term(self) -> Term:
        match = _TERM.match(self.text, self.at)
        assert match is not None
        name, compare, value = match.groups()
        if match.end() == self.at or not (name or value):
            raise QueryError(f"nothing can begin with {self.text[self.at]!r}", self.at)
        if name and name.lower() not in self.fields:
            raise QueryError(f"there is no field {name!r}; known are {', '.join(self.fields)}", self.at)
        if not value:
            raise QueryError(f"{name} needs a value after {compare!r}", match.end())
        if value.startswith('"'):
            if len(value) < 2 or not value.endswith('"'):
                raise QueryError("a quote is not closed", match.start(3))
            value = value[1:-1]
        start = match.start(3) + (self.text[match.start(3)] == '"')
        self.at = match.end()
        return Term((name or "").lower(), compare or ":", value, start)
