"""Walking a tree and reading what each texture is and holds, on all cores, keeping what is already known."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pathspec

from oaktrim.core.errors import FileError, OakTrimError, Unsupported, os_fault, shown
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.pictures import MAX_PIXELS, SUFFIXES, decode_picture, picture_facts
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.statistics import PixelFacts, pixel_facts
from oaktrim.core.progress import Progress, Task, spread
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory, TextureFacts, Unreadable, natural_format
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, RolePattern, role_guesser
from oaktrim.core.survey.sample import PACKINGS, packed_share, sample_of

DEFAULT_IGNORE = (".*", "__pycache__/")


@dataclass(frozen=True)
class ScanSettings:
    """What a scan looks at.

    Parameters
    ----------
    ignore : patterns of paths to leave out, as in a .gitignore file
    patterns : of names, for roles
    max_pixels : pictures that claim more are not decoded
    """

    ignore: tuple[str, ...] = DEFAULT_IGNORE
    patterns: tuple[RolePattern, ...] = DEFAULT_PATTERNS
    max_pixels: int = MAX_PIXELS


@dataclass(frozen=True)
class _Seen:
    """A file met on the walk; size and time are -1 where it could not be asked."""

    path: str
    place: str
    file_bytes: int
    file_time: int

    @property
    def file(self) -> Path:
        return Path(self.place)


def _is_texture(path: str) -> bool:
    return path[path.rfind(".") :].lower() in SUFFIXES


def _walk(root: Path, ignore: pathspec.GitIgnoreSpec, unreadable: list[Unreadable]) -> Iterator[_Seen]:
    """Yield the files below the root in the order of their names; links to folders are not followed."""
    pending = [(str(root), "")]
    while pending:
        folder, prefix = pending.pop()
        try:
            with os.scandir(folder) as entries:
                rows = sorted(entries, key=lambda entry: os.fsencode(entry.name))
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
                    if not ignore.match_file(path + "/"):
                        folders.append((entry.path, path + "/"))
                elif not ignore.match_file(path):
                    if entry.is_symlink() and Path(entry.path).is_dir():
                        continue
                    facts = entry.stat()
                    yield _Seen(path, entry.path, facts.st_size, facts.st_mtime_ns)
            except OSError as error:
                if _is_texture(path):
                    unreadable.append(Unreadable(path, os_fault(error)))
        pending.extend(reversed(folders))


def _read(seen: _Seen, max_pixels: int) -> tuple[TextureFacts, Image | None]:
    """Return the facts of one file and the sample of its pixels, where they can be decoded."""
    if not seen.file.is_file():
        raise FileError(seen.file, "vanished during the survey" if not seen.file.exists() else "is not a regular file")
    data = read_bytes(seen.file)
    head = picture_facts(data, seen.file, max_pixels)
    content = hashlib.blake2b(data, digest_size=16).hexdigest()
    found: PixelFacts | None = None
    sample, opaque = None, False
    try:
        image = decode_picture(data, seen.file, max_pixels)
    except FileError as error:
        if not isinstance(error.__cause__, Unsupported):
            raise
    else:
        found = pixel_facts(image)
        opaque = image.has_alpha and found.low[-1] >= (1.0 if image.is_float else 2**image.bit_depth - 1)
        sample = sample_of(image)
    natural = head.format or natural_format(head.channels, head.bit_depth, head.floating)
    packed = {} if sample is None else {m: packed_share(sample, natural, p) for m, p in PACKINGS.items()}
    facts = TextureFacts(
        path=seen.path,
        file_bytes=seen.file_bytes,
        file_time=seen.file_time,
        content=content,
        kind=head.kind,
        width=head.width,
        height=head.height,
        channels=head.channels,
        bit_depth=head.bit_depth,
        floating=head.floating,
        levels=head.levels,
        format=head.format,
        profile=head.profile,
        pixels=found.digest if found else "",
        grey=found.grey if found else False,
        opaque=opaque,
        constant=found.constant if found else False,
        packed=packed,
    )
    return facts, sample


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
    known = {} if cache is None else cache.facts(root)
    unreadable: list[Unreadable] = []
    ignore = pathspec.GitIgnoreSpec.from_lines(settings.ignore)
    found: dict[str, TextureFacts] = {}
    fresh: list[_Seen] = []
    files = 0
    yield Progress(0, 0, "looking for files")
    for seen in _walk(root, ignore, unreadable):
        files += 1
        if not _is_texture(seen.path):
            continue
        facts = known.get(seen.path)
        if facts and (facts.file_bytes, facts.file_time) == (seen.file_bytes, seen.file_time):
            found[seen.path] = facts
        else:
            fresh.append(seen)

    def work(seen: _Seen) -> tuple[TextureFacts, Image | None] | Unreadable:
        try:
            return _read(seen, settings.max_pixels)
        except FileError as error:
            return Unreadable(seen.path, error.fault)
        except OakTrimError as error:
            return Unreadable(seen.path, str(error))
        except MemoryError:
            return Unreadable(seen.path, "does not fit in memory")

    new: list[TextureFacts] = []
    samples: dict[str, Image] = {}
    try:
        for done, (position, result) in enumerate(spread(work, fresh, threads), 1):
            if isinstance(result, Unreadable):
                unreadable.append(result)
            else:
                facts, sample = result
                found[facts.path] = facts
                new.append(facts)
                if sample is not None:
                    samples[facts.content] = sample
            yield Progress(done, len(fresh), fresh[position].path)
    finally:
        # A survey that is stopped keeps what it has read, so that the next one goes on from there.
        if cache is not None and new:
            cache.keep(root, new, samples)
    textures = tuple(found[path] for path in sorted(found))
    guess = role_guesser(settings.patterns)
    roles = tuple(guess(texture.path) for texture in textures)
    return Inventory(root, textures, roles, tuple(sorted(unreadable, key=lambda u: u.path)), files)
