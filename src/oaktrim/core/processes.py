"""Starting modules of this package as programs of their own."""

from __future__ import annotations

import os
import subprocess
import sys
from typing import Any


def start(module: str, *given: bytes, **how: Any) -> subprocess.Popen[bytes]:
    """Start a module as a program that finds all that this one finds; `how` is as for `subprocess.Popen`."""
    there = {**os.environ, "PYTHONPATH": os.pathsep.join(filter(None, sys.path))}
    return subprocess.Popen([sys.executable, "-m", module, *given], env=there, **how)
