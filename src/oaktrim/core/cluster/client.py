"""Having textures made by the workers of a Dask scheduler, each once, into the store that proofs, fits and runs look in."""

from __future__ import annotations

import logging
import time
import uuid
from collections import deque
from collections.abc import Generator, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from weakref import WeakValueDictionary

import msgspec
from distributed import Client, Event, Future, as_completed
from distributed.comm.core import CommClosedError

from oaktrim.core.cluster import worker
from oaktrim.core.codecs.settings import EncodeSettings
from oaktrim.core.codecs.texture import EncodedTexture, band_rows
from oaktrim.core.errors import OakTrimError, ShipError
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.plan.resolve import content_key
from oaktrim.core.ship.make import as_surveyed, read_source
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.places import source_bytes

_LOG = logging.getLogger(__name__)
# From so many pixels on a texture is made in parts of about so many.
_LARGE, _PART = 1 << 22, 1 << 21
# Tasks that wait at each thread of a worker, so that none is idle and little is sent in vain.
_AHEAD = 2
# Seconds: to reach a scheduler, between two looks at what has arrived and at the workers, and to wait for a worker to come.
_CONNECT, _WAIT, _LOOK_EVERY, _PATIENCE = 10, 0.02, 2.0, 60.0


@dataclass
class _Work:
    """A texture on its way: how many parts of it are still out, and those that are back; and its source, where that was sent."""

    position: int
    row: int
    settings: EncodeSettings
    source: Future | None = None
    parts: dict[tuple[int, int] | None, list[bytes]] = field(default_factory=dict)
    waiting: int = 0
    seconds: float = 0.0


class Cluster:
    """The workers of a scheduler.

    Raises
    ------
    ShipError : it cannot be reached, has no workers, or one of another version
    """

    def __init__(self, address: str, max_pixels: int = MAX_PIXELS) -> None:
        # What it says on its own is said again below, in our words.
        for name in ("distributed.client", "distributed.core", "distributed.comm", "distributed.batched"):
            logging.getLogger(name).setLevel(logging.CRITICAL)
        self._address, self._max_pixels = address, max_pixels
        try:
            self._client = Client(address, timeout=_CONNECT, set_as_default=False, name="oak-trim")
        except (OSError, TimeoutError, ValueError, RuntimeError) as error:
            raise ShipError(f"{address}: no scheduler can be reached there ({type(error).__name__})") from error
        try:
            self._threads = self._look_at_workers()
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Leave the scheduler."""
        with suppress(Exception):
            self._client.close(timeout=2)

    def _look_at_workers(self) -> int:
        ours = worker.version()
        try:
            found = self._client.run(worker.version, on_error="return")
        except Exception as error:
            raise ShipError(f"{self._address}: its workers do not answer ({type(error).__name__})") from error
        if not found:
            raise ShipError(f"{self._address}: has no workers; start one with: dask worker {self._address}")
        for place, told in found.items():
            if isinstance(told, BaseException):
                raise ShipError(f"{place}: the worker cannot make textures: {type(told).__name__}: {told}")
            self.compare(place, told, ours)
        return max(1, sum(map(int, self._client.nthreads().values())))

    @staticmethod
    def compare(place: str, theirs: str, ours: str) -> None:
        """See that a worker is of the same version.

        Raises
        ------
        ShipError : it is not
        """
        if theirs != ours:
            (version, _, kernels), (ours_version, _, our_kernels) = theirs.partition(" "), ours.partition(" ")
            differs = (
                f"has Oak Trim {version}, and this is {ours_version}"
                if version != ours_version
                else f"has other encoders than this Oak Trim {ours_version} (state {kernels}, here {our_kernels})"
            )
            raise ShipError(f"{place}: the worker {differs}: install the same on all machines, and start it again")

    def ahead(
        self,
        inventory: Inventory,
        wanted: Sequence[tuple[int, EncodeSettings]],
        store: MadeStore,
    ) -> Generator[int]:
        """Have textures made and kept in a store, and yield their places as they are there.

        What the store has already, what is no work, and what no worker could make come too: whoever takes it from here makes
        it or finds out why not. Closing the iterator calls the workers off.

        Parameters
        ----------
        wanted : rows of the inventory, and what each is made as

        Raises
        ------
        ShipError : the scheduler or all workers are gone, or one has another version
        """
        run = _Run(self._client, self._address, self._threads, inventory, store, self._max_pixels)
        try:
            yield from run.places(wanted)
        except (CommClosedError, TimeoutError) as error:
            raise run.gone() from error
        finally:
            run.call_off()


class _Run:
    """Textures that are on their way together."""

    def __init__(
        self, client: Client, address: str, threads: int, inventory: Inventory, store: MadeStore, max_pixels: int
    ) -> None:
        self._client, self._address, self._threads = client, address, threads
        self._inventory, self._store, self._max_pixels = inventory, store, max_pixels
        self._name, self._version = f"oak-trim-{uuid.uuid4().hex}", worker.version()
        self._event = Event(self._name, client=client)
        self._out: dict[Future, tuple[_Work, tuple[int, int] | None]] = {}
        # Sources that were sent stay with the workers as long as something is made of them.
        self._sent: WeakValueDictionary[str, Future] = WeakValueDictionary()
        self._shared: bool | None = None
        self._lonely = self._looked = 0.0

    def call_off(self) -> None:
        """Have workers leave what they are at."""
        if not self._out:
            return
        with suppress(Exception):
            self._event.set()
            self._client.cancel(list(self._out), force=True)
        self._out.clear()

    def places(self, wanted: Sequence[tuple[int, EncodeSettings]]) -> Iterator[int]:
        due: dict[str, list[int]] = {}
        for position, (row, settings) in enumerate(wanted):
            key = content_key(self._inventory, row, settings)
            if not self._is_work(row, settings) or self._store.holds(key):
                yield position
            else:
                due.setdefault(key, []).append(position)
        waiting = deque(due.values())
        back = as_completed([], loop=self._client.loop, with_results=False)
        places = {positions[0]: positions for positions in due.values()}
        while places:
            self._look_around()
            while waiting and not self._lonely and len(self._out) < self._threads * (_AHEAD + 1):
                row, settings = wanted[waiting[0][0]]
                try:
                    taken = self._submit(_Work(waiting[0][0], row, settings), back)
                except TimeoutError:
                    # Nobody is there to take a source; the scheduler says how long that has been so.
                    self._looked = 0.0
                    break
                positions = waiting.popleft()
                if not taken:
                    yield from places.pop(positions[0])
            for work in self._arrived(back):
                yield from places.pop(work.position)

    def _is_work(self, row: int, settings: EncodeSettings) -> bool:
        """Say whether a texture takes an encoder: what keeps its file's own blocks, or has none, does not."""
        return format_named(settings.format).compressed and self._inventory.textures[row].format != settings.format

    def _submit(self, work: _Work, back: as_completed) -> bool:
        """Send a texture, whole or in parts; say whether it could be, which takes a source that can be read."""
        texture = self._inventory.textures[work.row]
        try:
            root, work.source = self._source(work.row)
        except OakTrimError:
            return False
        parts = self._parts(work)
        work.waiting = len(parts)
        for part in parts:
            ask = worker.Ask(
                self._name, texture, self._inventory.roles[work.row].role, work.settings, self._max_pixels, root, part
            )
            future = self._client.submit(
                worker.make, msgspec.msgpack.encode(ask), self._version, work.source, pure=False, retries=2
            )
            self._out[future] = work, part
            back.add(future)
        return True

    def _parts(self, work: _Work) -> list[tuple[int, int] | None]:
        settings = work.settings
        large = settings.width * settings.height >= _LARGE and self._threads > 1
        if not large or settings.loss > 0 or self._inventory.textures[work.row].slices > 1:
            return [None]
        band = band_rows(settings.width)
        step = max(1, _PART // (settings.width * band)) * band
        rows = [(start, min(settings.height, start + step)) for start in range(0, settings.height, step)]
        # The levels below first: they are the largest part.
        return [(0, 0), *rows] if settings.levels > 1 else list(rows)

    def _source(self, row: int) -> tuple[str, Future | None]:
        """Return the root where workers see the source, and else its bytes, sent once for all that is made of it."""
        texture, root = self._inventory.textures[row], str(self._inventory.root)
        if texture.file_bytes and self._shared is None:
            told = self._client.run(worker.sees, root, texture.path, texture.content, on_error="return").values()
            if not any(isinstance(answer, bool) for answer in told):
                raise TimeoutError
            # Of a worker that could not say, as it has just gone, nothing is taken for seen.
            self._shared = all(answer is True for answer in told)
            _LOG.info("sources are %s", "read by the workers" if self._shared else "sent to the workers")
        if texture.file_bytes and self._shared:
            return root, None
        sent = self._sent.get(texture.content)
        if sent is None:
            if texture.file_bytes:
                data = source_bytes(self._inventory.root, texture.path)
            else:
                picture = read_source(self._inventory, row, self._max_pixels)
                data = msgspec.msgpack.encode(worker.Picture.of(picture))
            sent = self._client.scatter(data, hash=True)
            self._sent[texture.content] = sent
        return "", sent

    def _arrived(self, back: as_completed) -> Iterator[_Work]:
        """Wait a moment, and yield the textures that no more is awaited of."""
        batch: list[Future] = back.next_batch(block=False)
        if not batch:
            time.sleep(_WAIT)
        for future in batch:
            work, part = self._out.pop(future)
            if work.waiting and self._take(work, part, self._answer(future)):
                yield work

    def _answer(self, future: Future) -> worker.Answer:
        """Return what came of a task; a fault where no worker brought it to an end."""
        if future.status == "finished":
            answer = msgspec.msgpack.decode(future.result(), type=worker.Answer)
            if answer.state:
                Cluster.compare("a worker that came later", answer.state, self._version)
            return answer
        if self._client.status != "running" or future.status in ("cancelled", "lost"):
            raise self.gone()
        return worker.Answer(fault=f"workers could not end it: {future.exception()!r}"[:500])

    def _take(self, work: _Work, part: tuple[int, int] | None, answer: worker.Answer) -> bool:
        """Take an answer, and say whether that was the last of its texture."""
        path = self._inventory.textures[work.row].path
        if answer.fault:
            _LOG.warning("%s: made here, as on a worker it %s", path, answer.fault)
            work.waiting = 0
            return True
        for key, packed in answer.made.items():
            self._store.keep_packed(key, packed)
        work.parts[part] = answer.levels
        work.waiting -= 1
        work.seconds += answer.seconds
        if not work.waiting and part is not None:
            settings, key = work.settings, content_key(self._inventory, work.row, work.settings)
            rows = sorted(part for part in work.parts if part and part[1])
            first = b"".join(work.parts[part][0] for part in rows)
            levels = (first, *work.parts.get((0, 0), []))
            row, transfer = format_named(settings.format), Transfer(answer.transfer)
            made = EncodedTexture(row, settings.width, settings.height, transfer, levels)
            if as_surveyed(self._inventory, work.row, self._max_pixels):
                self._store.keep(key, made, work.seconds)
        return not work.waiting

    def _look_around(self) -> None:
        """See that the scheduler is there and has workers.

        Raises
        ------
        ShipError : it is gone, or no worker has come for a while
        """
        if self._client.status != "running":
            raise self.gone()
        now = time.monotonic()
        if now < self._looked + _LOOK_EVERY:
            return
        self._looked = now
        if self._client.nthreads():
            self._lonely = 0.0
        elif not self._lonely:
            self._lonely = now
        elif now - self._lonely > _PATIENCE:
            raise ShipError(f"{self._address}: all workers are gone; what was made is kept, and the next run goes on")

    def gone(self) -> ShipError:
        """Return what to say of a scheduler that answers no more."""
        return ShipError(f"{self._address}: the scheduler is gone; what was made is kept, and the next run goes on")
