"""What a worker does: it makes one texture, or a part of a large one, of a source that it reads or is given."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Generator
from pathlib import Path

import msgspec
import numpy as np
from distributed import Event

from oaktrim import __version__
from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.codecs.state import encoding_state
from oaktrim.core.codecs.texture import EncodedTexture
from oaktrim.core.configure import configure_work
from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import Progress, Task
from oaktrim.core.ship.make import make_part, make_texture
from oaktrim.core.ship.store import MadeStore, packed_texture
from oaktrim.core.survey.facts import IMAGE_MARK, TextureFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.ownership import link
from oaktrim.core.survey.places import source_bytes
from oaktrim.core.survey.roles import Certainty, Role, RoleGuess

# Seconds between two looks at whether the work is still wanted.
_LOOK_EVERY = 1.0


class Picture(msgspec.Struct, frozen=True, array_like=True):
    """A picture as bytes."""

    shape: tuple[int, int, int]
    kind: str
    channels: tuple[str, ...]
    transfer: str
    pixels: bytes

    @classmethod
    def of(cls, image: Image) -> Picture:
        """Return an image as bytes."""
        pixels = np.ascontiguousarray(image.pixels)
        height, width, count = pixels.shape
        return cls((height, width, count), pixels.dtype.str, image.channels, image.transfer.value, pixels.tobytes())

    def image(self) -> Image:
        """Return it as an image."""
        pixels = np.frombuffer(self.pixels, self.kind).reshape(self.shape)
        return Image(pixels, self.channels, Transfer(self.transfer))


class Ask(msgspec.Struct, frozen=True, array_like=True):
    """A texture to be made.

    Parameters
    ----------
    wanted : name of the event that is set when nobody wants it any more
    facts, role, settings, max_pixels : as `make_texture` is given them
    root : of the tree, where workers see it; else empty
    part : rows of level 0 that are wanted, or (0, 0) for the levels below; None for all
    """

    wanted: str
    facts: TextureFacts
    role: Role
    settings: EncodeSettings
    max_pixels: int
    root: str = ""
    part: tuple[int, int] | None = None


class Answer(msgspec.Struct, frozen=True, array_like=True):
    """What came of it.

    Parameters
    ----------
    made : what the store keeps, by its keys, of a whole texture
    levels : the bytes of a part; transfer : of the whole
    fault : why it could not be made; state : of another version than was asked for
    """

    made: dict[str, bytes] = {}
    levels: list[bytes] = []
    transfer: str = ""
    seconds: float = 0.0
    fault: str = ""
    state: str = ""


_ASKS, _PICTURES = msgspec.msgpack.Decoder(Ask), msgspec.msgpack.Decoder(Picture)


class _Kept(MadeStore):
    """A store that only holds what was made here, ready to be sent."""

    def __init__(self) -> None:
        super().__init__(Path("/nonexistent"))
        self.made: dict[str, bytes] = {}

    def get(self, key: str) -> tuple[EncodedTexture, float] | None:
        return None

    def keep(self, key: str, made: EncodedTexture, seconds: float) -> None:
        self.made[key] = packed_texture(made, seconds)


def version() -> str:
    """Return what has to be equal on all machines, for the same bytes to come of the same settings."""
    return f"{__version__} {encoding_state()}"


def sees(root: str, path: str, content: str) -> bool:
    """Say whether a source below a root is here what it is elsewhere."""
    try:
        return content_hash(source_bytes(Path(root), path)) == content
    except (OakTrimError, IndexError):
        return False


def make(asked: bytes, expected: str, source: bytes | None) -> bytes:
    """Make what an `Ask` says, and return an `Answer`.

    Parameters
    ----------
    expected : the version of who asks
    source : the bytes of the source's file, or a `Picture` where no file holds it; None where it is read below the root
    """
    if version() != expected:
        return msgspec.msgpack.encode(Answer(state=version()))
    configure_work()
    ask, started = _ASKS.decode(asked), time.perf_counter()
    try:
        with tempfile.TemporaryDirectory(prefix="oak-trim-") as folder:
            inventory, image = _at_hand(ask, source, Path(folder))
            answer = _while_wanted(_made(ask, inventory, image), ask.wanted)
    except OakTrimError as error:
        answer = Answer(fault=str(error))
    except MemoryError:
        answer = Answer(fault="does not fit in the memory of a worker")
    return msgspec.msgpack.encode(msgspec.structs.replace(answer, seconds=time.perf_counter() - started))


def _at_hand(ask: Ask, source: bytes | None, folder: Path) -> tuple[Inventory, Image | None]:
    """Return an inventory of one texture whose source can be read here, or its picture."""
    facts, root, image = ask.facts, Path(ask.root), None
    if source is not None:
        root = folder
        if facts.file_bytes:
            ending = "" if IMAGE_MARK in facts.path else Path(facts.path).suffix
            facts = msgspec.structs.replace(facts, path=f"source{ending}")
            (folder / facts.path).write_bytes(source)
        else:
            image = _PICTURES.decode(source).image()
    role = RoleGuess(ask.role, "", Certainty.CHOSEN)
    return Inventory(root, (facts,), (role,), (), 1, (), link(root, [], {}, {})), image


def _made(ask: Ask, inventory: Inventory, image: Image | None) -> Task[Answer]:
    if ask.part is not None:
        transfer, levels = yield from make_part(inventory, 0, ask.settings, ask.part, ask.max_pixels, image)
        return Answer(levels=levels, transfer=transfer.value)
    store = _Kept()
    yield from make_texture(inventory, 0, ask.settings, ask.max_pixels, 1, image, store)
    return Answer(made=store.made)


def _while_wanted(task: Generator[Progress, None, Answer], wanted: str) -> Answer:
    """Return what a task comes to, or nothing from when nobody wants it any more."""
    looked = time.monotonic()
    while True:
        try:
            next(task)
        except StopIteration as end:
            answer: Answer = end.value
            return answer
        if time.monotonic() - looked > _LOOK_EVERY:
            looked = time.monotonic()
            if Event(wanted).is_set():
                task.close()
                return Answer(fault="is no longer wanted")
