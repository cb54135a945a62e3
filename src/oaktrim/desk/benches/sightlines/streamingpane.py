"""What streaming keeps and blurs along the first path of a job: as the sources are, and after the cuts, beside each other."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from oaktrim.core.sight.demand import Stage
from oaktrim.core.sight.residency import Residency, Walk, residency, walk
from oaktrim.core.sight.sightlines import Sightlines
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.elidedlabel import ElidedLabel
from oaktrim.desk.widgets.residencyband import ResidencyBand
from oaktrim.desk.work.tasks import Work, start

_WORSE_BY = 0.005


class StreamingPane(QWidget):
    """Walks a path once, and weighs it again whenever a plan changes.

    Signals
    -------
    chosen : seconds along the path
    """

    chosen = Signal(float)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._heading = with_properties(QLabel(), objectName="heading")
        self.words = with_properties(ElidedLabel(), objectName="caption", accessibleName="What streaming blurs")
        self.before = ResidencyBand("before")
        self.after = ResidencyBand("after")
        self._walked: Walk | None = None
        self._key: tuple[object, ...] = ()
        self._work: Work | None = None
        foot = QHBoxLayout()
        foot.setContentsMargins(12, 2, 12, 2)
        foot.addWidget(self._heading)
        foot.addSpacing(8)
        foot.addWidget(self.words, 1)
        bands = QHBoxLayout()
        bands.setSpacing(0)
        bands.addWidget(self.before, 1)
        bands.addWidget(self.after, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(foot)
        column.addLayout(bands)
        for band in (self.before, self.after):
            band.chosen.connect(self.chosen)
        self.hide()

    def walk(self, stage: Stage | None, lines: Sightlines) -> None:
        """Show the first path of the sightlines in a model, where it has one."""
        if not lines.paths or stage is None:
            self.hide()
            return
        target, path = self._session.watched, lines.paths[0]
        self._heading.setText(f"Streaming along {path.name}")
        self.show()
        key = (stage, lines.stations, path, lines.percentile, target.screen, target.filtering)
        if key == self._key:
            if self._walked is not None:
                self._show(stage, self._walked)
            return
        self._key, self._walked = key, None
        if self._work is not None:
            self._work.cancel()
        self.words.setText("walking …")

        def done(found: Walk) -> None:
            if key == self._key:
                self._walked = found
                self._show(stage, found)

        work = self._work = start(
            walk(stage, lines, path.name, target), self, done, lambda error: self.words.setText(str(error))
        )
        work.ended.connect(partial(self._ended, work))

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None

    def _show(self, stage: Stage, walked: Walk) -> None:
        before = residency(self._session.plan(cut=False), stage, walked)
        after = residency(self._session.plan(), stage, walked)
        most = max(self.before.most_of(before), self.after.most_of(after))
        self.before.show_residency(before, most, _summary(before))
        self.after.show_residency(after, most, _summary(after))
        self.words.setText(_in_words(after))
        self.words.setToolTip(
            "\n".join(
                f"{row.path}: {row.levels} levels, {row.pixels:,} pixels, {row.seconds:.1f} s" for row in after.blurred
            )
        )

    def stop(self) -> None:
        """Let go of what is under way."""
        if self._work is not None:
            self._work.cancel()


def _summary(found: Residency) -> str:
    """Return what stands beside a band's title."""
    blurred = f"{len(found.blurred)} blurred" if found.blurred else "nothing blurred"
    late = f", {found.late.max():.1f} s late" if found.late.max(initial=0) > _WORSE_BY else ""
    return f"{blurred}{late} · {bytes_text(found.enough)} blurs nothing"


def _in_words(found: Residency) -> str:
    worst, words = found.worst, []
    if found.limit is not None:
        words.append(f"{bytes_text(found.limit)} to stream into")
    lacking = int(found.wanted[worst] - found.kept[worst])
    if lacking > 0:
        first = found.blurred[0]
        words.append(f"worst at {found.times[worst]:.1f} s: {bytes_text(lacking)} short")
        words.append(f"{first.path.rsplit('/', 1)[-1]} by {first.levels} for {first.seconds:.1f} s")
    rate = f" of {bytes_text(found.rate)}" if found.rate is not None else ""
    words.append(f"at most {bytes_text(int(found.loads_a_second))}{rate} a second come in")
    return " · ".join(words)
