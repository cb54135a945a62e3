"""What got worse since an earlier survey, told from its JSON."""

from __future__ import annotations

from dataclasses import dataclass
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


class _Document(msgspec.Struct):
    schema: str
    targets: tuple[_Target, ...]
    findings: tuple[_Finding, ...]


@dataclass(frozen=True)
class Worse:
    """What got worse.

    Parameters
    ----------
    limits : target, what stands over its limit now, and the value it had then (None: not weighed then)
    findings : that were not there
    """

    limits: tuple[tuple[str, BudgetStatus, int | None], ...]
    findings: tuple[Merged, ...]

    @property
    def grave(self) -> bool:
        """There is more than notes."""
        return bool(self.limits) or any(finding.severity is not Severity.NOTE for finding in self.findings)


def worse_than(found: Survey, path: Path) -> Worse:
    """Compare a survey with an earlier one: totals over their limits that were lower, and new findings.

    Raises
    ------
    DocumentError : the file cannot be read or is no survey of this schema
    """
    try:
        document = msgspec.json.decode(read_bytes(path), type=_Document)
    except FileError as error:
        raise DocumentError(path, error.fault) from error
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise DocumentError(path, f"is not a survey: {error}") from error
    if document.schema != SCHEMA:
        raise DocumentError(path, f"has schema {document.schema!r}, not {SCHEMA!r}")
    then = {(t.id, row.line): row.bytes or row.value for t in document.targets for row in t.limits}
    limits = []
    for plan in found.plans:
        for status in limits_of(plan):
            was = then.get((plan.target.id, status.line.name))
            if status.over and (was is None or status.value > was):
                limits.append((plan.target.id, status, was))
    known = {(row.code, row.path) for row in document.findings}
    return Worse(tuple(limits), tuple(f for f in found.findings if (f.code, f.path) not in known))
