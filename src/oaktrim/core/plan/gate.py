"""Whether a build may go on: what of a survey fails it, what was so before, and what nobody has touched since."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from functools import cached_property
from pathlib import Path

from oaktrim.core.errors import DocumentError, FileError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.plan.baseline import Earlier, LimitNow, limits_now, read_earlier
from oaktrim.core.plan.checks import label_of
from oaktrim.core.plan.report import Survey, contents_of
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.findings.rules import Merged
from oaktrim.core.survey.places import file_path

# Findings on what could not be looked at, which no rule finds.
UNREADABLE, UNMADE = "unreadable", "unmade"
FAULTS = {UNREADABLE: "Unreadable", UNMADE: "Cannot be made"}


def name_of(code: str) -> str:
    """Return what reports call a finding, also one of what could not be looked at."""
    return FAULTS.get(code) or label_of(code)


class Standing(Enum):
    """Why a finding fails a build, or does not."""

    FAILS = "fails"
    MILDER = "is milder than what fails"
    KNOWN = "was there before"
    UNTOUCHED = "is on a file that has not changed"


@dataclass(frozen=True)
class Gated:
    """A finding with its standing."""

    finding: Merged
    standing: Standing


@dataclass(frozen=True)
class Gate:
    """What a build is judged by.

    Parameters
    ----------
    fail_on : the mildest severity that fails it; None for nothing, not even limits
    baseline : what was there before, which fails no more
    changed : the files, by path, that findings count on; None for all
    """

    fail_on: Severity | None = Severity.ERROR
    baseline: Earlier | None = None
    changed: frozenset[str] | None = None

    def standing(self, finding: Merged, known: set[tuple[str, str]]) -> Standing:
        """Say how a finding stands."""
        grave = list(Severity)
        if self.fail_on is None or grave.index(finding.severity) > grave.index(self.fail_on):
            return Standing.MILDER
        if (finding.code, finding.path) in known:
            return Standing.KNOWN
        if self.changed is not None and file_path(finding.path) not in self.changed:
            return Standing.UNTOUCHED
        return Standing.FAILS


@dataclass(frozen=True, eq=False)
class Outcome:
    """What became of a survey at a gate.

    Parameters
    ----------
    limits : of all targets; over : those that fail
    """

    survey: Survey
    limits: tuple[LimitNow, ...]
    over: tuple[LimitNow, ...]
    findings: tuple[Gated, ...]
    compared: bool

    @cached_property
    def failing(self) -> tuple[Merged, ...]:
        """The findings that fail."""
        return tuple(row.finding for row in self.findings if row.standing is Standing.FAILS)

    @property
    def failed(self) -> bool:
        """The build may not go on."""
        return bool(self.over or self.failing)


def judge_build(found: Survey, gate: Gate) -> Outcome:
    """Return what of a survey fails a build.

    A limit that is passed fails, unless the baseline knows it as passed by as much. A finding fails from a severity on, unless
    the baseline knows it, or its file has not changed. What cannot be read, or made, is an error.
    """
    known = _known(gate.baseline)
    limits = limits_now(found, gate.baseline)
    over = () if gate.fail_on is None else tuple(row for row in limits if row.worse)
    findings = (*_faults(found), *found.findings)
    return Outcome(
        found, limits, over, tuple(Gated(f, gate.standing(f, known)) for f in findings), gate.baseline is not None
    )


def _known(earlier: Earlier | None) -> set[tuple[str, str]]:
    if earlier is None:
        return set()
    faults = {(UNREADABLE, row.path) for row in earlier.unreadable} | {(UNMADE, row.path) for row in earlier.unmade}
    return earlier.known() | faults


def _faults(found: Survey) -> tuple[Merged, ...]:
    targets, mend = tuple(plan.target.id for plan in found.plans), "mend the file, or leave it out of the job"
    inventory = found.inventory
    rows = [(UNREADABLE, row) for row in inventory.unreadable] + [(UNMADE, row) for row in inventory.unmade]
    return tuple(Merged(code, Severity.ERROR, row.path, row.error, 0, mend, targets, ()) for code, row in rows)


def changed_since(found: Survey, path: Path, folder: Path) -> frozenset[str]:
    """Return the paths of the files of a survey that are new or hold something else than they did.

    Parameters
    ----------
    path : an earlier survey as JSON; or a list of the files that changed, a path a line, as version control prints it
    folder : that the paths of such a list are told from

    Raises
    ------
    DocumentError : the file cannot be read, or is neither
    """
    try:
        data = read_bytes(path)
    except FileError as error:
        raise DocumentError(path, error.fault) from error
    now = contents_of(found.inventory)
    if data.lstrip()[:1] == b"{":
        earlier = read_earlier(path)
        if earlier.contents is None:
            raise DocumentError(path, "does not say what files held: it was written by an older Oak Trim")
        return frozenset(name for name, content in now.items() if earlier.contents.get(name) != content)
    try:
        lines = data.decode().splitlines()
    except UnicodeDecodeError as error:
        raise DocumentError(path, "is neither a survey nor a list of paths") from error
    root = os.path.realpath(found.inventory.root)
    listed = {os.path.relpath(os.path.realpath(folder / line.strip()), root) for line in lines if line.strip()}
    return frozenset(_with_models(found, listed, now))


def _with_models(found: Survey, listed: set[str], now: Mapping[str, str]) -> set[str]:
    """Return the surveyed files of a list, with the models that are read with one of it."""
    models = {m.path for m in found.inventory.models if any(name in listed for name, _, _ in m.files)}
    faulty = {row.path for row in found.inventory.unreadable}
    return {name for name in listed if name in now or name in faulty} | models
