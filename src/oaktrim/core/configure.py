"""What a program sets for its whole process, once, at its start; importing the core sets none of it."""

from __future__ import annotations

import logging
import os
from logging.handlers import RotatingFileHandler
from pathlib import Path

import OpenImageIO as oiio
import platformdirs
from PIL import Image as PillowImage

_LOG_BYTES, _LOG_FILES = 1 << 20, 2


def log_file() -> Path:
    """Return the file that a program logs to."""
    return Path(platformdirs.user_log_dir("oak-trim")) / "oak-trim.log"


def configure() -> None:
    """Prepare this process: picture libraries leave the weighing of claimed sizes to us, and what goes wrong is logged.

    Every program calls it before it does anything: the command line, the window, and the processes that these start.
    """
    # Readers weigh the claimed size themselves, before any pixel is decoded.
    PillowImage.MAX_IMAGE_PIXELS = None
    oiio.attribute("limits:imagesize_MB", 1 << 30)
    oiio.attribute("limits:resolution", 1 << 30)
    _log_to(log_file())


def _log_to(file: Path) -> None:
    """Have warnings and errors written to a file; where it cannot be written, they are lost, and nothing else is."""
    root = logging.getLogger("oaktrim")
    if any(isinstance(handler, RotatingFileHandler) for handler in root.handlers):
        return
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        handler: logging.Handler = RotatingFileHandler(file, maxBytes=_LOG_BYTES, backupCount=_LOG_FILES, delay=True)
    except OSError:
        handler = logging.NullHandler()
    handler.setFormatter(logging.Formatter(f"%(asctime)s {os.getpid()} %(levelname)s %(name)s: %(message)s"))
    root.addHandler(handler)
