"""What earlier surveys found, kept outside the tree; safe to delete, and safe with two programs at once."""

from __future__ import annotations

import logging
import sqlite3
import struct
import time
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from pathlib import Path
from threading import RLock
from typing import Any, TypeVar

import lz4.frame
import msgspec
import numpy as np

from oaktrim.core.codecs.state import encoding_state
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import CHANNEL_NAMES, Image, Pixels
from oaktrim.core.settings import cache_folder, load_settings
from oaktrim.core.survey.facts import FileFacts, TextureFacts
from oaktrim.core.survey.sample import Sample

_LOG = logging.getLogger(__name__)
# Raised whenever facts, samples or pictures are made in another way: the file's name says it, and files of older versions go.
_VERSION = 21
_TABLES = """
create table if not exists facts (root text, path text, facts blob, primary key (root, path)) without rowid;
create table if not exists sample (content text primary key, pieces blob, thumbnail blob, kept integer);
create table if not exists sizes (recipe text primary key, bytes integer, kernels text) without rowid;
create table if not exists shares (recipe text primary key, share real, kernels text) without rowid;
create table if not exists steps (recipe text primary key, steps real, kernels text) without rowid;
create table if not exists tree (root text primary key, seen blob) without rowid;
create table if not exists made (content text primary key, facts blob) without rowid;
"""
_STEM = "survey"
# Folders beside it: of textures, of what makers made, and of checks.
_PARTS = ("made", "products", "checks")
_KEEP_SAMPLE = "insert or replace into sample values (?, ?, ?, ?)"
T = TypeVar("T")


class _Piece(msgspec.Struct, array_like=True):
    shape: tuple[int, int, int]
    kind: str
    transfer: str
    pixels: bytes

    def codes(self) -> Pixels:
        return np.frombuffer(self.pixels, self.kind).reshape(self.shape)


class TreeSeen(msgspec.Struct, frozen=True, array_like=True):
    """What a whole survey of a tree met.

    Parameters
    ----------
    settings : of the survey, as text
    paths : of all files, in the order of the walk
    unreadable : paths of what could not be read, and why
    """

    settings: str
    paths: list[str]
    unreadable: list[tuple[str, str]]


# Made as the module is loaded: what a library learns of a type when it first decodes one, it may not learn on two threads at once.
_FACTS, _TREE = msgspec.msgpack.Decoder(list[FileFacts]), msgspec.msgpack.Decoder(TreeSeen)
_MADE, _PIECES = msgspec.msgpack.Decoder(TextureFacts), msgspec.msgpack.Decoder(tuple[_Piece, ...])
# The pieces and the small picture, as bytes.
PackedSample = tuple[bytes, bytes]
_DAMAGED = (RuntimeError, msgspec.DecodeError, ValueError, TypeError, IndexError)


class SurveyCache:
    """Facts by root and path, samples and measured sizes by content, in one SQLite file of a folder.

    A cache that cannot be opened or written is passed over, and logged: it only ever saves time. A file that is damaged is
    begun anew. Over its limit, the samples kept longest ago go first. Any number of threads may use one object.
    """

    def __init__(self, folder: Path | None = None, limit: int | None = None) -> None:
        self.folder = folder or cache_folder()
        self.file = self.folder / f"{_STEM}-{_VERSION}.sqlite"
        self.limit = limit
        self._turn = RLock()
        self._connection: sqlite3.Connection | None = None

    def close(self) -> None:
        """Let go of the file until it is needed again."""
        with self._turn:
            if self._connection is not None:
                self._connection.close()
            self._connection = None

    def used_bytes(self) -> int:
        """Return how many bytes all that is kept in the folder takes: facts, samples, and what was made."""
        found = 0
        for file in self._kept():
            with suppress(OSError):
                found += file.stat().st_size
        return found

    def clear(self) -> None:
        """Remove all that is kept in the folder; it only saved time."""
        with self._turn:
            self.close()
            for file in self._kept():
                with suppress(OSError):
                    file.unlink()

    def _kept(self) -> list[Path]:
        return [
            *self.folder.glob(f"{_STEM}*"),
            *(file for part in _PARTS for file in (self.folder / part).rglob("*") if file.is_file()),
        ]

    def _open(self) -> sqlite3.Connection:
        self.folder.mkdir(parents=True, exist_ok=True)
        _remove_older(self.folder)
        connection = sqlite3.connect(self.file, timeout=10, check_same_thread=False)
        try:
            connection.execute("pragma page_size=32768")
            connection.execute("pragma auto_vacuum=incremental")
            connection.execute("pragma journal_mode=wal")
            connection.execute("pragma synchronous=off")
            connection.executescript(_TABLES)
        except sqlite3.Error:
            connection.close()
            raise
        return connection

    def _do(self, work: Callable[[sqlite3.Connection], T], otherwise: T) -> T:
        """Return what some work on the file comes to, all of it kept or none; where it cannot be done, `otherwise`."""
        with self._turn:
            try:
                if self._connection is not None and not self.file.exists():
                    # Somebody has deleted it, as they may.
                    self.close()
                if self._connection is None:
                    self._connection = self._open()
                with self._connection:
                    return work(self._connection)
            except (sqlite3.Error, OSError, UnicodeEncodeError) as error:
                _LOG.warning("%s: %s", self.file, error)
                self.close()
                if isinstance(error, sqlite3.DatabaseError) and not isinstance(error, sqlite3.OperationalError):
                    _unlink(self.file)
                return otherwise

    def facts(self, root: Path) -> dict[str, FileFacts]:
        """Return the facts last found below a root, by path."""
        query = "select facts from facts where root = ?"
        rows: list[tuple[bytes]] = self._do(lambda connection: connection.execute(query, (str(root),)).fetchall(), [])
        try:
            # As one MessagePack array, which is quicker than one after the other.
            packed = struct.pack(">BI", 0xDD, len(rows)) + b"".join(row for (row,) in rows)
            return {facts.path: facts for facts in _FACTS.decode(packed)}
        except (msgspec.DecodeError, TypeError) as error:
            _LOG.warning("%s: facts of %s: %s", self.file, root, error)
            return {}

    def tree(self, root: Path) -> TreeSeen | None:
        """Return what the last whole survey of a root met, if it was kept."""
        row = self._row("select seen from tree where root = ?", str(root))
        try:
            return None if row is None else _TREE.decode(lz4.frame.decompress(row[0]))
        except _DAMAGED:
            return None

    def keep_tree(self, root: Path, seen: TreeSeen) -> None:
        """Keep what a whole survey met."""
        packed = bytes(lz4.frame.compress(msgspec.msgpack.encode(seen)))
        if self._row("select 1 from tree where root = ? and seen = ?", str(root), packed) is None:
            self._keep("insert or replace into tree values (?, ?)", {str(root): packed})

    def keep(self, root: Path, facts: Iterable[FileFacts], samples: dict[str, PackedSample]) -> None:
        """Keep facts of a root and samples, made ready by `packed_sample`, by the content they were taken from."""
        encode, now = msgspec.msgpack.Encoder().encode, int(time.time())

        def insert(connection: sqlite3.Connection) -> None:
            connection.executemany(
                "insert or replace into facts values (?, ?, ?)", [(str(root), row.path, encode(row)) for row in facts]
            )
            connection.executemany(_KEEP_SAMPLE, [(content, *packed, now) for content, packed in samples.items()])

        self._do(insert, None)

    def made(self, content: str) -> TextureFacts | None:
        """Return the facts of what a maker made, by the hash of what it was made of, if they were kept."""
        row = self._row("select facts from made where content = ?", content)
        try:
            return None if row is None else _MADE.decode(row[0])
        except _DAMAGED:
            return None

    def keep_made(self, facts: TextureFacts, sample: PackedSample) -> None:
        """Keep the facts and the sample of what a maker made."""

        def insert(connection: sqlite3.Connection) -> None:
            row = (facts.content, msgspec.msgpack.encode(facts))
            connection.execute("insert or replace into made values (?, ?)", row)
            connection.execute(_KEEP_SAMPLE, (facts.content, *sample, int(time.time())))

        self._do(insert, None)

    def trim(self) -> int:
        """Bring the cache under its limit and return how many samples had to go."""
        limit = load_settings().cache_bytes if self.limit is None else self.limit
        with self._turn:
            gone = self._do(lambda connection: _trim(connection, limit), 0)
            self._do(lambda connection: connection.execute("pragma incremental_vacuum").fetchall(), [])
        return gone

    def sample(self, content: str) -> tuple[Image, ...] | None:
        """Return the sampled pieces of a file's content at each scale, if they were kept."""
        row = self._row("select pieces from sample where content = ?", content)
        try:
            if row is None:
                return None
            return tuple(Image(p.codes(), CHANNEL_NAMES[p.shape[2]], Transfer(p.transfer)) for p in _unpacked(row[0]))
        except _DAMAGED:
            return None

    def thumbnail(self, content: str) -> Pixels | None:
        """Return the small picture of a file's content, RGBA (h, w, 4) uint8, if it was kept."""
        row = self._row("select thumbnail from sample where content = ?", content)
        try:
            return None if row is None else _unpacked(row[0])[0].codes()
        except _DAMAGED:
            return None

    def measured(self) -> dict[str, int]:
        """Return the packed sizes that were measured of what these kernels make, by recipe."""
        return self._known("select recipe, bytes from sizes where kernels = ?")

    def keep_measured(self, sizes: Mapping[str, int]) -> None:
        """Keep packed sizes by recipe."""
        self._keep("insert or replace into sizes values (?, ?, ?)", sizes, encoding_state())

    def shares(self) -> dict[str, float]:
        """Return packed over plain bytes of samples as these kernels make them, by recipe."""
        return self._known("select recipe, share from shares where kernels = ?")

    def keep_shares(self, shares: Mapping[str, float]) -> None:
        """Keep packed over plain bytes by recipe."""
        self._keep("insert or replace into shares values (?, ?, ?)", shares, encoding_state())

    def losses(self) -> dict[str, float]:
        """Return how far what these kernels make was seen to differ from its sources, by recipe."""
        return self._known("select recipe, steps from steps where kernels = ?")

    def keep_losses(self, steps: Mapping[str, float]) -> None:
        """Keep how far recipes were seen to differ."""
        self._keep("insert or replace into steps values (?, ?, ?)", steps, encoding_state())

    def _known(self, query: str) -> dict[str, Any]:
        return dict(self._do(lambda connection: connection.execute(query, (encoding_state(),)).fetchall(), []))

    def _keep(self, query: str, rows: Mapping[str, float | bytes], *more: str) -> None:
        values = [(key, value, *more) for key, value in rows.items()]
        self._do(lambda connection: connection.executemany(query, values), None)

    def _row(self, query: str, *keys: str | bytes) -> tuple[bytes, ...] | None:
        def ask(connection: sqlite3.Connection) -> tuple[bytes, ...] | None:
            row: tuple[bytes, ...] | None = connection.execute(query, keys).fetchone()
            return row

        return self._do(ask, None)


def _remove_older(folder: Path) -> None:
    """Remove the files of older versions, which would never be read again."""
    for file in folder.glob(f"{_STEM}*.sqlite"):
        version = file.stem.removeprefix(_STEM).removeprefix("-")
        if not version or (version.isdecimal() and int(version) < _VERSION):
            _LOG.info("%s is of an older version and goes", file)
            _unlink(file)


def _unlink(file: Path) -> None:
    for ending in ("", "-wal", "-shm"):
        with suppress(OSError):
            file.with_name(file.name + ending).unlink(missing_ok=True)


def _trim(connection: sqlite3.Connection, limit: int) -> int:
    def taken() -> int:
        pages, free = (connection.execute(f"pragma {name}").fetchone()[0] for name in ("page_count", "freelist_count"))
        size: int = connection.execute("pragma page_size").fetchone()[0]
        return int((pages - free) * size)

    gone = 0
    while taken() > limit:
        oldest = "select rowid from sample order by kept, rowid limit 256"
        lost = connection.execute(f"delete from sample where rowid in ({oldest})").rowcount
        if not lost:
            # Only facts are left, which are small: they begin anew.
            for table in ("facts", "tree", "sizes", "shares", "steps", "made"):
                connection.execute(f"delete from {table}")
            break
        gone += lost
    return gone


def packed_sample(sample: Sample) -> PackedSample:
    """Return a sample as the cache keeps it."""
    small = Image.of(sample.thumbnail)
    return _packed(sample.pieces), _packed((small,))


def _packed(pictures: tuple[Image, ...]) -> bytes:
    pieces = [_Piece(p.pixels.shape, p.pixels.dtype.str, p.transfer.value, p.pixels.tobytes()) for p in pictures]
    return bytes(lz4.frame.compress(msgspec.msgpack.encode(pieces)))


def _unpacked(blob: bytes) -> tuple[_Piece, ...]:
    return _PIECES.decode(lz4.frame.decompress(blob))
