"""What tells that pictures are made and encoded as they were before: what is kept of them is good for as long."""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path

from oaktrim import __version__
from oaktrim.core.kernels import kernel_state


@cache
def encoding_state() -> str:
    """Return a hash of the kernels and of all that stands around them in codecs and pixels."""
    core = Path(__file__).parents[1]
    digest = hashlib.blake2b(f"{__version__} {kernel_state()}".encode(), digest_size=8)
    for folder in ("codecs", "pixels", "formats"):
        for source in sorted((core / folder).rglob("*.py")):
            digest.update(source.read_bytes())
    return digest.hexdigest()
