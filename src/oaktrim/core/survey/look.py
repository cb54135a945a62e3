"""Looking, in a process of its own, whether a large tree is on disk as its last survey left it.

That takes seconds, during which a window that shared a lock with it would halt again and again. Started as a program, this
module takes a root, the folder of a cache and settings, and ends with 0 where nothing is different.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import msgspec

from oaktrim.core.configure import configure
from oaktrim.core.processes import start
from oaktrim.core.progress import Progress, Task
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import ScanSettings, as_surveyed

_SAME, _DIFFERENT = 0, 1


def looks_the_same(root: Path, settings: ScanSettings, cache: SurveyCache) -> Task[bool]:
    """Return whether a tree is as the cache remembers it; not, where that cannot be told."""
    looking = start(__name__, os.fsencode(root), os.fsencode(cache.folder), msgspec.json.encode(settings))
    try:
        while True:
            try:
                return looking.wait(0.1) == _SAME
            except subprocess.TimeoutExpired:
                yield Progress(0, 0, "looking at the disk")
    finally:
        looking.kill()
        looking.wait()


def main(root: str, cache: str, settings: str) -> int:
    """Look, without being in anybody's way."""
    configure()
    os.nice(5)
    told = msgspec.json.decode(settings, type=ScanSettings)
    return _SAME if as_surveyed(Path(root), told, SurveyCache(Path(cache))) else _DIFFERENT


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
