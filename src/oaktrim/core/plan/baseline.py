"""An earlier survey, read from its JSON: what stood over its limits then, what was found, and what files held."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import msgspec

from oaktrim.core.errors import DocumentError, FileError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.plan.report import SCHEMA, Survey
from oaktrim.core.plan.status import BudgetStatus, limits_of
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.findings.rules import Merged


class _Limit(msgspec.Struct):
    line: str
    limit: int
    bytes: int = 0
    value: int = 0


class _Target(msgspec.Struct):
    id: str
    limits: tuple[_Limit, ...]


class _Finding(msgspec.Struct):
    code: str
    path: str


class _Fault(msgspec.Struct):
    path: str


class Earlier(msgspec.Struct):
    """What is read of an earlier survey's JSON."""

    schema: str
    targets: tuple[_Target, ...]
    findings: tuple[_Finding, ...]
    unreadable: tuple[_Fault, ...] = ()
    unmade: tuple[_Fault, ...] = ()
    contents: dict[str, str] | None = None

    def values(self) -> dict[tuple[str, str], int]:
        """Return what each line of each target came to, by their names."""
        return {(t.id, row.line): row.bytes or row.value for t in self.targets for row in t.limits}

    def known(self) -> set[tuple[str, str]]:
        """Return code and path of all that was found."""
        return {(row.code, row.path) for row in self.findings}


def read_earlier(path: Path) -> Earlier:
    """Return an earlier survey.

    Raises
    ------
    DocumentError : the file cannot be read or is no survey of this schema
    """
    try:
        document = msgspec.json.decode(read_bytes(path), type=Earlier)
    except FileError as error:
        raise DocumentError(path, error.fault) from error
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise DocumentError(path, f"is not a survey: {error}") from error
    if document.schema != SCHEMA:
        raise DocumentError(path, f"has schema {document.schema!r}, not {SCHEMA!r}")
    return document


@dataclass(frozen=True)
class LimitNow:
    """How a total stands against a limit, and what it came to in an earlier survey.

    Parameters
    ----------
    was : None without an earlier survey, and where it was not weighed then
    """

    target: str
    status: BudgetStatus
    was: int | None

    @property
    def worse(self) -> bool:
        """It is over, and more than it was."""
        return self.status.over and (self.was is None or self.status.value > self.was)


def limits_now(found: Survey, earlier: Earlier | None) -> tuple[LimitNow, ...]:
    """Return how all totals stand, beside what they came to."""
    then = {} if earlier is None else earlier.values()
    return tuple(
        LimitNow(plan.target.id, status, then.get((plan.target.id, status.line.name)))
        for plan in found.plans
        for status in limits_of(plan)
    )


@dataclass(frozen=True)
class Worse:
    """What got worse: limits that are passed by more than they were, and findings that were not there."""

    limits: tuple[LimitNow, ...]
    findings: tuple[Merged, ...]

    @cached_property
    def grave(self) -> bool:
        """There is more than notes."""
        return bool(self.limits) or any(finding.severity is not Severity.NOTE for finding in self.findings)


def worse_than(found: Survey, earlier: Earlier) -> Worse:
    """Compare a survey with an earlier one."""
    known = earlier.known()
    return Worse(
        tuple(row for row in limits_now(found, earlier) if row.worse),
        tuple(f for f in found.findings if (f.code, f.path) not in known),
    )
