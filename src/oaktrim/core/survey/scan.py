"""Walking a tree and reading what each file is and holds, on all cores, keeping what is already known."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Generator, Iterator
from dataclasses import dataclass
from pathlib import Path

from oaktrim.core.errors import FileError
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import content_hash, read_bytes
from oaktrim.core.progress import Progress, Task, map_unordered
from oaktrim.core.survey.cache import PackedSample, SurveyCache, TreeSeen
from oaktrim.core.survey.facts import FileFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.ownership import link
from oaktrim.core.survey.read import is_read, reads_alone
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, RoleChoice, RolePattern
from oaktrim.core.survey.walk import DEFAULT_IGNORE, Seen, Unreadable, walk
from oaktrim.core.survey.worker import ReadResult, Workers, tell

# A tree of fewer files is walked before anybody has looked at it.
_WORTH_REMEMBERING = 5000
# Processes take a second or two to start: what is worth that, in files or in their bytes.
_APART_FROM, _APART_FROM_BYTES = 1000, 1 << 28
_BATCH, _BATCH_BYTES = 16, 1 << 22
# Samples are kept in between, so that a long survey neither fills memory nor loses much when it is stopped.
_KEEP_EVERY = 256


@dataclass(frozen=True)
class ScanSettings:
    """What a scan looks at.

    Parameters
    ----------
    ignore : patterns of paths to leave out, as in a .gitignore file
    patterns : of names, for roles; chosen : roles set by hand
    max_pixels : pictures that claim more are not decoded
    """

    ignore: tuple[str, ...] = DEFAULT_IGNORE
    patterns: tuple[RolePattern, ...] = DEFAULT_PATTERNS
    chosen: tuple[RoleChoice, ...] = ()
    max_pixels: int = MAX_PIXELS

    @property
    def _met_by(self) -> str:
        """What decides which files are met and which of them can be read, as text."""
        return f"{self.max_pixels} {self.ignore!r}"


def _same(kept: FileFacts | None, seen: Seen, stamps: dict[str, tuple[int, int]]) -> bool:
    """Say whether a file, and those that it was read with, are as the cache knows them."""
    if kept is None or (kept.file_bytes, kept.file_time) != seen.stamp:
        return False
    return kept.model is None or all(stamps.get(path) == (size, time) for path, size, time in kept.model.files)


def _known(known: dict[str, FileFacts], all_seen: list[Seen]) -> tuple[dict[str, FileFacts], list[Seen]]:
    """Return the facts of the files that are as they were, by path, and those that have to be read."""
    stamps = {seen.path: seen.stamp for seen in all_seen}
    found: dict[str, FileFacts] = {}
    fresh: list[Seen] = []
    for seen in all_seen:
        if is_read(seen.path):
            kept = known.get(seen.path)
            if kept is not None and _same(kept, seen, stamps):
                found[seen.path] = kept
            else:
                fresh.append(seen)
    return found, fresh


@dataclass(frozen=True)
class _Fresh:
    """What is known of files that are new or have changed, from their bytes alone.

    Parameters
    ----------
    same : facts by path of those that hold what another file is known to hold
    due : those that have to be read; copies : by the path of one of these, those that hold the same
    """

    same: dict[str, FileFacts]
    due: list[Seen]
    copies: dict[str, list[Seen]]


def _kind(path: str, file_bytes: int) -> tuple[str, int]:
    return path[path.rfind(".") :].lower(), file_bytes


def _compare_contents(known: dict[str, FileFacts], changed: list[Seen], threads: int | None) -> Task[_Fresh]:
    """Tell pictures and sounds by their bytes: those of a fresh checkout, and those that were renamed or copied."""
    held = {(_kind(row.path, row.file_bytes), row.content): row for row in known.values() if row.content}
    sizes = Counter(_kind(seen.path, seen.file_bytes) for seen in changed) + Counter(kind for kind, _ in held)
    asked = [seen for seen in changed if reads_alone(seen.path) and sizes[_kind(seen.path, seen.file_bytes)] > 1]

    def work(seen: Seen) -> str:
        try:
            return content_hash(read_bytes(seen.file))
        except FileError:
            return ""

    contents: dict[str, str] = {}
    for done, (position, content) in enumerate(map_unordered(work, asked, threads), 1):
        contents[asked[position].path] = content
        yield Progress(done, len(asked), asked[position].path)
    found, first = _Fresh({}, [], {}), dict[tuple[tuple[str, int], str], str]()
    for seen in changed:
        key = _kind(seen.path, seen.file_bytes), contents.get(seen.path, "")
        if key in held:
            found.same[seen.path] = held[key].at(seen.path, seen.file_time)
        elif key[1] and key in first:
            found.copies.setdefault(first[key], []).append(seen)
        else:
            first[key] = seen.path
            found.due.append(seen)
    return found


def scan(
    root: Path, settings: ScanSettings = ScanSettings(), cache: SurveyCache | None = None, threads: int | None = None
) -> Task[Inventory]:
    """Survey a tree.

    Files whose size and time are as the cache knows them are not read again. Pictures and sounds that hold what is known, as
    after a fresh checkout, or what another one holds, are told by their bytes. A file that cannot be read is listed with its
    error, and the survey goes on.

    Raises
    ------
    FileError : the root itself cannot be read
    """
    root = Path(os.path.abspath(root))
    unreadable: list[Unreadable] = []
    yield Progress(0, 0, "looking for files")
    all_seen = list(walk(root, settings.ignore, unreadable, is_read))
    known = {} if cache is None else cache.facts(root)
    found, changed = _known(known, all_seen)
    compared = yield from _compare_contents(known, changed, threads)
    fresh, new = compared.due, list(compared.same.values())
    found |= compared.same
    samples: dict[str, PackedSample] = {}

    def keep() -> None:
        if cache is not None and new:
            cache.keep(root, new, samples)
        new.clear()
        samples.clear()

    try:
        reading, done = _read(fresh, root, settings.max_pixels, cache is not None, threads), 0
        for batch, answers in reading:
            for seen, told in zip(batch, answers, strict=True):
                alike = (seen, *compared.copies.get(seen.path, ()))
                if told.facts is None:
                    unreadable += [Unreadable(one.path, told.fault) for one in alike]
                else:
                    rows = [told.facts, *(told.facts.at(one.path, one.file_time) for one in alike[1:])]
                    found |= {row.path: row for row in rows}
                    new += rows
                    samples.update(told.samples)
            if len(new) >= _KEEP_EVERY:
                keep()
            done += len(batch)
            yield Progress(done, len(fresh), batch[-1].path)
    finally:
        # A survey that is stopped keeps what it has read, so that the next one goes on from there.
        reading.close()
        keep()
        if cache is not None and fresh:
            cache.trim()
    paths = [seen.path for seen in all_seen]
    if cache is not None and len(paths) >= _WORTH_REMEMBERING:
        cache.keep_tree(root, TreeSeen(settings._met_by, paths, [(row.path, row.error) for row in unreadable]))
    return _gather(root, settings, [found[path] for path in sorted(found)], paths, unreadable)


def _read(
    fresh: list[Seen], root: Path, max_pixels: int, sampled: bool, threads: int | None
) -> Generator[tuple[list[Seen], list[ReadResult]]]:
    """Yield files in small batches and what reading them gave: in processes, or on threads where those take longer to start."""
    if len(fresh) < _APART_FROM and sum(seen.file_bytes for seen in fresh) < _APART_FROM_BYTES:
        for position, row in map_unordered(lambda seen: tell(seen, root, max_pixels, sampled), fresh, threads):
            yield [fresh[position]], [row]
        return
    workers, batches = Workers(root, max_pixels, sampled), list(_batches(fresh))
    try:
        for position, answers in map_unordered(workers.read, batches, threads):
            yield batches[position], answers
    finally:
        workers.close()


def _batches(fresh: list[Seen]) -> Iterator[list[Seen]]:
    """Yield files in batches that are worth a message and soon done."""
    batch: list[Seen] = []
    weight = 0
    for seen in fresh:
        batch.append(seen)
        weight += seen.file_bytes
        if len(batch) == _BATCH or weight >= _BATCH_BYTES:
            yield batch
            batch, weight = [], 0
    if batch:
        yield batch


def remembered(root: Path, settings: ScanSettings, cache: SurveyCache) -> Inventory | None:
    """Return a large tree as it was when it was last surveyed, without a look at the disk; None where that is not known."""
    root = Path(os.path.abspath(root))
    seen = cache.tree(root)
    if seen is None or seen.settings != settings._met_by:
        return None
    known, faulty = cache.facts(root), {path for path, _ in seen.unreadable}
    found = [known[path] for path in sorted(seen.paths) if path in known and path not in faulty]
    return _gather(root, settings, found, seen.paths, [Unreadable(*row) for row in seen.unreadable])


def as_surveyed(root: Path, settings: ScanSettings, cache: SurveyCache) -> bool:
    """Say whether a tree that is remembered is on disk as it was: no file more or less, none changed, the same ones broken."""
    root = Path(os.path.abspath(root))
    seen = cache.tree(root)
    if seen is None or seen.settings != settings._met_by:
        return False
    unreadable: list[Unreadable] = []
    all_seen = list(walk(root, settings.ignore, unreadable, is_read))
    if [row.path for row in all_seen] != seen.paths:
        return False
    faults = [(row.path, row.error) for row in unreadable]
    for row in _known(cache.facts(root), all_seen)[1]:
        told = tell(row, root, settings.max_pixels, False)
        if told.facts is not None:
            return False
        faults.append((row.path, told.fault))
    return sorted(faults) == sorted(seen.unreadable)


def _gather(
    root: Path, settings: ScanSettings, found: list[FileFacts], paths: list[str], unreadable: list[Unreadable]
) -> Inventory:
    textures = tuple(texture for row in found for texture in row.textures)
    unreadable += [Unreadable(path, error) for row in found for path, error in row.errors]
    models = [row.model for row in found if row.model is not None]
    rows = {texture.path: row for row, texture in enumerate(textures)}
    ownership = link(root, models, rows, {path.lower(): path for path in paths} if models else {})
    inventory = Inventory(
        root=root,
        textures=textures,
        roles=(),
        unreadable=tuple(sorted(unreadable, key=lambda row: row.path)),
        files=len(paths),
        audio=tuple(row.audio for row in found if row.audio is not None),
        ownership=ownership,
    )
    return inventory.with_roles(settings.patterns, settings.chosen)
