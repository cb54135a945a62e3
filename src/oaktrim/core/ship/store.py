"""Textures and sounds as they were made, kept by all that decides what they hold: proofs, fits and runs make each only once.

Files in a folder, which is safe to delete and safe with two programs at once. What cannot be kept is made again.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Generator, Sequence
from contextlib import suppress
from pathlib import Path

import lz4.frame
import msgspec

from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.codecs.state import encoding_state
from oaktrim.core.codecs.texture import EncodedTexture
from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.settings import cache_folder, load_settings
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.inventory import Inventory

# Raised whenever textures are made in another way outside of kernels, whose own state counts too.
_VERSION = 1


class _Kept(msgspec.Struct, array_like=True):
    format: str
    width: int
    height: int
    transfer: str
    levels: list[bytes]
    layers: int
    faces: int
    seconds: float


_KEPT = msgspec.msgpack.Decoder(_Kept)
# Has rows of an inventory made by settings and kept in a store, and yields their places as they are there.
Ahead = Callable[[Inventory, Sequence[tuple[int, EncodeSettings]], "MadeStore"], Generator[int]]


def packed_texture(made: EncodedTexture, seconds: float) -> bytes:
    """Return a texture and the seconds that it took as the store keeps them."""
    kept = _Kept(
        made.format.name, made.width, made.height, made.transfer.value, list(made.levels), made.layers, made.faces,
        seconds,
    )  # fmt: skip
    return bytes(lz4.frame.compress(msgspec.msgpack.encode(kept), content_checksum=True))


class MadeStore:
    """Encoded textures in files, the name a hash of what they were made of; those used longest ago go first.

    Parameters
    ----------
    folder : the user's cache folder by default
    limit : bytes; by default as much again as the survey's cache may take
    """

    def __init__(self, folder: Path | None = None, limit: int | None = None) -> None:
        self.folder = folder or cache_folder() / "made"
        self._limit = limit

    @classmethod
    def beside(cls, cache: SurveyCache) -> MadeStore:
        """Return the store that belongs to a survey's cache."""
        return cls(cache.folder / "made", cache.limit)

    def get(self, key: str) -> tuple[EncodedTexture, float] | None:
        """Return what was made and the seconds that it took, or None where it is not kept or was damaged."""
        file = self._file(key)
        try:
            kept = _KEPT.decode(lz4.frame.decompress(file.read_bytes()))
            os.utime(file)
            levels, transfer = tuple(kept.levels), Transfer(kept.transfer)
            row = FORMATS[kept.format]
            made = EncodedTexture(row, kept.width, kept.height, transfer, levels, kept.layers, kept.faces)
            return made, kept.seconds
        except (OSError, RuntimeError, ValueError, KeyError, msgspec.DecodeError):
            return None

    def keep(self, key: str, made: EncodedTexture, seconds: float) -> None:
        """Keep what was made and the seconds that it took; a folder that cannot be written is passed over."""
        self.keep_packed(key, packed_texture(made, seconds))

    def keep_packed(self, key: str, packed: bytes) -> None:
        """Keep what `packed_texture` returned, here or elsewhere."""
        with suppress(FileError):
            write_atomic(self._file(key), packed)

    def holds(self, key: str) -> bool:
        """Say whether something is kept; it may be damaged."""
        return self._file(key).is_file()

    def get_bytes(self, key: str) -> bytes | None:
        """Return a made file, or None where it is not kept or was damaged."""
        file = self._file(key)
        try:
            data = lz4.frame.decompress(file.read_bytes())
            os.utime(file)
        except (OSError, RuntimeError, ValueError):
            return None
        return bytes(data)

    def keep_bytes(self, key: str, data: bytes) -> None:
        """Keep a made file; a folder that cannot be written is passed over."""
        with suppress(FileError):
            write_atomic(self._file(key), lz4.frame.compress(data, content_checksum=True))

    def trim(self) -> int:
        """Bring the folder under its limit and return how many textures had to go."""
        limit = load_settings().cache_bytes if self._limit is None else self._limit
        rows = []
        with suppress(OSError):
            for file in self.folder.glob("*/*"):
                facts = file.stat()
                rows.append((facts.st_mtime_ns, facts.st_size, file))
        total, gone = sum(size for _, size, _ in rows), 0
        for _, size, file in sorted(rows):
            if total <= limit:
                break
            with suppress(OSError):
                file.unlink()
            total -= size
            gone += 1
        return gone

    def _file(self, key: str) -> Path:
        how = f"{_VERSION} {encoding_state()}"
        name = hashlib.blake2b(f"{how} {key}".encode(), digest_size=20).hexdigest()
        return self.folder / name[:2] / name[2:]
