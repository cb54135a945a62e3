"""Patches: an overlay with its used area found, the rectangle that is cut out, where it lies, and the proof that it fits."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QColorDialog,
    QTableWidgetItem,
    QWidget,
)

from oaktrim.core.errors import OakTrimError
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.format import TextureFormat
from oaktrim.core.job.begin import with_begun
from oaktrim.core.makers.pack.proof import through_format
from oaktrim.core.makers.patch.onmodel import first_user_of, model_pictures
from oaktrim.core.makers.patch.patch import (
    Patch,
    PutBack,
    Rect,
    Snap,
    around,
    background_of,
    cut_out,
    prove_patch,
    snapped,
)
from oaktrim.core.pixels.image import to_rgba
from oaktrim.core.progress import Progress, Task
from oaktrim.core.survey.derived import Sources
from oaktrim.core.units import bytes_text, change_text, size_text
from oaktrim.desk.benches.channels.patchform import SNAPS, PatchForm
from oaktrim.desk.models.patches import Looked, PatchRow, codes_of, look_at, patch_rows, patch_saves
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.layers import Look, developed
from oaktrim.desk.widgets.tables import select_row
from oaktrim.desk.work.tasks import Work, start

_SHOWN_SIDE = 1024


class PatchPage(PatchForm):
    """Lists overlays that are mostly empty, and shows one of them."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._stale = True
        self._rows: list[PatchRow] = []
        self._extra: list[str] = []
        self._colour: QColor | None = None
        self.looked: Looked | None = None
        self._work: Work | None = None
        self.batch: Work | None = None
        self._wait = QTimer(self, singleShot=True, interval=250)
        self._wait.timeout.connect(self._prove)
        session.opened.connect(self._forget)
        session.watched_changed.connect(self.refresh)
        session.job_changed.connect(self._forget)

        self._connect()

    def _connect(self) -> None:
        for number in self.numbers.values():
            number.editingFinished.connect(self._typed)
        self.view.moved.connect(self._moved)
        for box in (self.gutter, self.tolerance, self.gap):
            box.valueChanged.connect(lambda _: self._look_again())
        self.snap.activated.connect(lambda _: self._look_again())
        self.backing.activated.connect(self._choose_backing)
        self.again.clicked.connect(self._look_again)
        self.split.clicked.connect(self._split)
        self.make.clicked.connect(self.make_chosen)
        self.remove.clicked.connect(self._remove)
        self.add.clicked.connect(self.add_selected)
        self.closer.toggled.connect(self.view.set_closer)
        self.table.itemSelectionChanged.connect(self._show)

    # What there is

    def _forget(self) -> None:
        self._stale = True
        self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()

    @property
    def chosen(self) -> list[PatchRow]:
        places = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        return [self._rows[place] for place in places if place < len(self._rows)]

    @property
    def row(self) -> PatchRow | None:
        chosen = self.chosen
        return chosen[0] if chosen else None

    def refresh(self) -> None:
        """List the overlays again."""
        session = self._session
        if not session.is_open or not self.isVisible() or session.trying:
            return
        if self._stale:
            self._stale = False
            before = {row.patch.name for row in self.chosen}
            self._collect()
            self._fill(before)
        self._show()

    def _collect(self) -> None:
        session = self._session
        self._rows = patch_rows(session.workshop.found, session.job, self._extra, self._snap, self.gutter.value())

    @property
    def _snap(self) -> Snap:
        return SNAPS[self.snap.currentIndex()][1]

    def _fill(self, before: set[str]) -> None:
        with QSignalBlocker(self.table):
            self.table.setRowCount(len(self._rows))
            for place, row in enumerate(self._rows):
                self._fill_row(place, row)
            self.table.clearSelection()
            places = [place for place, row in enumerate(self._rows) if row.patch.name in before] or [0]
            for place in places if self._rows else ():
                select_row(self.table, place)
        self.looked = None

    def _fill_row(self, place: int, row: PatchRow) -> None:
        found = self._session.workshop.found
        texture = found.textures[found.row_of[row.path]] if row.path in found.row_of else None
        whole = size_text(texture.width, texture.height) if texture else "gone"
        change = patch_saves(self._session, row)
        unmade = self._session.inventory.unmade if self._session.inventory is not None else ()
        fault = next((u.error for u in unmade if u.path == row.patch.name), "")
        cells = (
            row.path,
            f"{row.share * 100:.1f} %",
            size_text(row.patch.rect.width, row.patch.rect.height),
            whole,
            "" if change is None else change_text(change, gain=""),
            f"▲ {fault}" if fault else "✓ made" if row.made else "ready",
        )
        for column, text in enumerate(cells):
            item = QTableWidgetItem(text)
            side = Qt.AlignmentFlag.AlignRight if column in (1, 2, 3, 4) else Qt.AlignmentFlag.AlignLeft
            item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
            item.setToolTip(row.path if column == 0 else text)
            self.table.setItem(place, column, item)

    # The overlay that is shown

    def _show(self) -> None:
        row = self.row
        for widget in (self.make, self.again, self.split, *self.numbers.values()):
            widget.setEnabled(row is not None)
        ready = [r for r in self.chosen if not r.made]
        self.make.setText(f"Make {len(ready)}" if len(ready) > 1 else "Make it")
        self.make.setEnabled(bool(ready))
        self.remove.setVisible(any(r.made for r in self.chosen))
        self.shared.setVisible(len(ready) > 1)
        if row is None:
            self._title.setText("No overlay is mostly empty; select textures and add them to cut one anyway.")
            self.view.show_overlay(None, (1, 1))
            return
        self._title.setText(row.patch.name)
        if self.looked is None or self.looked.path != row.path:
            self._look(row, keep=True)
        else:
            self._show_rect(row)

    def _sources(self) -> Sources:
        inventory = self._session.workshop.found
        return inventory.sources(self._session.job.max_pixels)

    def _backing(self) -> tuple[float, ...] | None:
        """Return the background that is asked for; None to find it."""
        place = self.backing.currentIndex()
        if place == 1:
            return ()
        if place == 2 and self.looked is not None:
            return background_of(self.looked.image)
        if place == 3 and self.looked is not None and self._colour is not None:
            return codes_of(self._colour, self.looked.image)
        return None

    def _choose_backing(self, place: int) -> None:
        if place == 3:
            found = QColorDialog.getColor(self._colour or QColor("#00FF00"), self, "The colour that counts as empty")
            if not found.isValid():
                return
            self._colour = found
        self._look_again()

    def _look(self, row: PatchRow, keep: bool) -> None:
        """Read an overlay and find what is used; `keep` leaves the rectangle where it is."""
        sources, tolerance, gap = self._sources(), self.tolerance.value(), max(1, self.gap.value())
        background = row.patch.background if row.made and keep else self._backing()
        self._found.setText("Looking at it …")

        def work() -> Task[Looked]:
            yield Progress(0, 1, f"looking at {row.path}")
            return look_at(row.path, sources, background, tolerance, gap)

        def done(looked: Looked) -> None:
            fresh = self.looked is None or self.looked.path != looked.path
            self.looked = looked
            if fresh:
                step = max(1, max(looked.image.size) // _SHOWN_SIDE)
                few = looked.image.with_pixels(np.ascontiguousarray(looked.image.pixels[::step, ::step]))
                self.view.show_overlay(developed(to_rgba(few), Look()), looked.image.size)
            if not (row.made and keep) and looked.used:
                self._set_rect(row, self._fitted(looked), looked.background)
            self._show_rect(row)

        def failed(error: Exception) -> None:
            self._found.setText(f"▲ {error}")

        self._begin(work(), done, failed)

    def _begin(self, task: Task[Any], done: Callable[[Any], None], failed: Callable[[Exception], None]) -> None:
        """Begin the one piece of work on what is shown, in the place of any that is under way."""
        if self._work is not None:
            self._work.cancel()
        self._work = start(task, self, done, failed)

    def _fitted(self, looked: Looked) -> Rect:
        return snapped(around(list(looked.used)), looked.image.size, self._snap, self.gutter.value())

    def _look_again(self) -> None:
        if self.row is not None:
            self._look(self.row, keep=False)

    def _set_rect(self, row: PatchRow, rect: Rect, background: tuple[float, ...]) -> None:
        patch = msgspec.structs.replace(row.patch, rect=rect, background=background, tolerance=self.tolerance.value())
        if patch == row.patch:
            return
        row.patch = patch
        if row.made:
            assert self._session.history is not None
            self._session.edit(self._session.history.job.with_maker(patch), f"patch of {row.path.rsplit('/', 1)[-1]}")
        else:
            self._fill_row(self._rows.index(row), row)

    def _show_rect(self, row: PatchRow) -> None:
        looked = self.looked
        if looked is None or looked.path != row.path:
            return
        rect = row.patch.rect
        self.view.show_rect(rect, looked.used)
        for name, box in self.numbers.items():
            with QSignalBlocker(box):
                box.setValue(getattr(rect, name))
        how = "by alpha" if not looked.background else "off the colour " + " ".join(f"{c:g}" for c in looked.background)
        several = f" in {len(looked.used)} islands" if len(looked.used) > 1 else ""
        self._found.setText(
            f"{int(looked.mask.sum()):,} pixels are used, told {how}{several}." if looked.used else "Nothing is used."
        )
        self.split.setEnabled(len(looked.used) > 1 and not row.made)
        self._places.show_place(rect, looked.image.size)
        self._wait.start()

    def _prove(self) -> None:
        """Put the patch back, exactly and through the format that the overlay ships in."""
        row, looked, session = self.row, self.looked, self._session
        if row is None or looked is None or looked.path != row.path or not self.isVisible():
            return
        patch, plan = row.patch, session.plan()
        inventory = plan.inventory
        shown = inventory.row_of.get(patch.name, inventory.row_of.get(row.path))
        shipped = FORMATS[ORDER[plan.formats[shown]]] if shown is not None else FORMATS["rgba8"]
        whole, part = looked.image.width * looked.image.height, patch.rect.width * patch.rect.height
        self._bytes.setText(
            f"{part / whole * 100:.1f} % of the pixels: {bytes_text(whole * 4)} → {bytes_text(part * 4)} plain"
        )

        def work() -> Task[tuple[PutBack, PutBack]]:
            yield Progress(0, 2, "putting it back")
            cut = cut_out(looked.image, patch.rect, looked.background)
            exact = prove_patch(looked.image, cut, patch.rect, looked.mask, looked.background)
            yield Progress(1, 2, f"through {shipped.label}")
            after = through_format(cut, shipped)
            return exact, prove_patch(looked.image, after, patch.rect, looked.mask, looked.background)

        def done(found: tuple[PutBack, PutBack]) -> None:
            exact, after = found
            if exact.exact:
                words = f"Put back in its place, all {exact.used:,} used pixels are as they were."
            else:
                words = f"▲ {exact.lost:,} of {exact.used:,} used pixels lie outside the rectangle."
            words += f"\nThrough {shipped.label}: at most {after.largest:.0f} of 255 off where it is used."
            self._proof.setText(words)
            self._wear(patch, shipped)

        self._proof.setText("Putting it back …")
        self._begin(work(), done, lambda error: self._proof.setText(f"▲ {error}"))

    def _wear(self, patch: Patch, shipped: TextureFormat) -> None:
        """Show the model that uses it, with the overlay and with the patch as it ships."""
        found = self._session.workshop.found
        self._worn.setVisible(first_user_of(found, patch.source) is not None)
        if not self._worn.isVisible():
            return

        def done(pictures: tuple[NDArray[np.uint8], NDArray[np.uint8]] | None) -> None:
            for thumb, codes in zip(self.worn, pictures or (None, None), strict=True):
                thumb.show_picture(None if codes is None else developed(codes, Look()))

        def failed(error: Exception) -> None:
            self._proof.setText(f"{self._proof.text()}\n▲ {error}")

        task = model_pictures(found, patch, self._sources(), shipped, 2 * self.worn[0].width())
        self._begin(task, done, failed)

    # What a hand does

    def _moved(self, rect: Rect, done: bool) -> None:
        row, looked = self.row, self.looked
        if row is None or looked is None:
            return
        for name, box in self.numbers.items():
            with QSignalBlocker(box):
                box.setValue(getattr(rect, name))
        if done:
            self._set_rect(row, rect, looked.background)
            self._show_rect(row)

    def _typed(self) -> None:
        row, looked = self.row, self.looked
        values = {name: box.value() for name, box in self.numbers.items()}
        if row is None or looked is None or values["width"] < 1 or values["height"] < 1:
            return
        rect = Rect(**values)
        if rect != row.patch.rect:
            self._set_rect(row, rect, looked.background)
            self._show_rect(row)

    def add_selected(self) -> None:
        """List the selected textures, however much of them is used."""
        self._extra += [path for path in self._session.chosen_paths if path not in self._extra]
        self._stale = True
        self.refresh()
        wanted = set(self._session.chosen_paths)
        with QSignalBlocker(self.table):
            self.table.clearSelection()
            for place, row in enumerate(self._rows):
                if row.path in wanted:
                    select_row(self.table, place)
        self._show()

    def _split(self) -> None:
        """Make a patch of each island; they replace the overlay, but for where a model reads it."""
        row, looked, session = self.row, self.looked, self._session
        if row is None or looked is None or session.history is None:
            return
        job = session.history.job
        plans = [session.plan(target.id) for target in session.targets]
        for number, used in enumerate(looked.used):
            rect = snapped(used, looked.image.size, self._snap, self.gutter.value())
            patch = Patch(f"{row.patch.name}_{number}", row.path, rect, looked.background, self.tolerance.value())
            job = with_begun(job, patch, plans)
        session.edit(job, f"{len(looked.used)} patches of {row.path.rsplit('/', 1)[-1]}")

    def make_chosen(self) -> None:
        """Make the patches of all selected overlays, each really looked at first."""
        session, rows = self._session, [row for row in self.chosen if not row.made]
        if not rows or (self.batch is not None and self.batch.running):
            return
        sources, tolerance, snap, gutter = self._sources(), self.tolerance.value(), self._snap, self.gutter.value()
        one, shared = self.row, self.shared.isChecked() and len(rows) > 1
        document = session.document

        def work() -> Task[list[Patch]]:
            found: list[Looked] = []
            for done, row in enumerate(rows):
                yield Progress(done, len(rows), f"looking at {row.path}")
                found.append(look_at(row.path, sources, None, tolerance, 1))
                if not found[-1].used:
                    raise OakTrimError(f"{row.path}: is empty everywhere; there is nothing to cut out")
            if shared and len({looked.image.size for looked in found}) > 1:
                raise OakTrimError("overlays that share a base have one size; the selected ones differ")
            common = around([rect for looked in found for rect in looked.used]) if shared else None
            patches = []
            for row, looked in zip(rows, found, strict=True):
                rect = snapped(common or around(list(looked.used)), looked.image.size, snap, gutter)
                patches.append(
                    msgspec.structs.replace(row.patch, rect=rect, background=looked.background, tolerance=tolerance)
                )
            return patches

        def done(patches: list[Patch]) -> None:
            if session.history is None or session.document != document:
                # They were asked for in a job that is no longer open.
                return
            job = session.history.job
            plans = [session.plan(target.id) for target in session.targets]
            for patch in patches:
                job = with_begun(job, patch, plans)
            words = f"patch of {rows[0].path.rsplit('/', 1)[-1]}" if len(rows) == 1 else f"{len(rows)} patches"
            session.edit(job, words)

        if len(rows) == 1 and one is rows[0] and self.looked is not None and self.looked.path == one.path:
            # What is on screen, moved by hand or not, is what is made.
            done([one.patch])
        else:
            self.batch = start(work(), self, done, session.failed.emit)

    def _remove(self) -> None:
        session = self._session
        assert session.history is not None
        job = session.history.job
        names = [row.patch.name for row in self.chosen if row.made]
        for name in names:
            job = job.without_maker(name)
        session.edit(job, f"remove patch {names[0]}" if len(names) == 1 else f"{len(names)} patches removed")
