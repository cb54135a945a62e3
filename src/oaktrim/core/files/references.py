"""Where a reference inside a file points: always to a file below the job's root, or it is refused."""

from __future__ import annotations

import base64
import binascii
import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote, unquote_to_bytes

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import read_bytes

_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]+:")


@dataclass(frozen=True)
class ReferenceFolder:
    """Where a file stands that names others.

    Parameters
    ----------
    root : the folder that no reference may leave; path : of the file below it, with slashes
    """

    root: Path
    path: str

    @property
    def file(self) -> Path:
        return self.root / self.path

    def target_of(self, uri: str) -> str:
        """Return the path below the root that a relative reference means.

        Raises
        ------
        FileError : it names another host or an absolute path, or climbs out of the root
        """
        if _SCHEME.match(uri) or uri.startswith(("/", "\\")):
            raise FileError(self.file, f"refers to {uri[:200]!r}, which is not a path beside it")
        parts: list[str] = self.path.split("/")[:-1]
        for part in uri.replace("\\", "/").split("/"):
            if part == "..":
                if not parts:
                    raise FileError(self.file, f"refers to {uri[:200]!r}, which is outside the root")
                parts.pop()
            elif part not in ("", "."):
                parts.append(part)
        if not parts or "\0" in uri:
            raise FileError(self.file, f"refers to {uri[:200]!r}, which is no file")
        return "/".join(parts)

    def read(self, uri: str) -> bytes:
        """Return the bytes of a data URI (RFC 2397) or of the file that a reference means.

        Raises
        ------
        FileError : refused, or not to be read
        """
        if uri[:5].lower() == "data:":
            return data_of(uri, self.file)
        return self.read_file(self.target_of(unquote(uri)))

    def read_file(self, path: str) -> bytes:
        """Return the bytes of a file below the root, that no link may have put elsewhere."""
        target = self.root / path
        if not target.resolve().is_relative_to(self.root.resolve()):
            raise FileError(self.file, f"refers to {path[:200]!r}, a link that leads outside the root")
        if not target.is_file():
            raise FileError(self.file, f"refers to {path[:200]!r}, which is not there")
        return read_bytes(target)


def data_of(uri: str, file: Path) -> bytes:
    """Return the bytes that a data URI holds; `file` is for errors."""
    head, comma, body = uri.partition(",")
    if not comma:
        raise FileError(file, "holds a data URI without data")
    if not head.lower().endswith(";base64"):
        return unquote_to_bytes(body)
    try:
        return base64.b64decode(unquote_to_bytes(body), validate=True)
    except (binascii.Error, ValueError) as error:
        raise FileError(file, f"holds a data URI that is not valid base64: {error}") from error
