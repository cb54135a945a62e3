"""Two edits of one job made one, as version control asks for: what only one of them changed is taken, the rest is said."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import msgspec

from oaktrim.core.job.document import Job
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.sight.sightlines import Sightlines
from oaktrim.core.survey.roles import Role, RoleChoice

Row = TypeVar("Row")
Key = Callable[[Any], Hashable]
_Told = Callable[[Any], str]


@dataclass(frozen=True)
class Merged:
    """A job of two edits.

    Parameters
    ----------
    job : what both changed otherwise stands in it as in ours
    conflicts : such places, a sentence each
    """

    job: Job
    conflicts: tuple[str, ...]


# What tells that two rows of a list are the same row, and how a person would call it.
LISTS: dict[str, tuple[Key, str, _Told]] = {
    "targets": (lambda row: row, "target", str),
    "own_targets": (lambda row: row.id, "target", lambda row: str(row.id)),
    "cuts": (lambda row: (type(row.change), row.assets, row.targets), "cut", lambda row: str(row.label)),
    "role_rules": (lambda row: (row.role, row.targets), "size rule", lambda row: str(row.role.value)),
    "format_rules": (lambda row: row.key, "format rule", lambda row: str(row.role.value)),
    "sound_rules": (lambda row: (row.role, row.targets), "sound rule", lambda row: str(row.role.value)),
    "sound_patterns": (lambda row: row.pattern, "pattern of sounds", lambda row: repr(row.pattern)),
    "suppressed": (
        lambda row: (row.code, row.path),
        "suppressed finding",
        lambda row: f"{row.code} on {row.path}",
    ),
    "ignore": (lambda row: row, "ignored pattern", repr),
    "role_patterns": (lambda row: row.pattern, "pattern of names", lambda row: repr(row.pattern)),
    "makers": (lambda row: row.name, "maker", lambda row: str(row.name)),
    "layouts": (lambda row: row.id, "layout", lambda row: str(row.id)),
    "checks": (lambda row: row.name, "check", lambda row: str(row.name)),
    "check_files": (lambda row: row, "file of checks", str),
    "grades": (lambda row: (row.code, row.targets), "grade", lambda row: str(row.code)),
}
_SIGHTS: dict[str, tuple[Key, str, _Told]] = {
    "stations": (lambda row: row.name, "station", lambda row: str(row.name)),
    "paths": (lambda row: row.name, "path", lambda row: str(row.name)),
    "zones": (lambda row: row.name, "zone", lambda row: str(row.name)),
    "nearest": (lambda row: row.where, "nearest distance", lambda row: f"where {row.where}"),
    "portraits": (lambda row: row.model, "portrait", lambda row: f"of {row.model or 'the others'}"),
}
PLAIN = {"name": "name", "root": "root", "max_pixels": "most pixels of a picture", "names": "patterns of made names"}


def merge_jobs(base: Job | None, ours: Job, theirs: Job) -> Merged:
    """Return two edits of a job as one.

    Rows of lists are told by what they are about, not by where they stand: a cut by its kind, assets and targets, a rule by its
    role. Their order is that of the one that changed it, with what the other added after what it follows there. Where the cuts of
    both say different things of one asset on one target, although they are different rows, that is a conflict too. Where the edits
    make no job together, as where one goes along a station that the other removed, ours stands.

    Parameters
    ----------
    base : what both began from; None where they have nothing in common
    """
    conflicts: list[str] = []
    found: dict[str, Any] = {"version": max(ours.version, theirs.version)}
    for field, words in PLAIN.items():
        states = (None if base is None else getattr(base, field), getattr(ours, field), getattr(theirs, field))
        found[field] = _one(states, f"the {words}", conflicts)
    for field, (key, kind, told) in LISTS.items():
        rows = [() if job is None else getattr(job, field) for job in (base, ours, theirs)]
        found[field] = tuple(_rows(*rows, key=key, kind=kind, told=told, conflicts=conflicts))
    found["roles"] = _roles(*(() if job is None else job.roles for job in (base, ours, theirs)), conflicts=conflicts)
    names = [{} if job is None else job.map_names for job in (base, ours, theirs)]
    found["map_names"] = _mapping(*names, told=lambda name: f"the names of maps of {name}", conflicts=conflicts)
    try:
        sights = _sightlines(base, ours, theirs, conflicts)
        job = Job(sightlines=sights, **found)
    except ValueError as error:
        return Merged(ours, (*conflicts, f"the edits of both are no job together: {error}"))
    return Merged(job, (*conflicts, *_contradictions(base, ours, theirs, job)))


def _sightlines(base: Job | None, ours: Job, theirs: Job, conflicts: list[str]) -> Sightlines:
    found: dict[str, Any] = {}
    for field, (key, kind, told) in _SIGHTS.items():
        rows = [() if job is None else getattr(job.sightlines, field) for job in (base, ours, theirs)]
        found[field] = tuple(_rows(*rows, key=key, kind=kind, told=told, conflicts=conflicts))
    shares = (
        None if base is None else base.sightlines.percentile,
        *(job.sightlines.percentile for job in (ours, theirs)),
    )
    return Sightlines(percentile=_one(shares, "the percentile of sightlines", conflicts), **found)


_GONE = object()


def _one(states: tuple[Any, ...], told: str, conflicts: list[str]) -> Any:
    """Return what counts of base, ours and theirs: the state that was changed, and ours where both changed it otherwise."""
    was, ours, theirs = states
    if theirs in (ours, was):
        return ours
    if ours == was:
        return theirs
    if _GONE in (ours, theirs):
        conflicts.append(f"{told} was {_deed(ours)} by ours and {_deed(theirs)} by theirs")
    else:
        deed = "added" if was is _GONE or was is None else "changed"
        conflicts.append(f"{told} was {deed} by both, to {_short(ours)} by ours and to {_short(theirs)} by theirs")
    return ours


def _deed(value: Any) -> str:
    return "removed" if value is _GONE else "changed"


def _short(value: Any) -> str:
    if isinstance(value, Cut):
        return f"{value.change.label!r}{'' if value.enabled else ', off'}"
    text = msgspec.json.encode(value).decode()
    return text if len(text) <= 100 else f"{text[:99]}…"


def _rows(
    base: Sequence[Row],
    ours: Sequence[Row],
    theirs: Sequence[Row],
    *,
    key: Key,
    kind: str,
    told: _Told,
    conflicts: list[str],
) -> list[Row]:
    """Return the rows of a list of two edits, each in the place that the one that put or moved it there gave it."""
    states = [_by_key(rows, key) for rows in (base, ours, theirs)]
    counted = {}
    for name in dict.fromkeys((*states[1], *states[2], *states[0])):
        was, mine, other = (state.get(name, _GONE) for state in states)
        row: Any = next(value for value in (mine, other, was) if value is not _GONE)
        counted[name] = _one((was, mine, other), f"the {kind} {told(row)}", conflicts)
    moved = [_is_moved(states[0], states[side]) for side in (1, 2)]
    first, second = (states[2], states[1]) if not moved[0] and moved[1] else (states[1], states[2])
    if all(moved) and [name for name in first if name in second] != [name for name in second if name in first]:
        conflicts.append(f"the order of {kind}s was changed by both")
    order = list(first)
    for place, name in enumerate(second):
        if name not in first:
            before = next((known for known in list(second)[:place][::-1] if known in order), None)
            order.insert(0 if before is None else order.index(before) + 1, name)
    return [counted[name] for name in order if counted[name] is not _GONE]


def _by_key(rows: Sequence[Row], key: Key) -> dict[Hashable, Row]:
    """Return rows by what they are about; one that is there twice has its number beside that."""
    found: dict[Hashable, Row] = {}
    for row in rows:
        times = 0
        while (key(row), times) in found:
            times += 1
        found[key(row), times] = row
    return found


def _is_moved(before: Mapping[Hashable, object], after: Mapping[Hashable, object]) -> bool:
    """Say whether what is in both stands in another order."""
    return [name for name in before if name in after] != [name for name in after if name in before]


def _mapping(
    base: Mapping[str, Any],
    ours: Mapping[str, Any],
    theirs: Mapping[str, Any],
    *,
    told: Callable[[str], str],
    conflicts: list[str],
) -> dict[str, Any]:
    found = {}
    first, second = (theirs, ours) if list(ours.items()) == list(base.items()) else (ours, theirs)
    for name in dict.fromkeys((*first, *second)):
        value = _one(tuple(state.get(name, _GONE) for state in (base, ours, theirs)), told(name), conflicts)
        if value is not _GONE:
            found[name] = value
    return found


def _roles(
    base: Sequence[RoleChoice], ours: Sequence[RoleChoice], theirs: Sequence[RoleChoice], *, conflicts: list[str]
) -> tuple[RoleChoice, ...]:
    """Return the roles that were set by hand, merged texture by texture."""
    states = [{path: row.role for row in rows for path in row.assets} for rows in (base, ours, theirs)]
    merged = _mapping(*states, told=lambda path: f"the role of {path}", conflicts=conflicts)
    found: dict[Role, list[str]] = {}
    for path, role in merged.items():
        found.setdefault(role, []).append(path)
    return tuple(RoleChoice(role, tuple(paths)) for role, paths in found.items())


def _contradictions(base: Job | None, ours: Job, theirs: Job, merged: Job) -> list[str]:
    """Return where the cuts of both say different things of one asset on one target, or would not say together what one wanted."""
    found: dict[tuple[str, str], list[str]] = {}
    before, mine, other, after = ({} if job is None else _said(job) for job in (base, ours, theirs, merged))
    for name in dict.fromkeys((*mine, *other, *before)):
        was, first, second, got = (said.get(name, _SILENT) for said in (before, mine, other, after))
        if second[0] in (first[0], was[0]) or first[0] == was[0]:
            wanted = first[0] if second[0] in (first[0], was[0]) else second[0]
            words = f"{wanted} is wanted, and by the order of the cuts {got[0]} would count" if got[0] != wanted else ""
        elif len({row[1:] for row in (was, first, second) if row is not _SILENT}) > 1:
            words = f"ours says {first[0]}, theirs {second[0]}"
        else:
            # All of it is one row, of which it was said already.
            words = ""
        if words:
            found.setdefault((name[1], words), []).append(name[0])
    return [
        f"{assets[0]}{f' and {len(assets) - 1} more' if assets[1:] else ''} on {target}: {words}"
        for (target, words), assets in found.items()
    ]


_SILENT = ("nothing",)


def _said(job: Job) -> dict[tuple[str, str, type], tuple[Any, ...]]:
    """Return what counts of a job's cuts: for each asset, target and kind of cut the last that is on, and the row that says it."""
    return {
        (asset, target, type(cut.change)): (repr(cut.change.label), cut.assets, cut.targets)
        for cut in job.cuts
        for target in job.targets
        if cut.is_for(target)
        for asset in cut.assets
    }
