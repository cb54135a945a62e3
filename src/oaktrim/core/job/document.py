"""The Job and its file, `.oak`: versioned JSON, checked down to the field, written whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TypeVar

import msgspec

from oaktrim.core.errors import DocumentError, FileError, Unsupported
from oaktrim.core.fields import MAX_PIXELS, FilePath, Name, Pixels, Text, Version, fault_in_words
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.job.makers import JobMaker, NamePatterns
from oaktrim.core.makers.build import BuildSpec
from oaktrim.core.makers.layouts import LAYOUTS, Layout, layout_named
from oaktrim.core.makers.registry import Maker, MakerContext
from oaktrim.core.plan.checks import Check, Checks, Grade, read_checks
from oaktrim.core.plan.cuts import Cap, Change, Cut, Drop
from oaktrim.core.plan.formatrules import FormatRule, Rules
from oaktrim.core.plan.lookalikes import LookAlikes, pattern_for
from oaktrim.core.plan.rolerules import RoleRule
from oaktrim.core.plan.soundrules import SoundRule, SoundRules
from oaktrim.core.settings import Settings
from oaktrim.core.sight.sightlines import Sightlines
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, Role, RoleChoice, RolePattern
from oaktrim.core.survey.scan import ScanSettings
from oaktrim.core.survey.soundroles import SoundPattern, SoundRole
from oaktrim.core.survey.walk import DEFAULT_IGNORE, fault_of_ignore
from oaktrim.core.targets.target import Target, shipped_targets, target_named

Named = TypeVar("Named", bound=Maker)
SUFFIX = ".oak"
VERSION = 1


class Suppression(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A finding that does not count here: its code, the path that it is about, and why."""

    code: Name
    path: FilePath
    reason: Text


class Job(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is to be done to a folder of art.

    Parameters
    ----------
    version : of the schema
    name : for people
    root : the folder of sources, relative to the job's file
    targets : ids of the targets, in the order in which they are watched
    own_targets : targets of this job alone; one with the id of a shipped target stands in its place
    cuts, role_rules, format_rules, sound_rules : in order
    roles : set by hand
    suppressed : findings that do not count
    ignore : patterns of paths that are left out, as in a .gitignore file
    role_patterns, sound_patterns : of names; the first that fits says the role
    max_pixels : pictures that claim more are not decoded
    makers : in the order in which they work
    layouts : of packs, beside those of the product
    names : patterns that the names of what is made follow
    sightlines : from where things are seen
    checks : of a studio's own; check_files : that jobs share, told from the root; grades : of built-in findings
    map_names : how names tell the maps of a batch of packs, by layout and slot
    """

    version: Version
    name: Name
    root: FilePath
    targets: tuple[Name, ...]
    own_targets: tuple[Target, ...] = ()
    cuts: tuple[Cut, ...] = ()
    role_rules: tuple[RoleRule, ...] = ()
    format_rules: tuple[FormatRule, ...] = ()
    sound_rules: tuple[SoundRule, ...] = ()
    sound_patterns: tuple[SoundPattern, ...] = ()
    roles: tuple[RoleChoice, ...] = ()
    suppressed: tuple[Suppression, ...] = ()
    ignore: tuple[Text, ...] = DEFAULT_IGNORE
    role_patterns: tuple[RolePattern, ...] = DEFAULT_PATTERNS
    max_pixels: Pixels = MAX_PIXELS
    makers: tuple[JobMaker, ...] = ()
    layouts: tuple[Layout, ...] = ()
    names: NamePatterns = NamePatterns()
    checks: tuple[Check, ...] = ()
    check_files: tuple[FilePath, ...] = ()
    grades: tuple[Grade, ...] = ()
    map_names: dict[Name, dict[Name, Name]] = {}
    sightlines: Sightlines = Sightlines()

    def __post_init__(self) -> None:
        if not self.targets:
            raise ValueError("a job has at least one target")
        for name in self.targets:
            try:
                self.target(name)
            except Unsupported as error:
                raise ValueError(str(error)) from error
        names = [check.name for check in self.checks]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice:
            raise ValueError(f"two checks are called {twice!r}")
        for place, pattern in enumerate(self.ignore):
            fault = fault_of_ignore(pattern)
            if fault:
                raise ValueError(f"ignore[{place}]: {fault}")

    @property
    def build_spec(self) -> BuildSpec:
        """What makers are to make."""
        return BuildSpec(self.makers, self.layouts, self.role_patterns, self.roles)

    @property
    def maker_context(self) -> MakerContext:
        """What makers are looked at with, where no textures are at hand."""
        return MakerContext(Path(self.root), self.makers, self.layouts)

    def layout(self, name: str) -> Layout:
        """Return a layout by its id, the job's own first.

        Raises
        ------
        Unsupported : there is none of that id
        """
        return layout_named(name, self.layouts)

    def with_layout(self, layout: Layout) -> Job:
        """Return the job with a layout of its own, in the place of one of the same id."""
        kept = [row for row in self.layouts if row.id != layout.id]
        own = tuple(kept) if layout in LAYOUTS else (*kept, layout)
        return msgspec.structs.replace(self, layouts=own)

    def named(self, maker: Named) -> Named:
        """Return a maker under the name that the patterns give it."""
        return msgspec.structs.replace(maker, name=self.names.name(maker, self.maker_context))  # type: ignore[type-var]

    def with_maker(self, maker: Maker, instead: str = "") -> Job:
        """Return the job with a maker, in the place of the one that is called `instead`, or of one of its own name.

        What is said of the old one's texture, cuts and roles, goes on to the new one's.
        """
        old = instead or maker.name
        rows = tuple(maker if row.name == old else row for row in self.makers)
        rows = rows if maker in rows else (*rows, maker)
        return msgspec.structs.replace(self._with_renamed(old, maker.name), makers=rows)

    def without_maker(self, name: str) -> Job:
        """Return the job without a maker; its texture's cuts and roles go with it."""
        gone = {name}
        cuts = []
        for cut in self.cuts:
            left = tuple(path for path in cut.assets if path not in gone)
            if left:
                cuts.append(cut if len(left) == len(cut.assets) else msgspec.structs.replace(cut, assets=left))
        kept = tuple(row for row in self.makers if row.name != name)
        return msgspec.structs.replace(self, makers=kept, cuts=tuple(cuts)).with_role(None, (name,))

    def with_names(self, patterns: NamePatterns) -> Job:
        """Return the job with other patterns, and all that is made under the names they give."""
        job = msgspec.structs.replace(self, names=patterns)
        for maker in self.makers:
            job = job.with_maker(job.named(maker), maker.name)
        return job

    def _with_renamed(self, old: str, new: str) -> Job:
        if old == new:
            return self

        def renamed(paths: tuple[str, ...]) -> tuple[str, ...]:
            return tuple(new if path == old else path for path in paths) if old in paths else paths

        cuts = tuple(msgspec.structs.replace(cut, assets=renamed(cut.assets)) for cut in self.cuts)
        roles = tuple(RoleChoice(row.role, renamed(row.assets)) for row in self.roles)
        return msgspec.structs.replace(self, cuts=cuts, roles=roles)

    def target(self, name: str) -> Target:
        """Return a target by its id, the job's own first.

        Raises
        ------
        Unsupported : there is none of that id
        """
        return next((target for target in self.own_targets if target.id == name), None) or target_named(name)

    @property
    def scan_settings(self) -> ScanSettings:
        return ScanSettings(self.ignore, self.role_patterns, self.roles, self.max_pixels)

    @property
    def suppressions(self) -> frozenset[tuple[str, str]]:
        """Code and path of the findings that do not count."""
        return frozenset((row.code, row.path) for row in self.suppressed)

    def with_role(self, role: Role | None, paths: tuple[str, ...]) -> Job:
        """Return the job with a role set by hand on some textures, or, when it is None, left to be told again."""
        gone = set(paths)
        left = (RoleChoice(row.role, tuple(p for p in row.assets if p not in gone)) for row in self.roles)
        kept = {row.role: row.assets for row in left if row.assets}
        if role is not None:
            kept[role] = (*kept.get(role, ()), *paths)
        return msgspec.structs.replace(self, roles=tuple(RoleChoice(*row) for row in kept.items()))

    def with_role_pattern(self, pattern: str, role: Role) -> Job:
        """Return the job in which names, or paths, that fit a pattern say a role, where no pattern before it fits."""
        kept = tuple(row for row in self.role_patterns if row.pattern != pattern)
        return msgspec.structs.replace(self, role_patterns=(*kept, RolePattern(pattern, role)))

    def with_answer(self, group: LookAlikes, role: Role, inventory: Inventory) -> tuple[Job, str]:
        """Return the job in which a group of look-alikes has a role, and the pattern that keeps it, empty where paths do."""
        pattern = pattern_for(inventory, group)
        return (self.with_role_pattern(pattern, role), pattern) if pattern else (self.with_role(role, group.paths), "")

    def with_check_file(self, name: str) -> Job:
        """Return the job that shares one more file of checks, told from its root."""
        return msgspec.structs.replace(self, check_files=(*self.check_files, name))

    def with_rule(self, rule: RoleRule) -> Job:
        """Return the job with a role rule, in the place of the one for that role and those targets."""
        kept = [row for row in self.role_rules if (row.role, row.targets) != (rule.role, rule.targets)]
        return msgspec.structs.replace(self, role_rules=(*kept, rule))

    def without_rule(self, role: Role, targets: tuple[str, ...]) -> Job:
        """Return the job without the role rule for a role and those targets."""
        kept = tuple(row for row in self.role_rules if (row.role, row.targets) != (role, targets))
        return msgspec.structs.replace(self, role_rules=kept)

    @property
    def rules(self) -> Rules:
        """All its rules."""
        return Rules(self.role_rules, self.format_rules, SoundRules(self.sound_rules, self.sound_patterns))

    def with_format_rule(self, rule: FormatRule) -> Job:
        """Return the job with a format rule, in the place of the one for the same."""
        kept = [row for row in self.format_rules if row.key != rule.key]
        return msgspec.structs.replace(self, format_rules=(*kept, rule))

    def without_format_rule(self, role: Role, pixels: PixelKind, targets: tuple[str, ...]) -> Job:
        """Return the job without the format rules for a role, some pixels and those targets."""
        gone = (role, pixels, targets)
        kept = tuple(row for row in self.format_rules if (row.role, row.pixels, row.targets) != gone)
        return msgspec.structs.replace(self, format_rules=kept)

    def with_sound_rule(self, rule: SoundRule) -> Job:
        """Return the job with a rule of sounds, in the place of the one for that role and those targets."""
        kept = [row for row in self.sound_rules if (row.role, row.targets) != (rule.role, rule.targets)]
        return msgspec.structs.replace(self, sound_rules=(*kept, rule))

    def without_sound_rule(self, role: SoundRole, targets: tuple[str, ...]) -> Job:
        """Return the job without the rule for sounds of a role and those targets."""
        kept = tuple(row for row in self.sound_rules if (row.role, row.targets) != (role, targets))
        return msgspec.structs.replace(self, sound_rules=kept)

    def with_sound_pattern(self, pattern: str, role: SoundRole) -> Job:
        """Return the job in which sounds whose path fits a pattern have a role, where no pattern before it fits."""
        kept = tuple(row for row in self.sound_patterns if row.pattern != pattern)
        return msgspec.structs.replace(self, sound_patterns=(*kept, SoundPattern(pattern, role)))

    def with_rules(self, rules: Rules) -> Job:
        """Return the job with more rules, each in the place of the one for the same."""
        job = self
        for size in rules.sizes:
            job = job.with_rule(size)
        for encoded in rules.formats:
            job = job.with_format_rule(encoded)
        for sound in rules.sounds.rules:
            job = job.with_sound_rule(sound)
        return job

    def with_check(self, check: Check, instead: str = "") -> Job:
        """Return the job with a check, in the place of the one that is called `instead`, or of one of its own name."""
        old = instead or check.name
        rows = [check if row.name == old else row for row in self.checks if row.name == old or row.name != check.name]
        return msgspec.structs.replace(self, checks=tuple(rows if check in rows else [*rows, check]))

    def without_check(self, name: str) -> Job:
        """Return the job without one of its checks."""
        return msgspec.structs.replace(self, checks=tuple(row for row in self.checks if row.name != name))

    def with_grade(self, code: str, grade: Grade | None, targets: tuple[str, ...] = ()) -> Job:
        """Return the job in which a built-in finding counts as a grade says, or, when that is None, as it ships."""
        kept = [row for row in self.grades if (row.code, row.targets) != (code, targets)]
        return msgspec.structs.replace(self, grades=(*kept, *([] if grade is None else [grade])))

    def with_suppression(self, code: str, paths: Sequence[str], reason: str) -> Job:
        """Return the job with a finding suppressed on some files."""
        rows = {(row.code, row.path): row for row in self.suppressed}
        rows.update({(code, path): Suppression(code, path, reason) for path in paths})
        return msgspec.structs.replace(self, suppressed=tuple(rows.values()))

    def without_suppression(self, code: str, path: str) -> Job:
        """Return the job with a suppressed finding counting again."""
        kept = tuple(row for row in self.suppressed if (row.code, row.path) != (code, path))
        return msgspec.structs.replace(self, suppressed=kept)

    def with_target(self, target: Target) -> Job:
        """Return the job with a target of its own, watched, in the place of one of the same id."""
        kept = [row for row in self.own_targets if row.id != target.id]
        own = tuple(kept) if shipped_targets().get(target.id) == target else (*kept, target)
        watched = self.targets if target.id in self.targets else (*self.targets, target.id)
        return msgspec.structs.replace(self, own_targets=own, targets=watched)

    def without_target(self, name: str) -> Job:
        """Return the job without one of its targets; what only that one was cut by goes with it."""
        watched = tuple(row for row in self.targets if row != name)
        cuts = (
            msgspec.structs.replace(cut, targets=tuple(t for t in cut.targets if t != name))
            for cut in self.cuts
            if cut.targets != (name,)
        )
        rules = (
            msgspec.structs.replace(rule, targets=tuple(t for t in rule.targets if t != name))
            for rule in self.role_rules
            if rule.targets != (name,)
        )
        formats = (
            msgspec.structs.replace(rule, targets=tuple(t for t in rule.targets if t != name))
            for rule in self.format_rules
            if rule.targets != (name,)
        )
        sounds = (
            msgspec.structs.replace(rule, targets=tuple(t for t in rule.targets if t != name))
            for rule in self.sound_rules
            if rule.targets != (name,)
        )
        own = tuple(row for row in self.own_targets if row.id != name)
        return msgspec.structs.replace(
            self,
            targets=watched,
            own_targets=own,
            cuts=tuple(cuts),
            role_rules=tuple(rules),
            format_rules=tuple(formats),
            sound_rules=tuple(sounds),
        )

    def with_cut(self, cut: Cut) -> Job:
        """Return the job with a cut more; one that the new cut makes pointless gives up its place to it."""
        place = next((i for i, old in enumerate(self.cuts) if cut.supersedes(old)), None)
        if place is None:
            return msgspec.structs.replace(self, cuts=(*self.cuts, cut))
        kept = self.cuts[:place] + self.cuts[place + 1 :]
        return msgspec.structs.replace(self, cuts=(*kept, cut))

    def with_changes(self, target: str, paths: Sequence[str], *changes: Change) -> Job:
        """Return the job with changes to textures on one target, in the place of what was cut of that kind; a cap is for a drop."""
        job, gone = self, set(paths)
        for change in changes:
            if isinstance(change, Cap):
                job = job.without_change(Drop, gone, target)
            job = job.without_change(type(change), gone, target)
            job = job.with_cut(Cut(change, tuple(paths), (target,)))
        return job

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

    def with_cut_enabled(self, place: int, on: bool) -> Job:
        """Return the job with one of its cuts counting, or only kept."""
        cut = msgspec.structs.replace(self.cuts[place], enabled=on)
        return msgspec.structs.replace(self, cuts=(*self.cuts[:place], cut, *self.cuts[place + 1 :]))

    def without_cut(self, place: int) -> Job:
        """Return the job without one of its cuts."""
        return msgspec.structs.replace(self, cuts=self.cuts[:place] + self.cuts[place + 1 :])


def new_job(root: Path, settings: Settings = Settings()) -> Job:
    """Return a job on a folder with nothing cut, for the targets of some settings, or all that ship with the product."""
    absolute, shipped = Path(os.path.abspath(root)), shipped_targets()
    targets = tuple(name for name in settings.targets if name in shipped) or tuple(shipped)
    name = absolute.name or str(absolute)
    return Job(VERSION, name, str(absolute), targets, max_pixels=settings.max_pixels)


def targets_of(job: Job) -> tuple[Target, ...]:
    """Return a job's targets, in its order."""
    return tuple(job.target(name) for name in job.targets)


def checks_of(job: Job, root: Path) -> Checks:
    """Return all that a job says of findings, with the checks of the files that it shares with others.

    Parameters
    ----------
    root : the absolute root of its sources, which its files of checks are told from

    Raises
    ------
    DocumentError : such a file cannot be read, or has a check that the job or another file has, too
    """
    own = list(job.checks)
    for name in job.check_files:
        path = Path(os.path.normpath(root / name))
        try:
            shared = read_checks(path)
        except DocumentError:
            raise
        except FileError as error:
            raise DocumentError(path, f"is no file of checks that can be read: {error.fault}") from error
        for check in shared:
            if any(row.name == check.name for row in own):
                raise DocumentError(path, f"has a check {check.name!r} that is there already")
            own.append(check)
    return Checks(tuple(own), job.grades, job.suppressions)


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
        data = read_bytes(path)
        raw = msgspec.json.decode(data)
        version = raw.get("version") if isinstance(raw, dict) else None
        if isinstance(version, int) and version > VERSION:
            raise DocumentError(path, f"is of version {version}, made by a newer Oak Trim; this one reads {VERSION}")
        return msgspec.json.decode(data, type=Job)
    except DocumentError:
        raise
    except FileError as error:
        raise DocumentError(path, error.fault) from error
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise DocumentError(path, f"is not a valid job: {fault_in_words(error)}") from error


def save_job(job: Job, path: Path, root: Path) -> Job:
    """Write a job and return it as written, its root relative to the file.

    Raises
    ------
    FileError : it cannot be written, or could not be read again; what stood there before still stands
    """
    relative = os.path.relpath(root, os.path.abspath(path.parent))
    written = msgspec.structs.replace(job, root=relative)
    write_job(written, path)
    return written


def write_job(job: Job, path: Path) -> None:
    """Write a job as it is: a row of a list a line, in the order of the fields, so that edits of two people merge by lines.

    Raises
    ------
    FileError : it cannot be written, or could not be read again; what stood there before still stands
    """
    text = _formatted(msgspec.to_builtins(job)) + "\n"
    try:
        msgspec.json.decode(text, type=Job)
    except msgspec.DecodeError as error:
        raise DocumentError(path, f"is not written, as it could not be read again: {fault_in_words(error)}") from error
    write_atomic(path, text.encode())


def _formatted(value: object, indent: str = "") -> str:
    """Return JSON in which each field of an object, and each row of a list, has a line."""
    deeper = indent + "  "
    if isinstance(value, dict) and value:
        fields = (f"{deeper}{_on_one_line(name)}: {_formatted(part, deeper)}" for name, part in value.items())
        return "{\n" + ",\n".join(fields) + f"\n{indent}}}"
    if isinstance(value, list | tuple) and value:
        return "[\n" + ",\n".join(f"{deeper}{_on_one_line(row)}" for row in value) + f"\n{indent}]"
    return _on_one_line(value)


def _on_one_line(value: object) -> str:
    return msgspec.json.format(msgspec.json.encode(value), indent=0).decode()
