"""Whether a window could be shown here: a display, and the system's libraries that one needs."""

from __future__ import annotations

import ctypes
import os
from collections.abc import Mapping

# The package of Debian and its derivatives that holds each library: those of any window, and those of one under X11.
_ANY = {
    "libEGL.so.1": "libegl1", "libGL.so.1": "libgl1", "libxkbcommon.so.0": "libxkbcommon0", "libdbus-1.so.3": "libdbus-1-3",
    "libfontconfig.so.1": "libfontconfig1",
}  # fmt: skip
_X11 = {
    "libxcb-cursor.so.0": "libxcb-cursor0", "libxkbcommon-x11.so.0": "libxkbcommon-x11-0", "libxcb-icccm.so.4": "libxcb-icccm4",
    "libxcb-image.so.0": "libxcb-image0", "libxcb-keysyms.so.1": "libxcb-keysyms1", "libxcb-shape.so.0": "libxcb-shape0",
    "libxcb-render-util.so.0": "libxcb-render-util0", "libxcb-xkb.so.1": "libxcb-xkb1",
}  # fmt: skip


def has_display(environment: Mapping[str, str] = os.environ) -> bool:
    """Say whether a window could be shown here."""
    return any(environment.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))


def missing_packages(environment: Mapping[str, str] = os.environ) -> list[str]:
    """Return the system's packages that a window needs here and that are not installed."""
    platform = environment.get("QT_QPA_PLATFORM", "")
    x11 = platform.startswith("xcb") if platform else not environment.get("WAYLAND_DISPLAY")
    needed = _ANY | _X11 if x11 else _ANY
    return [package for library, package in needed.items() if not _loads(library)]


def _loads(library: str) -> bool:
    try:
        ctypes.CDLL(library)
    except OSError:
        return False
    return True
