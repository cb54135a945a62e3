"""An upload rehearsed: what the target's own rules make of the first selected texture, beside a cut here of the same size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.proof.rehearse import NOTICED, Rehearsal, rehearse
from oaktrim.core.proof.trial import Trial
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.benches.proof.against import Against
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.layers import Layer, difference_layer, make_layer
from oaktrim.desk.widgets.picture import PictureView
from oaktrim.desk.work.tasks import Work, start

# What stands left and right, by what the key says: places among source, upload and cut.
_PAIRS = {"Source | upload": (0, 1), "Source | cut here": (0, 2), "Upload | cut here": (1, 2)}


@dataclass(frozen=True, eq=False)
class Rehearsed:
    """A rehearsal ready to be shown: source, upload and cut, and the map of what the upload and the cut lose."""

    found: Rehearsal
    layers: tuple[Layer, Layer, Layer]
    maps: tuple[Layer, Layer]
    most: float


def rehearsed(plan: Plan, row: int, max_pixels: int) -> Task[Rehearsed]:
    """Rehearse the upload of a texture, and make it ready to be shown."""
    found = yield from rehearse(plan, row, max_pixels)
    both = (found.upload, found.by_hand)
    most = max(1.0, *(float(np.percentile(trial.quality.map, 99.5)) for trial in both))
    label = FORMATS[found.format].label

    def layer(trial: Trial, name: str) -> Layer:
        levels = [trial.shipped(level) for level in range(1, len(trial.made.encoded.levels))]
        words = f"{name}  {size_text(*found.becomes)}  {label}  {bytes_text(trial.memory)}  {trial.quality.jnd:.2f} JND"
        return make_layer(trial.shipped(), words, levels)

    source = make_layer(found.upload.source, f"Source  {size_text(*found.sent)}")
    return Rehearsed(
        found,
        (source, layer(found.upload, "Upload"), layer(found.by_hand, "Cut here")),
        (difference_layer(both[0].quality.map, most, ""), difference_layer(both[1].quality.map, most, "")),
        most,
    )


def verdict(found: Rehearsal, target: str) -> str:
    """Say in sentences what uploading a texture to a target costs, and which size is enough."""
    sizes = f"{size_text(*found.sent)} becomes {size_text(*found.becomes)}" if found.changed else "the size stays"
    lost = found.upload.quality.jnd - found.by_hand.quality.jnd
    worse = f"the upload loses {lost:.2f} JND more than a cut here" if lost > 0.05 else "a cut here gains nothing"
    enough = (
        f"{found.advised} is enough: no larger size shows more at the size on the screen"
        if found.advised
        else f"no size stays under {NOTICED:g} JND; send it as large as {target} takes it"
    )
    return f"On {target} {sizes}; {worse}; {enough}."


class UploadPage(QWidget):
    """Shows the first selected texture as an upload to the watched target."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._work: Work | None = None
        self._key: tuple[object, ...] = ()
        self._shown: Rehearsed | None = None
        self.view = PictureView()
        self.view.setAccessibleName("Upload against a cut here")
        self.against = Against(self.view)
        self.words = with_properties(
            QLabel(wordWrap=True), objectName="caption", accessibleName="What the upload costs"
        )
        self.pairs: dict[str, QPushButton] = {}
        keys = QHBoxLayout()
        keys.setContentsMargins(12, 2, 12, 6)
        keys.setSpacing(4)
        group = QButtonGroup(self)
        for name in _PAIRS:
            key = with_properties(QPushButton(name), objectName="chip", checkable=True, checked=not self.pairs)
            key.clicked.connect(lambda _: self._show(True))
            group.addButton(key)
            keys.addWidget(key)
            self.pairs[name] = key
        keys.addStretch(1)
        self.words.setContentsMargins(12, 4, 12, 6)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(keys)
        column.addWidget(self.view, 1)
        column.addWidget(self.words)

    def forget(self) -> None:
        """Take nothing for shown any more."""
        self._key = ()

    def say(self, words: str) -> None:
        """Show words in the place of a rehearsal."""
        self._key, self._shown = (), None
        self.words.setText("")
        self.view.say(words)

    def refresh(self) -> None:
        """Rehearse the texture that is selected, if that was not done."""
        session = self._session
        if not session.is_open or not session.chosen or session.inventory is None or not self.isVisible():
            return
        plan, row = session.plan(cut=False), session.chosen[0]
        texture = session.inventory.textures[row]
        key = (texture.path, texture.content, plan.target, plan.demand)
        if key == self._key:
            return
        self._key = key
        if self._work is not None:
            self._work.cancel()
        self.words.setText("")
        self.view.say("making it as an upload would, and as a cut here …")

        def done(made: Rehearsed) -> None:
            if key == self._key:
                self._shown = made
                self.words.setText(verdict(made.found, plan.target.name))
                self._show(False)

        def failed(error: Exception) -> None:
            if key == self._key:
                self.say(str(error) if isinstance(error, OakTrimError) else f"It cannot be rehearsed: {error}")

        self._work = start(rehearsed(plan, row, session.job.max_pixels), self, done, failed)

    def _show(self, keep_view: bool) -> None:
        if self._shown is None:
            return
        left, right = next(_PAIRS[name] for name, key in self.pairs.items() if key.isChecked())
        self.view.show_layers((self._shown.layers[left], self._shown.layers[right]), keep_view)
        # Of two that are both made, the map is of what the upload loses.
        self.view.show_difference(self._shown.maps[1 if (left, right) == (0, 2) else 0], self._shown.most, ())
