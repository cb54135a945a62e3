"""Walking a tree and reading what each file is and holds, on all cores, keeping what is already known."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass
from operator import attrgetter
from pathlib import Path

import pathspec

from oaktrim.core.errors import FileError, os_fault, shown
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.progress import Progress, Task, map_unordered
from oaktrim.core.survey.cache import PackedSample, SurveyCache, TreeSeen
from oaktrim.core.survey.facts import FileFacts
from oaktrim.core.survey.inventory import Inventory, Unreadable
from oaktrim.core.survey.ownership import link
from oaktrim.core.survey.read import Seen, reader_for
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, RoleChoice, RolePattern
from oaktrim.core.survey.worker import ReadResult, Workers, tell

DEFAULT_IGNORE = (".*", "__pycache__/")
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


def fault_of_ignore(pattern: str) -> str:
    """Say what is wrong with a pattern of paths to leave out; empty where nothing is."""
    try:
        pathspec.GitIgnoreSpec.from_lines([pattern])
    except (ValueError, re.error):
        return f"{pattern!r} is not a pattern as in a .gitignore file"
    return ""


def _ignored(patterns: tuple[str, ...]) -> Callable[[str], bool]:
    """Return what says whether a path is left out; most fit no pattern at all, and one expression tells that quickly."""
    spec = pathspec.GitIgnoreSpec.from_lines(patterns)
    parts = [
        pattern.regex.pattern.replace("(?P<ps_d>", "(?:") for pattern in spec.patterns if pattern.regex is not None
    ]
    near = re.compile("|".join(parts) or "(?!)").match
    return lambda path: near(path) is not None and spec.match_file(path)


def walk(root: Path, ignore: tuple[str, ...], unreadable: list[Unreadable]) -> Iterator[Seen]:
    """Yield the files below the root in the order of their names; links to folders are not followed.

    Raises
    ------
    FileError : the root itself cannot be read
    """
    ignored = _ignored(ignore)
    pending = [(str(root), "")]
    while pending:
        folder, prefix = pending.pop()
        try:
            with os.scandir(folder) as entries:
                rows = sorted(entries, key=attrgetter("name"))
        except OSError as error:
            if not prefix:
                raise FileError(root, f"cannot be read: {os_fault(error)}") from error
            unreadable.append(Unreadable(prefix.rstrip("/"), f"the folder cannot be read: {os_fault(error)}"))
            continue
        folders = []
        for entry in rows:
            path = prefix + shown(entry.name)
            try:
                if entry.is_dir(follow_symlinks=False):
                    if not ignored(path + "/"):
                        folders.append((entry.path, path + "/"))
                elif not ignored(path):
                    if entry.is_symlink() and Path(entry.path).is_dir():
                        continue
                    facts = entry.stat()
                    yield Seen(path, entry.path, facts.st_size, facts.st_mtime_ns)
            except OSError as error:
                if reader_for(path) is not None:
                    unreadable.append(Unreadable(path, os_fault(error)))
        pending.extend(reversed(folders))


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
        if reader_for(seen.path) is not None:
            kept = known.get(seen.path)
            if kept is not None and _same(kept, seen, stamps):
                found[seen.path] = kept
            else:
                fresh.append(seen)
    return found, fresh


def scan(
    root: Path, settings: ScanSettings = ScanSettings(), cache: SurveyCache | None = None, threads: int | None = None
) -> Task[Inventory]:
    """Survey a tree.

    Files whose size and time are as the cache knows them are not read again. A file that cannot be read is listed
    with its error, and the survey goes on.

    Raises
    ------
    FileError : the root itself cannot be read
    """
    root = Path(os.path.abspath(root))
    unreadable: list[Unreadable] = []
    yield Progress(0, 0, "looking for files")
    all_seen = list(walk(root, settings.ignore, unreadable))
    found, fresh = _known({} if cache is None else cache.facts(root), all_seen)
    new: list[FileFacts] = []
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
                if told.facts is None:
                    unreadable.append(Unreadable(seen.path, told.fault))
                else:
                    found[seen.path] = told.facts
                    new.append(told.facts)
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
    all_seen = list(walk(root, settings.ignore, unreadable))
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
