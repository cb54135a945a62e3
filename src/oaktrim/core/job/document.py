"""The Job and its file, `.oak`: versioned JSON, checked down to the field, written whole or not at all."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from oaktrim.core.errors import DocumentError, Unsupported
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.files.pictures import MAX_PIXELS
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, RolePattern
from oaktrim.core.survey.scan import DEFAULT_IGNORE, ScanSettings
from oaktrim.core.targets.target import Target, shipped_targets, target_named

SUFFIX = ".oak"
VERSION = 1


class Job(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is to be done to a folder of art.

    Parameters
    ----------
    version : of the schema
    name : for people
    root : the folder of sources, relative to the job's file
    targets : ids of the targets, in the order in which they are watched
    cuts : in order
    ignore : patterns of paths that are left out, as in a .gitignore file
    role_patterns : of names; the first that fits says the role
    max_pixels : pictures that claim more are not decoded
    """

    version: int
    name: str
    root: str
    targets: tuple[str, ...]
    cuts: tuple[Cut, ...] = ()
    ignore: tuple[str, ...] = DEFAULT_IGNORE
    role_patterns: tuple[RolePattern, ...] = DEFAULT_PATTERNS
    max_pixels: int = MAX_PIXELS

    def __post_init__(self) -> None:
        for name in self.targets:
            try:
                target_named(name)
            except Unsupported as error:
                raise ValueError(str(error)) from error

    @property
    def scan_settings(self) -> ScanSettings:
        return ScanSettings(self.ignore, self.role_patterns, self.max_pixels)

    def with_cut(self, cut: Cut) -> Job:
        """Return the job with a cut more; one that the new cut makes pointless gives up its place to it."""
        place = next((i for i, old in enumerate(self.cuts) if cut.supersedes(old)), None)
        if place is None:
            return msgspec.structs.replace(self, cuts=(*self.cuts, cut))
        kept = self.cuts[:place] + self.cuts[place + 1 :]
        return msgspec.structs.replace(self, cuts=(*kept, cut))

    def without_change(self, kind: type, paths: set[str], target: str | None) -> Job:
        """Return the job without one kind of cut on some textures, for one target or, when it is None, for all.

        A cut that is on other textures or for other targets too is narrowed to those.
        """
        cuts: list[Cut] = []
        for cut in self.cuts:
            if type(cut.change) is not kind or (target is not None and not cut.is_for(target)):
                cuts.append(cut)
                continue
            others = tuple(path for path in cut.assets if path not in paths)
            if len(others) == len(cut.assets):
                cuts.append(cut)
                continue
            if target is not None:
                elsewhere = tuple(t for t in (cut.targets or self.targets) if t != target)
                touched = tuple(path for path in cut.assets if path in paths)
                if elsewhere:
                    cuts.append(msgspec.structs.replace(cut, assets=touched, targets=elsewhere))
            if others:
                cuts.append(msgspec.structs.replace(cut, assets=others))
        return msgspec.structs.replace(self, cuts=tuple(cuts))

    def without_cut(self, place: int) -> Job:
        """Return the job without one of its cuts."""
        return msgspec.structs.replace(self, cuts=self.cuts[:place] + self.cuts[place + 1 :])


def new_job(root: Path) -> Job:
    """Return a job on a folder, for all targets that ship with the product, with nothing cut."""
    absolute = Path(os.path.abspath(root))
    return Job(VERSION, absolute.name or str(absolute), str(absolute), tuple(shipped_targets()))


def targets_of(job: Job) -> tuple[Target, ...]:
    """Return a job's targets, in its order."""
    return tuple(target_named(name) for name in job.targets)


def root_of(job: Job, file: Path | None) -> Path:
    """Return the absolute root of a job that was read from `file`."""
    base = Path(os.path.abspath(file)).parent if file is not None else Path.cwd()
    return Path(os.path.normpath(base / job.root))


def load_job(path: Path) -> Job:
    """Read a job.

    Raises
    ------
    DocumentError : not readable, not valid, or made by a newer version; names the file and the field
    """
    try:
        data = path.read_bytes()
        raw = msgspec.json.decode(data)
        version = raw.get("version") if isinstance(raw, dict) else None
        if isinstance(version, int) and version > VERSION:
            raise DocumentError(path, f"is of version {version}, made by a newer Oak Trim; this one reads {VERSION}")
        return msgspec.json.decode(data, type=Job)
    except OSError as error:
        raise DocumentError(path, f"cannot be read: {(error.strerror or 'unknown fault').lower()}") from error
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise DocumentError(path, f"is not a valid job: {error}") from error


def save_job(job: Job, path: Path, root: Path) -> Job:
    """Write a job and return it as written, its root relative to the file.

    Raises
    ------
    FileError : it cannot be written; what stood there before still stands
    """
    relative = os.path.relpath(root, os.path.abspath(path.parent))
    written = msgspec.structs.replace(job, root=relative)
    write_atomic(path, msgspec.json.format(msgspec.json.encode(written), indent=2) + b"\n")
    return written
