"""Shipping a plan into a folder: only what changed is made, every file is read back, and the whole is weighed."""

from __future__ import annotations

import errno
import fcntl
import logging
import os
import time
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from math import isinf
from pathlib import Path

import msgspec

from oaktrim import __version__
from oaktrim.core.errors import FileError, OakTrimError, ShipError, os_fault
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import PASSING, content_hash, read_bytes, write_atomic
from oaktrim.core.files.pictures import pack_texture, parse_texture
from oaktrim.core.plan.modelsizes import trimmed_source
from oaktrim.core.plan.packing import packing_name
from oaktrim.core.plan.resolve import Plan, content_key
from oaktrim.core.progress import Progress, Taken, Task, finish, map_unordered
from oaktrim.core.ship.make import make_texture, memory_on
from oaktrim.core.ship.manifest import (
    NAME,
    SCHEMA,
    Companion,
    Entry,
    Failure,
    Manifest,
    ModelEntry,
    SoundEntry,
    load_manifest,
)
from oaktrim.core.ship.models import model_files, write_beside
from oaktrim.core.ship.reason import Reason, note_output
from oaktrim.core.ship.result import Shipped, weigh
from oaktrim.core.ship.schedule import Item, check_place, output_names, schedule
from oaktrim.core.ship.sounds import SoundItem, ship_sound, sound_outputs
from oaktrim.core.ship.store import Ahead, MadeStore
from oaktrim.core.survey.inventory import OtherAsset
from oaktrim.core.survey.packed import pack_bytes
from oaktrim.core.survey.places import file_path
from oaktrim.core.survey.roles import Family
from oaktrim.core.targets.target import Target

# Faults that no other texture will be spared: no room, or a disk that may not be written.
_FATAL = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EACCES, errno.EPERM)
# How often the manifest of a run is written: at most so often in seconds, and a small part of the time.
_KEEP_SECONDS, _KEEP_SHARE = 1.0, 30.0
_LOG = logging.getLogger(__name__)


def _ship_one(plan: Plan, item: Item, out: Path, max_pixels: int, store: MadeStore | None) -> Entry:
    inventory, target = plan.inventory, plan.target
    surveyed = inventory.textures[item.row].content
    made = finish(make_texture(inventory, item.row, item.recipe.settings, max_pixels, threads=1, store=store))
    # Looked at after it was read: a file that was written to in between is told, and made at the next run.
    source_hash = inventory.sources(max_pixels).content(item.recipe.path)
    if source_hash != surveyed:
        raise FileError(inventory.root / item.recipe.path, "has changed since it was surveyed; ship again")
    path = out / item.output
    write_atomic(path, pack_texture(made.encoded, target.container))
    data = read_bytes(path)
    back = parse_texture(data, path)
    if (back.format, back.width, back.height, back.levels) != (
        made.encoded.format,
        made.encoded.width,
        made.encoded.height,
        made.encoded.levels,
    ):
        raise FileError(path, "does not read back as it was written")
    psnr = made.psnr()
    recipe = item.recipe
    return Entry(
        source=recipe.path,
        source_hash=source_hash,
        role=inventory.roles[item.row].role.value,
        output=item.output,
        output_hash=content_hash(data),
        settings=recipe.settings,
        file_bytes=len(data),
        memory=memory_on(target, made.encoded),
        package=min(len(data), pack_bytes(data, target.packing)),
        psnr=None if isinf(psnr) else round(psnr, 3),
    )


def _ship_copy(plan: Plan, item: Item, out: Path, max_pixels: int, twin: Entry | None) -> Entry | None:
    """Ship a texture as another one that was shipped before it and holds the same; None where there is none any more."""
    inventory = plan.inventory
    if twin is None or inventory.sources(max_pixels).content(item.recipe.path) != twin.source_hash:
        return None
    try:
        data = read_bytes(out / twin.output)
    except FileError:
        return None
    if content_hash(data) != twin.output_hash:
        return None
    write_atomic(out / item.output, data)
    return msgspec.structs.replace(twin, source=item.recipe.path, output=item.output)


def ship(
    plan: Plan,
    out: Path,
    max_pixels: int = MAX_PIXELS,
    threads: int | None = None,
    store: MadeStore | None = None,
    ahead: Ahead | None = None,
) -> Task[Shipped]:
    """Ship a plan into a folder.

    A texture that cannot be made is listed in the manifest with its error, and the run goes on. Closing the generator
    stops the run between two textures: every file is whole, and the next run goes on from there.

    Parameters
    ----------
    store : where textures that were made before, for a proof or another folder, are taken from
    ahead : has textures made elsewhere and kept in the store, which has to be given then

    Raises
    ------
    ShipError : the output folder is inside the source tree, or another run is shipping into it
    FileError : the output folder cannot be written, or the disk is full
    """
    yield Progress(0, len(plan.formats), "looking at what is there")
    check_place(plan.inventory, out, [*output_names(plan), *sound_outputs(plan)])
    with _alone(out):
        _tidy(out)
        return (yield from _ship(plan, out, max_pixels, threads, store, ahead))


def _tidy(out: Path) -> None:
    """Remove what a run that was killed left half written; a folder that no run has marked is left alone."""
    if not (out / NAME).exists():
        return
    for path in out.rglob(f"{PASSING}*"):
        if path.is_file() and not path.is_symlink():
            path.unlink(missing_ok=True)


@contextmanager
def _alone(out: Path) -> Iterator[None]:
    """Hold an output folder for one run. The system lets go of it when the run ends, however it does."""
    try:
        out.mkdir(parents=True, exist_ok=True)
        held = os.open(out, os.O_RDONLY | os.O_DIRECTORY)
    except OSError as error:
        raise FileError(out, f"cannot be written: {os_fault(error)}") from error
    try:
        fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        os.close(held)
        raise ShipError(f"{out}: another run is shipping into this folder; wait for it, or ship elsewhere") from error
    try:
        yield
    finally:
        os.close(held)


def _is_fatal(error: OakTrimError, out: Path) -> bool:
    """Say whether an error is of the output folder, so that no texture can be written there."""
    cause = error.__cause__
    there = isinstance(error, FileError) and error.path.is_relative_to(out)
    return there and isinstance(cause, OSError) and cause.errno in _FATAL


def _ship(  # noqa: C901 - one run from its schedule to its manifest, whatever stops it
    plan: Plan, out: Path, max_pixels: int, threads: int | None, store: MadeStore | None, ahead: Ahead | None
) -> Task[Shipped]:
    items = schedule(plan, out)
    earlier = load_manifest(out / NAME)
    old = {} if earlier is None else _by_source(earlier)
    beside = earlier.beside if earlier else ()
    due = [item for item in items if item.reason is not Reason.UNCHANGED]
    entries = {item.recipe.path: old[item.recipe.path] for item in items if item.reason is Reason.UNCHANGED}
    stays, unreadable = _left_standing(plan, earlier, {item.output for item in items})
    entries |= stays
    # The dearest first: the last to finish is then a small one, and both threads end together.
    due.sort(key=lambda item: -item.samples)
    failed: list[Failure] = []
    if earlier is None:
        # The folder is marked as ours before the first texture, whatever stops the run.
        write_atomic(out / NAME, _manifest(plan.target, {}, []).bytes())

    def so_far() -> Manifest:
        return _manifest(plan.target, {**old, **entries}, failed, beside)

    keeper = _ManifestKeeper(out / NAME, so_far)
    made: dict[str, Entry] = {}

    def work(item: Item | SoundItem) -> Entry | SoundEntry | Failure:
        try:
            entry: Entry | SoundEntry
            if isinstance(item, SoundItem):
                entry = ship_sound(plan, item, out, store)
            else:
                key = content_key(plan.inventory, item.row, item.recipe.settings)
                entry = _ship_copy(plan, item, out, max_pixels, made.get(key)) or _ship_one(
                    plan, item, out, max_pixels, store
                )
                made[key] = entry
            # Noted by the thread that wrote the file: a run that is stopped still waits for it.
            entries[entry.source] = entry
            note_output(out / entry.output, entry.output_hash)
            return entry
        except OakTrimError as error:
            if _is_fatal(error, out):
                raise
            return Failure.of(item.recipe.path, error)
        except MemoryError:
            return Failure(item.recipe.path, f"{item.recipe.path}: does not fit in memory")

    try:
        coming = _coming(plan, due, ahead, store)
        arriving = Taken(coming)
        with closing(coming), closing(map_unordered(work, arriving, threads)) as results:  # type: ignore[type-var]
            for done, (position, result) in enumerate(results, 1):
                if isinstance(result, Failure):
                    failed.append(result)
                keeper.keep_in_time()
                yield Progress(done, len(due), arriving.taken[position].recipe.path)
        outputs = {entry.source: entry.output for entry in entries.values() if isinstance(entry, Entry)}
        files, broken = model_files(plan, outputs, max_pixels)
        files |= _said_by_makers(plan, outputs, max_pixels)
        present, wrote = write_beside(files, out, {entry.output: entry for entry in beside})
        companions, unmade = _models_left_standing(plan, earlier, set(files), {failure.source for failure in broken})
        unreadable += unmade
        models, unread = yield from _weigh_models(plan, earlier, max_pixels, threads)
    except BaseException:
        # Whatever stops the run, what is done stays known, so that the next one does not make it again.
        if due:
            keeper.keep()
        raise
    finally:
        if store is not None and due:
            store.trim()
    manifest = _manifest(plan.target, entries, failed + unreadable + broken + unread, [*present, *companions], models)
    removed = _remove_stale(earlier, manifest, out, plan.inventory.root)
    if earlier != manifest:
        write_atomic(out / NAME, manifest.bytes())
    written = len(due) - len(failed)
    _LOG.info(
        "%s shipped to %s: %d written, %d unchanged, %d removed, %d failed", plan.target.id, out, written,
        len(items) - len(due), removed, len(failed),
    )  # fmt: skip
    return Shipped(manifest, written, len(items) - len(due), removed, wrote, weigh(manifest, plan))


def _left_standing(
    plan: Plan, earlier: Manifest | None, taken: set[str]
) -> tuple[dict[str, Entry | SoundEntry], list[Failure]]:
    """Return what a run before made of pictures and sounds that cannot be read now, as while they are saved, and a fault of each.

    Parameters
    ----------
    taken : outputs of this run
    """
    if earlier is None or not _is_for(earlier, plan.target):
        return {}, []
    faults = {row.path: row.error for row in plan.inventory.unreadable}
    rows = {
        path: row for path, row in _by_source(earlier).items() if file_path(path) in faults and row.output not in taken
    }
    return rows, [Failure(path, f"{path}: {faults[file_path(path)]}; {_STAYS}") for path in rows]


_STAYS = "what was made of it before stays"


def _models_left_standing(
    plan: Plan, earlier: Manifest | None, written: set[str], broken: set[str]
) -> tuple[list[Companion], list[Failure]]:
    """Return models, and buffers, that a run before wrote and that cannot be read now, and a fault of each model.

    Parameters
    ----------
    written : what this run writes beside its textures; broken : models that it could not write, which have a fault already
    """
    faults = {row.path: row.error for row in plan.inventory.unreadable}
    if earlier is None or not _is_for(earlier, plan.target) or not (faults or broken):
        return [], []
    left = [row for row in earlier.beside if row.output not in written]
    models = [row for row in left if row.output in faults or row.output in broken]
    # Which buffers such a model needs it cannot say; those whose source is still there may be its own.
    root = plan.inventory.root
    buffers = [row for row in left if models and row.output.endswith(".bin") and (root / row.output).is_file()]
    told = [row.output for row in models if row.output in faults]
    return models + buffers, [Failure(path, f"{path}: {faults[path]}; {_STAYS}") for path in told]


def _is_for(manifest: Manifest, target: Target) -> bool:
    """Say whether a manifest is of the target as it is now."""
    now = target.id, target.container, packing_name(target.packing)
    return (manifest.target, manifest.container, manifest.packing) == now


def _by_source(manifest: Manifest) -> dict[str, Entry | SoundEntry]:
    """Return the textures and sounds of a manifest by their sources."""
    rows: dict[str, Entry | SoundEntry] = {entry.source: entry for entry in manifest.textures}
    return rows | {entry.source: entry for entry in manifest.sounds}


def _coming(
    plan: Plan, due: Sequence[Item | SoundItem], ahead: Ahead | None, store: MadeStore | None
) -> Generator[Item | SoundItem]:
    """Yield what is due in the order in which it can be worked on: as it stands, or as others have made it."""
    if ahead is None or store is None:
        yield from due
        return
    yield from (item for item in due if isinstance(item, SoundItem))
    textures = [item for item in due if isinstance(item, Item)]
    with closing(ahead(plan.inventory, [(item.row, item.recipe.settings) for item in textures], store)) as places:
        for place in places:
            yield textures[place]


class _ManifestKeeper:
    """Writes the manifest of an unfinished run now and then, so that a kill loses seconds of work, not all of it."""

    def __init__(self, file: Path, so_far: Callable[[], Manifest]) -> None:
        self._file, self._so_far = file, so_far
        self._due = time.monotonic() + _KEEP_SECONDS

    def keep_in_time(self) -> None:
        """Write it if it was not written for a while; a large one, which takes longer, less often."""
        started = time.monotonic()
        if started >= self._due:
            self.keep()
            now = time.monotonic()
            self._due = now + max(_KEEP_SECONDS, _KEEP_SHARE * (now - started))

    def keep(self) -> None:
        """Write it; a folder that cannot be written is what stops a run, and is said elsewhere."""
        with suppress(FileError):
            write_atomic(self._file, self._so_far().bytes())


def _weigh_models(
    plan: Plan, earlier: Manifest | None, max_pixels: int, threads: int | None
) -> Task[tuple[list[ModelEntry], list[Failure]]]:
    """Pack whole the geometry and clips of models, but for what the run before packed as it still is."""
    packing, sources = plan.target.packing, plan.inventory.sources(max_pixels)
    same_packing = earlier is not None and earlier.packing == packing_name(packing)
    known = {row.source: row for row in earlier.models} if earlier is not None and same_packing else {}
    # A model's geometry and its clips are of one file.
    rows = list({row.file: row for row in plan.inventory.others if row.family is not Family.AUDIO}.values())

    trimmed = plan.others.models.settings

    def work(row: OtherAsset) -> ModelEntry | Failure:
        old, settings = known.get(row.file), trimmed.get(row.file)
        if old is not None and (old.source_hash, old.settings) == (row.content, settings):
            return old
        try:
            if settings is None:
                data = sources.other(row.file)
                content = content_hash(data)
            else:
                data, content = trimmed_source(sources, plan.inventory, row.file, settings).file.geometry, row.content
        except OakTrimError as error:
            return Failure.of(row.file, error)
        except MemoryError:
            return Failure(row.file, f"{row.file}: does not fit in memory")
        return ModelEntry(row.file, content, len(data), min(len(data), pack_bytes(data, packing)), settings)

    packed, failed = [], []
    for done, (position, result) in enumerate(map_unordered(work, rows, threads), 1):
        if isinstance(result, Failure):
            failed.append(result)
        else:
            packed.append(result)
        yield Progress(done, len(rows), rows[position].file)
    return sorted(packed, key=lambda row: row.source), failed


def _said_by_makers(plan: Plan, outputs: Mapping[str, str], max_pixels: int) -> dict[str, bytes]:
    """Return what goes beside the textures that makers made, by path below the output folder."""
    sources = plan.inventory.sources(max_pixels)
    derivations = {id(d): d for path, d in plan.inventory.made.items() if path in outputs}.values()
    return {path: data for derivation in derivations for path, data in derivation.side_files(sources).items()}


def _manifest(
    target: Target,
    entries: Mapping[str, Entry | SoundEntry],
    failed: list[Failure],
    beside: Sequence[Companion] = (),
    models: Sequence[ModelEntry] = (),
) -> Manifest:
    return Manifest(
        schema=SCHEMA,
        oak_trim=__version__,
        target=target.id,
        container=target.container,
        packing=packing_name(target.packing),
        textures=tuple(entry for _, entry in sorted(entries.items()) if isinstance(entry, Entry)),
        failed=tuple(sorted(failed, key=lambda f: f.source)),
        beside=tuple(beside),
        models=tuple(models),
        sounds=tuple(entry for _, entry in sorted(entries.items()) if isinstance(entry, SoundEntry)),
    )


def _remove_stale(earlier: Manifest | None, now: Manifest, out: Path, root: Path) -> int:
    """Remove files that an earlier run shipped here, that are still as it left them, and that the plan has no more."""
    if earlier is None:
        return 0
    kept, removed = set(_outputs(now)), 0
    for output, digest in _outputs(earlier).items():
        path = out / output
        inside = Path(os.path.realpath(path)).is_relative_to(os.path.realpath(out))
        if output in kept or not inside or not path.is_file():
            continue
        if content_hash(path.read_bytes()) == digest:
            path.unlink()
            removed += 1
    return removed


def _outputs(manifest: Manifest) -> dict[str, str]:
    """Return all files that a run wrote, and the hash of each."""
    found = {entry.output: entry.output_hash for entry in manifest.textures}
    found |= {entry.output: entry.output_hash for entry in manifest.sounds}
    return found | {entry.output: entry.output_hash for entry in manifest.beside}
