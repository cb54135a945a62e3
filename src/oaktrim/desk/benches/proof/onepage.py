"""One texture proved: the source against what will ship, looked at in every way, with its measures and its candidates."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.codecs.transcode import LOADED
from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Alpha, Hardware
from oaktrim.core.pixels.levels import coverage
from oaktrim.core.plan.cuts import KeepCoverage
from oaktrim.core.plan.resolve import Plan, Recipe
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.trial import Trial, reference_for, screen_scale, try_recipe
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.roles import Role
from oaktrim.core.units import bytes_text, decibels_text, size_text
from oaktrim.desk.benches.proof.against import Against
from oaktrim.desk.benches.proof.candidatepane import CandidatePane
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.look.terms import JND_TIP
from oaktrim.desk.models.trials import trial_key
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.layers import Layer, difference_layer, make_layer
from oaktrim.desk.widgets.picture import PictureView
from oaktrim.desk.widgets.swatch import ChannelKeys
from oaktrim.desk.work.tasks import Work, start

_CANVASES = (("Neutral canvas", ""), ("Black canvas", "#000000"), ("White canvas", "#FFFFFF"), ("Check", "check"))
# The map's scale ends at one of these.
_SCALES = (1.0, 2.0, 5.0, 10.0, 20.0, 50.0)


@dataclass(frozen=True, eq=False)
class Shown:
    """A proof ready to be shown."""

    source: Layer
    cut: Layer
    map: Layer
    most: float
    places: tuple[tuple[float, float, float, float], ...]
    words: str
    role: Role
    levels: int
    coverages: str
    coverage: int


def prove(
    plan: Plan, row: int, recipe: Recipe, before: int, store: MadeStore, seen_on: Hardware = Hardware.ASTC
) -> Task[Shown]:
    """Try a recipe and make everything ready to be shown; `before` is the memory without cuts, `seen_on` as in `try_recipe`."""
    yield Progress(0, 2, f"reading {recipe.path}")
    trial = yield from try_recipe(plan, row, recipe, reference_for(plan, row), store=store, seen_on=seen_on)
    yield Progress(1, 2, "measuring")
    source, quality, texture = trial.source, trial.quality, plan.inventory.textures[row]
    psnr = decibels_text(trial.made.psnr())
    natural, label = FORMATS[texture.natural_format].label, FORMATS[recipe.settings.format].label
    left = f"Source  {size_text(*source.size)}  {natural}  {bytes_text(before)}"
    right = (
        f"Cut  {size_text(recipe.settings.width, recipe.settings.height)}  {label}  {bytes_text(trial.memory)}  {psnr}"
    )
    if trial.made.encoded.format.name != recipe.settings.format:
        right += f"  seen as {trial.made.encoded.format.label}"
    levels = [trial.shipped(level) for level in range(1, len(trial.made.encoded.levels))]
    height, width = quality.map.shape
    places = tuple((r.x / width, r.y / height, r.width / width, r.height / height) for r in quality.worst(6))
    most = float(np.percentile(quality.map, 99.5))
    most = next((scale for scale in _SCALES if scale >= most), _SCALES[-1])
    figures = " · ".join(f"{name} {value}" for name, value in quality.figures())
    words = f"{quality.jnd:.2f} JND · {figures} · {psnr} through encoding"
    return Shown(
        make_layer(source, left), make_layer(trial.shipped(), right, levels), difference_layer(quality.map, most, ""),
        most, places, words, quality.role, len(trial.made.encoded.levels), _coverages(trial), recipe.settings.coverage,
    )  # fmt: skip


def _coverages(trial: Trial) -> str:
    """Say how much a cut-out at half alpha keeps of each level, where alpha says something."""
    if not trial.source.has_alpha or trial.made.encoded.format.alpha is Alpha.NONE:
        return ""
    wanted = coverage(trial.source, 128)
    if wanted in (0.0, 1.0):
        return ""
    kept = [coverage(trial.shipped(level), 128) for level in range(min(6, len(trial.made.encoded.levels)))]
    return f"cut-out keeps {wanted * 100:.0f} %, level by level " + " ".join(f"{share * 100:.0f}" for share in kept)


class OnePage(QWidget):
    """Shows the first selected texture on the watched target."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._work: Work | None = None
        self._key: tuple[object, ...] = ()
        self._shown: Shown | None = None
        self.view = PictureView()
        self.view.setAccessibleName("Source against cut")
        self.words = with_properties(QLabel(), objectName="caption", toolTip=JND_TIP)
        self._pixel = with_properties(QLabel(), objectName="caption", accessibleName="Pixel under the pointer")
        self._zoom = with_properties(QLabel(), objectName="caption")
        self.against = Against(self.view)
        self.keys = ChannelKeys()
        self.keys.chosen.connect(self.view.set_channels)
        self.level = with_properties(QComboBox(), accessibleName="Level shown")
        self.level.addItem("Level by zoom")
        self.seen_on = with_properties(
            QComboBox(),
            accessibleName="Hardware that it is seen on",
            toolTip="What its loader makes of UASTC for this hardware",
        )
        for family, name in LOADED.items():
            self.seen_on.addItem(f"seen as {FORMATS[name].label}", family)
        # Until a universal texture is proved.
        self.seen_on.setVisible(False)
        self.canvas = with_properties(QComboBox(), accessibleName="Canvas behind the picture")
        self.tiled = with_properties(
            QPushButton("Tile"), checkable=True, toolTip="Three times three of it, to see its seams"
        )
        self.lit = with_properties(
            QPushButton("Lit"), checkable=True, toolTip="Normals as a surface under a lamp that follows the pointer"
        )
        self.seen = with_properties(
            QPushButton("At viewing size"), toolTip="At the size it has on screen, with the levels that ship"
        )
        self.cut_out = QCheckBox("cut-out at")
        self.keep = with_properties(
            QCheckBox("levels keep it"), toolTip="Ship levels that keep as much of the cut-out as the full size"
        )
        self.threshold = with_properties(
            QSlider(Qt.Orientation.Horizontal), accessibleName="Alpha that the cut-out begins at"
        )
        self.exposure = with_properties(QSlider(Qt.Orientation.Horizontal), accessibleName="Exposure in stops")
        self._stops = with_properties(QLabel(), objectName="caption")
        self.next_worst = with_properties(
            QPushButton("Worst places"), toolTip="Go to the next of the places that differ most (N, Shift+N)"
        )
        self.candidates = CandidatePane(session)
        self._build()
        self._connect()
        self._wait = QTimer(self, singleShot=True, interval=200)
        self._wait.timeout.connect(self._try)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(self._ways())
        column.addWidget(self.view, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(12, 4, 12, 4)
        self.words.setMinimumWidth(60)
        foot.addWidget(self.words, 1)
        for widget in (self._pixel, self._zoom):
            foot.addSpacing(12)
            foot.addWidget(widget)
        column.addLayout(foot)
        column.addWidget(self.candidates)

    def _ways(self) -> QHBoxLayout:
        """Return the keys for how the pictures are looked at."""
        lower = QHBoxLayout()
        lower.setContentsMargins(12, 2, 12, 6)
        lower.setSpacing(4)
        self.against.row.addSpacing(8)
        self.against.row.addWidget(self.next_worst)
        self.canvas.addItems([words for words, _ in _CANVASES])
        self.threshold.setRange(1, 255)
        self.threshold.setValue(128)
        self.threshold.setFixedWidth(80)
        self.exposure.setRange(-80, 80)
        self.exposure.setFixedWidth(110)
        for key in (self.tiled, self.lit, self.seen, self.next_worst):
            key.setObjectName("chip")
        for widget in (
            self.level, self.seen_on, self.canvas, self.tiled, self.seen, self.lit, self.cut_out, self.threshold, self.keep,
            self._stops, self.exposure,
        ):  # fmt: skip
            lower.addWidget(widget)
        lower.addStretch(1)
        lower.addWidget(self.keys)
        return lower

    def _show_zoom(self, zoom: float) -> None:
        # Without a picture there is nothing that a zoom would be of.
        self._zoom.setText(f"{zoom * 100:.0f} %" if self.view.layers else "")

    def _connect(self) -> None:
        self.view.zoom_changed.connect(self._show_zoom)
        self.view.pointed.connect(self._point)
        self.level.currentIndexChanged.connect(lambda at: self.view.set_level(at - 1 if at > 0 else None))
        self.canvas.currentIndexChanged.connect(lambda at: self.view.set_look(canvas=_CANVASES[max(0, at)][1]))
        self.tiled.toggled.connect(self._tile)
        self.lit.toggled.connect(lambda on: self.view.set_look(lit=on))
        self.cut_out.toggled.connect(self._cut_out)
        self.threshold.valueChanged.connect(self._cut_out)
        self.keep.clicked.connect(self._keep_coverage)
        self.exposure.valueChanged.connect(self._expose)
        self.seen.clicked.connect(self._at_viewing_size)
        self.seen_on.currentIndexChanged.connect(lambda _: self._try())
        self.candidates.trials.done.connect(self._session.go_on)
        self.next_worst.clicked.connect(lambda: self.view.go_to(self.view.place + 1))

    def _tile(self, on: bool) -> None:
        self.view.set_look(tiled=on)
        self.view.fit()

    def _cut_out(self, _: object = None) -> None:
        on = self.cut_out.isChecked()
        self.cut_out.setText(f"cut-out at {self.threshold.value()}")
        self.view.set_look(threshold=self.threshold.value() if on else None)

    def _keep_coverage(self, on: bool) -> None:
        self._session.cut(KeepCoverage(self.threshold.value() if on else 0), everywhere=False, keep=True)

    def _expose(self, tenths: int) -> None:
        self._stops.setText(f"{tenths / 10:+.1f} stops")
        self.view.set_look(exposure=tenths / 10)

    def _at_viewing_size(self) -> None:
        session = self._session
        if session.inventory is not None and session.chosen:
            self.view.zoom_to(screen_scale(session.plan(), session.chosen[0]))
            self.level.setCurrentIndex(0)

    def _point(self, x: int, y: int) -> None:
        """Read out both pictures under the pointer, and what lies between."""
        if x < 0 or not self.view.layers:
            self._pixel.setText("")
            return
        both = [self.view.codes_at(layer, x, y) for layer in self.view.layers]
        whole = both[0].dtype.kind != "f" and both[-1].dtype.kind != "f"
        texts = [" ".join(f"{int(v)}" if whole else f"{v:.3g}" for v in values) for values in both]
        if len(both) == 2:
            apart = both[1].astype(np.float64) - both[0].astype(np.float64)
            texts.append("difference " + " ".join(f"{v:+.0f}" if whole else f"{v:+.2g}" for v in apart))
        self._pixel.setText(f"{x}, {y}:  " + "  →  ".join(texts))

    # Proving

    def forget(self) -> None:
        """Take nothing for shown any more."""
        self._key = ()

    def refresh(self) -> None:
        """Prove the texture now selected, once the hand is still."""
        if self.isVisible() and self._session.is_open and self._session.chosen:
            self._wait.start()

    def say(self, words: str) -> None:
        """Show words in the place of a proof."""
        self._key, self._shown = (), None
        self.words.setText("")
        self.view.say(words)
        self.candidates.setVisible(False)

    def _try(self) -> None:
        session = self._session
        if not session.is_open or not session.chosen or session.inventory is None or not self.isVisible():
            return
        inventory, row = session.inventory, session.chosen[0]
        plan, before = session.plan(), session.plan(cut=False)
        recipe = plan.recipe(row)
        universal = FORMATS[recipe.settings.format].hardware is Hardware.UNIVERSAL
        self.seen_on.setVisible(universal)
        seen_on = self.seen_on.currentData() if universal else Hardware.ASTC
        key = (inventory.textures[row].path, trial_key(plan, row, recipe), session.watched_id, seen_on)
        if key == self._key:
            self.candidates.refresh()
            return
        same_picture = bool(self._key) and self._key[0] == key[0]
        self._key = key
        if self._work is not None:
            self._work.cancel()
        session.rest()
        self.words.setText("encoding …")
        if not same_picture:
            self.view.say("encoding …")

        def done(shown: Shown) -> None:
            if key == self._key:
                self._show(shown, same_picture)

        def failed(error: Exception) -> None:
            if key == self._key:
                self.say(str(error) if isinstance(error, OakTrimError) else f"The proof failed: {error}")

        task = prove(plan, row, recipe, int(before.footprint.memory[row]), session.store, seen_on)
        self._work = start(task, self, done, failed)
        self._work.ended.connect(partial(self._ended, self._work))
        self.candidates.setVisible(True)
        self.candidates.refresh()

    def _show(self, shown: Shown, keep_view: bool) -> None:
        self._shown = shown
        self.words.setText(shown.words + (f" · {shown.coverages}" if shown.coverages else ""))
        self.words.setToolTip(self.words.text().replace(" · ", "\n") + f"\n{JND_TIP}")
        self.view.show_layers((shown.source, shown.cut), keep_view)
        self.view.show_difference(shown.map, shown.most, shown.places)
        floating = shown.source.floating
        for widget in (self.exposure, self._stops):
            widget.setVisible(floating)
        self.lit.setVisible(shown.role is Role.NORMAL)
        self.view.set_look(lit=self.lit.isChecked() and shown.role is Role.NORMAL)
        clear = bool(shown.coverages)
        self.keep.blockSignals(True)
        self.keep.setChecked(shown.coverage > 0)
        self.keep.blockSignals(False)
        for part in (self.cut_out, self.threshold, self.keep):
            part.setVisible(clear)
        if not clear:
            self.cut_out.setChecked(False)
        self.next_worst.setText(f"Worst places {len(shown.places)}" if shown.places else "No difference")
        self.next_worst.setEnabled(bool(shown.places))
        self.level.blockSignals(True)
        at = self.level.currentIndex()
        self.level.clear()
        self.level.addItems(["Level by zoom", *(f"Level {level}" for level in range(shown.levels))])
        self.level.setCurrentIndex(min(max(0, at), shown.levels) if keep_view else 0)
        self.level.blockSignals(False)
        self.view.set_level(self.level.currentIndex() - 1 if self.level.currentIndex() > 0 else None)
        self._expose(self.exposure.value())

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None
