"""Checks of a studio's own: filters with a severity and a message, beside the built-in findings; and what these count as."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

import msgspec
import numpy as np

from oaktrim.core.errors import DocumentError
from oaktrim.core.fields import Name, Side, Text, Version, fault_in_words
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.query import Assets, parse, select
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.plan.syntax import QueryError
from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, Severity
from oaktrim.core.survey.findings.rules import LABELS

_NAME = re.compile(r"[a-z][a-z0-9-]{0,59}")
_VERSION = 1


class CheckFix(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The cut that mends what a check finds: one of them."""

    cap: Side | None = None
    format: str = ""
    levels: bool | None = None

    def __post_init__(self) -> None:
        if (self.cap is not None) + bool(self.format) + (self.levels is not None) != 1:
            raise ValueError("a fix is a cap, a format or levels, one of them")
        if self.format and self.format not in FORMATS:
            raise ValueError(f"there is no format {self.format!r}")

    @property
    def fix(self) -> Fix:
        """The same as findings have it."""
        if self.cap is not None:
            return Fix(Remedy.CAP, self.cap)
        return Fix(Remedy.FORMAT, self.format) if self.format else Fix(Remedy.LEVELS, int(bool(self.levels)))

    @property
    def words(self) -> str:
        """The cut in words."""
        if self.cap is not None:
            return f"cap it at {self.cap}"
        if self.format:
            return f"ship it as {FORMATS[self.format].label}"
        return "ship it with levels" if self.levels else "ship it without levels"


class Check(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A rule of a studio's own.

    Parameters
    ----------
    name : lower-case letters, digits and hyphens: the code of its findings
    where : a filter that keeps what breaks the rule
    say : what is wrong, to whoever finds it
    """

    name: str
    where: Text
    severity: Severity = Severity.WARNING
    say: Text = ""
    fix: CheckFix | None = None

    def __post_init__(self) -> None:
        if not _NAME.fullmatch(self.name):
            raise ValueError(f"a check's name is lower-case letters, digits and hyphens, not {self.name!r}")
        if self.name in LABELS:
            raise ValueError(f"there is a built-in finding {self.name!r}")
        try:
            parse(self.where)
        except QueryError as error:
            raise ValueError(f"check {self.name!r}, at letter {error.at + 1} of {self.where!r}: {error}") from error


class Grade(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a built-in finding counts as here; nothing where the severity is None."""

    code: Name
    severity: Severity | None = None
    targets: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if self.code not in LABELS:
            raise ValueError(f"there is no built-in finding {self.code!r}")

    def is_for(self, target: str) -> bool:
        """Say whether it counts on a target."""
        return not self.targets or target in self.targets


@dataclass(frozen=True)
class Checks:
    """All that a job says of findings.

    Parameters
    ----------
    own : checks of a studio's own; grades : what built-in findings count as
    suppressed : code and path of findings that do not count
    """

    own: tuple[Check, ...] = ()
    grades: tuple[Grade, ...] = ()
    suppressed: frozenset[tuple[str, str]] = frozenset()


def label_of(code: str) -> str:
    """Return what a chip calls a finding; one of a studio's own goes by its name."""
    return LABELS.get(code) or code.replace("-", " ").capitalize()


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    version: Version
    check: tuple[Check, ...] = ()


def read_checks(path: Path) -> tuple[Check, ...]:
    """Return the checks of a file that jobs share, TOML: `version = 1` and a table `[[check]]` for each.

    Raises
    ------
    DocumentError : it cannot be read, is not valid, or of a newer version; names the file and the fault
    """
    return _decoded(read_bytes(path), path)


def example_checks() -> tuple[Check, ...]:
    """Return checks to begin with."""
    found = files("oaktrim.core.plan") / "examplechecks.toml"
    return _decoded(found.read_bytes(), Path(str(found)))


def _decoded(data: bytes, path: Path) -> tuple[Check, ...]:
    try:
        found = msgspec.toml.decode(data, type=_File)
    except (msgspec.DecodeError, UnicodeDecodeError, ValueError) as error:
        raise DocumentError(path, f"is no valid file of checks: {fault_in_words(error)}") from error
    if found.version > _VERSION:
        raise DocumentError(path, f"is of version {found.version}, made by a newer Oak Trim; this one reads {_VERSION}")
    names = [check.name for check in found.check]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice:
        raise DocumentError(path, f"has two checks called {twice!r}")
    return found.check


def as_toml(checks: Sequence[Check]) -> bytes:
    """Return a file of checks, for jobs to share."""
    lines = [f"version = {_VERSION}"]
    for check in checks:
        lines += ["", "[[check]]", f"name = {_quoted(check.name)}", f"where = {_quoted(check.where)}"]
        lines += [f"severity = {_quoted(check.severity.value)}", f"say = {_quoted(check.say)}"]
        if check.fix is not None:
            value = {"cap": check.fix.cap, "format": check.fix.format or None, "levels": check.fix.levels}
            (part,) = [f"{key} = {_quoted(v)}" for key, v in value.items() if v is not None]
            lines.append(f"fix = {{ {part} }}")
    return ("\n".join(lines) + "\n").encode()


def _quoted(value: str | int) -> str:
    """Return a value as TOML has it: its basic strings are those of JSON."""
    return msgspec.json.encode(value).decode()


def meets(check: Check, assets: Assets) -> np.ndarray:
    """Return the places of the assets that break a check."""
    return np.flatnonzero(select(check.where, assets))


def with_checks(found: Sequence[Finding], plan: Plan, checks: Checks) -> list[Finding]:
    """Return the findings on what a plan ships as a job has them: re-graded, and with those of its own checks."""
    grades = {row.code: row for row in checks.grades if row.is_for(plan.target.id) and not row.targets}
    grades |= {row.code: row for row in checks.grades if row.targets and row.is_for(plan.target.id)}
    kept = []
    for finding in found:
        grade = grades.get(finding.code)
        if grade is None:
            kept.append(finding)
        elif grade.severity is not None:
            kept.append(_graded(finding, grade.severity))
    if checks.own:
        now = resolve(plan.inventory, plan.target) if any("saves" in row.where for row in checks.own) else plan
        assets = Assets(now, plan, list(kept))
        for check in checks.own:
            kept += _findings(check, assets)
    return kept


def _graded(finding: Finding, severity: Severity) -> Finding:
    return Finding(
        finding.code,
        severity,
        finding.path,
        finding.message,
        finding.bytes,
        finding.remedy,
        finding.target,
        finding.fix,
    )


def _findings(check: Check, assets: Assets) -> list[Finding]:
    plan, memory = assets.after, assets.numbers("memory")
    fix = check.fix
    message = check.say or f"{check.where} holds"
    textures = len(plan.inventory.textures)
    return [
        Finding(
            check.name, check.severity, assets.paths[place], message, int(memory[place]),
            fix.words if fix is not None else "look at it", plan.target.id,
            fix.fix if fix is not None and place < textures else None,
        )
        for place in meets(check, assets).tolist()
    ]  # fmt: skip
