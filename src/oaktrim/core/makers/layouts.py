"""Layouts: what each channel of a packed texture is read as, so that nobody has to remember it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

import msgspec
import platformdirs

from oaktrim.core.errors import DocumentError, Unsupported, os_fault
from oaktrim.core.fields import Name, Text, fault_in_words
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.roles import Role

_ID = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")
OUTPUT_NAMES = ("red", "green", "blue", "alpha")


class LayoutSlot(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What one output channel is read as.

    Parameters
    ----------
    name : what it holds; empty for a channel that nobody reads
    more : what a larger value means
    fill : 0..1, where there is no source
    low, high : the values that are expected, 0..1
    transfer : how readers take the codes; alpha is always linear
    role : what a texture that feeds it is used as
    opposite : a role, or words in names, that mean the same turned over, such as gloss for roughness
    words : endings of names that say it, as in `wall_ao`
    reads : slots of a material that read it (glTF 2.0, clause 3.9; MTL)
    """

    name: Name = ""
    more: Text = ""
    fill: float = 1.0
    low: float = 0.0
    high: float = 1.0
    transfer: Transfer = Transfer.LINEAR
    role: Role = Role.MASK
    opposite: tuple[Name, ...] = ()
    words: tuple[Name, ...] = ()
    reads: tuple[Slot, ...] = ()

    def __post_init__(self) -> None:
        for value in (self.fill, self.low, self.high):
            if not 0 <= value <= 1:
                raise ValueError(f"fill, low and high are 0 to 1, not {value}")
        if self.low >= self.high:
            raise ValueError(f"values are expected from low to high, not from {self.low:g} to {self.high:g}")


class Layout(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Four slots in the order red, green, blue, alpha.

    Parameters
    ----------
    id : short name, as on the command line; short : as in the names of files
    about : when it is used
    role : what the packed texture is used as
    """

    id: str
    name: Name
    short: Name
    slots: tuple[LayoutSlot, LayoutSlot, LayoutSlot, LayoutSlot]
    about: Text = ""
    role: Role = Role.SURFACE

    def __post_init__(self) -> None:
        if not _ID.fullmatch(self.id):
            raise ValueError(f"an id is lower-case letters, digits and hyphens, not {self.id!r}")
        if not any(slot.name for slot in self.slots):
            raise ValueError("a layout names at least one channel")

    @property
    def count(self) -> int:
        """Channels that are written: alpha only where it is read."""
        return 4 if self.slots[3].name else 3

    @property
    def reads(self) -> frozenset[Slot]:
        """Slots of a material that the packed texture stands in for."""
        return frozenset(slot for row in self.slots for slot in row.reads)

    def place(self, name: str) -> int:
        """Return the channel of a slot by its name.

        Raises
        ------
        Unsupported : the layout has none of that name
        """
        for place, slot in enumerate(self.slots):
            if slot.name and slot.name == name.lower():
                return place
        known = ", ".join(slot.name for slot in self.slots if slot.name)
        raise Unsupported(f"the layout {self.id} has no slot {name!r}; it has {known}")


_OCCLUSION = LayoutSlot(
    "occlusion", "more light reaches it", 1.0, role=Role.OCCLUSION, words=("ao", "occlusion", "occ"),
    reads=(Slot.OCCLUSION,),
)  # fmt: skip
_ROUGHNESS = LayoutSlot(
    "roughness", "rougher", 1.0, role=Role.ROUGHNESS, opposite=("gloss", "glossiness", "smoothness", "smooth"),
    words=("rough", "roughness", "r"), reads=(Slot.METALLIC_ROUGHNESS, Slot.ROUGHNESS),
)  # fmt: skip
_METALNESS = LayoutSlot(
    "metalness", "more metal", 0.0, role=Role.METALNESS, words=("metal", "metallic", "metalness"),
    reads=(Slot.METALLIC_ROUGHNESS, Slot.METALNESS),
)  # fmt: skip
_GLOSS = LayoutSlot(
    "gloss", "smoother", 0.5, role=Role.ROUGHNESS, opposite=("rough", "roughness", "r"),
    words=("gloss", "glossiness", "smoothness", "smooth"),
)  # fmt: skip
_NOBODY = LayoutSlot(fill=1.0)


def _mask(letter: str) -> LayoutSlot:
    return LayoutSlot(f"mask-{letter}", "more of it", 0.0, words=(f"mask_{letter}", f"m{letter}"))


# The first follows glTF 2.0: occlusion is read from red (clause 3.9.3), roughness from green and metalness from blue
# (clause 3.9.2), so that one texture can serve both slots.
LAYOUTS: tuple[Layout, ...] = (
    Layout(
        "occlusion-roughness-metalness", "Occlusion · roughness · metalness", "orm",
        (_OCCLUSION, _ROUGHNESS, _METALNESS, _NOBODY), "What glTF 2.0 reads: one texture for both of its slots.",
    ),
    Layout(
        "metalness-gloss", "Metalness · gloss in alpha", "mg",
        (msgspec.structs.replace(_METALNESS, reads=()), _NOBODY, _NOBODY, _GLOSS),
        "For shaders that read metalness from red and gloss from alpha.",
    ),
    Layout(
        "metalness-occlusion-gloss", "Metalness · occlusion · gloss in alpha", "mog",
        (
            msgspec.structs.replace(_METALNESS, reads=()), msgspec.structs.replace(_OCCLUSION, reads=()), _NOBODY,
            _GLOSS,
        ),
        "For shaders that read occlusion from green and gloss from alpha.",
    ),
    Layout(
        "masks-three", "Three masks", "masks", (_mask("a"), _mask("b"), _mask("c"), _NOBODY),
        "Masks that a shader blends by; alpha is not written.", Role.MASK,
    ),
    Layout(
        "masks-four", "Four masks", "masks", (_mask("a"), _mask("b"), _mask("c"), _mask("d")),
        "Masks that a shader blends by.", Role.MASK,
    ),
)  # fmt: skip


class _Kept(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    layouts: tuple[Layout, ...] = ()


def layouts_file() -> Path:
    """Return where the user's own layouts are kept."""
    return Path(platformdirs.user_config_dir("oak-trim")) / "layouts.json"


def user_layouts(file: Path | None = None) -> tuple[Layout, ...]:
    """Return the layouts that the user keeps for every job.

    Raises
    ------
    DocumentError : the file is there and cannot be read, or is not valid; names the field
    """
    file = file or layouts_file()
    try:
        return msgspec.json.decode(file.read_bytes(), type=_Kept).layouts
    except FileNotFoundError:
        return ()
    except OSError as error:
        raise DocumentError(file, f"cannot be read: {os_fault(error)}") from error
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise DocumentError(file, f"does not hold layouts: {fault_in_words(error)}") from error


def keep_layout(layout: Layout, file: Path | None = None) -> None:
    """Keep a layout for the user, in the place of one of the same id.

    Raises
    ------
    FileError : it cannot be written, or what is there is not valid
    """
    file = file or layouts_file()
    rows = (*(row for row in user_layouts(file) if row.id != layout.id), layout)
    write_atomic(file, msgspec.json.format(msgspec.json.encode(_Kept(rows)), indent=2) + b"\n")


def layout_named(name: str, own: Iterable[Layout] = ()) -> Layout:
    """Return a layout by its id, those of `own` first.

    Raises
    ------
    Unsupported : there is none of that id
    """
    rows = {row.id: row for row in (*LAYOUTS, *own)}
    if name not in rows:
        raise Unsupported(f"there is no layout {name!r}; known are {', '.join(rows)}")
    return rows[name]
