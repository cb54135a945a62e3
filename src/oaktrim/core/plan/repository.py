"""Where files are for those who read a report elsewhere: below the folder of a repository."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

from oaktrim.core.survey.places import file_of


@dataclass(frozen=True)
class Repository:
    """A folder that paths in reports are told from, and the root of what was surveyed, both without links."""

    folder: str
    root: str

    @classmethod
    def at(cls, folder: Path, root: Path) -> Repository:
        """Return the repository at a folder, as it really is."""
        return cls(os.path.realpath(folder), os.path.realpath(root))

    def path_of(self, path: str) -> str:
        """Return where the file of a surveyed path is: from the folder, or from the root of the file system where it is outside."""
        return self._place_of(os.fspath(file_of(Path(self.root), path)))

    def uri_of(self, path: str) -> str:
        """Return the same as a reference after RFC 3986, relative where it is inside."""
        return _uri(self.path_of(path))

    def uri_of_file(self, file: Path) -> str:
        """Return the reference of any file."""
        return _uri(self._place_of(os.path.join(os.path.realpath(file.absolute().parent), file.name)))

    def _place_of(self, file: str) -> str:
        inside = file.startswith(self.folder.rstrip("/") + "/")
        return os.path.relpath(file, self.folder) if inside else file


def _uri(place: str) -> str:
    return ("file://" if place.startswith("/") else "") + quote(os.fsencode(place))
