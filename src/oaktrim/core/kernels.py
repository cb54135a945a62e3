"""Where compiled kernels are kept: in a folder of their own for each module of them and each state of what it stands on.

Numba looks only at the file that a kernel stands in. A kernel takes in the code of those that it calls, also from other
files, and would go on with the old code when one of those changes; so a folder's name is a hash of a module that holds
kernels and of all that it imports. What did not change is not compiled again.

Modules that hold kernels take `njit` from here, so that the place is set before any of them is defined.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import re
import shutil
from collections.abc import Iterable
from functools import cache
from pathlib import Path
from typing import Any

import numba
import platformdirs
from numba import njit
from numba.core.caching import CacheImpl, IndexDataCacheFile, UserProvidedCacheLocator

__all__ = (
    "forget_old_kernels", "keep_in_turn", "keep_kernels", "kernel_sources", "kernel_state", "kernels_are_whole", "njit",
    "note_whole_kernels",
)  # fmt: skip

_FOLDER, _WHOLE = "kernels", "whole"
_IMPORT = re.compile(rb"^from oaktrim\.([\w.]+) import", re.MULTILINE)
_KERNEL = re.compile(rb"^@njit", re.MULTILINE)
_PACKAGE = Path(__file__).parent


def _closure(package: Path, sources: Iterable[Path]) -> list[Path]:
    """Return some modules and all of the product that they import, directly or not."""
    found: set[Path] = set()
    waiting = list(sources)
    while waiting:
        source = waiting.pop()
        # This module only says where they are kept.
        if source in found or not source.is_file() or source == Path(__file__):
            continue
        found.add(source)
        names = [name.decode() for name in _IMPORT.findall(source.read_bytes())]
        waiting += [package.parent.joinpath(*name.split(".")).with_suffix(".py") for name in names]
    return sorted(found)


def _modules(package: Path) -> list[Path]:
    """Return the modules that hold kernels."""
    return [source for source in sorted(package.rglob("*.py")) if _KERNEL.search(source.read_bytes())]


def kernel_sources(package: Path) -> list[Path]:
    """Return the modules below `package` (`oaktrim/core`) that hold kernels, and all of them that those import."""
    return _closure(package, _modules(package))


def _hash(sources: Iterable[Path]) -> str:
    digest = hashlib.blake2b(digest_size=8)
    for source in sources:
        digest.update(source.read_bytes())
    return digest.hexdigest()


@cache
def kernel_state() -> str:
    """Return a hash of all kernels and of what they take in: what they compute is the same while it stays."""
    # What encoders try stands in data beside them.
    return _hash([*kernel_sources(_PACKAGE), *sorted((_PACKAGE / "codecs").rglob("*.toml"))])


@cache
def _folder_of(module: Path) -> str:
    """Return the name of the folder for a module's kernels."""
    name = "-".join(module.with_suffix("").relative_to(_PACKAGE).parts)
    return f"{name}-{_hash(_closure(_PACKAGE, [module]))}"


def _base() -> Path:
    beside = _PACKAGE / "__pycache__"
    if not os.access(beside if beside.exists() else _PACKAGE, os.W_OK):
        beside = Path(platformdirs.user_cache_dir("oak-trim"))
    return beside / _FOLDER


class _Locator(UserProvidedCacheLocator):
    """Finds the folder of a kernel by the state of all that its module stands on."""

    def __init__(self, py_func: Any, py_file: str) -> None:
        super().__init__(py_func, py_file)  # type: ignore[no-untyped-call]
        file, config = Path(py_file), numba.config  # type: Path, Any
        if file.is_relative_to(_PACKAGE):
            self._cache_path = os.path.join(config.CACHE_DIR, _folder_of(file))

    def get_source_stamp(self) -> object:
        """Nothing: the folder's name says it."""
        return _FOLDER


def keep_kernels() -> None:
    """Have kernels kept in their folders, unless the environment says where; before any of them is defined."""
    config: Any = numba.config
    if not config.CACHE_DIR:
        config.CACHE_DIR = str(_base())
        CacheImpl._locator_classes = [_Locator, *CacheImpl._locator_classes]


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
    return Path(config.CACHE_DIR) / _WHOLE


def kernels_are_whole() -> bool:
    """Say whether all kernels, as they are now, were compiled once."""
    try:
        return _mark().read_text() == kernel_state()
    except OSError:
        return False


def note_whole_kernels() -> None:
    """Note that all kernels were compiled."""
    _mark().write_text(kernel_state())


def forget_old_kernels() -> None:
    """Remove the folders of what is no more."""
    base = _base()
    config: Any = numba.config
    if Path(config.CACHE_DIR) != base:
        return
    present = {_folder_of(module) for module in _modules(_PACKAGE)}
    old = [folder for folder in base.glob("*-*") if folder.is_dir() and folder.name not in present]
    # As they were kept before, one folder for all.
    for folder in [*old, *base.parent.glob(f"{_FOLDER}-*")]:
        shutil.rmtree(folder, ignore_errors=True)


keep_kernels()
