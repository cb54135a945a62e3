"""A pack tried beside the window: small at once, and at its full size once the hand is still, taken apart and through formats."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Alpha, Prominence, TextureFormat
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.pack.pack import Pack, Unpacked, pack_picture
from oaktrim.core.makers.pack.proof import Damage, damages, lane_losses
from oaktrim.core.makers.preview import SmallSources
from oaktrim.core.plan.advice import format_options
from oaktrim.core.progress import Task
from oaktrim.core.targets.target import Target
from oaktrim.desk.session.session import Session
from oaktrim.desk.work.tasks import Work, as_task, start

_MOST_FORMATS = 5


def formats_tried(target: Target, layout: Layout) -> list[TextureFormat]:
    """Return the formats of a target that a pack of a layout is sent through: plain first, then blocks."""
    wanted = [
        option.format
        for option in format_options(target, layout.role, layout.count == 4)
        if (not option.against or "changes values" in option.against) and option.format.compressed
        if layout.count == 4 or option.format.alpha is not Alpha.ONE_BIT
    ]
    few = [row for row in wanted if row.prominence >= Prominence.SHORT_LIST]
    return [FORMATS["rgba8"], *few[:_MOST_FORMATS]]


class PackTrials(QObject):
    """Tries one pack at a time; what a newer wish has overtaken is not told.

    Signals
    -------
    drawn : the pack's small picture; failed : why there is none
    apart : what taking it apart came to, None while it is being done
    harmed : what formats do to its channels
    """

    drawn = Signal(object)
    failed = Signal(object)
    apart = Signal(object)
    harmed = Signal(object)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._small: SmallSources | None = None
        self._works: list[Work] = []
        self._turn = 0
        self._wanted: tuple[Pack, Layout] | None = None
        self._wait = QTimer(self, singleShot=True, interval=500)
        self._wait.timeout.connect(self._prove)

    def forget(self) -> None:
        """Read sources anew: they may have changed."""
        self._small = None

    def stop(self) -> None:
        """Let go of what is being tried."""
        self._turn += 1
        self._wait.stop()
        for work in self._works:
            if work.running:
                work.cancel()
        self._works = []

    def wish(self, pack: Pack, layout: Layout) -> None:
        """Try a pack."""
        self.stop()
        inventory = self._session.inventory
        assert inventory is not None
        if self._small is None:
            self._small = SmallSources(inventory.root, inventory.made, self._session.job.max_pixels)
        small, turn = self._small, self._turn
        light = msgspec.structs.replace(pack, size=0, bits=8)
        task = as_task(lambda: pack_picture(light, layout, small), f"looking at {pack.name}")
        self._start(task, turn, self.drawn.emit, self.failed.emit)
        self._wanted = pack, layout
        self._wait.start()

    def _start(self, task: Task[object], turn: int, done: object, failed: object) -> None:
        def current(tell: object) -> object:
            return lambda value: tell(value) if turn == self._turn else None  # type: ignore[operator]

        self._works.append(start(task, self, current(done), current(failed)))  # type: ignore[arg-type]

    def _prove(self) -> None:
        if self._wanted is None or self._session.inventory is None:
            return
        (pack, layout), session = self._wanted, self._session
        sources = self._session.inventory.sources(session.job.max_pixels)
        formats = formats_tried(session.watched, layout)
        session.rest()
        self.apart.emit(None)

        def work() -> Task[tuple[dict[int, Unpacked], list[Damage]]]:
            image = pack_picture(pack, layout, sources)
            losses = yield from lane_losses(pack, layout, image, sources)
            harm = yield from damages(image, formats)
            return losses, harm

        def done(found: tuple[dict[int, Unpacked], list[Damage]]) -> None:
            self.apart.emit(found[0])
            self.harmed.emit(found[1])
            session.go_on()

        def failed(error: Exception) -> None:
            self.harmed.emit([])
            self.failed.emit(error)
            session.go_on()

        self._start(work(), self._turn, done, failed)
