"""Glyph sheets: a font, a size and characters; the four pages; a line of text set from nothing but the sheet."""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QSignalBlocker, QTimer
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QImage
from PySide6.QtWidgets import (
    QFileDialog,
    QMenu,
    QWidget,
)

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Prominence
from oaktrim.core.job.begin import with_begun
from oaktrim.core.makers.blocks import BLOCKS, block_named, drawable
from oaktrim.core.makers.glyphs.fonts import SUFFIXES, open_font
from oaktrim.core.makers.glyphs.kind import font_file
from oaktrim.core.makers.glyphs.sheet import GlyphSheet, Sheet, line_picture, make_sheet
from oaktrim.core.makers.pack.proof import Damage, damages
from oaktrim.core.makers.registry import of_type
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.plan.advice import format_options
from oaktrim.core.progress import Progress, Task
from oaktrim.core.units import bytes_text, size_text
from oaktrim.desk.benches.channels.glyphform import GlyphForm
from oaktrim.desk.session.session import Session
from oaktrim.desk.work.tasks import Work, start

_NEW = "a new sheet"
_MOST_LISTED = 60


class GlyphPage(GlyphForm):
    """Makes and shows one sheet of the job at a time."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.sheet: Sheet | None = None
        self._work: Work | None = None
        self._harm: Work | None = None
        self._key: object = None
        self._wait = QTimer(self, singleShot=True, interval=400)
        self._wait.timeout.connect(self._draw)
        session.opened.connect(self.refresh)
        session.job_changed.connect(self.refresh)
        session.watched_changed.connect(self._say_bytes)

        self._connect()

    def _connect(self) -> None:
        menu = QMenu(self)
        for name in BLOCKS:
            menu.addAction(name.replace("-", " "), partial(self._add, name))
        self.blocks.setMenu(menu)
        for spin in (self.em, self.gutter, self.spread):
            spin.valueChanged.connect(lambda _: self._wait.start())
        self.side.activated.connect(lambda _: self._wait.start())
        self.fields.toggled.connect(lambda _: self._wait.start())
        self.font_line.editingFinished.connect(self._draw)
        self.characters.textChanged.connect(self._wait.start)
        self.line.textChanged.connect(lambda _: self._set_line())
        self.browse.clicked.connect(self._browse)
        self.file.clicked.connect(self._add_file)
        self.make.clicked.connect(self._make)
        self.remove.clicked.connect(self._remove)
        self.stop.clicked.connect(self._cancel)
        self.which.activated.connect(lambda _: self._load())

    # What there is

    def _made(self) -> list[GlyphSheet]:
        return of_type(self._session.job.makers, GlyphSheet)

    @property
    def _open(self) -> GlyphSheet | None:
        """The sheet of the job that is shown, or None for a new one."""
        made = self._made()
        place = self.which.currentIndex()
        return made[place] if 0 <= place < len(made) else None

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """List the sheets of the job, and show the one that was shown."""
        if not self._session.is_open or not self.isVisible():
            return
        names = [maker.name for maker in self._made()]
        if [self.which.itemText(i) for i in range(self.which.count())] != [*names, _NEW]:
            shown = self.which.currentText()
            with QSignalBlocker(self.which):
                self.which.clear()
                self.which.addItems([*names, _NEW])
                self.which.setCurrentIndex(names.index(shown) if shown in names else 0)
        self._load()

    def _load(self) -> None:
        made = self._open
        self.remove.setVisible(made is not None)
        self.make.setText("Change it" if made is not None else "Make it")
        if made is None:
            self._draw()
            return
        widgets = (self.font_line, self.em, self.fields, self.spread, self.side, self.gutter, self.characters)
        blockers = [QSignalBlocker(widget) for widget in widgets]
        self.font_line.setText(made.font)
        self.em.setValue(made.size)
        self.fields.setChecked(made.spread > 0)
        if made.spread:
            self.spread.setValue(made.spread)
        self.side.setCurrentText(
            str(made.side) if made.side else "smallest power of two" if made.powers else "smallest"
        )
        self.gutter.setValue(made.gutter)
        if drawable(self.characters.toPlainText()) != made.characters:
            self.characters.setPlainText(made.characters)
        del blockers
        self._draw()

    def wanted(self) -> GlyphSheet | None:
        """Return the sheet as it is set, or None where the font or the characters are missing."""
        characters = drawable(self.characters.toPlainText())
        font = self.font_line.text().strip()
        if not characters or not font:
            return None
        side = self.side.currentText()
        sheet = GlyphSheet(
            "", font, self.em.value(), characters, self.spread.value() if self.fields.isChecked() else 0.0,
            int(side) if side.isdigit() else 0, side == "smallest power of two", self.gutter.value(),
        )  # fmt: skip
        named = self._session.job.named(sheet)
        made = self._open
        return msgspec.structs.replace(named, name=made.name) if made is not None else named

    # The sheet that is shown

    def _draw(self) -> None:
        """Make the sheet as it is set, beside the window."""
        if not self._session.is_open or not self.isVisible():
            return
        self.spread.setEnabled(self.fields.isChecked())
        sheet = self.wanted()
        made = self._open
        self.make.setEnabled(sheet is not None and sheet != made)
        if sheet is None:
            self.sheet, self._key = None, None
            self._facts.setText("Choose a font and the characters that are needed.")
            self._show_pages()
            return
        key = msgspec.structs.replace(sheet, name="")
        if key == self._key:
            return
        self._key = key
        self._cancel()
        file = font_file(self._session.root, sheet.font)

        def work() -> Task[Sheet]:
            yield Progress(0, 1, f"reading {file.name}")
            return (yield from make_sheet(sheet, open_font(file)))

        def done(found: Sheet) -> None:
            self._ended()
            self.sheet = found
            self._show_pages()
            self._measure()

        def failed(error: Exception) -> None:
            self._ended()
            self.sheet = None
            self._facts.setText(f"▲ {error}")
            self._show_pages()

        self._work = begun = start(work(), self, done, failed)
        begun.progress.connect(self._step)
        # One that was overtaken does not hide the progress of the next.
        begun.cancelled.connect(lambda: self._ended() if self._work is begun else None)

    def _step(self, step: Progress) -> None:
        self.bar.setVisible(True)
        self.stop.setVisible(True)
        self.bar.setRange(0, step.total)
        self.bar.setValue(step.done)
        self.bar.setFormat(f"{step.what}: {step.done} of {step.total}")

    def _ended(self) -> None:
        self.bar.setVisible(False)
        self.stop.setVisible(False)

    def _cancel(self) -> None:
        if self._work is not None and self._work.running:
            self._work.cancel()

    def _show_pages(self) -> None:
        found = self.sheet
        for place, page in enumerate(self.pages):
            page.show_picture(None if found is None else _grey(found.image.pixels[..., place]))
        self._missing.setVisible(found is not None and bool(found.missing or found.left_out))
        if found is not None:
            metrics = found.metrics
            self._facts.setText(
                f"{len(metrics.glyphs)} glyphs on four pages of {size_text(metrics.width, metrics.height)}, "
                f"{found.occupancy * 100:.1f} % covered"
            )
            said = []
            for words, left in (("not in the font", found.missing), ("no room for", found.left_out)):
                if left:
                    more = "…" if len(left) > _MOST_LISTED else ""
                    said.append(f"▲ {words}, {len(left)}: {' '.join(left[:_MOST_LISTED])}{more}")
            self._missing.setText("\n".join(said))
        self._say_bytes()
        self._set_line()

    def _say_bytes(self) -> None:
        """Say what the sheet takes, four pages in one against other ways to ship them."""
        found = self.sheet
        if found is None:
            self._bytes.setText("")
            return
        width, height = found.image.size
        one, four = FORMATS["rgba8"], FORMATS["r8"]
        levels = level_count(width, height)
        large = (width * 2, height * 2)
        ways = (
            ("this sheet, RGBA8", one.mip_chain_bytes(width, height, levels)),
            ("four textures of one channel, R8", 4 * four.mip_chain_bytes(width, height, levels)),
            ("four textures as usually kept, RGBA8", 4 * one.mip_chain_bytes(width, height, levels)),
            (f"one of {size_text(*large)} as usually kept, RGBA8", one.mip_chain_bytes(*large, level_count(*large))),
        )
        self._bytes.setText(
            "With all levels, in memory:\n" + "\n".join(f"{words}: {bytes_text(size)}" for words, size in ways)
        )

    def _set_line(self) -> None:
        found = self.sheet
        if found is None:
            self.set.show_picture(None)
            return
        codes = line_picture(self.line.text(), found.metrics, found.image)
        room = np.zeros((max(self.set.height(), codes.shape[0]), max(self.set.width(), codes.shape[1] + 12)), np.uint8)
        top = (room.shape[0] - codes.shape[0]) // 2
        room[top : top + codes.shape[0], 6 : codes.shape[1] + 6] = codes
        self.set.show_picture(_grey(255 - room))

    def _measure(self) -> None:
        """Send the sheet through the target's block formats, to show what they do to it."""
        found, session = self.sheet, self._session
        if found is None:
            return
        if self._harm is not None and self._harm.running:
            self._harm.cancel()
        rows = [o.format for o in format_options(session.watched, alpha=True) if not o.against and o.format.compressed]
        few = [row for row in rows if row.prominence >= Prominence.SHORT_LIST][:4]
        image = found.image

        def done(harm: list[Damage]) -> None:
            worst = ", ".join(f"{row.format.label} {max(row.rms):.1f}" for row in harm)
            self._harmed.setText(
                "RGBA8 keeps the pages exactly; colour compression smears them into each other. Off by (RMS of 255, worst "
                f"page): {worst}."
            )

        self._harm = start(damages(image, few), self, done, session.failed.emit)

    # What a hand does

    def _add(self, block: str) -> None:
        self.characters.setPlainText(drawable(self.characters.toPlainText() + block_named(block)))

    def _add_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A text file; its characters are taken")
        if name:
            self.add_text(Path(name))

    def add_text(self, file: Path) -> None:
        """Add the characters of a UTF-8 text file."""
        try:
            text = read_bytes(file).decode("utf-8")
        except FileError as error:
            self._session.failed.emit(error)
        except UnicodeDecodeError as error:
            self._session.failed.emit(FileError(file, "is not UTF-8 text", error.start))
        else:
            self.characters.setPlainText(drawable(self.characters.toPlainText() + text))

    def _browse(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A font", str(self._session.root), "Fonts (*.ttf *.otf)")
        if name:
            self.use_font(Path(name))

    def use_font(self, file: Path) -> None:
        """Take a font, by its way from the root where it lies below that."""
        real, root = Path(os.path.realpath(file)), Path(os.path.realpath(self._session.root))
        self.font_line.setText(real.relative_to(root).as_posix() if real.is_relative_to(root) else str(real))
        self._draw()

    def _make(self) -> None:
        session, sheet = self._session, self.wanted()
        if sheet is None or session.history is None:
            return
        job = session.history.job
        made = self._open
        if made is None and any(maker.name == sheet.name for maker in job.makers):
            session.failed.emit(OakTrimError(f"there is a maker called {sheet.name} already; change that one"))
            return
        plans = [session.plan(target.id) for target in session.targets]
        session.edit(with_begun(job, sheet, plans), f"glyph sheet {sheet.name.rsplit('/', 1)[-1]}")
        self.which.setCurrentText(sheet.name)
        self._load()

    def _remove(self) -> None:
        session, made = self._session, self._open
        if made is not None and session.history is not None:
            session.edit(session.history.job.without_maker(made.name), f"no glyph sheet {made.name}")

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        urls = event.mimeData().urls()
        if len(urls) == 1 and Path(urls[0].toLocalFile()).suffix.lower() in (*SUFFIXES, ".txt"):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        file = Path(event.mimeData().urls()[0].toLocalFile())
        if file.suffix.lower() in SUFFIXES:
            self.use_font(file)
        else:
            self.add_text(file)


def _grey(codes: np.ndarray) -> QImage:
    held = np.ascontiguousarray(codes)
    height, width = held.shape
    return QImage(held.data, width, height, width, QImage.Format.Format_Grayscale8).copy()
