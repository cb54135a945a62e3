"""The Surface bench: a photograph before and after, as a field of tiles, on shapes and on what wears it, with what is measured."""

from __future__ import annotations

from functools import partial

import msgspec
import numpy as np
from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.begin import with_begun
from oaktrim.core.makers.registry import of_type
from oaktrim.core.makers.share.kind import Share
from oaktrim.core.makers.surface.kind import followers_of
from oaktrim.core.makers.surface.settings import Flatten, Stroke, Surface, Tile
from oaktrim.core.pixels.transfer import linear_to_srgb
from oaktrim.core.progress import Task
from oaktrim.core.proof.onmodel import users
from oaktrim.core.proof.rehearse import Rehearsal, rehearse
from oaktrim.core.proof.sharing import Sharing, Swap, sharings, swap, swappable
from oaktrim.core.proof.surfacedraft import SurfaceDraft, Where, draft, stage, worn
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.survey.drawables import TextureCache
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role
from oaktrim.core.units import change_text, size_text
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.emptypage import empty_page
from oaktrim.desk.benches.surface.measurepane import MeasurePane
from oaktrim.desk.benches.surface.steps import StepColumn
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.picture import Mode
from oaktrim.desk.widgets.sceneview import SceneView, Shot, lit
from oaktrim.desk.work.tasks import Work, as_task, start

_EMPTY = (
    "A surface makes a photograph usable: its light flattened, its contrast brought together with others, and its borders made to "
    "meet. There is no coloured texture here yet: add pictures to the folder."
)
_FAR = 5.0
_LIT = lit()
_MOST_LISTED = 300
_WHERES = {
    Where.FIELD: "Field", Where.PLANE: "Plane", Where.POST: "Post", Where.SPHERE: "Sphere", Where.WORN: "Worn",
    Where.SHARED: "Shared",
}  # fmt: skip


class SurfaceBench(Bench):
    """Shows one surface at a time, as it is set or as it is made."""

    title = "Surface"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._document = -1
        self._drafts: dict[str, Surface] = {}
        self._now: str = ""
        self._draft: SurfaceDraft | None = None
        self._key: object = None
        self._work: Work | None = None
        self._staging: Work | None = None
        self._staged: object = None
        self._rehearsing: Work | None = None
        self._comparing: Work | None = None
        self._alike: dict[str, Sharing] = {}
        self._compared: object = None
        self._cache = TextureCache(1 << 28)
        self._name = with_properties(QLabel("Surface"), objectName="title")
        self._about = with_properties(QLabel(), objectName="caption", accessibleName="What the surface is")
        self.make = with_properties(QPushButton("Make it"), objectName="primary")
        self.remove = with_properties(QPushButton("Remove"), toolTip="The job makes no surface of this any more")
        self.every = with_properties(
            QPushButton("Make of all selected"),
            toolTip="The same steps for every texture that is selected in the ledger",
        )
        self.pictures = with_properties(QListWidget(), accessibleName="Textures and their surfaces")
        self.share = with_properties(
            QPushButton(), accessibleName="Near-same textures that one could serve", visible=False
        )
        self.steps = StepColumn()
        self.view = SceneView()
        self.view.setAccessibleName("Before and after")
        self.view.set_mode(Mode.BESIDE)
        self.view.shading = self._shade
        self.wheres: dict[Where, QPushButton] = {}
        self.tiles = with_properties(QSpinBox(), accessibleName="Tiles across")
        self.near = with_properties(QPushButton("near"), objectName="chip", checkable=True, checked=True)
        self.far = with_properties(QPushButton("far"), objectName="chip", checkable=True)
        self.cut = with_properties(
            QPushButton("The cut"), objectName="chip", checkable=True, toolTip="Show where it is cut"
        )
        self.pane = MeasurePane()
        self._pages = QStackedWidget()
        self._build()
        self._wait = QTimer(self, singleShot=True, interval=250)
        self._wait.timeout.connect(self._begin)
        self._connect()

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self._pages.addWidget(empty_page(_EMPTY))
        self._pages.addWidget(self._room())
        column.addWidget(self._pages)

    def _room(self) -> QWidget:
        room = QWidget()
        across = QHBoxLayout(room)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        main = QVBoxLayout()
        main.setSpacing(0)
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 4)
        top.setSpacing(6)
        self._about.setMinimumWidth(30)
        for widget, stretch in ((self._name, 0), (self._about, 1), (self.every, 0), (self.remove, 0), (self.make, 0)):
            top.addWidget(widget, stretch)
        main.addLayout(top)
        inner = QHBoxLayout()
        inner.setSpacing(0)
        left = QVBoxLayout()
        left.setSpacing(4)
        self.pictures.setFixedWidth(232)
        left.addWidget(self.pictures, 1)
        left.addWidget(self.share)
        scroll = with_properties(QScrollArea(widgetResizable=True), frameShape=QFrame.Shape.NoFrame)
        scroll.setWidget(self.steps)
        scroll.setFixedWidth(232)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        left.addWidget(scroll, 3)
        inner.addLayout(left)
        middle = QVBoxLayout()
        middle.setSpacing(0)
        middle.addLayout(self._keys())
        middle.addWidget(self.view, 1)
        inner.addLayout(middle, 1)
        main.addLayout(inner, 1)
        across.addLayout(main, 1)
        across.addWidget(self.pane)
        return room

    def _keys(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(8, 2, 8, 6)
        row.setSpacing(3)
        group = QButtonGroup(self)
        for where, words in _WHERES.items():
            key = with_properties(QPushButton(words), objectName="chip", checkable=True, checked=where is Where.FIELD)
            key.clicked.connect(lambda _: self._stage())
            group.addButton(key)
            row.addWidget(key)
            self.wheres[where] = key
        self.tiles.setRange(1, 8)
        self.tiles.setValue(2)
        self.tiles.setSuffix(" ×")
        self.tiles.setFixedWidth(56)
        self.tiles.setToolTip("Tiles across")
        row.addSpacing(4)
        row.addWidget(self.tiles)
        far = QButtonGroup(self)
        for key in (self.near, self.far):
            far.addButton(key)
            row.addWidget(key)
        row.addWidget(self.cut)
        row.addStretch(1)
        return row

    def _connect(self) -> None:
        session = self._session
        for signal in (session.opened, session.job_changed):
            signal.connect(self.refresh)
        self.pictures.currentItemChanged.connect(lambda item, _: self._choose(item))
        self.steps.changed.connect(self._change)
        self.pane.kept.connect(self._keep)
        self.pane.drawn.connect(self._draw_cut)
        self.pane.upload.wanted.connect(self.rehearse)
        self.tiles.valueChanged.connect(lambda _: self._stage())
        self.cut.clicked.connect(lambda _: self._stage())
        self.near.clicked.connect(lambda _: self._look())
        self.far.clicked.connect(lambda _: self._look())
        self.make.clicked.connect(self.make_it)
        self.every.clicked.connect(self.make_all)
        self.share.clicked.connect(self.share_it)
        self.remove.clicked.connect(self._remove)

    def actions_here(self) -> list[Action]:
        return [
            Action("Make the surface that is shown", self.make_it),
            Action("Make surfaces of all that is selected", self.make_all),
            Action("Show where the surface is cut", self.cut.click),
            Action("Let one texture serve near-same ones", self.share_it),
            Action("Rehearse the upload of the surface", self.rehearse),
        ]

    def showEvent(self, event: object) -> None:
        self.refresh()

    def begin(self) -> None:
        """Show the surface of what is selected, with the steps that its findings ask for."""
        found, session = self._session.workshop.found, self._session
        path = next((path for path in session.chosen_paths if path in found.row_of), "")
        if path:
            self._now = path
        self.refresh()

    def stop(self) -> None:
        for work in (self._work, self._staging, self._rehearsing, self._comparing):
            if work is not None:
                work.cancel()

    # What is shown

    def _makers(self) -> list[Surface]:
        return of_type(self._session.job.makers, Surface)

    @property
    def made(self) -> Surface | None:
        """The surface that the job makes of the picture that is shown, or None."""
        return next((row for row in self._makers() if row.source == self._now), None)

    def wanted(self) -> Surface:
        """Return the surface as it is set: as it is made, as it was left here, or by what was found wrong."""
        kept = self._drafts.get(self._now) or self.made
        if kept is None:
            kept = self._drafts[self._now] = self._advised(self._now)
        return kept

    def _advised(self, path: str) -> Surface:
        found = self._session.workshop.found
        facts = found.textures[found.row_of[path]]
        tiles = facts.seam > 1.5 or found.ownership.tiles(found.row_of[path])
        surface = Surface("surface", path, followers_of(found, path), Flatten(), None, None, Tile() if tiles else None)
        return self._session.job.named(surface)

    def refresh(self) -> None:
        """Draft the surface as it is set, once the hand is still."""
        session = self._session
        if not session.is_open or session.inventory is None or not self.isVisible():
            return
        if session.document != self._document:
            self._document = session.document
            self._drafts, self._draft, self._key, self._staged = {}, None, None, None
            self._now = self._now if self._now in session.workshop.found.row_of else ""
        found = session.workshop.found
        rows = self._listed(found)
        self._pages.setCurrentIndex(1 if rows else 0)
        if not rows:
            return
        if self._now not in found.row_of:
            self._now = found.textures[rows[0]].path
        self._show_list(found, rows)
        self._compare(found)
        self._show_settings()
        self._wait.start()

    def _listed(self, found: Inventory) -> list[int]:
        """Return the textures that could be surfaces: made ones first, then those with something wrong, then the largest."""
        made = {row.source for row in self._makers()}
        wrong = {f.path for f in self._session.findings() if f.code in ("baked-light", "tiling-seam")}
        rows = [
            row
            for row, (texture, guess) in enumerate(zip(found.textures, found.roles, strict=True))
            if texture.pixels and (guess.role in (Role.BASE_COLOUR, Role.UNKNOWN) or texture.path in made)
        ]

        def order(row: int) -> tuple[bool, bool, int]:
            texture = found.textures[row]
            return texture.path not in made, texture.path not in wrong, -texture.width * texture.height

        found_rows = sorted(rows, key=order)[:_MOST_LISTED]
        here = found.row_of.get(self._now, -1)
        return found_rows if here < 0 or here in found_rows else [here, *found_rows]

    def _show_list(self, found: Inventory, rows: list[int]) -> None:
        made = {row.source for row in self._makers()}
        with QSignalBlocker(self.pictures):
            self.pictures.clear()
            for row in rows:
                texture = found.textures[row]
                mark = "made · " if texture.path in made else ""
                item = QListWidgetItem(f"{found.names[row]}\n{mark}{size_text(texture.width, texture.height)}")
                item.setToolTip(texture.path)
                item.setData(Qt.ItemDataRole.UserRole, texture.path)
                self.pictures.addItem(item)
                if texture.path == self._now:
                    self.pictures.setCurrentItem(item)

    def _choose(self, item: QListWidgetItem | None) -> None:
        path = "" if item is None else str(item.data(Qt.ItemDataRole.UserRole))
        if path and path != self._now:
            self._now, self._draft, self._staged = path, None, None
            self.pane.upload.forget()
            self._show_settings()
            self._wait.start()

    def _show_settings(self) -> None:
        wanted, made, found = self.wanted(), self.made, self._session.workshop.found
        rows = [self.pictures.item(place) for place in range(self.pictures.count())]
        others = [(str(item.data(Qt.ItemDataRole.UserRole)), item.text().partition("\n")[0]) for item in rows]
        self.steps.show_surface(wanted, [row for row in others if row[0] != self._now])
        row = found.row_of[self._now]
        more = len(wanted.followers)
        follow = f" · {more} map{'' if more == 1 else 's'} follow{'s' if more == 1 else ''}" if more else ""
        wearers = len(users(found, row))
        worn_by = f" · worn by {wearers} model{'' if wearers == 1 else 's'}" if wearers else ""
        size = size_text(found.textures[row].width, found.textures[row].height)
        self._about.setText(f"{found.names[row]}{follow} · {size}{worn_by}")
        self._show_sharing()
        self.remove.setVisible(made is not None)
        self.make.setText("Make it" if made is None else "Change it")
        self.make.setEnabled(wanted != made and self._does_anything(wanted))
        self.every.setVisible(len(self._session.chosen) > 1)
        self.wheres[Where.WORN].setEnabled(bool(wearers))
        if not self.wheres[self.where].isEnabled():
            self.wheres[Where.FIELD].setChecked(True)

    @staticmethod
    def _does_anything(surface: Surface) -> bool:
        return any(step is not None for step in (surface.flatten, surface.calm, surface.match, surface.tile))

    def _begin(self) -> None:
        session = self._session
        if not session.is_open or session.inventory is None or not self.isVisible():
            return
        found, wanted = session.workshop.found, self.wanted()
        key = (id(found), wanted)
        if key == self._key:
            return
        self._key = key
        if self._work is not None:
            self._work.cancel()
        if self._draft is None:
            self.view.say("reading the picture …")

        def done(now: SurfaceDraft) -> None:
            if key == self._key:
                self._draft = now
                self.pane.show_draft(now)
                self.steps.show_found(now)
                self._stage()

        def failed(error: Exception) -> None:
            if key == self._key:
                self._draft = None
                self.view.say(str(error) if isinstance(error, OakTrimError) else f"It cannot be made: {error}")

        self._work = start(draft(found, wanted, session.job.max_pixels), self, done, failed)

    @property
    def where(self) -> Where:
        """What the surface is looked at on."""
        return next(where for where, key in self.wheres.items() if key.isChecked())

    def _stage(self) -> None:
        """Make the shape ready that the surface is looked at on, and show both."""
        now, where, session = self._draft, self.where, self._session
        if now is None:
            return
        key = (id(now), where, self.tiles.value(), self.cut.isChecked())
        same = self._staged is not None and isinstance(self._staged, tuple) and self._staged[1:3] == key[1:3]
        self._staged = key
        found = session.workshop.found
        task: Task[tuple[tuple[Drawable, Drawable], Camera]]
        source = now.settings.source
        if not same and where in (Where.WORN, Where.SHARED):
            self.view.say("reading the model …")
        if where is Where.SHARED:
            self._stage_swap(key, same)
            return
        if where is Where.WORN:
            place = users(found, found.row_of[source])[0]
            task = worn(found, source, now.made.images, place, self._cache, session.job.max_pixels)
        else:
            task = as_task(partial(stage, now, where, self.tiles.value(), self.cut.isChecked()), "laying it out")

        def done(made: tuple[tuple[Drawable, Drawable], Camera]) -> None:
            if key == self._staged:
                scenes, home = made
                self.view.show_scenes(scenes, ("before", "after"), home, same)
                if not same:
                    self._look()

        if self._staging is not None:
            self._staging.cancel()
        self._staging = start(task, self, done, session.failed.emit)

    def _stage_swap(self, key: object, same: bool) -> None:
        """Show a model with a texture of its own, and with the one that could serve it too."""
        group, found, session = self._alike.get(self._now), self._session.workshop.found, self._session
        sharer = swappable(found, group.share, self._now) if group is not None else None
        if group is None or sharer is None:
            return

        def done(made: Swap) -> None:
            if key == self._staged:
                names = made.path.rpartition("/")[2], f"{group.share.source.rpartition('/')[2]}, {made.jnd:.2f} JND"
                self.view.show_scenes(made.scenes, names, made.camera, same)

        if self._staging is not None:
            self._staging.cancel()
        task = swap(found, group.share, sharer, self._cache, session.job.max_pixels)
        self._staging = start(task, self, done, session.failed.emit)

    def _shade(self, scene: Drawable, camera: Camera, size: tuple[int, int], quick: bool) -> Task[Shot]:
        if self.where is not Where.FIELD:
            return (yield from _LIT(scene, camera, size, quick))
        # In the field colours stand as they are, without a lamp and without a tone curve.
        picture = yield from draw(scene, camera, size, Settings(1 if quick else 4, 1 if quick else 8, buffers=("ids",)))
        alpha = np.clip(picture.colour[..., 3:], 0, 1)
        codes = np.empty(picture.colour.shape, np.uint8)
        light = np.clip(picture.colour[..., :3] / np.maximum(alpha, 1e-6), 0, 1).astype(np.float32)
        codes[..., :3], codes[..., 3:] = np.rint(linear_to_srgb(light) * 255), np.rint(alpha * 255)
        return Shot(codes, picture.ids, None, picture)

    def _look(self) -> None:
        """Go near, or far away."""
        home = self.view.home
        self.view.set_camera(home.dollied(_FAR) if self.far.isChecked() else home)

    # What a hand does

    def _change(self, surface: Surface) -> None:
        if self._session.is_open:
            self._drafts[self._now] = surface
            self._show_settings()
            self._wait.start()

    def _keep(self, stroke: Stroke) -> None:
        wanted = self.wanted()
        if wanted.tile is None:
            return
        # A click on a place that is kept lets go of it.
        near = [row for row in wanted.tile.keep if (row.x - stroke.x) ** 2 + (row.y - stroke.y) ** 2 < row.radius**2]
        kept = tuple(row for row in wanted.tile.keep if row not in near) if near else (*wanted.tile.keep, stroke)
        self._change(msgspec.structs.replace(wanted, tile=msgspec.structs.replace(wanted.tile, keep=kept)))

    # Near-same textures

    def _compare(self, found: Inventory) -> None:
        """Look for near-same textures, once for what is surveyed."""
        if self._compared == id(found):
            return
        self._compared = id(found)
        session = self._session
        plans = [
            session.planner().plan_of(msgspec.structs.replace(session.job, makers=()), target)
            for target in session.targets
        ]

        def done(groups: list[Sharing]) -> None:
            self._alike = {path: group for group in groups for path in group.share.inputs}
            self._show_sharing()

        task = as_task(lambda: sharings(plans, session.cache.thumbnail), "comparing textures")
        self._comparing = start(task, self, done, session.failed.emit)

    def _show_sharing(self) -> None:
        group, session = self._alike.get(self._now), self._session
        done = group is not None and any(group.share.source in row.inputs for row in of_type(session.job.makers, Share))
        self.share.setVisible(group is not None and not done)
        shown = group is not None and swappable(session.workshop.found, group.share, self._now) is not None
        self.wheres[Where.SHARED].setVisible(group is not None and not done)
        self.wheres[Where.SHARED].setEnabled(shown and not done)
        if group is not None:
            saved = group.saved[[target.id for target in session.targets].index(session.watched_id)]
            count = len(group.share.others)
            self.share.setText(f"Share with {count} alike: {change_text(-saved)}")
            lines = [f"{row.path}{f' ({row.words})' if row.words else ''}" for row in group.share.others]
            self.share.setToolTip("\n".join([f"{group.share.source} could serve", *lines]))

    def share_it(self) -> None:
        """Let one texture serve the near-same ones of what is shown, as one step of undo."""
        group, session = self._alike.get(self._now), self._session
        if group is None or session.history is None:
            return
        job = session.history.job
        plans = [session.plan(target.id) for target in session.targets]
        session.edit(with_begun(job, job.named(group.share), plans), f"share {group.share.source.rpartition('/')[2]}")

    def _draw_cut(self, name: str, places: tuple[float, ...]) -> None:
        """Take a cut by hand, or the best one again."""
        wanted = self.wanted()
        if wanted.tile is not None and getattr(wanted.tile, name) != places:
            self._change(msgspec.structs.replace(wanted, tile=msgspec.structs.replace(wanted.tile, **{name: places})))

    def rehearse(self) -> None:
        """Make what is shown, or what the job makes of it, as an upload to the watched target would, and as a cut here."""
        session, made = self._session, self.made
        if not session.is_open or session.inventory is None:
            return
        plan, now = session.plan(cut=False), self._now
        row = plan.inventory.row_of.get(made.name if made is not None else now, -1)
        if row < 0:
            self.pane.upload.say("A maker has taken its place.")
            return
        self.pane.upload.say("making it both ways …")

        def done(found: Rehearsal) -> None:
            if now == self._now:
                self.pane.upload.show_rehearsal(found, plan.target.name)

        if self._rehearsing is not None:
            self._rehearsing.cancel()
        task = rehearse(plan, row, session.job.max_pixels)
        self._rehearsing = start(task, self, done, lambda error: self.pane.upload.say(str(error)))

    def make_it(self) -> None:
        """Let the job make the surface that is shown, as one step of undo."""
        session, wanted = self._session, self.wanted()
        if session.history is None or not self._does_anything(wanted):
            return
        self._drafts.pop(self._now, None)
        plans = [session.plan(target.id) for target in session.targets]
        session.edit(with_begun(session.history.job, wanted, plans), f"surface {wanted.name.rpartition('/')[2]}")

    def make_all(self) -> None:
        """Let the job make surfaces of all selected textures by the steps that are shown, as one step of undo."""
        session, wanted, found = self._session, self.wanted(), self._session.workshop.found
        if session.history is None or not self._does_anything(wanted):
            return
        job, count = session.history.job, 0
        plans = [session.plan(target.id) for target in session.targets]
        for path in session.chosen_paths:
            if path not in found.row_of or found.roles[found.row_of[path]].role not in (Role.BASE_COLOUR, Role.UNKNOWN):
                continue
            tile = None if wanted.tile is None else msgspec.structs.replace(wanted.tile, keep=(), across=(), down=())
            mine = msgspec.structs.replace(wanted, source=path, followers=followers_of(found, path), tile=tile)
            if mine.match is not None and mine.match.path == path:
                mine = msgspec.structs.replace(mine, match=None)
            job, count = with_begun(job, job.named(mine), plans), count + 1
        if count:
            session.edit(job, f"surfaces of {count} textures")

    def _remove(self) -> None:
        session, made = self._session, self.made
        if made is not None and session.history is not None:
            self._drafts[self._now] = made
            session.edit(session.history.job.without_maker(made.name), f"no surface {made.name.rpartition('/')[2]}")
