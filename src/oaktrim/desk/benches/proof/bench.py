"""The Proof bench: the source against what will ship, looked at before it does."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.normals import rebuild_z
from oaktrim.core.plan.resolve import Recipe
from oaktrim.core.progress import Task
from oaktrim.core.ship.make import make_texture, read_source
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role
from oaktrim.core.units import bytes_text, decibels_text, size_text
from oaktrim.desk.session import Session
from oaktrim.desk.widgets.picture import Layer, Mode, PictureView, make_layer
from oaktrim.desk.widgets.swatch import ChannelKeys
from oaktrim.desk.work.tasks import Work, start


@dataclass(frozen=True)
class Trial:
    """A proof ready to be shown."""

    source: Layer
    cut: Layer
    words: str


def try_recipe(inventory: Inventory, row: int, recipe: Recipe, memory: tuple[int, int]) -> Task[Trial]:
    """Make a texture as it would ship, and both sides ready to be shown; `memory` is before and after on the target."""
    texture, role = inventory.textures[row], inventory.roles[row].role
    made = yield from make_texture(inventory, row, recipe)
    source = read_source(inventory, row)
    shipped = made.shipped()
    if role is Role.NORMAL and shipped.channels == ("R", "G"):
        shipped = rebuild_z(shipped)
    psnr = made.psnr()
    natural, label = FORMATS[texture.natural_format].label, FORMATS[recipe.format].label
    before = f"Source  {size_text(*source.size)}  {natural}  {bytes_text(memory[0])}"
    quality = decibels_text(psnr)
    after = f"Cut  {size_text(recipe.width, recipe.height)}  {label}  {bytes_text(memory[1])}  {quality}"
    words = f"{quality} through encoding, measured at {size_text(recipe.width, recipe.height)}"
    if (recipe.width, recipe.height) != source.size:
        words += f"; the size went from {size_text(*source.size)}"
    return Trial(make_layer(source, before), make_layer(shipped, after), words)


class ProofBench(QWidget):
    """Shows the first selected texture on the watched target."""

    title = "Proof"
    wants_swatch = False

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._work: Work | None = None
        self._shown: tuple[object, ...] = ()
        self.view = PictureView()
        self._name = QLabel(objectName="title")
        self._words = QLabel(objectName="caption")
        self._zoom = QLabel(objectName="caption")
        self.modes: dict[Mode, QPushButton] = {}
        self.keys = ChannelKeys()
        self.keys.chosen.connect(self.view.set_channels)
        self._build()
        self._wait = QTimer(self, singleShot=True, interval=200)
        self._wait.timeout.connect(self._try)
        for signal in (session.selection_changed, session.plans_changed, session.watched_changed):
            signal.connect(self.refresh)
        session.opened.connect(self._forget)
        self.view.zoom_changed.connect(lambda zoom: self._zoom.setText(f"{zoom * 100:.0f} %"))

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 8)
        top.setSpacing(4)
        top.addWidget(self._name)
        top.addStretch(1)
        group = QButtonGroup(self)
        for mode in Mode:
            key = QPushButton(mode.value, checkable=True, checked=mode is Mode.SPLIT)
            key.setObjectName("chip")
            key.clicked.connect(partial(self.set_mode, mode))
            group.addButton(key)
            top.addWidget(key)
            self.modes[mode] = key
        top.addSpacing(12)
        top.addWidget(self.keys)
        column.addLayout(top)
        column.addWidget(self.view, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(12, 6, 12, 6)
        foot.addWidget(self._words, 1)
        foot.addWidget(QLabel("Wheel zooms · drag pans · 0 fits · 1 shows pixels", objectName="caption"))
        foot.addSpacing(16)
        foot.addWidget(self._zoom)
        column.addLayout(foot)

    def set_mode(self, mode: Mode, _: bool = True) -> None:
        """Show the two pictures another way."""
        self.modes[mode].setChecked(True)
        self.view.set_mode(mode)

    def _forget(self) -> None:
        self._shown = ()
        self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Prove the texture now selected, once the hand is still."""
        session = self._session
        if not session.is_open or not session.chosen or session.inventory is None:
            self._name.setText("Proof")
            self._words.setText("")
            self.view.say("Choose a texture in the Survey bench or with Ctrl+K to see what a cut makes of it.")
            return
        texture = session.inventory.textures[session.chosen[0]]
        more = f" and {len(session.chosen) - 1} more" if len(session.chosen) > 1 else ""
        self._name.setText(f"{texture.path.rsplit('/', 1)[-1]}{more} on {session.watched.name}")
        self._name.setToolTip(texture.path)
        if self.isVisible():
            self._wait.start()

    def _try(self) -> None:
        session = self._session
        if not session.is_open or not session.chosen or session.inventory is None:
            return
        inventory, row = session.inventory, session.chosen[0]
        plan, before = session.plan(), session.plan(cut=False)
        recipe = plan.recipe(row)
        key = (inventory.textures[row].content, recipe.path, recipe.width, recipe.height, recipe.levels, recipe.format)
        key = (*key, recipe.effort, recipe.filter, session.watched_id)
        if key == self._shown:
            return
        same_picture = bool(self._shown) and self._shown[0] == key[0]
        self._shown = key
        if self._work is not None:
            self._work.cancel()
        if not inventory.textures[row].pixels:
            self.view.say(f"{FORMATS[recipe.format].label} cannot be decoded yet, so there is nothing to look at.")
            return
        self._words.setText("encoding …")
        if not same_picture:
            self.view.say("encoding …")
        memory = (int(before.arrival.memory[row]), int(plan.arrival.memory[row]))

        def done(trial: Trial) -> None:
            if key == self._shown:
                self._words.setText(trial.words)
                self.view.show_layers((trial.source, trial.cut), keep_view=same_picture)

        def failed(error: Exception) -> None:
            if key == self._shown:
                self._shown = ()
                self._words.setText("")
                self.view.say(str(error) if isinstance(error, OakTrimError) else f"The proof failed: {error}")

        self._work = start(try_recipe(inventory, row, recipe, memory), self, done, failed)
        self._work.ended.connect(partial(self._ended, self._work))

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None
