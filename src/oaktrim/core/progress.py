"""Long work as generators: they yield Progress and return their value, so that any caller can show and stop them."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from itertools import islice
from os import cpu_count, environ
from typing import TypeVar

# In the environment, so that processes beside this one use as many.
THREADS = "OAK_TRIM_THREADS"
T = TypeVar("T")
R = TypeVar("R")
# Rows of a plane that are worked on at once: of 4,096 pixels each, a plane of float32 then takes 8 MiB.
_BAND_ROWS = 512


@dataclass(frozen=True, slots=True)
class Progress:
    """How far some work is: `done` of `total` steps, and what it is at.

    `found` is a result that is ready before the whole is, for the caller to merge on its own thread.
    """

    done: int
    total: int
    what: str
    found: object = None


Task = Generator[Progress, None, T]


def finish(task: Task[T], watch: Callable[[Progress], None] | None = None) -> T:
    """Run a task to its end and return its value; `watch` is told of each step."""
    while True:
        try:
            step = next(task)
        except StopIteration as end:
            return end.value  # type: ignore[no-any-return]
        if watch is not None:
            watch(step)


def threads_here() -> int:
    """Return how many worker threads this process uses: what `THREADS` in the environment says, or as many as processors."""
    told = environ.get(THREADS, "")
    return int(told) if told.isdecimal() and int(told) > 0 else max(1, cpu_count() or 1)


class Taken(Iterator[T]):
    """Items of an iterator whose order is not known before, with those that were taken so far in a list."""

    def __init__(self, items: Iterable[T]) -> None:
        self._items = iter(items)
        self.taken: list[T] = []

    def __next__(self) -> T:
        item = next(self._items)
        self.taken.append(item)
        return item


def map_unordered(
    work: Callable[[T], R], items: Iterable[T], threads: int | None = None, ahead: int = 2
) -> Iterator[tuple[int, R]]:
    """Do `work` on each item in a thread pool and yield (position, result) as they come.

    At most `ahead` items a thread wait in the queue, so memory stays bounded and closing the iterator
    (a cancel) is heard after the items in hand. An error in `work` is raised here.
    """
    count = threads or threads_here()
    source = enumerate(items)
    with ThreadPoolExecutor(count) as pool:
        waiting: dict[Future[R], int] = {}
        try:
            for position, item in islice(source, count * ahead):
                waiting[pool.submit(work, item)] = position
            while waiting:
                done, _ = wait(waiting, return_when=FIRST_COMPLETED)
                for future in done:
                    position = waiting.pop(future)
                    for next_position, item in islice(source, 1):
                        waiting[pool.submit(work, item)] = next_position
                    yield position, future.result()
        finally:
            for future in waiting:
                future.cancel()


def each_band(
    work: Callable[[slice, slice], object], rows: int, reach: tuple[int, int], threads: int | None = None
) -> None:
    """Call `work(wide, own)` over the rows of a plane in bands, on a thread pool, so that memory stays small.

    Parameters
    ----------
    work : takes the rows of a band with what it reaches beyond them, and which of these are its own
    reach : how many rows above and below a row say something of it
    """
    above, below = reach

    def chunk(start: int, stop: int) -> None:
        wide = slice(max(0, start - above), min(rows, stop + below))
        work(wide, slice(start - wide.start, stop - wide.start))

    each_chunk(chunk, rows, min(_BAND_ROWS, max(_BAND_ROWS // 4, -(-rows // 2))), threads)


def each_chunk(work: Callable[[int, int], object], count: int, chunk: int, threads: int | None = None) -> None:
    """Call `work(start, stop)` over [0, count) in chunks on a thread pool; for kernels that release the lock."""
    bounds = [(start, min(start + chunk, count)) for start in range(0, count, chunk)]
    if len(bounds) <= 1 or threads == 1:
        for start, stop in bounds:
            work(start, stop)
        return
    with ThreadPoolExecutor(threads or threads_here()) as pool:
        for future in [pool.submit(work, start, stop) for start, stop in bounds]:
            future.result()
