"""What a person sets once for all jobs: `settings.toml` in the user's settings folder, and where all else is kept."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import Annotated, Literal

import msgspec
import platformdirs

from oaktrim.core.errors import DocumentError
from oaktrim.core.fields import MAX_PIXELS, Name, Pixels, fault_in_words
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.targets.target import parse_bytes

_LOG = logging.getLogger(__name__)
_DEFAULT_LIMIT = "2 GiB"
Threads = Annotated[int, msgspec.Meta(ge=0, le=256)]


class Settings(msgspec.Struct, frozen=True):
    """Settings.

    Parameters
    ----------
    theme : of the window; empty to follow the desktop
    threads : that work at once; 0 for as many as there are processors
    cache_limit : bytes that surveys may keep, and as much for textures that were made, as `2 GiB`
    max_pixels : of a new job: pictures that claim more are not decoded
    targets : of a new job, by id; none for all that ship with the product
    """

    theme: Literal["", "light", "dusk"] = ""
    threads: Threads = 0
    cache_limit: str = _DEFAULT_LIMIT
    max_pixels: Pixels = MAX_PIXELS
    targets: tuple[Name, ...] = ()

    def __post_init__(self) -> None:
        parse_bytes(self.cache_limit)

    @property
    def cache_bytes(self) -> int:
        """How many bytes surveys may keep."""
        return parse_bytes(self.cache_limit)


def cache_folder() -> Path:
    """Return the folder for everything that can be made again."""
    return Path(platformdirs.user_cache_dir("oak-trim"))


def settings_file() -> Path:
    """Return where the settings are kept."""
    return Path(platformdirs.user_config_dir("oak-trim")) / "settings.toml"


def read_settings(path: Path) -> Settings:
    """Read settings; those of a file that is not there are the defaults.

    Raises
    ------
    DocumentError : the file is not TOML, or a field has no such value; names both
    """
    try:
        data = path.read_bytes()
    except OSError:
        return Settings()
    try:
        return msgspec.toml.decode(data, type=Settings)
    except (msgspec.DecodeError, UnicodeDecodeError, ValueError) as error:
        raise DocumentError(path, fault_in_words(error)) from error


def load_settings() -> Settings:
    """Return the user's settings; where the file is wrong, that is logged, and the defaults hold."""
    try:
        return read_settings(settings_file())
    except DocumentError as error:
        _LOG.warning("%s", error)
        return Settings()


def save_settings(settings: Settings) -> None:
    """Write the user's settings.

    Raises
    ------
    FileError : the file cannot be written
    """
    file = settings_file()
    file.parent.mkdir(parents=True, exist_ok=True)
    write_atomic(file, msgspec.toml.encode(settings))
