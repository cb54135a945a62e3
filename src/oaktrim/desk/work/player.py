"""Playing a sound by whatever player the machine has; nothing where it has none."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

from PySide6.QtCore import QObject, QProcess

# Players of the desktop's sound systems, and what they are told beside the file.
_PLAYERS: tuple[tuple[str, ...], ...] = (("pw-play",), ("paplay",), ("aplay", "-q"))


def player() -> tuple[str, ...] | None:
    """Return the command that plays a WAV file, None where there is none."""
    return next((command for command in _PLAYERS if shutil.which(command[0]) is not None), None)


class Player(QObject):
    """Plays one sound at a time."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None
        self._folder: tempfile.TemporaryDirectory[str] | None = None

    def play(self, wav: bytes) -> bool:
        """Play a WAV file's bytes in the place of what is playing; False where the machine cannot."""
        command = player()
        self.stop()
        if command is None:
            return False
        self._folder = tempfile.TemporaryDirectory(prefix="oak-trim-")
        file = Path(self._folder.name) / "sound.wav"
        file.write_bytes(wav)
        self._process = QProcess(self)
        self._process.start(command[0], [*command[1:], str(file)])
        return True

    def stop(self) -> None:
        """Be silent."""
        if self._process is not None:
            self._process.kill()
            self._process.waitForFinished(500)
            self._process = None
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None
