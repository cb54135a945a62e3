"""The Channels bench: maps packed into the channels of one texture, patches of mostly empty overlays, and glyph sheets."""

from __future__ import annotations

from enum import Enum
from functools import partial

from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from oaktrim.core.survey.findings.finding import Remedy
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.channels.glyphpage import GlyphPage
from oaktrim.desk.benches.channels.namesdialog import NamesDialog
from oaktrim.desk.benches.channels.packpage import PackPage
from oaktrim.desk.benches.channels.patchpage import PatchPage
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session


class Page(Enum):
    """What the bench shows, in order."""

    PACKS = "Packs"
    PATCHES = "Patches"
    GLYPHS = "Glyph sheets"


_ABOUT = {
    Page.PACKS: "Up to four single-channel maps in one texture",
    Page.PATCHES: "Overlays that are mostly empty, cut down to what is used",
    Page.GLYPHS: "Four pages of glyphs in the channels of one texture",
}


class ChannelsBench(Bench):
    """Shows one kind of maker at a time."""

    title = "Channels"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self.packs, self.patches, self.glyphs = PackPage(session), PatchPage(session), GlyphPage(session)
        self.pages: dict[Page, QPushButton] = {}
        self._stack = QStackedWidget()
        self._about = with_properties(QLabel(), objectName="soft")
        self.names = QPushButton("File names…")
        self._build()

    def actions_here(self) -> list[Action]:
        return [
            Action("Pack the selection", partial(self.begin, Remedy.PACK), "Ctrl+P"),
            Action("Unpack the selection…", self._unpack),
            Action("Patches of overlays", partial(self.show_page, Page.PATCHES)),
            Action("Glyph sheets", partial(self.show_page, Page.GLYPHS)),
        ]

    def begin(self, remedy: Remedy) -> None:
        """Open the maker that fixes a finding, on what is selected."""
        if remedy is Remedy.PACK:
            self.show_page(Page.PACKS)
            self.packs.add_new()
        else:
            self.show_page(Page.PATCHES)
            self.patches.add_selected()

    def _unpack(self) -> None:
        self.show_page(Page.PACKS)
        self.packs.unpack_selection()

    @property
    def page(self) -> Page:
        return list(Page)[self._stack.currentIndex()]

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 4)
        top.setSpacing(4)
        top.addWidget(with_properties(QLabel("Channels"), objectName="title"))
        top.addSpacing(8)
        self._about.setMinimumWidth(60)
        top.addWidget(self._about, 1)
        group = QButtonGroup(self)
        for page, shown in zip(Page, (self.packs, self.patches, self.glyphs), strict=True):
            key = with_properties(QPushButton(page.value), checkable=True, checked=page is Page.PACKS)
            key.setObjectName("chip")
            key.setToolTip(_ABOUT[page])
            key.clicked.connect(partial(self.show_page, page))
            group.addButton(key)
            top.addWidget(key)
            self.pages[page] = key
            self._stack.addWidget(shown)
        self.names.setToolTip("How the names of what is made are put together")
        self.names.clicked.connect(self._edit_names)
        top.addSpacing(8)
        top.addWidget(self.names)
        column.addLayout(top)
        column.addWidget(self._stack, 1)
        self._about.setText(_ABOUT[Page.PACKS])

    def _edit_names(self) -> None:
        """Let the patterns be edited that names of outputs follow; what is made already is renamed."""
        session = self._session
        if session.history is None:
            return
        patterns = NamesDialog(session.job.names, self).ask()
        if patterns is not None:
            session.edit(session.history.job.with_names(patterns), "names of what is made")

    def show_page(self, page: Page, _: bool = True) -> None:
        """Show packs, patches or glyph sheets."""
        self.pages[page].setChecked(True)
        self._stack.setCurrentIndex(list(Page).index(page))
        self._about.setText(_ABOUT[page])
