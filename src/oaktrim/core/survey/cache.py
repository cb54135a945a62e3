"""What earlier surveys found, kept outside the tree; safe to delete, and safe with two programs at once."""

from __future__ import annotations

import sqlite3
import struct
import time
from collections.abc import Iterable, Mapping
from contextlib import closing
from pathlib import Path
from typing import Any

import lz4.frame
import msgspec
import numpy as np
import platformdirs

from oaktrim.core.kernels import kernel_state
from oaktrim.core.pixels.image import CHANNEL_NAMES, Image, Pixels, Transfer
from oaktrim.core.survey.facts import FileFacts, TextureFacts
from oaktrim.core.survey.sample import Sample
from oaktrim.core.targets.target import parse_bytes

# Raised whenever facts, samples or pictures are made in another way; older rows are then left behind.
_VERSION = 14
_TABLES = f"""
create table if not exists facts_{_VERSION} (root text, path text, facts blob, primary key (root, path)) without rowid;
create table if not exists sample_{_VERSION} (content text primary key, pieces blob, thumbnail blob, kept integer);
create table if not exists sizes_{_VERSION} (recipe text primary key, bytes integer, kernels text) without rowid;
create table if not exists steps_{_VERSION} (recipe text primary key, steps real, kernels text) without rowid;
create table if not exists tree_{_VERSION} (root text primary key, seen blob) without rowid;
create table if not exists made_{_VERSION} (content text primary key, facts blob) without rowid;
"""
DEFAULT_LIMIT = "2 GiB"


def cache_folder() -> Path:
    """Return the folder for everything that can be made again."""
    return Path(platformdirs.user_cache_dir("oak-trim"))


class _Settings(msgspec.Struct):
    cache_limit: str = DEFAULT_LIMIT


def cache_limit() -> int:
    """Return how many bytes the cache may take: `cache_limit = "2 GiB"` in settings.toml of the user's settings folder."""
    file = Path(platformdirs.user_config_dir("oak-trim")) / "settings.toml"
    try:
        return parse_bytes(msgspec.toml.decode(file.read_bytes(), type=_Settings).cache_limit)
    except (OSError, msgspec.DecodeError, UnicodeDecodeError, ValueError):
        return parse_bytes(DEFAULT_LIMIT)


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


# The pieces and the small picture, as bytes.
PackedSample = tuple[bytes, bytes]
_DAMAGED = (RuntimeError, msgspec.DecodeError, ValueError, TypeError, IndexError)


class SurveyCache:
    """Facts by root and path, samples and measured sizes by content, in one SQLite file.

    A cache that cannot be opened or written is passed over: it only ever saves time. Over its limit, the samples kept
    longest ago go first.
    """

    def __init__(self, file: Path | None = None, limit: int | None = None) -> None:
        self.file = file or cache_folder() / "survey.sqlite"
        self.limit = limit

    def _open(self) -> closing[sqlite3.Connection]:
        self.file.parent.mkdir(parents=True, exist_ok=True)
        connection = sqlite3.connect(self.file, timeout=10)
        connection.execute("pragma page_size=32768")
        connection.execute("pragma auto_vacuum=incremental")
        connection.execute("pragma journal_mode=wal")
        connection.execute("pragma synchronous=off")
        connection.executescript(_TABLES)
        return closing(connection)

    def facts(self, root: Path) -> dict[str, FileFacts]:
        """Return the facts last found below a root, by path."""
        try:
            with self._open() as connection:
                rows = connection.execute(f"select facts from facts_{_VERSION} where root = ?", (str(root),)).fetchall()
            # As one MessagePack array, which is quicker than one after the other.
            packed = struct.pack(">BI", 0xDD, len(rows)) + b"".join(row for (row,) in rows)
            return {facts.path: facts for facts in msgspec.msgpack.decode(packed, type=list[FileFacts])}
        except (sqlite3.Error, OSError, msgspec.DecodeError, UnicodeEncodeError, TypeError):
            return {}

    def tree(self, root: Path) -> TreeSeen | None:
        """Return what the last whole survey of a root met, if it was kept."""
        row = self._row(f"select seen from tree_{_VERSION} where root = ?", str(root))
        try:
            return None if row is None else msgspec.msgpack.decode(lz4.frame.decompress(row[0]), type=TreeSeen)
        except _DAMAGED:
            return None

    def keep_tree(self, root: Path, seen: TreeSeen) -> None:
        """Keep what a whole survey met."""
        packed = bytes(lz4.frame.compress(msgspec.msgpack.encode(seen)))
        if self._row(f"select 1 from tree_{_VERSION} where root = ? and seen = ?", str(root), packed) is None:
            self._keep(f"insert or replace into tree_{_VERSION} values (?, ?)", {str(root): packed})

    def keep(self, root: Path, facts: Iterable[FileFacts], samples: dict[str, PackedSample]) -> None:
        """Keep facts of a root and samples, made ready by `packed_sample`, by the content they were taken from."""
        encode, now = msgspec.msgpack.Encoder().encode, int(time.time())
        try:
            with self._open() as connection, connection:
                connection.executemany(
                    f"insert or replace into facts_{_VERSION} values (?, ?, ?)",
                    [(str(root), row.path, encode(row)) for row in facts],
                )
                connection.executemany(
                    f"insert or replace into sample_{_VERSION} values (?, ?, ?, ?)",
                    [(content, *packed, now) for content, packed in samples.items()],
                )
        except (sqlite3.Error, OSError, UnicodeEncodeError):
            return

    def made(self, content: str) -> TextureFacts | None:
        """Return the facts of what a maker made, by the hash of what it was made of, if they were kept."""
        row = self._row(f"select facts from made_{_VERSION} where content = ?", content)
        try:
            return None if row is None else msgspec.msgpack.decode(row[0], type=TextureFacts)
        except _DAMAGED:
            return None

    def keep_made(self, facts: TextureFacts, sample: PackedSample) -> None:
        """Keep the facts and the sample of what a maker made."""
        try:
            with self._open() as connection, connection:
                row = (facts.content, msgspec.msgpack.encode(facts))
                connection.execute(f"insert or replace into made_{_VERSION} values (?, ?)", row)
                connection.execute(
                    f"insert or replace into sample_{_VERSION} values (?, ?, ?, ?)",
                    (facts.content, *sample, int(time.time())),
                )
        except (sqlite3.Error, OSError, UnicodeEncodeError):
            return

    def trim(self) -> int:
        """Bring the cache under its limit and return how many samples had to go."""
        limit = cache_limit() if self.limit is None else self.limit
        try:
            with self._open() as connection:
                return _trim(connection, limit)
        except (sqlite3.Error, OSError):
            return 0

    def sample(self, content: str) -> tuple[Image, ...] | None:
        """Return the sampled pieces of a file's content at each scale, if they were kept."""
        row = self._row(f"select pieces from sample_{_VERSION} where content = ?", content)
        try:
            if row is None:
                return None
            return tuple(Image(p.codes(), CHANNEL_NAMES[p.shape[2]], Transfer(p.transfer)) for p in _unpacked(row[0]))
        except _DAMAGED:
            return None

    def thumbnail(self, content: str) -> Pixels | None:
        """Return the small picture of a file's content, RGBA (h, w, 4) uint8, if it was kept."""
        row = self._row(f"select thumbnail from sample_{_VERSION} where content = ?", content)
        try:
            return None if row is None else _unpacked(row[0])[0].codes()
        except _DAMAGED:
            return None

    def measured(self) -> dict[str, int]:
        """Return the packed sizes that were measured of what these kernels make, by recipe."""
        return self._known(f"select recipe, bytes from sizes_{_VERSION} where kernels = ?")

    def keep_measured(self, sizes: dict[str, int]) -> None:
        """Keep packed sizes by recipe."""
        self._keep(f"insert or replace into sizes_{_VERSION} values (?, ?, '{kernel_state()}')", sizes)

    def losses(self) -> dict[str, float]:
        """Return how far what these kernels make was seen to differ from its sources, by recipe."""
        return self._known(f"select recipe, steps from steps_{_VERSION} where kernels = ?")

    def keep_losses(self, steps: dict[str, float]) -> None:
        """Keep how far recipes were seen to differ."""
        self._keep(f"insert or replace into steps_{_VERSION} values (?, ?, '{kernel_state()}')", steps)

    def _known(self, query: str) -> dict[str, Any]:
        try:
            with self._open() as connection:
                return dict(connection.execute(query, (kernel_state(),)).fetchall())
        except (sqlite3.Error, OSError):
            return {}

    def _keep(self, query: str, rows: Mapping[str, float | bytes]) -> None:
        try:
            with self._open() as connection, connection:
                connection.executemany(query, list(rows.items()))
        except (sqlite3.Error, OSError, UnicodeEncodeError):
            return

    def _row(self, query: str, *keys: str | bytes) -> tuple[bytes, ...] | None:
        try:
            with self._open() as connection:
                row: tuple[bytes, ...] | None = connection.execute(query, keys).fetchone()
                return row
        except (sqlite3.Error, OSError, UnicodeEncodeError):
            return None


def _trim(connection: sqlite3.Connection, limit: int) -> int:
    def taken() -> int:
        pages, free = (connection.execute(f"pragma {name}").fetchone()[0] for name in ("page_count", "freelist_count"))
        size: int = connection.execute("pragma page_size").fetchone()[0]
        return int((pages - free) * size)

    gone = 0
    while taken() > limit:
        oldest = f"select rowid from sample_{_VERSION} order by kept, rowid limit 256"
        with connection:
            lost = connection.execute(f"delete from sample_{_VERSION} where rowid in ({oldest})").rowcount
        if not lost:
            # Only facts are left, which are small: they begin anew.
            with connection:
                connection.execute(f"delete from facts_{_VERSION}")
                connection.execute(f"delete from tree_{_VERSION}")
                connection.execute(f"delete from sizes_{_VERSION}")
                connection.execute(f"delete from steps_{_VERSION}")
                connection.execute(f"delete from made_{_VERSION}")
            break
        gone += lost
    connection.execute("pragma incremental_vacuum").fetchall()
    return gone


def packed_sample(sample: Sample) -> PackedSample:
    """Return a sample as the cache keeps it."""
    small = Image.of(sample.thumbnail)
    return _packed(sample.pieces), _packed((small,))


def _packed(pictures: tuple[Image, ...]) -> bytes:
    pieces = [_Piece(p.pixels.shape, p.pixels.dtype.str, p.transfer.value, p.pixels.tobytes()) for p in pictures]
    return bytes(lz4.frame.compress(msgspec.msgpack.encode(pieces)))


def _unpacked(blob: bytes) -> tuple[_Piece, ...]:
    return msgspec.msgpack.decode(lz4.frame.decompress(blob), type=tuple[_Piece, ...])
