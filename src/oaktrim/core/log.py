"""Where a program writes what goes wrong."""

from __future__ import annotations

import logging
import os
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

_LOG_BYTES, _LOG_FILES = 1 << 20, 2


def log_file() -> Path:
    """Return the file that a program logs to."""
    return Path(platformdirs.user_log_dir("oak-trim")) / "oak-trim.log"


def log_to(file: Path) -> None:
    """Have what is done and what goes wrong written to a file; where it cannot be written, it is lost, and nothing else is."""
    root = logging.getLogger("oaktrim")
    root.setLevel(logging.INFO)
    if any(isinstance(handler, RotatingFileHandler) for handler in root.handlers):
        return
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        handler: logging.Handler = RotatingFileHandler(file, maxBytes=_LOG_BYTES, backupCount=_LOG_FILES, delay=True)
    except OSError:
        handler = logging.NullHandler()
    handler.setFormatter(logging.Formatter(f"%(asctime)s {os.getpid()} %(levelname)s %(name)s: %(message)s"))
    root.addHandler(handler)


def log_aloud() -> None:
    """Have everything written to the standard error, too, down to what only helps who looks for a fault."""
    root = logging.getLogger("oaktrim")
    root.setLevel(logging.DEBUG)
    handler = logging.StreamHandler()
    handler.setFormatter(logging.Formatter("%(relativeCreated)7d ms %(name)s: %(message)s"))
    root.addHandler(handler)
