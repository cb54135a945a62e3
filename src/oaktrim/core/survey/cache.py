"""What earlier surveys found, kept outside the tree; safe to delete, and safe with two programs at once."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from contextlib import closing
from pathlib import Path

import msgspec
import numpy as np
import platformdirs

from oaktrim.core.pixels.image import CHANNEL_NAMES, Image, Transfer
from oaktrim.core.survey.facts import FileFacts

# Raised whenever facts, samples or pictures are made in another way; older rows are then left behind.
_VERSION = 3
_TABLES = f"""
create table if not exists facts_{_VERSION} (root text, path text, facts blob, primary key (root, path)) without rowid;
create table if not exists sample_{_VERSION} (content text primary key, shape text, pixels blob) without rowid;
"""


def cache_folder() -> Path:
    """Return the folder for everything that can be made again."""
    return Path(platformdirs.user_cache_dir("oak-trim"))


class SurveyCache:
    """Facts by root and path, and samples by content, in one SQLite file.

    A cache that cannot be opened or written is passed over: it only ever saves time.
    """

    def __init__(self, file: Path | None = None) -> None:
        self.file = file or cache_folder() / "survey.sqlite"

    def _open(self) -> closing[sqlite3.Connection]:
        self.file.parent.mkdir(parents=True, exist_ok=True)
        connection = sqlite3.connect(self.file, timeout=10)
        connection.execute("pragma journal_mode=wal")
        connection.execute("pragma synchronous=off")
        connection.executescript(_TABLES)
        return closing(connection)

    def facts(self, root: Path) -> dict[str, FileFacts]:
        """Return the facts last found below a root, by path."""
        try:
            with self._open() as connection:
                rows = connection.execute(f"select facts from facts_{_VERSION} where root = ?", (str(root),)).fetchall()
            decode = msgspec.msgpack.Decoder(FileFacts).decode
            found = (decode(row[0]) for row in rows)
            return {facts.path: facts for facts in found}
        except (sqlite3.Error, OSError, msgspec.DecodeError, UnicodeEncodeError):
            return {}

    def keep(self, root: Path, facts: Iterable[FileFacts], samples: dict[str, Image]) -> None:
        """Keep facts of a root and samples by the content they were taken from."""
        encode = msgspec.msgpack.Encoder().encode
        try:
            with self._open() as connection, connection:
                connection.executemany(
                    f"insert or replace into facts_{_VERSION} values (?, ?, ?)",
                    [(str(root), row.path, encode(row)) for row in facts],
                )
                connection.executemany(
                    f"insert or replace into sample_{_VERSION} values (?, ?, ?)",
                    [(content, _shape(image), image.pixels.tobytes()) for content, image in samples.items()],
                )
        except (sqlite3.Error, OSError, UnicodeEncodeError):
            return

    def sample(self, content: str) -> Image | None:
        """Return the sample of a file's content, if it was kept."""
        try:
            with self._open() as connection:
                row = connection.execute(
                    f"select shape, pixels from sample_{_VERSION} where content = ?", (content,)
                ).fetchone()
        except (sqlite3.Error, OSError):
            return None
        if row is None:
            return None
        height, width, channels, kind, transfer = row[0].split()
        pixels = np.frombuffer(row[1], kind).reshape(int(height), int(width), int(channels))
        return Image(pixels, CHANNEL_NAMES[int(channels)], Transfer(transfer))


def _shape(image: Image) -> str:
    height, width, channels = image.pixels.shape
    return f"{height} {width} {channels} {image.pixels.dtype} {image.transfer.value}"
