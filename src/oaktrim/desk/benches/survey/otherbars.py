"""Cut bars of what is no texture: sounds, and models with their clips."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from oaktrim.core.plan.cuts import Change, thing_of
from oaktrim.core.plan.modelcuts import (
    DropUnused,
    LeaveOut,
    MergeMaterials,
    OrderTriangles,
    QuantizeVertices,
    ReduceMotion,
)
from oaktrim.core.plan.soundcuts import SetCodec, SetLongest, SetMono, SetRate, TrimSilence
from oaktrim.core.sounds.codecs import CODECS, SoundCodec
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session

_AS_IS, _MIXED = "as is", "mixed"
Choices = tuple[tuple[str, Change], ...]

CODECS_OFFERED: Choices = (
    *((f"Vorbis {quality:g}", SetCodec(SoundCodec.VORBIS, quality)) for quality in (0.8, 0.6, 0.5, 0.4, 0.3, 0.2, 0.1, 0.0)),
    *((f"Opus {rate} kbit/s", SetCodec(SoundCodec.OPUS, float(rate))) for rate in (96, 64, 48, 32, 24, 16)),
    (CODECS[SoundCodec.FLAC].label, SetCodec(SoundCodec.FLAC)),
    (CODECS[SoundCodec.PCM].label, SetCodec(SoundCodec.PCM)),
)  # fmt: skip
RATES: Choices = tuple(
    (f"{rate / 1000:g} kHz", SetRate(rate)) for rate in (48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025, 8_000)
)  # fmt: skip
CHANNELS: Choices = (("mono", SetMono(True)), ("kept", SetMono(False)))
TRIMS: Choices = tuple((f"under {level} dB", TrimSilence(float(level))) for level in (-70, -60, -50, -40))
LENGTHS: Choices = tuple((f"{seconds} s", SetLongest(float(seconds))) for seconds in (2, 5, 10, 15, 30, 60, 120))
_KEYS: Choices = tuple((f"within {mm:g} mm", ReduceMotion(mm)) for mm in (0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 10.0))
_VERTICES: Choices = tuple((f"within {mm:g} mm", QuantizeVertices(mm)) for mm in (0.05, 0.1, 0.25, 0.5, 1.0, 2.0))
_OUT: Choices = (("left out", LeaveOut(True)), ("kept", LeaveOut(False)))


class OtherBar(QFrame):
    """Shows the cuts of the selection, mixed values as mixed, and makes cuts where a choice is made."""

    def __init__(
        self, session: Session, what: str, rows: tuple[tuple[tuple[str, type[Change], Choices, str], ...], ...],
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.setObjectName("band")
        self._session, self._what = session, what
        self.boxes: dict[type[Change], QComboBox] = {}
        self._choices: dict[type[Change], Choices] = {}
        self.who = with_properties(QLabel(), objectName="heading")
        self.scope = with_properties(QComboBox(), accessibleName=f"Targets that cuts of {what}s are for")
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 8)
        column.setSpacing(4)
        for number, row in enumerate(rows):
            line = QHBoxLayout()
            line.setSpacing(5)
            if not number:
                self.who.setMinimumWidth(124)
                line.addWidget(self.who)
            for text, kind, choices, tip in row:
                self._add(line, text, kind, choices, tip)
            line.addStretch(1)
            if not number:
                line.addWidget(with_properties(QLabel("for"), objectName="soft"))
                line.addWidget(self.scope)
            column.addLayout(line)
        self.scope.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        for signal in (session.selection_changed, session.job_changed):
            signal.connect(self.refresh)
        for signal in (session.watched_changed, session.opened):
            signal.connect(self._refresh_targets)

    def _add(self, line: QHBoxLayout, text: str, kind: type[Change], choices: Choices, tip: str) -> None:
        box = QComboBox()
        box.addItems([_AS_IS, *(words for words, _ in choices)])
        box.setToolTip(tip)
        box.setAccessibleName(f"{text} of the selected {self._what}s")
        box.setMinimumWidth(max(box.fontMetrics().horizontalAdvance(words) for words, _ in choices) + 34)
        label = with_properties(QLabel(text), objectName="soft")
        label.setBuddy(box)
        box.activated.connect(partial(self._chosen, kind))
        self.boxes[kind], self._choices[kind] = box, choices
        line.addWidget(label)
        line.addWidget(box)

    @property
    def everywhere(self) -> bool:
        """The cut is for all targets."""
        return self.scope.currentIndex() == 1

    def _chosen(self, kind: type[Change], place: int) -> None:
        choices = self._choices[kind]
        if 0 < place <= len(choices):
            self._session.cut(choices[place - 1][1], self.everywhere, keep=True)
        elif not place:
            self._session.remove_changes(kind, self.everywhere)

    def _refresh_targets(self) -> None:
        if not self._session.is_open:
            return
        kept = self.scope.currentIndex()
        self.scope.clear()
        self.scope.addItems([f"{self._session.watched.name} only", "all targets"])
        self.scope.setCurrentIndex(max(0, kept))
        self.refresh()

    def refresh(self) -> None:
        """Show the cuts of what is now selected."""
        session = self._session
        if not session.is_open:
            return
        counts: dict[str, int] = {}
        for kind, box in self.boxes.items():
            paths = session.paths_for(kind)
            counts[thing_of(kind)] = len(paths)
            box.setEnabled(bool(paths))
            found = {session.change_on(path, kind) for path in paths}
            self._show(box, kind, found)
        said = [
            f"{count} {thing}{'' if count == 1 else 's'}"
            for thing, count in counts.items()
            if count and thing != "part"
        ]
        self.who.setText(f"Cut {' and '.join(said)}" if said else "Nothing selected")

    def _show(self, box: QComboBox, kind: type[Change], found: set[Change | None]) -> None:
        choices = self._choices[kind]
        while box.count() > 1 + len(choices):
            box.removeItem(box.count() - 1)
        box.setPlaceholderText(_MIXED)
        if len(found) > 1:
            box.setCurrentIndex(-1)
            return
        change = next(iter(found), None)
        place = 0 if change is None else next((n for n, (_, row) in enumerate(choices, 1) if row == change), -1)
        if place < 0 and change is not None:
            # What only the command line or a rule's fix sets.
            box.addItem(_short(change))
            place = box.count() - 1
        box.setCurrentIndex(place)


def _short(change: Change) -> str:
    """Return a change that is no choice of the bar, in few letters."""
    return f"{change.millimetres:g} mm, {change.degrees:g}°" if isinstance(change, ReduceMotion) else change.label


def sound_bar(session: Session) -> OtherBar:
    """Return the cut bar of sounds."""
    first = (
        (
            "Codec",
            SetCodec,
            CODECS_OFFERED,
            "What sounds are encoded with; a lossy file is not encoded again as well or better",
        ),
        ("Rate", SetRate, RATES, "At most so many frames a second; what lies above half of it goes"),
    )
    second = (
        ("Channels", SetMono, CHANNELS, "Mix all channels into one, or keep them"),
        ("Trim ends", TrimSilence, TRIMS, "Leave off ends that stay under this level"),
        ("At most", SetLongest, LENGTHS, "Cut off after so long, and fade out"),
        ("Ships", LeaveOut, _OUT, "Whether it ships at all"),
    )
    return OtherBar(session, "sound", (first, second))


def model_bar(session: Session) -> OtherBar:
    """Return the cut bar of models and clips."""
    on: dict[type[Change], Choices] = {
        DropUnused: (("left out", DropUnused()), ("kept", DropUnused(False))),
        MergeMaterials: (("merged", MergeMaterials()), ("kept", MergeMaterials(False))),
        OrderTriangles: (("for the cache", OrderTriangles()), ("kept", OrderTriangles(False))),
    }
    first = (
        (
            "Unused data",
            DropUnused,
            on[DropUnused],
            "Vertex attributes that no material needs, materials that nothing wears",
        ),
        (
            "Same materials",
            MergeMaterials,
            on[MergeMaterials],
            "Make materials that are the same one, and join their draws",
        ),
    )
    second = (
        (
            "Vertices",
            QuantizeVertices,
            _VERTICES,
            "Fewer bits for positions, normals and UVs; none farther off than this",
        ),
        ("Triangles", OrderTriangles, on[OrderTriangles], "In an order that suits the cache of vertices"),
        (
            "Keys",
            ReduceMotion,
            _KEYS,
            "Clips: keep the keys that leave all that they move within this of where it stood",
        ),
        ("Clip", LeaveOut, _OUT, "Whether a clip ships at all"),
    )
    return OtherBar(session, "model", (first, second))
