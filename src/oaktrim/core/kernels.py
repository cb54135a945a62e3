"""Where compiled kernels are kept: in a folder of their own for each state of the sources.

Numba looks only at the file that a kernel stands in. A kernel takes in the code of those that it calls, also from other
files, and would go on with the old code when one of those changes; so the folder's name is a hash of all sources.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from pathlib import Path
from typing import Any

import numba
import platformdirs

_STEM = "kernels-"


def _folder() -> Path:
    package = Path(__file__).parent
    digest = hashlib.blake2b(digest_size=8)
    for source in sorted(package.rglob("*.py")):
        digest.update(source.read_bytes())
    beside = package / "__pycache__"
    if not os.access(beside if beside.exists() else package, os.W_OK):
        beside = Path(platformdirs.user_cache_dir("oak-trim"))
    return beside / f"{_STEM}{digest.hexdigest()}"


def keep_kernels() -> None:
    """Have kernels kept in their folder, unless the environment says where; before any of them is defined."""
    config: Any = numba.config
    if not config.CACHE_DIR:
        config.CACHE_DIR = str(_folder())


def forget_old_kernels() -> None:
    """Remove the folders of sources that are no more."""
    config: Any = numba.config
    present = Path(config.CACHE_DIR)
    if not present.name.startswith(_STEM):
        return
    for folder in present.parent.glob(f"{_STEM}*"):
        if folder != present:
            shutil.rmtree(folder, ignore_errors=True)
