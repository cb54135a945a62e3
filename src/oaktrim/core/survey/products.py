"""What makers made, kept by the hash of what it was made of: the last in memory, more of it in files that are safe to delete."""

from __future__ import annotations

import hashlib
import os
import threading
from collections import OrderedDict
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import lz4.frame
import msgspec
import numpy as np

from oaktrim.core.codecs.state import encoding_state
from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image

# Bytes that the last products may take in memory.
_IN_MEMORY = 512 << 20


@dataclass(frozen=True, eq=False)
class Products:
    """What one maker made.

    Parameters
    ----------
    textures : by path in the inventory
    models : glTF bytes by path; their images name textures of the inventory by the way from the model's folder, without ending
    files : what goes beside them, by path below the output folder
    """

    textures: Mapping[str, Image] = field(default_factory=dict)
    models: Mapping[str, bytes] = field(default_factory=dict)
    files: Mapping[str, bytes] = field(default_factory=dict)

    @property
    def bytes(self) -> int:
        """What it takes in memory."""
        pixels = sum(image.pixels.nbytes for image in self.textures.values())
        return pixels + sum(len(data) for data in (*self.models.values(), *self.files.values()))


class _KeptImage(msgspec.Struct, array_like=True):
    shape: tuple[int, int, int]
    kind: str
    channels: tuple[str, ...]
    transfer: str
    data: bytes


class _Kept(msgspec.Struct, array_like=True):
    textures: dict[str, _KeptImage]
    models: dict[str, bytes]
    files: dict[str, bytes]


_KEPT = msgspec.msgpack.Decoder(_Kept)


class ProductStore:
    """Products by content; without a folder they are kept in memory alone.

    Parameters
    ----------
    folder : safe with two programs at once
    limit : bytes of the folder; what was used longest ago goes first
    """

    def __init__(self, folder: Path | None = None, limit: int = 2 << 30) -> None:
        self._folder, self._limit = folder, limit
        self._turn = threading.Lock()
        self._last: OrderedDict[str, Products] = OrderedDict()

    def get(self, content: str) -> Products | None:
        """Return what was made of a content, or None where it is not kept or was damaged."""
        with self._turn:
            if content in self._last:
                self._last.move_to_end(content)
                return self._last[content]
        found = self._read(content)
        if found is not None:
            self._remember(content, found)
        return found

    def keep(self, content: str, made: Products) -> None:
        """Keep what was made; a folder that cannot be written is passed over."""
        self._remember(content, made)
        if self._folder is None:
            return
        images = {
            path: _KeptImage(
                image.pixels.shape, image.pixels.dtype.str, image.channels, image.transfer.value, image.pixels.tobytes()
            )
            for path, image in made.textures.items()
        }  # fmt: skip
        packed = msgspec.msgpack.encode(_Kept(images, dict(made.models), dict(made.files)))
        with suppress(FileError):
            write_atomic(self._file(self._folder, content), lz4.frame.compress(packed, content_checksum=True))
        self._trim(self._folder)

    def _remember(self, content: str, made: Products) -> None:
        with self._turn:
            self._last[content] = made
            self._last.move_to_end(content)
            while len(self._last) > 1 and sum(row.bytes for row in self._last.values()) > _IN_MEMORY:
                self._last.popitem(last=False)

    def _read(self, content: str) -> Products | None:
        if self._folder is None:
            return None
        file = self._file(self._folder, content)
        try:
            kept = _KEPT.decode(lz4.frame.decompress(file.read_bytes()))
            os.utime(file)
            textures = {
                path: Image(np.frombuffer(row.data, row.kind).reshape(row.shape), row.channels, Transfer(row.transfer))
                for path, row in kept.textures.items()
            }
        except (OSError, RuntimeError, ValueError, TypeError, msgspec.DecodeError):
            return None
        return Products(textures, kept.models, kept.files)

    @staticmethod
    def _file(folder: Path, content: str) -> Path:
        how = f"{encoding_state()} {content}"
        return folder / hashlib.blake2b(how.encode(), digest_size=20).hexdigest()

    def _trim(self, folder: Path) -> None:
        with suppress(OSError):
            rows = sorted((f.stat().st_mtime_ns, f.stat().st_size, f) for f in folder.iterdir() if f.is_file())
            total = sum(size for _, size, _ in rows)
            for _, size, file in rows:
                if total <= self._limit:
                    break
                file.unlink(missing_ok=True)
                total -= size
