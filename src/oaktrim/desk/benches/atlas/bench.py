"""The Atlas bench: the materials of a model merged into one, as it would come out, before it is made."""

from __future__ import annotations

from functools import partial

import msgspec
import numpy as np
from PySide6.QtCore import QSignalBlocker, QTimer
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.begin import with_begun
from oaktrim.core.makers.atlas.naming import SheetName
from oaktrim.core.makers.atlas.scaling import visible_scales
from oaktrim.core.makers.atlas.settings import Atlas, MaterialChoice, Pin, VisibleScale, Weight
from oaktrim.core.makers.registry import of_type
from oaktrim.core.pixels.image import Image
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import Progress
from oaktrim.core.proof.alike import Alike
from oaktrim.core.survey.facts import ModelFacts
from oaktrim.core.survey.findings.structure import mergeable
from oaktrim.core.units import size_text
from oaktrim.desk.benches.atlas.cards import CardList
from oaktrim.desk.benches.atlas.likenesspane import LikenessPane
from oaktrim.desk.benches.atlas.settingsrow import SettingsRow
from oaktrim.desk.benches.atlas.shown import Shown, shown_of
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.emptypage import empty_page
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.densityband import DensityBand
from oaktrim.desk.widgets.elidedlabel import ElidedLabel
from oaktrim.desk.widgets.layers import make_layer
from oaktrim.desk.widgets.sheetview import SheetView
from oaktrim.desk.work.tasks import Work, start

_EMPTY = (
    "An atlas merges the materials of a model into one, with their maps in one sheet, so that it is drawn at once. "
    "There is no model here with two materials or more: add a glTF or OBJ model to the folder."
)
# Where no target says how large a texture may be.
_MOST_SIDE = 4096
_MAPS = {"base": "base colour", "normal": "normal", "orm": "surface", "emissive": "emissive"}


class AtlasBench(Bench):
    """Shows one atlas at a time: of a model of the job, as it is set or as it is made."""

    title = "Atlas"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self._drafts: dict[str, Atlas] = {}
        self._shown: Shown | None = None
        self._key: tuple[object, ...] = ()
        self._work: Work | None = None
        self._island = -1
        self._material = ""
        self._name = with_properties(QLabel("Atlas"), objectName="title")
        self._about = with_properties(QLabel(), objectName="caption", accessibleName="What the atlas changes")
        self.models = with_properties(QComboBox(), accessibleName="Model whose materials are merged")
        self.make = with_properties(QPushButton("Make it"), objectName="primary")
        self.remove = with_properties(QPushButton("Remove"), toolTip="The model is as its file has it again")
        self.cards = CardList()
        self.sheet = SheetView()
        self.sheet.setAccessibleName("The sheet with its islands")
        self.settings = SettingsRow()
        self.which = with_properties(QComboBox(), accessibleName="Sheet that is shown")
        self.maps: dict[str, QPushButton] = {}
        self._facts = with_properties(ElidedLabel(), objectName="caption", accessibleName="The sheet in numbers")
        self.free = with_properties(
            QPushButton("Pack anew"), toolTip="Forget what was moved, turned and weighed by hand"
        )
        self.density = DensityBand()
        self.pane = LikenessPane()
        self._pages = QStackedWidget()
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

    def _room(self) -> QWidget:
        room = QWidget()
        across = QHBoxLayout(room)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        main = QVBoxLayout()
        main.setSpacing(0)
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 4)
        top.addWidget(self._name)
        top.addSpacing(8)
        self._about.setMinimumWidth(40)
        top.addWidget(self._about, 1)
        top.addWidget(self.models)
        top.addSpacing(6)
        top.addWidget(self.remove)
        top.addWidget(self.make)
        main.addLayout(top)
        inner = QHBoxLayout()
        inner.setSpacing(0)
        inner.addWidget(self.cards)
        middle = QVBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.settings)
        middle.addWidget(self.sheet, 1)
        middle.addLayout(self._maps_row())
        middle.addWidget(self.density)
        inner.addLayout(middle, 1)
        main.addLayout(inner, 1)
        across.addLayout(main, 1)
        across.addWidget(self.pane)
        return room

    def _maps_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(6, 6, 8, 0)
        row.setSpacing(4)
        group = QButtonGroup(self)
        for ending, words in _MAPS.items():
            key = with_properties(QPushButton(words), checkable=True, checked=ending == "base")
            key.setObjectName("chip")
            key.clicked.connect(lambda _: self._show_sheet())
            group.addButton(key)
            row.addWidget(key)
            self.maps[ending] = key
        self.which.setMinimumWidth(84)
        row.addWidget(self.which)
        self._facts.setMinimumWidth(30)
        row.addWidget(self._facts, 1)
        row.addWidget(self.free)
        return row

    def _connect(self) -> None:
        session = self._session
        for signal in (session.opened, session.job_changed, session.watched_changed):
            signal.connect(self.refresh)
        session.sights.changed.connect(self._take_demand)
        self.models.currentIndexChanged.connect(lambda _: self.refresh())
        self.settings.weighed.connect(self.weigh_by)
        self.settings.changed.connect(lambda changes: self._change(**changes))
        self.which.activated.connect(lambda _: self._show_sheet())
        self.cards.picked.connect(self._pick_material)
        self.cards.said.connect(self._say)
        self.sheet.picked.connect(self._pick_island)
        self.sheet.moved.connect(self._move)
        self.sheet.turned.connect(self._turn)
        self.sheet.weighed.connect(self._weigh)
        self.sheet.freed.connect(self._free)
        self.density.floor_changed.connect(partial(self._set_bound, "floor"))
        self.density.ceiling_changed.connect(partial(self._set_bound, "ceiling"))
        self.free.clicked.connect(lambda: self._change(pins=()))
        self.make.clicked.connect(self.make_it)
        self.remove.clicked.connect(self._remove)

    def actions_here(self) -> list[Action]:
        return [
            Action("Make the atlas that is shown", self.make_it),
            Action("Look at the atlas's worst place", self.pane.go_to_worst),
            Action("Pack the atlas anew", lambda: self._change(pins=())),
        ]

    def showEvent(self, event: object) -> None:
        self.refresh()

    def begin(self) -> None:
        """Show the model of what is selected."""
        session = self._session
        paths = self._paths()
        chosen = [session.asset_path(asset) for asset in session.selected]
        found = next((path for path in chosen if path in paths), "")
        if not found and session.inventory is not None and session.chosen:
            owners = session.inventory.ownership
            uses = [owners.models[o.model].path for row in session.chosen for o in owners.owners.get(row, ())]
            found = next((path for path in uses if path in paths), "")
        if found:
            self._list_models()
            self.models.setCurrentText(found)
        self.refresh()

    # What is shown

    def _paths(self) -> list[str]:
        """Return the paths of models that have something to merge."""
        if not self._session.is_open:
            return []
        models = self._session.workshop.found.models
        return [model.path for model in models if len(model.materials) > 1]

    @property
    def model(self) -> str:
        """The path of the model that is shown."""
        return self.models.currentText()

    @property
    def made(self) -> Atlas | None:
        """The atlas that the job makes of the model that is shown, or None."""
        makers = of_type(self._session.job.makers, Atlas)
        return next((maker for maker in makers if self.model in maker.source_models), None)

    def wanted(self) -> Atlas:
        """Return the atlas as it is set."""
        kept = self._drafts.get(self.model) or self.made
        longest = max(target.longest_side or _MOST_SIDE for target in self._session.targets)
        return kept or self._session.job.named(Atlas("atlas", (self.model,), longest=min(_MOST_SIDE, max(16, longest))))

    def _list_models(self) -> None:
        paths = self._paths()
        if [self.models.itemText(n) for n in range(self.models.count())] == paths:
            return
        shown = self.models.currentText()
        asked = [path for maker in of_type(self._session.job.makers, Atlas) for path in maker.source_models]
        first = next((path for path in (shown, *asked) if path in paths), self._most_spared())
        with QSignalBlocker(self.models):
            self.models.clear()
            self.models.addItems(paths)
            self.models.setCurrentText(first)

    def _most_spared(self) -> str:
        """Return the path of the model of whose draws an atlas would spare the largest share."""

        def share(model: ModelFacts) -> float:
            draws = sum(row.draws for row in model.objects)
            return sum(len(names) - 1 for names in mergeable(model).values()) / max(1, draws)

        models = [model for model in self._session.workshop.found.models if len(model.materials) > 1]
        return max(models, key=share).path if models else ""

    def refresh(self) -> None:
        """Draft the atlas as it is set, once the hand is still."""
        session = self._session
        if not session.is_open or session.inventory is None or not self.isVisible():
            return
        self._list_models()
        has = self.models.count() > 0
        self._pages.setCurrentIndex(1 if has else 0)
        if not has:
            return
        self.models.setVisible(self.models.count() > 1)
        self._show_settings()
        self._wait.start()

    def _show_settings(self) -> None:
        wanted, made = self.wanted(), self.made
        models = {model.path: model for model in self._session.workshop.found.models}
        objects = [row.name for row in models[self.model].objects if row.name] if self.model in models else []
        self.settings.show_settings(wanted, [path for path in self._paths() if path != self.model], objects)
        self.free.setVisible(bool(wanted.pins))
        self._name.setText(f"Atlas of {self.model.rsplit('/', 1)[-1].rpartition('.')[0]}")
        self.remove.setVisible(made is not None)
        self.make.setText("Make it" if made is None else "Change it")
        self.make.setEnabled(self._ready and (made is None or self._finished() != made))

    @property
    def likeness(self) -> Alike | None:
        """How far the model is from itself, once that is known of what is set."""
        return self._shown.draft.alike if self._shown is not None and self._ready else None

    @property
    def _ready(self) -> bool:
        return (
            self._shown is not None
            and self._shown.draft.made is not None
            and self._shown.draft.settings == self.wanted()
        )

    def _finished(self) -> Atlas:
        """Return the settings that a job would keep."""
        return self._shown.draft.whole if self._shown is not None and self._ready else self.wanted()

    def _begin(self) -> None:
        session = self._session
        if not session.is_open or session.inventory is None or not self.isVisible() or session.trying:
            return
        found, wanted, job = session.workshop.found, self.wanted(), session.job
        key = (id(found), wanted, session.watched_id)
        if key == self._key:
            return
        same_model = (
            self._key[:1] == key[:1]
            and self._shown is not None
            and self._shown.draft.settings.source_models == wanted.source_models
        )
        self._key = key
        if self._work is not None:
            self._work.cancel()
        if not same_model:
            self._shown = None
            self.sheet.say("reading the model …")
            self.pane.say("")
        plain = found.with_roles(job.role_patterns, job.roles)
        plans = tuple(resolve(plain, target, job.cuts) for target in session.targets)

        def done(shown: Shown) -> None:
            if key == self._key:
                self._take(shown)
                self._facts_line()

        def failed(error: Exception) -> None:
            if key == self._key:
                self._shown = None
                words = str(error) if isinstance(error, OakTrimError) else f"It cannot be made: {error}"
                self.sheet.say(words)
                self.pane.say("")
                self._about.setText("")
                self._show_settings()

        work = self._work = start(shown_of(plans, wanted, job.layouts, job.max_pixels), self, done, failed)
        work.found.connect(done)
        work.progress.connect(self._step)
        work.ended.connect(partial(self._ended, work))

    def _step(self, step: Progress) -> None:
        self._facts.setText(f"{step.what} …")

    def _ended(self, work: Work) -> None:
        if self._work is work:
            self._work = None

    def stop(self) -> None:
        if self._work is not None:
            self._work.cancel()

    def _take(self, shown: Shown) -> None:
        """Show as much of a draft as there is."""
        self._shown = shown
        now = shown.draft
        levels: dict[str, float] = {}
        for island in shown.islands:
            levels[island.material] = max(levels.get(island.material, -99.0), island.levels)
        paths = {
            note.material.path: levels[note.material.name]
            for note in now.gathered.notes
            if note.material.name in levels and note.taken
        }
        self.cards.show_notes(now.gathered, now.settings, paths)
        if now.plan is not None:
            self._list_sheets()
            self._show_sheet()
            density = np.array([island.density for island in shown.islands])
            self.density.show_densities(
                density,
                np.array([island.metres for island in shown.islands]),
                (now.settings.floor, now.settings.ceiling),
            )
        self.pane.show_draft(now, shown.costs, self._session.watched.name)
        change = now.change
        if change is not None:
            about = [
                f"{change.before.materials} materials → {change.after.materials}",
                f"{change.before.draws} draws → {change.after.draws}",
            ]
            self._about.setText(" · ".join(about))
        self._show_settings()

    def _list_sheets(self) -> None:
        assert self._shown is not None and self._shown.draft.plan is not None
        plan = self._shown.draft.plan
        rows = []
        for laid in plan.groups:
            group = plan.gathered.groups[laid.group]
            name = f"{group.alpha.value.lower()}{', both sides' if group.two_sided else ''}"
            for sheet in range(laid.layout.sheets):
                number = f" {sheet + 1}" if laid.layout.sheets > 1 else ""
                rows.append((f"{name}{number}", (laid.group, sheet)))
        if [self.which.itemData(n) for n in range(self.which.count())] != [data for _, data in rows]:
            with QSignalBlocker(self.which):
                self.which.clear()
                for words, data in rows:
                    self.which.addItem(words, data)
        self.which.setVisible(len(rows) > 1)

    def _sheet_names(self) -> dict[str, SheetName]:
        """Return the maps of the sheet that is shown, by their endings."""
        made = self._shown.draft.made if self._shown is not None else None
        names = made.names if made is not None else ()
        return {name.kind.ending: name for name in names if (name.group, name.sheet) == self.which.currentData()}

    def _show_sheet(self) -> None:
        shown = self._shown
        if shown is None or shown.draft.plan is None or self.which.currentData() is None:
            return
        group, sheet = self.which.currentData()
        layout = shown.draft.plan.groups[group].layout
        names = self._sheet_names()
        for ending, key in self.maps.items():
            key.setVisible(ending in names or (not names and ending == "base"))
        ending = next((e for e, key in self.maps.items() if key.isChecked() and (e in names or not names)), "")
        if not ending:
            ending = next(iter(names), "base")
            self.maps[ending].setChecked(True)
        size = layout.width, layout.height
        if ending in names:
            layer = shown.layers[names[ending].path]
        else:
            layer = make_layer(Image.of(np.full((max(1, size[1] // 8), max(1, size[0] // 8), 3), 104, np.uint8)))
        mine = [island for island in shown.islands if (island.group, island.sheet) == (group, sheet)]
        self.sheet.show_sheet(layer, size, mine)
        self.sheet.choose(self._island, self._material)
        self._facts_line()

    def _facts_line(self) -> None:
        shown = self._shown
        if shown is None or shown.draft.plan is None or self.which.currentData() is None:
            return
        layout = shown.draft.plan.groups[self.which.currentData()[0]].layout
        self._facts.setText(f"{size_text(layout.width, layout.height)} · {layout.occupancy * 100:.0f} % covered")

    # What a hand does

    def _change(self, **changes: object) -> None:
        """Set something about the atlas that is shown."""
        if not self._session.is_open or not self.model:
            return
        wanted = msgspec.structs.replace(self.wanted(), **changes)
        self._drafts[self.model] = wanted
        self._show_settings()
        self._wait.start()

    def weigh_by(self, weight: Weight) -> None:
        """Let texels go to something else."""
        self._change(weight=weight, seen=self._demand() if weight is Weight.SEEN else ())

    def _take_demand(self) -> None:
        """Weigh by what sightlines say, once they have been asked."""
        if self.isVisible() and self.model and self.wanted().weight is Weight.SEEN and not self.wanted().seen:
            seen = self._demand()
            if seen:
                self._change(seen=seen)

    def _demand(self) -> tuple[VisibleScale, ...]:
        """Return what the sightlines of the job say of the textures of this model, as far as they were asked."""
        session = self._session
        found = session.sights.demand(session.watched)
        session.sights.want()
        if found is None or session.inventory is None:
            return ()
        return visible_scales([row.path for row in session.inventory.textures], found)

    def _say(self, choice: MaterialChoice) -> None:
        wanted = self.wanted()
        kept = [row for row in wanted.materials if row.material != choice.material]
        if choice != MaterialChoice(choice.material):
            kept.append(choice)
        self._change(materials=tuple(kept))

    def _pick_material(self, path: str) -> None:
        self._island = -1
        self._material = path.rpartition("#materials/")[2]
        self.cards.choose(path)
        shown = self._shown
        mine = next((i for i in shown.islands if i.material == self._material), None) if shown is not None else None
        if mine is not None and self.which.currentData() != (mine.group, mine.sheet):
            self.which.setCurrentIndex(self.which.findData((mine.group, mine.sheet)))
            self._show_sheet()
        self.sheet.choose(-1, self._material)

    def _pick_island(self, number: int) -> None:
        self._island = number
        island = next((i for i in self.sheet.islands if i.number == number), None)
        self._material = island.material if island is not None else ""
        shown = self._shown
        paths = (
            [n.material.path for n in shown.draft.gathered.notes if n.material.name == self._material]
            if shown is not None
            else []
        )
        self.cards.choose(paths[0] if paths else "")
        self.sheet.choose(number, "")

    def _pin(self, number: int, **changes: object) -> None:
        wanted = self.wanted()
        row = next((pin for pin in wanted.pins if pin.island == number), Pin(number))
        kept = tuple(pin for pin in wanted.pins if pin.island != number)
        self._change(pins=(*kept, msgspec.structs.replace(row, **changes)))

    def _standing(self, number: int) -> dict[str, object]:
        """Return where an island stands now, as a pin says it."""
        shown = self._shown
        assert shown is not None and shown.draft.plan is not None
        island = shown.islands[number]
        laid = shown.draft.plan.groups[island.group]
        before = sum(len(row.unit) for row in shown.draft.plan.groups[: island.group])
        turn = int(laid.layout.turns[laid.unit[number - before]])
        return {
            "sheet": island.sheet,
            "x": max(0, round(island.box[0])),
            "y": max(0, round(island.box[1])),
            "turn": turn,
        }

    def _move(self, number: int, x: int, y: int) -> None:
        self._pin(number, **{**self._standing(number), "x": x, "y": y})

    def _turn(self, number: int) -> None:
        now = self._standing(number)
        self._pin(number, **{**now, "turn": (int(str(now["turn"])) + 1) % 4})

    def _weigh(self, number: int, steps: int) -> None:
        row = next((pin for pin in self.wanted().pins if pin.island == number), Pin(number))
        self._pin(number, levels=max(-16.0, min(16.0, row.levels + steps)))

    def _free(self, number: int) -> None:
        self._change(pins=tuple(pin for pin in self.wanted().pins if pin.island != number))

    def _set_bound(self, field: str, value: float, done: bool) -> None:
        if done:
            self._change(**{field: round(value, 1)})

    def make_it(self) -> None:
        """Let the job make the atlas that is shown, as one step of undo."""
        session = self._session
        if session.history is None or not self._ready:
            return
        job, maker = session.history.job, self._finished()
        if self.made is None and any(row.name == maker.name for row in job.makers):
            session.failed.emit(OakTrimError(f"there is a maker called {maker.name} already; change that one"))
            return
        plans = [session.plan(target.id) for target in session.targets]
        self._drafts.pop(self.model, None)
        session.edit(with_begun(job, maker, plans), f"atlas {maker.name.rsplit('/', 1)[-1]}")

    def _remove(self) -> None:
        session, made = self._session, self.made
        if made is not None and session.history is not None:
            self._drafts[self.model] = made
            session.edit(session.history.job.without_maker(made.name), f"no atlas {made.name.rsplit('/', 1)[-1]}")
