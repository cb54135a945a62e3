"""The manifest beside shipped files: what each was made from and how, and what it weighs; the memory of the next run."""

from __future__ import annotations

from pathlib import Path

import msgspec

from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.errors import DocumentError, FileError, OakTrimError
from oaktrim.core.sounds.codecs import SoundSettings
from oaktrim.core.trim.settings import ModelSettings

SCHEMA = "oak-trim.manifest/1"
NAME = "manifest.json"


class Entry(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One shipped texture.

    Parameters
    ----------
    source, source_hash : path below the root, and BLAKE2b of its bytes
    role : what its code values are read as
    output, output_hash : path below the output folder, and BLAKE2b of its bytes
    settings : how it was brought down and encoded
    file_bytes : of the output; memory : on the target; package : after the target's packing, measured
    psnr : dB over the colour channels, measured after reading back; null when the pixels are exact
    """

    source: str
    source_hash: str
    role: str
    output: str
    output_hash: str
    settings: EncodeSettings
    file_bytes: int
    memory: int
    package: int
    psnr: float | None


class SoundEntry(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One shipped sound.

    Parameters
    ----------
    source, source_hash, output, output_hash, file_bytes, package : as in `Entry`
    role : what it is used as
    settings : how it was brought down and encoded; null where its own file was copied
    seconds : its length; memory : as the target holds it
    """

    source: str
    source_hash: str
    role: str
    output: str
    output_hash: str
    settings: SoundSettings | None
    seconds: float
    file_bytes: int
    memory: int
    package: int


class Companion(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What goes beside the textures: a model, a buffer that one needs, or what a maker says of its texture.

    Parameters
    ----------
    output, output_hash : path below the output folder, and BLAKE2b of its bytes
    """

    output: str
    output_hash: str
    file_bytes: int


class ModelEntry(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What of a model is counted beside its textures: its geometry and its clips.

    Parameters
    ----------
    source, source_hash : path below the root, and BLAKE2b of what of it counts
    file_bytes : of that, as it ships; package : after the target's packing, packed whole
    settings : how it was trimmed, None where it was not
    """

    source: str
    source_hash: str
    file_bytes: int
    package: int
    settings: ModelSettings | None = None


class Failure(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A texture that could not be shipped, or a file that could not be weighed, and why."""

    source: str
    error: str

    @classmethod
    def of(cls, source: str, error: OakTrimError) -> Failure:
        """Return a failure whose words name the file, whether the error does or not."""
        return cls(source, str(error) if isinstance(error, FileError) else f"{source}: {error}")


class Manifest(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """All that a run shipped; `packing` is the method and level that `package` was measured with."""

    schema: str
    oak_trim: str
    target: str
    container: str
    packing: str
    textures: tuple[Entry, ...]
    failed: tuple[Failure, ...] = ()
    beside: tuple[Companion, ...] = ()
    # Sounds stood here, too, before they were shipped.
    models: tuple[ModelEntry, ...] = msgspec.field(default=(), name="passthrough")
    sounds: tuple[SoundEntry, ...] = ()

    def bytes(self) -> bytes:
        """Return the manifest as readable JSON."""
        return msgspec.json.format(msgspec.json.encode(self), indent=1) + b"\n"


def load_manifest(path: Path) -> Manifest | None:
    """Return the manifest of an earlier run, or None where there is none.

    Raises
    ------
    DocumentError : there is a file of that name that is no manifest of ours
    """
    try:
        manifest = msgspec.json.decode(path.read_bytes(), type=Manifest)
    except FileNotFoundError:
        return None
    except (OSError, msgspec.DecodeError, UnicodeDecodeError) as error:
        raise DocumentError(path, f"is not a manifest of Oak Trim: {error}") from error
    if manifest.schema != SCHEMA:
        raise DocumentError(path, f"has schema {manifest.schema!r}, not {SCHEMA!r}")
    return manifest
