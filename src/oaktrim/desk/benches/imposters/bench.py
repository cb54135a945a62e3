"""The Imposters bench: the real thing and its imposter under one camera, how like they are, and the levels of the model."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from math import tan
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.begin import with_begun
from oaktrim.core.job.document import Job
from oaktrim.core.makers.imposter.frames.mapping import grid_of
from oaktrim.core.makers.imposter.kind import takes_the_place
from oaktrim.core.makers.imposter.seenfrom import SeenFrom, ring_of, seen_in
from oaktrim.core.makers.imposter.settings import Chain, ChainForm, Family, HandOutline, Imposter
from oaktrim.core.makers.imposter.things import advised, far_things, things_of
from oaktrim.core.makers.registry import of_type
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.imposteradvice import Trial
from oaktrim.core.proof.imposterdraft import ImposterDraft, advice, draft
from oaktrim.core.render.camera import Camera, framing
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.inspect import edges
from oaktrim.core.render.overdraw import in_colours, overdraw
from oaktrim.core.render.picture import Settings, draw
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.emptypage import empty_page
from oaktrim.desk.benches.imposters.settingscolumn import SettingsColumn
from oaktrim.desk.benches.imposters.sheetpane import SheetPane
from oaktrim.desk.benches.imposters.thinglist import Key, ThingList, made_words
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.elidedlabel import ElidedLabel
from oaktrim.desk.widgets.picture import Mode
from oaktrim.desk.widgets.sceneview import SceneView, Shot
from oaktrim.desk.widgets.stairchart import StairChart
from oaktrim.desk.work.tasks import Work, start

_SEEN, _EDGES, _OVERDRAW, _CHAIN = "As seen", "Edges", "Overdraw", "By the chain"
_ABOUT = {
    _SEEN: "Both as they are seen, the imposter with its sheet as it ships",
    _EDGES: "Triangles",
    _OVERDRAW: "How often each pixel is drawn, clear parts too",
    _CHAIN: "At the right what the chain shows at this height: the thing, the imposter, or nothing",
}
_EMPTY = (
    "An imposter stands for a thing where it is far away: a few cards with its picture, in one draw. "
    "There is no model here yet: add a glTF or OBJ model to the folder."
)
_FLIGHT_SECONDS, _FRAME_MS = 7.0, 40
_NEAREST, _FARTHEST = 400.0, 6.0
_FAMILIES = {
    Family.CARDS: "Cards", Family.CLOUD: "Card cloud", Family.RING: "Ring", Family.SPHERE: "Sphere", Family.DOME: "Dome",
}  # fmt: skip


class ImpostersBench(Bench):
    """Shows one thing at a time, as it is set or as it is made."""

    title = "Imposters"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._drafts: dict[Key, Imposter] = {}
        self._now: Key | None = None
        self._document = -1
        self._why = ""
        self._draft: ImposterDraft | None = None
        self._key: tuple[object, ...] = ()
        self._work: Work | None = None
        self._trials: Work | None = None
        self._name = with_properties(QLabel("Imposters"), objectName="title")
        self._about = with_properties(ElidedLabel(), objectName="caption", accessibleName="What the imposter is")
        self.families: dict[Family, QPushButton] = {}
        self.ways: dict[str, QPushButton] = {}
        self.advice = with_properties(
            QPushButton("Which?"),
            toolTip="Bake small ones of each family, and take the one that is most like the thing",
        )
        self.make = with_properties(QPushButton("Make it"), objectName="primary")
        self.remove = with_properties(QPushButton("Remove"), toolTip="The job makes no imposter of this any more")
        self.things = ThingList()
        self.settings = SettingsColumn()
        self.view = SceneView()
        self.view.setAccessibleName("The thing and its imposter")
        self.readout = with_properties(QLabel(), objectName="caption", accessibleName="How high it is seen")
        self.likeness = with_properties(ElidedLabel(), objectName="caption", accessibleName="What was measured")
        self.stair = StairChart()
        self.fly = with_properties(QPushButton("Fly through"), toolTip="Go away from it and see the chain do its work")
        self.advise = with_properties(
            QPushButton("Use what is advised"), toolTip="Let the imposter stand from where it is no longer noticed"
        )
        self.pane = SheetPane()
        self._pages = QStackedWidget()
        self._flown = 0.0
        self._flight = QTimer(self, interval=_FRAME_MS)
        self._flight.timeout.connect(self._fly_on)
        self._build()
        self._wait = QTimer(self, singleShot=True, interval=350)
        self._wait.timeout.connect(self._begin)
        self._connect()

    # Building

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self._pages.addWidget(empty_page(_EMPTY))
        self._pages.addWidget(self._room())
        column.addWidget(self._pages)
        self.view.set_mode(Mode.BESIDE)

    def _room(self) -> QWidget:
        room = QWidget()
        across = QHBoxLayout(room)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        main = QVBoxLayout()
        main.setSpacing(0)
        main.addLayout(self._top())
        inner = QHBoxLayout()
        inner.setSpacing(0)
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addWidget(self.things, 1)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QScrollArea.Shape.NoFrame)
        scroll.setWidget(self.settings)
        scroll.setFixedWidth(196)
        scroll.setMinimumHeight(180)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        left.addWidget(scroll, 2)
        inner.addLayout(left)
        middle = QVBoxLayout()
        middle.setSpacing(0)
        middle.addLayout(self._keys())
        middle.addWidget(self.view, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(10, 4, 10, 0)
        foot.addWidget(with_properties(QLabel("How like, and from where"), objectName="heading"))
        foot.addSpacing(6)
        self.likeness.setMinimumWidth(30)
        foot.addWidget(self.likeness, 1)
        foot.addWidget(self.fly)
        foot.addWidget(self.advise)
        middle.addLayout(foot)
        middle.addWidget(self.stair)
        inner.addLayout(middle, 1)
        main.addLayout(inner, 1)
        across.addLayout(main, 1)
        across.addWidget(self.pane)
        return room

    def _top(self) -> QHBoxLayout:
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 4)
        top.setSpacing(4)
        top.addWidget(self._name)
        top.addSpacing(6)
        group = QButtonGroup(self)
        for family, words in _FAMILIES.items():
            key = with_properties(QPushButton(words), checkable=True)
            key.setObjectName("chip")
            key.clicked.connect(partial(self._set_family, family))
            group.addButton(key)
            top.addWidget(key)
            self.families[family] = key
        top.addWidget(self.advice)
        top.addSpacing(6)
        self._about.setMinimumWidth(30)
        top.addWidget(self._about, 1)
        top.addWidget(self.remove)
        top.addWidget(self.make)
        return top

    def _keys(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(8, 2, 10, 6)
        row.setSpacing(4)
        group = QButtonGroup(self)
        for way, about in _ABOUT.items():
            key = with_properties(QPushButton(way), checkable=True, checked=way == _SEEN, toolTip=about)
            key.setObjectName("chip")
            key.clicked.connect(lambda _: self.view.redraw())
            group.addButton(key)
            row.addWidget(key)
            self.ways[way] = key
        row.addSpacing(6)
        self.readout.setMinimumWidth(30)
        row.addWidget(self.readout, 1)
        return row

    def _connect(self) -> None:
        session = self._session
        for signal in (session.opened, session.job_changed, session.watched_changed):
            signal.connect(self.refresh)
        self.view.shading = self._shade
        self.view.moved.connect(self._show_here)
        self.things.chosen.connect(self.show_thing)
        self.things.all_wanted.connect(self.make_all)
        self.settings.changed.connect(lambda changes: self._change(**changes))
        self.settings.chained.connect(self._set_chain)
        self.settings.seen_wanted.connect(self.leave_unseen)
        self.stair.switch_changed.connect(partial(self._set_share, "switch"))
        self.stair.vanish_changed.connect(partial(self._set_share, "vanish"))
        self.stair.looked.connect(self.look_from)
        self.pane.outlined.connect(self._outline)
        self.fly.clicked.connect(self.fly_through)
        self.advise.clicked.connect(self.use_advice)
        self.advice.clicked.connect(self.try_families)
        self.make.clicked.connect(self.make_it)
        self.remove.clicked.connect(self._remove)

    def actions_here(self) -> list[Action]:
        return [
            Action("Make the imposter that is shown", self.make_it),
            Action("Make imposters of all far things", self.make_all),
            Action("Try which family of imposter suits the thing", self.try_families),
            Action("Switch to the imposter where it is advised", self.use_advice),
            Action("Fly away from the thing and its imposter", self.fly_through),
        ]

    def showEvent(self, event: object) -> None:
        self.refresh()

    def begin(self) -> None:
        """Show the far object of what is selected, or the first of all."""
        session = self._session
        if session.inventory is not None:
            chosen = {session.asset_path(asset) for asset in session.selected}
            things = far_things(session.workshop.found)
            found = next((row for row in things if row.model in chosen), things[0] if things else None)
            if found is not None:
                self.show_thing(found.key)
        self.refresh()

    def stop(self) -> None:
        self._flight.stop()
        for work in (self._work, self._trials):
            if work is not None:
                work.cancel()

    # What is shown

    def _makers(self) -> list[Imposter]:
        return of_type(self._session.job.makers, Imposter)

    @property
    def made(self) -> Imposter | None:
        """The imposter that the job makes of the thing that is shown, or None."""
        return next((row for row in self._makers() if (row.source_model, row.nodes) == self._now), None)

    @property
    def lines(self) -> int:
        """Pixels of the watched target's screen, from top to bottom."""
        return int(self._session.watched.screen[1])

    def wanted(self) -> Imposter | None:
        """Return the imposter as it is set."""
        if self._now is None:
            return None
        kept = self._drafts.get(self._now) or self.made
        if kept is None:
            thing = next((row for row in things_of(self._session.workshop.found) if row.key == self._now), None)
            if thing is None:
                return None
            # Another model stands in its place where a maker says so: a chain would be a second one.
            chain = not any(takes_the_place(maker, thing.model) for maker in self._session.job.makers)
            kept = self._drafts[self._now] = self._session.job.named(advised(thing, self.lines, chain))
        return kept

    def refresh(self) -> None:
        """Draft the imposter as it is set, once the hand is still."""
        session = self._session
        if not session.is_open or session.inventory is None or not self.isVisible():
            return
        if session.document != self._document:
            self._document = session.document
            self._drafts, self._now, self._draft, self._key = {}, None, None, ()
        found = session.workshop.found
        things, far = things_of(found), far_things(found)
        self._pages.setCurrentIndex(1 if things else 0)
        if not things:
            return
        if self._now is None:
            made = self._makers()
            self._now = (made[0].source_model, made[0].nodes) if made else (far or things)[0].key
        self.things.show_things(things, far, self._makers(), self._now)
        self._show_settings()
        self._wait.start()

    def show_thing(self, key: Key) -> None:
        """Show another thing."""
        if key != self._now:
            self._now, self._why = key, ""
            self._flight.stop()
            self.refresh()

    @property
    def _ready(self) -> bool:
        return self._draft is not None and self._draft.made is not None and self._draft.settings == self.wanted()

    def _show_settings(self) -> None:
        wanted, made = self.wanted(), self.made
        if wanted is None:
            return
        self.settings.show_settings(wanted)
        self.families[wanted.family].setChecked(True)
        self.remove.setVisible(made is not None)
        self.make.setText("Make it" if made is None else "Change it")
        self.make.setEnabled(self._ready and wanted != made)
        name = ", ".join(wanted.nodes) or wanted.source_model.rpartition("/")[2].rpartition(".")[0]
        self._about.setText(f"{name} · {made_words(wanted)}")
        self.advise.setEnabled(
            bool(self._ready and self._draft and self._draft.likeness and self._draft.likeness.switch)
        )
        self._show_stair()

    def _show_stair(self) -> None:
        wanted, now = self.wanted(), self._draft
        if now is None or wanted is None:
            self.stair.show_draft(None, None, (), self.lines)
            return
        self.stair.show_draft(now.likeness, wanted.chain, now.levels, self.lines)

    def _begin(self) -> None:
        session, wanted = self._session, self.wanted()
        if not session.is_open or session.inventory is None or not self.isVisible() or session.trying or wanted is None:
            return
        found = session.workshop.found
        key = (id(found), wanted, session.watched_id)
        if key == self._key:
            return
        same = self._draft is not None and self._key[:1] == key[:1] and _key_of(self._draft.settings) == self._now
        self._key = key
        if self._work is not None:
            self._work.cancel()
        if not same:
            self._draft = None
            self.view.say("reading the model …")
            self.pane.say_nothing()
        others = [target.id for target in session.targets if target.id != session.watched_id]
        plans = [session.plan(name) for name in (session.watched_id, *others)]

        def done(now: ImposterDraft) -> None:
            if key == self._key:
                self._take(now)

        def failed(error: Exception) -> None:
            if key == self._key:
                self._draft = None
                self.view.say(str(error) if isinstance(error, OakTrimError) else f"It cannot be made: {error}")
                self.pane.say_nothing()
                self.likeness.setText("")
                self._show_settings()

        work = self._work = start(draft(found, wanted, plans, session.job.max_pixels), self, done, failed)
        work.found.connect(done)
        work.progress.connect(self._step)
        work.ended.connect(partial(self._ended, work))

    def _step(self, step: Progress) -> None:
        self.likeness.setText(f"{step.what} …")

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None

    def _take(self, now: ImposterDraft) -> None:
        """Show as much of a draft as there is."""
        last, self._draft = self._draft, now
        new_thing = last is None or _key_of(last.settings) != _key_of(now.settings)
        scenes: tuple[Drawable, ...] = (now.thing,)
        words: tuple[str, ...] = (f"real · {now.triangles:,} △",)
        if now.instead is not None and now.made is not None:
            scenes, words = (*scenes, now.instead.scene), (*words, f"imposter · {now.made.triangles:,} △")
        if last is None or last.instead is not now.instead or new_thing:
            home = framing(*now.thing.draws.box(), (0.45, 0.2, 1.0))
            self.view.show_scenes(scenes, words, home, not new_thing)
        self.pane.lines = self.lines
        self.pane.show_draft(now)
        if now.likeness is not None:
            self.likeness.setText(self._in_words(now))
            self.likeness.setToolTip(f"{self._in_words(now)}\n{self._why}".strip())
        self._show_settings()
        self._show_here()

    def _in_words(self, now: ImposterDraft) -> str:
        assert now.likeness is not None
        switch, chain = now.likeness.switch, now.settings.chain
        if self._why:
            return self._why
        words = f"not noticed from {switch} px down" if switch else "noticed at every height looked at"
        if chain is not None and chain.switch * self.lines > max(switch, 1) * 1.05:
            words += f" · ▲ it stands from {chain.switch * self.lines:.0f} px on, where it is noticed"
        return words

    # Drawing

    def _shade(self, scene: Drawable, camera: Camera, size: tuple[int, int], quick: bool) -> Task[Shot]:
        now, way = self._draft, next(way for way, key in self.ways.items() if key.isChecked())
        instead = now is not None and now.instead is not None and scene is now.instead.scene
        if way == _OVERDRAW:
            yield Progress(0, 1, "counting")
            turned = now.instead.turned(camera) if instead and now is not None and now.instead is not None else scene
            counts = overdraw(turned, camera, size)
            return Shot(in_colours(counts), np.where(counts > 0, 0, -1).astype(np.int32))
        how = Settings(1, 1, buffers=("ids",)) if quick or way == _EDGES else Settings(4, 8, buffers=("ids",))
        shown: Drawable | None = scene
        if way == _CHAIN and instead and now is not None:
            pixels = self._height_of(camera)
            chain = now.settings.chain
            share = pixels / self.lines
            if chain is not None and share >= chain.switch:
                shown, instead = now.thing, False
            elif chain is not None and share < chain.vanish:
                shown = None
        if shown is None:
            return Shot(np.zeros((size[1], size[0], 4), np.uint8), np.full((size[1], size[0]), -1, np.int32))
        drawn = now.instead.drawn if instead and now is not None and now.instead is not None else None
        if way == _EDGES and instead and now is not None and now.instead is not None:
            picture = yield from draw(now.instead.turned(camera), camera, size, how)
        elif drawn is None:
            picture = yield from draw(shown, camera, size, how)
        else:
            picture = yield from drawn(camera, size, how)
        return Shot(edges(picture) if way == _EDGES else picture.codes(), picture.ids, None, picture)

    def _height_of(self, camera: Camera) -> float:
        """Return how high the thing is on the watched target's screen, pixels, from a camera."""
        now = self._draft
        if now is None:
            return 0.0
        seen = 2 * tan(camera.yfov / 2) * camera.distance if camera.yfov > 0 else camera.height
        return now.height / max(seen, 1e-12) * self.lines

    def _show_here(self) -> None:
        pixels = self._height_of(self.view.camera)
        self.stair.show_here(pixels or None)
        self.readout.setText(f"{pixels:.0f} px high on {self._session.watched.name}" if pixels else "")
        made = self._draft.made if self._draft is not None else None
        self.pane.show_frames_of(made, self.view.camera)

    def look_from(self, pixels: float) -> None:
        """Go so far away that the thing is so many pixels high."""
        now = self._height_of(self.view.camera)
        if now > 0:
            self.view.set_camera(self.view.camera.dollied(now / pixels))

    def fly_through(self) -> None:
        """Go away from near by until it is gone, as the chain has it."""
        if self._draft is None or self._draft.instead is None:
            return
        self.ways[_CHAIN].setChecked(True)
        self._flown = 0.0
        self.look_from(_NEAREST)
        self._flight.start()

    def _fly_on(self) -> None:
        self._flown += _FRAME_MS / 1000 / _FLIGHT_SECONDS
        if self._flown >= 1:
            self._flight.stop()
            return
        self.look_from(_NEAREST * (_FARTHEST / _NEAREST) ** self._flown)

    # What a hand does

    def _change(self, **changes: object) -> None:
        wanted = self.wanted()
        if wanted is None or self._now is None or not self._session.is_open:
            return
        self._drafts[self._now] = msgspec.structs.replace(wanted, **changes)
        self._show_settings()
        self._wait.start()

    def _set_family(self, family: Family, _: bool = True) -> None:
        self._change(family=family, outlines=())

    def _set_chain(self, form: ChainForm | None) -> None:
        wanted = self.wanted()
        if wanted is None:
            return
        if form is None:
            self._change(chain=None)
            return
        advice = self._draft.likeness.switch if self._draft is not None and self._draft.likeness is not None else 0
        before = wanted.chain or Chain(max(8, advice) / self.lines)
        self._change(chain=msgspec.structs.replace(before, form=form))

    def _set_share(self, riser: str, share: float, done: bool) -> None:
        wanted = self.wanted()
        if wanted is None or wanted.chain is None:
            return
        chain = msgspec.structs.replace(wanted.chain, **{riser: round(min(4.0, share), 6)})
        if done:
            self._change(chain=chain)
        elif self._draft is not None:
            self.stair.show_draft(self._draft.likeness, chain, self._draft.levels, self.lines)

    def use_advice(self) -> None:
        """Let the imposter stand from where it is no longer noticed."""
        if self._draft is not None and self._draft.likeness is not None and self._draft.likeness.switch:
            share = self._draft.likeness.switch / self.lines
            wanted = self.wanted()
            chain = wanted.chain if wanted is not None else None
            vanish = min(chain.vanish, share * 0.99) if chain is not None else 0.0
            form = chain.form if chain is not None else ChainForm.LEVELS
            self._change(chain=Chain(share, vanish, form=form))

    def try_families(self) -> None:
        """Bake small imposters of each family, take the most like, and say why."""
        wanted, session, now = self.wanted(), self._session, self._now
        if wanted is None or session.inventory is None:
            return

        def done(found: list[Trial]) -> None:
            if found and now == self._now:
                best = found[0].settings
                self._why = "at 64 px: " + "; ".join(trial.words for trial in found)
                frames = {"frames": 12, "frame_size": 128} if best.family.of_frames else {}
                self._change(family=best.family, outlines=(), **frames)

        self._ask(advice(session.workshop.found, wanted, session.job.max_pixels), done)

    def leave_unseen(self) -> None:
        """Make a ring of the frames that sightlines see, and say what that leaves out."""
        wanted, session, now = self.wanted(), self._session, self._now
        if wanted is None or session.inventory is None:
            return

        def done(seen: SeenFrom) -> None:
            if now == self._now:
                ring = ring_of(wanted, seen)
                counts = grid_of(ring).count, grid_of(wanted).count
                self._why = f"{seen.words}: {counts[0]} frames in the place of {counts[1]}"
                self._drafts[wanted.source_model, wanted.nodes] = ring
                self._change()

        task = seen_in(session.workshop.found, wanted, session.job.sightlines, session.job.max_pixels)
        self._ask(task, done)

    def _ask(self, task: Task[Any], done: Callable[[Any], None]) -> None:
        """Work on a question about the thing in the background, in the place of the last one."""
        if self._trials is not None:
            self._trials.cancel()
        work = self._trials = start(task, self, done, lambda error: self.likeness.setText(str(error)))
        work.progress.connect(self._step)
        work.ended.connect(partial(self._trials_ended, work))

    def _trials_ended(self, work: Work) -> None:
        if self._trials is work:
            self._trials = None

    def _outline(self, card: int, corners: tuple[tuple[float, float], ...]) -> None:
        wanted = self.wanted()
        if wanted is not None:
            kept = tuple(row for row in wanted.outlines if row.card != card)
            self._change(outlines=(*kept, HandOutline(card, corners)))

    def make_it(self) -> None:
        """Let the job make the imposter that is shown, as one step of undo."""
        session, wanted = self._session, self.wanted()
        if session.history is None or wanted is None or not self._ready or self._now is None:
            return
        if self.made is None and any(row.name == wanted.name for row in session.history.job.makers):
            session.failed.emit(OakTrimError(f"there is a maker called {wanted.name} already; change that one"))
            return
        self._drafts.pop(self._now, None)
        session.edit(self._begun(session.history.job, wanted), f"imposter {wanted.name.rpartition('/')[2]}")

    def _begun(self, job: Job, maker: Imposter) -> Job:
        plans = [self._session.plan(target.id) for target in self._session.targets]
        return with_begun(job, maker, plans)

    def make_all(self) -> None:
        """Let the job make imposters of all far things that have none, as one step of undo."""
        session = self._session
        if session.history is None or not session.is_open:
            return
        job = session.history.job
        have = {(row.source_model, row.nodes) for row in self._makers()}
        chained = {
            model.path
            for model in session.workshop.found.models
            if any(takes_the_place(maker, model.path) for maker in job.makers)
        }
        count = 0
        for thing in far_things(session.workshop.found):
            if thing.key in have:
                continue
            # One file has one place: a second chain of the same model stands beside it.
            maker = job.named(advised(thing, self.lines, chain=thing.model not in chained))
            chained.add(thing.model)
            job, count = self._begun(job, maker), count + 1
        if count:
            session.edit(job, f"imposters of {count} far things")

    def _remove(self) -> None:
        session, made = self._session, self.made
        if made is not None and session.history is not None and self._now is not None:
            self._drafts[self._now] = made
            session.edit(session.history.job.without_maker(made.name), f"no imposter {made.name.rpartition('/')[2]}")


def _key_of(settings: Imposter) -> Key:
    return settings.source_model, settings.nodes
