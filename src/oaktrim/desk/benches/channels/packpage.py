"""Packs: four lanes for one of them, and below all that a job makes or could make, by material or by name."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path

import msgspec
from PySide6.QtCore import QItemSelectionModel, QSignalBlocker, Qt
from PySide6.QtWidgets import (
    QFileDialog,
    QHeaderView,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.begin import with_begun
from oaktrim.core.makers.layouts import LAYOUTS, Layout, keep_layout, user_layouts
from oaktrim.core.makers.pack.pack import Lane, Pack, filled, pack_size, share_outside
from oaktrim.core.makers.pack.propose import (
    default_patterns,
    lane_warnings,
    materials_of,
    proposal,
    size_losses,
    stem_of,
)
from oaktrim.core.makers.pack.unpack import unpack_into
from oaktrim.core.pixels.image import Image
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.roles import Role
from oaktrim.desk.benches.channels.layoutdialog import LayoutDialog
from oaktrim.desk.benches.channels.mapnames import MapNamesDialog
from oaktrim.desk.benches.channels.packform import SIZES, PackForm
from oaktrim.desk.models.packs import (
    PackRow,
    pack_facts,
    pack_rows,
    pack_totals,
    packs_save,
    with_lane,
)
from oaktrim.desk.models.packtrials import PackTrials
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.finder import Findable, Finder
from oaktrim.desk.widgets.layers import Look, developed
from oaktrim.desk.work.tasks import Work, as_task, start


class PackPage(PackForm):
    """Follows the session's job; what is edited of a pack that is made is an edit of the job."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._stale = True
        self._drafts: dict[str, list[PackRow]] = {}
        self._weighing: Work | None = None
        self._totalling: Work | None = None
        self._trials = PackTrials(session, self)
        self._trials.drawn.connect(self._drawn)
        self._trials.failed.connect(self._not_drawn)
        self._trials.apart.connect(self.pane.show_apart)
        self._trials.harmed.connect(lambda rows: self.pane.show_damages(rows, self.layout_used.count))
        session.opened.connect(self._forget)
        session.watched_changed.connect(self.refresh)
        session.job_changed.connect(self._edited)

        self._connect()

    def _connect(self) -> None:
        for lane in self.lanes:
            lane.changed.connect(partial(self._change_lane, lane.place))
            lane.source_wanted.connect(partial(self._choose_source, lane.place))
            lane.dropped.connect(partial(self._drop, lane.place))
        self.layouts.activated.connect(lambda _: self._forget())
        self.own.clicked.connect(self._edit_layout)
        self.origin.activated.connect(lambda _: self._forget())
        self.patterns.clicked.connect(self._edit_patterns)
        self.new.clicked.connect(self.add_new)
        self.begin.clicked.connect(self.add_new)
        self.longest.activated.connect(self._resize)
        self.bits.activated.connect(self._deepen)
        self.keeps.clicked.connect(self._keep)
        self.make.clicked.connect(self._make_chosen)
        self.make_all.clicked.connect(self._make_every)
        self.remove.clicked.connect(self._remove)
        self.table.selectionModel().selectionChanged.connect(lambda *_: self._show())

    # What there is

    @property
    def layout_used(self) -> Layout:
        place = max(0, self.layouts.currentIndex())
        return self._known_layouts()[place]

    def _known_layouts(self) -> tuple[Layout, ...]:
        job = self._session.job
        try:
            kept = user_layouts()
        except OakTrimError as error:
            self._session.failed.emit(error)
            kept = ()
        rows = {row.id: row for row in (*LAYOUTS, *kept, *job.layouts)}
        return tuple(rows.values())

    def name_patterns(self) -> dict[str, str]:
        """Return how names tell the maps of the layout in use."""
        layout = self.layout_used
        return {**default_patterns(layout), **self._session.job.map_names.get(layout.id, {})}

    @property
    def chosen(self) -> list[int]:
        """The places of the selected rows, the first of them being shown."""
        return sorted(index.row() for index in self.table.selectionModel().selectedRows())

    @property
    def row(self) -> PackRow | None:
        chosen = self.chosen
        return self.model.rows[chosen[0]] if chosen and chosen[0] < len(self.model.rows) else None

    def _forget(self) -> None:
        self._stale = True
        self._trials.forget()
        self.refresh()

    def _edited(self) -> None:
        self._stale = True
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Show the packs of the job and those that could be made."""
        session = self._session
        if not session.is_open or not self.isVisible() or session.trying:
            return
        known = self._known_layouts()
        if [self.layouts.itemText(i) for i in range(self.layouts.count())] != [row.name for row in known]:
            place = max(0, self.layouts.currentIndex())
            with QSignalBlocker(self.layouts):
                self.layouts.clear()
                for row in known:
                    self.layouts.addItem(row.name)
                    self.layouts.setItemData(self.layouts.count() - 1, row.about, Qt.ItemDataRole.ToolTipRole)
                self.layouts.setCurrentIndex(min(place, len(known) - 1))
        if self._stale:
            self._stale = False
            self._collect()
        self._weigh()
        self._show()

    def _collect(self) -> None:
        """Put together the rows: what could be made with problems on top, then what could, then what is made."""
        session, layout = self._session, self.layout_used
        before = {row.pack.name for row in (self.model.rows[place] for place in self.chosen)}
        facts = pack_facts(session)
        drafts = self._drafts.get(layout.id, [])
        by_name = self.origin.currentIndex() == 1
        rows = pack_rows(session, layout, by_name, self.name_patterns(), facts, drafts)
        self._drafts[layout.id] = [row for row in drafts if row in rows]
        self.model.show_rows(rows, layout, facts, session.watched.name)
        self._size_columns()
        places = [place for place, row in enumerate(rows) if row.pack.name in before] or [0]
        if rows:
            self.choose(places)
        problems = sum(bool(row.problems) for row in rows)
        made = sum(row.made for row in rows)
        self.count.setText(f"{len(rows) - made} to make, {made} made" + (f", ▲ {problems}" if problems else ""))
        self.count.setToolTip("Those with problems (▲) stand on top")
        self.make_all.setText(f"Make all {len(rows) - made}")
        self.make_all.setEnabled(made < len(rows))

    def _size_columns(self) -> None:
        head, count = self.table.horizontalHeader(), self.model.columnCount()
        for column in range(count):
            stretch = column in range(1, count - 3) or column == count - 1
            head.setSectionResizeMode(
                column, QHeaderView.ResizeMode.Stretch if stretch else QHeaderView.ResizeMode.ResizeToContents
            )

    def choose(self, places: list[int]) -> None:
        model = self.table.selectionModel()
        with QSignalBlocker(model):
            model.clearSelection()
        for place in places:
            flags = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
            model.select(self.model.index(place, 0), flags)

    def _weigh(self) -> None:
        """Say what each row saves on the watched target, worked out beside the window."""
        session, rows = self._session, list(self.model.rows)
        if self._weighing is not None and self._weighing.running:
            self._weighing.cancel()

        def weighed(saves: list[int | None]) -> None:
            for row, bytes_saved in zip(rows, saves, strict=True):
                row.saves = bytes_saved
            if rows and rows == self.model.rows:
                last = self.model.index(len(rows) - 1, self.model.columnCount() - 1)
                self.model.dataChanged.emit(self.model.index(0, 0), last)

        planner, target = session.planner(), session.watched
        task = as_task(lambda: packs_save(planner, target, rows), "weighing packs")
        self._weighing = start(task, self, weighed, session.failed.emit)

    # The pack that is shown

    def _show(self) -> None:
        row, layout = self.row, self.layout_used
        for part in self._filled:
            part.setVisible(row is not None)
        self._empty.setVisible(row is None)
        for widget in (self.longest, self.bits, self.keeps, self.make, self.remove):
            widget.setEnabled(row is not None)
        if row is None:
            self._title.setText("")
            self.pane.show_image(None)
            self.pane.name.setText("")
            self.pane.show_totals("", ())
            return
        pack, facts = row.pack, self.model.facts
        more = f" and {len(self.chosen) - 1} more: an edit is on all of them" if len(self.chosen) > 1 else ""
        self._title.setText(f"{pack.name}{more}")
        self._title.setToolTip("\n".join((pack.name, *pack.materials)))
        warnings = lane_warnings(pack, layout, facts)
        sizes = [(facts[p].width, facts[p].height) for p in pack.inputs if p in facts]
        size = pack_size(pack, sizes) if sizes else (0, 0)
        losses = size_losses(pack, facts, size)
        for place, lane_row in enumerate(self.lanes):
            slot, lane = layout.slots[place], pack.lanes[place]
            words = self._reason(layout, place, lane, facts)
            if place in losses:
                words = f"{losses[place]}. {words}"
            lane_row.show_lane(slot, lane, words, warnings.get(place, ()), place < layout.count)
        with QSignalBlocker(self.longest):
            self.longest.setCurrentText(str(pack.size) if pack.size else SIZES[0])
        self.bits.setCurrentIndex(0 if pack.bits == 8 else 1)
        self.keeps.setChecked(pack.keeps)
        ready = [place for place in self.chosen if not self.model.rows[place].made]
        self.make.setText(f"Make {len(ready)}" if len(ready) > 1 else "Make it")
        self.make.setEnabled(bool(ready))
        self.remove.setVisible(any(self.model.rows[place].made for place in self.chosen))
        self.pane.use_layout(layout)
        self.pane.name.setText(pack.name.rsplit("/", 1)[-1])
        self._show_savings(row)
        self._trials.wish(pack, layout)

    def _reason(self, layout: Layout, place: int, lane: Lane, facts: dict[str, TextureFacts]) -> str:
        slot = layout.slots[place]
        if not lane.feeds:
            return f"{lane.fill:g} everywhere; drop a picture here, or choose one." if slot.name else "Nobody reads it."
        feed = lane.feeds[0]
        texture = facts.get(feed.source)
        if texture is None:
            return ""
        said = proposal(slot, texture, self._role(feed.source))
        if said.feed.channel is feed.channel and said.feed.invert == feed.invert:
            return said.reason
        turned = ", inverted" if said.feed.invert else ""
        return f"Chosen by hand; proposed was {said.feed.channel.value}{turned}: {said.reason}"

    def _role(self, path: str) -> Role:
        found = self._session.workshop.found
        row = found.row_of.get(path)
        return found.roles[row].role if row is not None else Role.UNKNOWN

    def _show_savings(self, row: PackRow) -> None:
        count, session = len(row.pack.inputs), self._session
        words = {1: "One texture", 2: "Two textures", 3: "Three textures", 4: "Four textures"}
        heading = f"{words.get(count, f'{count} textures')} → one"
        if self._totalling is not None and self._totalling.running:
            self._totalling.cancel()

        def totalled(lines: list[str]) -> None:
            if self.row is row:
                self.pane.show_totals(heading, lines)

        planner, targets = session.planner(), session.targets
        task = as_task(lambda: pack_totals(planner, targets, row), "weighing the pack")
        self._totalling = start(task, self, totalled, session.failed.emit)

    def _drawn(self, image: Image) -> None:
        """Show the pack as it is now, lane by lane."""
        row, layout = self.row, self.layout_used
        for place, lane in enumerate(self.lanes):
            shown = place < len(image.channels)
            codes = image.pixels[..., place : place + 1] if shown else None
            picture = None if codes is None else developed(codes.repeat(4, axis=2), Look(channels="R"))
            lane.thumb.show_picture(picture)
            slot = layout.slots[place]
            if shown and slot.name and row is not None and row.pack.lanes[place].feeds:
                lane.show_outside(share_outside(image, place, slot), slot)
        self.pane.show_image(image)

    def _not_drawn(self, error: Exception) -> None:
        self.pane.show_image(None)
        self.pane.show_totals("▲ It cannot be made", [str(error)])

    # What a hand does

    def _change_lane(self, place: int, change: Callable[[Lane], Lane], words: str) -> None:
        self._change(lambda pack: with_lane(pack, place, change), words)

    def _change(self, change: Callable[[Pack], Pack], words: str) -> None:
        """Change every selected pack: those that are made as one edit of the job, the others as they stand here."""
        changed = self.model.change(self.chosen, change)
        made = [row.pack for row in changed if row.made]
        self._drafts.setdefault(self.layout_used.id, []).extend(
            row for row in changed if not row.made and row not in self._drafts[self.layout_used.id]
        )
        if made:
            assert self._session.history is not None
            job = self._session.history.job
            for pack in made:
                job = job.with_maker(pack)
            on = made[0].subject if len(made) == 1 else f"{len(made)} packs"
            self._session.edit(job, f"{words} · {on}")
        else:
            self._show()

    def _resize(self, place: int) -> None:
        side = int(SIZES[place]) if place else 0
        self._change(lambda pack: msgspec.structs.replace(pack, size=side), f"pack at {SIZES[place]}")

    def _deepen(self, place: int) -> None:
        self._change(lambda pack: msgspec.structs.replace(pack, bits=(8, 16)[place]), f"pack of {(8, 16)[place]} bits")

    def _keep(self, on: bool) -> None:
        self._change(
            lambda pack: msgspec.structs.replace(pack, keeps=on), "sources ship too" if on else "sources left out"
        )

    def _choose_source(self, place: int, beside: bool) -> None:
        """Let a source be found by its name."""
        found = self._session.workshop.found
        rows = [Findable(t.path, "texture", partial(self._feed, place, t.path, beside)) for t in found.textures]
        if not beside:
            rows.insert(0, Findable("nothing: a fill", "fill", partial(self._unfeed, place)))
        finder = Finder(rows, self)
        finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        finder.resize(420, 340)
        lane = self.lanes[place]
        finder.move(lane.source.mapToGlobal(lane.source.rect().bottomLeft()))
        finder.show()
        finder.line.setFocus()

    def _unfeed(self, place: int) -> None:
        self._change_lane(place, lambda lane: msgspec.structs.replace(lane, feeds=()), "filled")

    def _feed(self, place: int, path: str, beside: bool) -> None:
        facts, layout = self.model.facts, self.layout_used
        feed = proposal(layout.slots[place], facts[path], self._role(path)).feed

        def fed(lane: Lane) -> Lane:
            return msgspec.structs.replace(lane, feeds=(*lane.feeds, feed) if beside else (feed,))

        self._change_lane(place, fed, f"{path.rsplit('/', 1)[-1]} feeds a lane")

    def _drop(self, place: int, file: str) -> None:
        root = self._session.root
        real = Path(os.path.realpath(file))
        inside = real.is_relative_to(os.path.realpath(root))
        path = real.relative_to(os.path.realpath(root)).as_posix() if inside else ""
        if path not in self.model.facts:
            self._session.failed.emit(
                OakTrimError(f"{file}: is no texture of this job; only what was surveyed can feed a lane")
            )
            return
        self._feed(place, path, False)

    def add_new(self) -> None:
        """Begin a pack of the selected textures, each in the slot that its role or its name says."""
        session, layout = self._session, self.layout_used
        found = session.workshop.found
        paths = [path for path in session.chosen_paths if path in found.row_of][:8]
        lanes = [filled(slot) for slot in layout.slots]
        for path in paths:
            texture, role = found.textures[found.row_of[path]], self._role(path)
            free = [p for p, slot in enumerate(layout.slots) if slot.name and not lanes[p].feeds]
            fits = [p for p in free if layout.slots[p].role is role] or free
            if fits:
                lanes[fits[0]] = Lane((proposal(layout.slots[fits[0]], texture, role).feed,))
        red, green, blue, alpha = lanes
        subject = stem_of(paths[0]) if paths else "new"
        drafts = self._drafts.setdefault(layout.id, [])
        worn = materials_of(found)
        materials = dict.fromkeys(material for path in paths for material in worn.get(path, ()))
        reads = tuple(materials) if layout.reads else ()
        pack = Pack("", layout.id, (red, green, blue, alpha), reads, subject)
        named = session.job.named(pack)
        taken = {row.pack.name for row in self.model.rows}
        name, number = named.name, 2
        while name in taken:
            name, number = f"{named.name}_{number}", number + 1
        draft = PackRow(msgspec.structs.replace(named, name=name), False, ())
        drafts.insert(0, draft)
        self._stale = True
        self.refresh()
        self.choose([next(i for i, row in enumerate(self.model.rows) if row is draft)])

    def unpack_selection(self) -> None:
        """Write the channels of the selected textures as grey pictures, by the layout in use."""
        session, layout = self._session, self.layout_used
        if not session.is_open or not session.chosen_paths:
            return
        told = f"Unpack {len(session.chosen_paths)} as {layout.name} into"
        folder = QFileDialog.getExistingDirectory(self, told, str(session.root.parent))
        if folder:
            self.unpack_to(Path(folder))

    def unpack_to(self, folder: Path) -> None:
        """Unpack the selection into a folder, beside the window."""
        session = self._session
        assert session.inventory is not None
        sources = session.inventory.sources(session.job.max_pixels)
        task = unpack_into(session.chosen_paths, self.layout_used, sources, folder, session.root)

        def done(files: list[Path]) -> None:
            self.count.setText(f"{len(files)} pictures in {folder}")

        start(task, self, done, session.failed.emit)

    def _make_chosen(self) -> None:
        self._make([self.model.rows[place] for place in self.chosen if not self.model.rows[place].made])

    def _make_every(self) -> None:
        self._make([row for row in self.model.rows if not row.made])

    def _make(self, rows: list[PackRow]) -> None:
        session = self._session
        assert session.history is not None
        job, layout = session.history.job, self.layout_used
        plans = [session.plan(target.id) for target in session.targets]
        for row in rows:
            job = with_begun(job, row.pack, plans)
        if layout not in LAYOUTS:
            # The job takes the user's layout along, so that it means the same elsewhere.
            job = job.with_layout(layout)
        self._drafts[layout.id] = [draft for draft in self._drafts.get(layout.id, []) if draft not in rows]
        words = f"pack {rows[0].pack.subject}" if len(rows) == 1 else f"{len(rows)} packs"
        session.edit(job, words)

    def _remove(self) -> None:
        session = self._session
        assert session.history is not None
        job = session.history.job
        names = [self.model.rows[place].pack.name for place in self.chosen if self.model.rows[place].made]
        for name in names:
            job = job.without_maker(name)
        session.edit(job, f"remove pack {names[0]}" if len(names) == 1 else f"{len(names)} packs removed")

    def _edit_layout(self) -> None:
        dialog = LayoutDialog(self.layout_used, self)
        layout = dialog.ask()
        if layout is not None:
            self.take_layout(layout, dialog.everywhere.isChecked())

    def take_layout(self, layout: Layout, everywhere: bool) -> None:
        """Use a layout of the user's: kept in the job, and for every job where that is wanted."""
        session = self._session
        assert session.history is not None
        try:
            if everywhere:
                keep_layout(layout)
        except OakTrimError as error:
            session.failed.emit(error)
        session.edit(session.history.job.with_layout(layout), f"layout {layout.name}")
        self.refresh()
        self.layouts.setCurrentText(layout.name)
        self._forget()

    def _edit_patterns(self) -> None:
        """Let the patterns of names be edited, a line a slot, with how many files each finds."""
        found = MapNamesDialog(self._session.workshop.found, self.layout_used, self.name_patterns(), self).ask()
        if found is not None:
            self.set_patterns(found)

    def set_patterns(self, found: dict[str, str]) -> None:
        """Take patterns by slot into the job."""
        session, layout = self._session, self.layout_used
        assert session.history is not None
        job = session.history.job
        kept = {**job.map_names, layout.id: found}
        self.origin.setCurrentIndex(1)
        self._stale = True
        session.edit(msgspec.structs.replace(job, map_names=kept), f"names of maps for {layout.short}")
        self.refresh()
