"""Sounds and clips against what ships of them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from oaktrim.core.errors import OakTrimError
from oaktrim.core.progress import Task
from oaktrim.core.proof.motion import MotionProof, prove_motion
from oaktrim.core.proof.sounds import SoundProof, as_wav, prove_sound
from oaktrim.core.units import bytes_text
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.motionview import MotionView
from oaktrim.desk.widgets.soundview import SoundView
from oaktrim.desk.work.player import Player, player
from oaktrim.desk.work.tasks import Work, start


class _OtherPage(QWidget):
    """A page that proves one asset again when it, its cuts or the target are others."""

    def __init__(self, session: Session, view: SoundView | MotionView, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._work: Work | None = None
        self._key: tuple[object, ...] = ()
        self.words = with_properties(QLabel(wordWrap=True), objectName="caption", accessibleName="What was lost")
        self.words.setContentsMargins(12, 4, 12, 6)
        self._top = QHBoxLayout()
        self._top.setContentsMargins(12, 2, 12, 4)
        self._top.setSpacing(4)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(self._top)
        column.addWidget(view, 1)
        column.addWidget(self.words)

    def forget(self) -> None:
        """Take nothing for shown any more."""
        self._key = ()

    def _prove(
        self, key: tuple[object, ...], task: Callable[[], Task[object]], done: Callable[[object], None],
        say: Callable[[str], None],
    ) -> None:  # fmt: skip
        if key == self._key or not self.isVisible():
            return
        self._key = key
        if self._work is not None:
            self._work.cancel()
        self.words.setText("")
        say("making it as it ships …")

        def made(found: object) -> None:
            if key == self._key:
                done(found)

        def failed(error: Exception) -> None:
            if key == self._key:
                say(str(error) if isinstance(error, OakTrimError) else f"It cannot be proven: {error}")

        self._work = start(task(), self, made, failed)


class SoundPage(_OtherPage):
    """A sound: waveforms, spectrograms, what was lost in each band, and both to listen to where the machine can play."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.view = SoundView()
        super().__init__(session, self.view, parent)
        self._player = Player(self)
        self.plays = {
            name: with_properties(QPushButton(name), objectName="chip", enabled=False)
            for name in ("Play the source", "Play what ships", "Silence")
        }
        for name, key in self.plays.items():
            key.clicked.connect(partial(self._play, name))
            self._top.addWidget(key)
        self._top.addStretch(1)
        if player() is None:
            for key in self.plays.values():
                key.setToolTip("This machine has no pw-play, paplay or aplay to play it with")

    def refresh(self, path: str) -> None:
        """Prove a sound, if that was not done."""
        session = self._session
        plan = session.plan()
        recipe = plan.others.recipes.get(path)
        if recipe is None:
            return
        left = path in plan.others.models.left
        if left:
            self._key = ()
            self.view.say(f"It is left out on {plan.target.name}.")
            return
        content = next(sound.content for sound in plan.inventory.audio if sound.path == path)
        key = (path, content, recipe.settings, plan.target.id)
        self._prove(key, lambda: prove_sound(plan, path, session.store), self._show, self.view.say)

    def _show(self, found: object) -> None:
        assert isinstance(found, SoundProof)
        self.view.show_proof(found)
        for key in self.plays.values():
            key.setEnabled(player() is not None)
        self.words.setText(sound_words(found))

    def _play(self, name: str) -> None:
        proof = self.view.proof
        if name == "Silence" or proof is None:
            self._player.stop()
        else:
            self._player.play(as_wav(proof.source if name == "Play the source" else proof.result))


def sound_words(found: SoundProof) -> str:
    """Say what a sound lost, in a sentence."""
    before, after = found.file_bytes
    if found.loss is None:
        return f"The file ships as it is, {bytes_text(after)}."
    heard = (
        "nothing of the difference is heard over what masks it"
        if found.loss.audible < 0.05
        else f"the difference is {found.loss.audible:.1f} steps of 3 dB over what masks it, in the mean"
    )
    ratio = f"segmental signal-to-noise ratio {found.loss.segmental:.1f} dB"
    return f"{bytes_text(before)} become {bytes_text(after)}; {ratio}; {heard}."


class MotionPage(_OtherPage):
    """A clip: how far what it moves is off over time, and the worst moment drawn."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.view = MotionView()
        super().__init__(session, self.view, parent)

    def refresh(self, path: str) -> None:
        """Prove a clip, if that was not done."""
        plan = self._session.plan()
        file = path.partition("#")[0]
        settings = plan.others.models.settings.get(file)
        model = next((model for model in plan.inventory.models if model.path == file), None)
        if model is None:
            return
        if model.held:
            self._key = ()
            self.view.say(f"The model ships as it is: {model.held}")
            return
        key = (path, model.content, None if settings is None else settings.motion, plan.target.id)
        self._prove(key, lambda: prove_motion(plan, path), self._show, self.view.say)

    def _show(self, found: object) -> None:
        assert isinstance(found, MotionProof)
        self.view.show_proof(found)
        self.words.setText(motion_words(found))


def motion_words(found: MotionProof) -> str:
    """Say what became of a clip's keys, in a sentence."""
    reduced, (before, after) = found.reduced, found.bytes
    far = f"{float(reduced.distance.max()) * 1000:.2f} mm"
    where = f" at {found.node}" if found.node else ""
    tried = "Not cut: this is what a bound of 1 mm and 1° would make of it. " if found.tried else ""
    stored = "rotations in 16 bits" if reduced.short else "in floats, since 16 bits are too coarse here"
    return (
        f"{tried}{reduced.before:,} keys become {reduced.after:,}, {bytes_text(before)} become {bytes_text(after)}, {stored}. "
        f"Nothing comes to stand farther off than {far}{where}."
    )
