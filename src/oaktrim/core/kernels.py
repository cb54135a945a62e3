"""Where compiled kernels are kept: in a folder of their own for each state of their sources.

Numba looks only at the file that a kernel stands in. A kernel takes in the code of those that it calls, also from other
files, and would go on with the old code when one of those changes; so the folder's name is a hash of all modules that hold
kernels, and of those that they import.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import re
import shutil
from functools import cache
from pathlib import Path
from typing import Any

import numba
import platformdirs
from numba.core.caching import IndexDataCacheFile

_STEM = "kernels-"
_IMPORT = re.compile(rb"^from oaktrim\.([\w.]+) import", re.MULTILINE)


def kernel_sources(package: Path) -> list[Path]:
    """Return the modules below `package` (`oaktrim/core`) that hold kernels, and all of them that those import."""
    found: set[Path] = set()
    waiting = [source for source in package.rglob("*.py") if b"@njit" in source.read_bytes()]
    while waiting:
        source = waiting.pop()
        if source in found or not source.is_file():
            continue
        found.add(source)
        names = [name.decode() for name in _IMPORT.findall(source.read_bytes())]
        waiting += [package.parent.joinpath(*name.split(".")).with_suffix(".py") for name in names]
    return sorted(found)


@cache
def kernel_state() -> str:
    """Return a hash of all kernels and of what they take in: what they compute is the same while it stays."""
    package = Path(__file__).parent
    digest = hashlib.blake2b(digest_size=8)
    # What encoders try stands in data beside them.
    for source in [*kernel_sources(package), *sorted((package / "codecs").rglob("*.toml"))]:
        digest.update(source.read_bytes())
    return digest.hexdigest()


def _folder() -> Path:
    package = Path(__file__).parent
    beside = package / "__pycache__"
    if not os.access(beside if beside.exists() else package, os.W_OK):
        beside = Path(platformdirs.user_cache_dir("oak-trim"))
    return beside / f"{_STEM}{kernel_state()}"


def keep_kernels() -> None:
    """Have kernels kept in their folder, unless the environment says where; before any of them is defined."""
    config: Any = numba.config
    if not config.CACHE_DIR:
        config.CACHE_DIR = str(_folder())


def keep_in_turn() -> None:
    """Have this process keep what it compiles in turn with others that compile beside it.

    Numba reads a kernel's list of what is kept, adds to it and writes it back, and two at once would lose each other's.
    """
    files: Any = IndexDataCacheFile
    whole = files.save
    config: Any = numba.config
    Path(config.CACHE_DIR).mkdir(parents=True, exist_ok=True)
    turn = open(Path(config.CACHE_DIR) / "turn", "w")  # noqa: SIM115 - held until the process ends

    def save(self: Any, key: object, data: object) -> None:
        fcntl.flock(turn, fcntl.LOCK_EX)
        try:
            whole(self, key, data)
        finally:
            fcntl.flock(turn, fcntl.LOCK_UN)

    files.save = save


def _mark() -> Path:
    config: Any = numba.config
    return Path(config.CACHE_DIR) / "whole"


def kernels_are_whole() -> bool:
    """Say whether all kernels were compiled in this folder once."""
    return _mark().exists()


def note_whole_kernels() -> None:
    """Note that all kernels were compiled in this folder."""
    _mark().touch()


def forget_old_kernels() -> None:
    """Remove the folders of sources that are no more."""
    config: Any = numba.config
    present = Path(config.CACHE_DIR)
    if not present.name.startswith(_STEM):
        return
    for folder in present.parent.glob(f"{_STEM}*"):
        if folder != present:
            shutil.rmtree(folder, ignore_errors=True)
