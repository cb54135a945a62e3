"""Reading files of a tree in a process of its own.

Threads share the interpreter's lock, with each other and with a window. Processes do not, and a file that brings its
reader down leaves all others. Started as a program, this module is such a process: it says that it is ready, takes an `Ask` a
message on its standard input and answers with a list of `ReadResult` on its standard output, until the input ends.
"""

from __future__ import annotations

import os
import struct
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import IO

import msgspec

from oaktrim.core.configure import configure
from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.processes import start
from oaktrim.core.survey.cache import PackedSample, packed_sample
from oaktrim.core.survey.facts import FileFacts
from oaktrim.core.survey.read import reader_for
from oaktrim.core.survey.walk import Seen

_LENGTH = struct.Struct("<I")
_READY = b"ready"
_BROUGHT_DOWN = "brought down what read it; it is not read again until it changes"


class ReadResult(msgspec.Struct, frozen=True, array_like=True):
    """What reading one file gave: its facts and the samples of its pixels, or why it cannot be read."""

    facts: FileFacts | None
    fault: str = ""
    samples: dict[str, PackedSample] = {}


_RESULTS = msgspec.msgpack.Decoder(list[ReadResult])


class Ask(msgspec.Struct, frozen=True, array_like=True):
    """Files to read, below a root; `sampled` says whether their samples are wanted, too.

    Names stand as bytes: not all are text.
    """

    root: bytes
    max_pixels: int
    sampled: bool
    files: list[tuple[str, bytes, int, int]]


def tell(seen: Seen, root: Path, max_pixels: int, sampled: bool, alone: bool = False) -> ReadResult:
    """Read a file; `alone` as in `picture_with_facts`."""
    read = reader_for(seen.path)
    assert read is not None
    try:
        facts, samples = read(seen, root, max_pixels, alone)
        ready = {content: packed_sample(sample) for content, sample in samples.items()} if sampled else {}
        return ReadResult(facts, "", ready)
    except FileError as error:
        return ReadResult(None, error.fault)
    except OakTrimError as error:
        return ReadResult(None, str(error))
    except MemoryError:
        return ReadResult(None, "does not fit in memory")


class Workers:
    """Processes that read files, started as they are needed; any number of threads may ask at once."""

    def __init__(
        self, root: Path, max_pixels: int, sampled: bool, begin: Callable[[], subprocess.Popen[bytes]] | None = None
    ) -> None:
        self._asked = (os.fsencode(root), max_pixels, sampled)
        self._begin = begin or (lambda: start(__name__, stdin=subprocess.PIPE, stdout=subprocess.PIPE))
        self._idle: SimpleQueue[subprocess.Popen[bytes]] = SimpleQueue()

    def read(self, batch: list[Seen]) -> list[ReadResult]:
        """Read some files; of those that bring down a process that reads them alone, the facts are only that.

        Facts are kept, so such a file is not read again until it changes.

        Where no process can be started, which is no file's fault, this one reads them itself.
        """
        worker = self._ready()
        if worker is None:
            root, max_pixels, sampled = self._asked
            return [tell(seen, Path(os.fsdecode(root)), max_pixels, sampled) for seen in batch]
        assert worker.stdin is not None and worker.stdout is not None
        rows = [(seen.path, os.fsencode(seen.place), seen.file_bytes, seen.file_time) for seen in batch]
        try:
            _send(worker.stdin, msgspec.msgpack.encode(Ask(*self._asked, rows)))
            answer = _receive(worker.stdout)
        except OSError:
            answer = None
        if answer is not None:
            self._idle.put(worker)
            return _RESULTS.decode(answer)
        _end(worker)
        if len(batch) == 1:
            seen = batch[0]
            return [ReadResult(FileFacts(seen.path, *seen.stamp, errors=((seen.path, _BROUGHT_DOWN),)))]
        return [told for seen in batch for told in self.read([seen])]

    def _ready(self) -> subprocess.Popen[bytes] | None:
        try:
            return self._idle.get_nowait()
        except Empty:
            pass
        try:
            worker = self._begin()
        except OSError:
            return None
        assert worker.stdout is not None
        if _receive(worker.stdout) == _READY:
            return worker
        _end(worker)
        return None

    def close(self) -> None:
        """End all processes."""
        while not self._idle.empty():
            _end(self._idle.get())


def _end(worker: subprocess.Popen[bytes]) -> None:
    worker.kill()
    worker.communicate()


def _send(stream: IO[bytes], message: bytes) -> None:
    stream.write(_LENGTH.pack(len(message)) + message)
    stream.flush()


def _receive(stream: IO[bytes]) -> bytes | None:
    """Return the next message, None at the end."""
    head = stream.read(_LENGTH.size)
    if len(head) < _LENGTH.size:
        return None
    message = stream.read(_LENGTH.unpack(head)[0])
    return message if len(message) == _LENGTH.unpack(head)[0] else None


def serve() -> None:
    """Answer what is asked on standard input until it ends; whatever else is printed goes to standard error."""
    configure()
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    _send(answers, _READY)
    while (message := _receive(sys.stdin.buffer)) is not None:
        ask = msgspec.msgpack.decode(message, type=Ask)
        root = Path(os.fsdecode(ask.root))
        seen = [Seen(path, os.fsdecode(place), size, time) for path, place, size, time in ask.files]
        told = [tell(row, root, ask.max_pixels, ask.sampled, alone=True) for row in seen]
        _send(answers, msgspec.msgpack.encode(told))


if __name__ == "__main__":
    serve()
