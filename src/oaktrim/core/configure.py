"""What a program sets for its whole process, once, at its start; importing the core sets none of it."""

from __future__ import annotations

import os

import OpenImageIO as oiio
from PIL import Image as PillowImage

from oaktrim.core.log import log_file, log_to
from oaktrim.core.progress import THREADS
from oaktrim.core.settings import load_settings


def configure_work() -> None:
    """Have picture libraries leave the weighing of claimed sizes to us, and use as many threads as the settings say."""
    # Before any pixel is decoded.
    PillowImage.MAX_IMAGE_PIXELS = None
    oiio.attribute("limits:imagesize_MB", 1 << 30)
    oiio.attribute("limits:resolution", 1 << 30)
    threads = load_settings().threads
    if threads:
        os.environ.setdefault(THREADS, str(threads))


def configure() -> None:
    """Prepare this process: pictures are read as we weigh them, by so many threads, and what goes wrong is logged.

    The window and the processes beside a program call it before they do anything; commands do each when it is needed.
    """
    configure_work()
    log_to(log_file())
