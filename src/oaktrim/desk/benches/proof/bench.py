"""The Proof bench: one texture, sound or clip against its cut, many worst parts on a wall, and the cuts that fit the budget."""

from __future__ import annotations

from enum import Enum
from functools import partial

from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from oaktrim.core.survey.inventory import OtherAsset
from oaktrim.core.survey.roles import Family
from oaktrim.desk.benches.bench import Action, Bench
from oaktrim.desk.benches.proof.fitpage import FitPage
from oaktrim.desk.benches.proof.modelpage import ModelPage
from oaktrim.desk.benches.proof.onepage import OnePage
from oaktrim.desk.benches.proof.otherpages import MotionPage, SoundPage
from oaktrim.desk.benches.proof.uploadpage import UploadPage
from oaktrim.desk.benches.proof.wallpage import WallPage
from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.session.session import Session
from oaktrim.desk.widgets.elidedlabel import ElidedLabel


class Page(Enum):
    """What the bench shows, in order."""

    ONE = "One"
    MODEL = "On the model"
    WALL = "Wall"
    UPLOAD = "Upload"
    FIT = "Fit to budget"


_ABOUT = {
    Page.ONE: "The first selected texture, sound or clip, source against what ships",
    Page.MODEL: "The first selected texture, source against cut, on an object that wears it",
    Page.WALL: "The worst part of each selected texture, before and after",
    Page.UPLOAD: "What uploading the first selected texture's source makes of it, beside a cut here",
    Page.FIT: "The cuts that meet every limit of the watched target at the least visible loss",
}


class ProofBench(Bench):
    """Follows the session's selection and the watched target."""

    title = "Proof"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("desk")
        self._session = session
        self.one, self.model = OnePage(session), ModelPage(session)
        self.sound, self.motion = SoundPage(session), MotionPage(session)
        self._ones = QStackedWidget()
        for shown in (self.one, self.sound, self.motion):
            self._ones.addWidget(shown)
        self.wall, self.upload, self.fit = WallPage(session), UploadPage(session), FitPage(session)
        self._against = {Page.ONE: self.one.against, Page.MODEL: self.model.against, Page.UPLOAD: self.upload.against}
        self.pages: dict[Page, QPushButton] = {}
        self._stack = QStackedWidget()
        self._name = with_properties(ElidedLabel(), objectName="title")
        self._build()
        for signal in (session.selection_changed, session.plans_changed, session.watched_changed):
            signal.connect(self.refresh)
        session.opened.connect(self._forget)
        self.wall.chosen.connect(self._look_at)

    def actions_here(self) -> list[Action]:
        return [
            Action("Prove one texture", partial(self.show_page, Page.ONE)),
            Action("See it on the model", partial(self.show_page, Page.MODEL), "Ctrl+M"),
            Action("Wall of the selection", partial(self.show_page, Page.WALL), "Ctrl+J"),
            Action("Rehearse the upload", partial(self.show_page, Page.UPLOAD)),
            Action("Fit to budget", partial(self.show_page, Page.FIT), "Ctrl+B"),
        ]

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
        self._name.setMinimumWidth(80)
        top.addWidget(self._name, 1)
        for page, against in self._against.items():
            top.addWidget(against)
            against.setVisible(page is Page.ONE)
        top.addSpacing(16)
        group = QButtonGroup(self)
        for page, shown in zip(Page, (self._ones, self.model, self.wall, self.upload, self.fit), strict=True):
            key = with_properties(QPushButton(page.value), checkable=True, checked=page is Page.ONE)
            key.setObjectName("chip")
            key.setToolTip(_ABOUT[page])
            key.clicked.connect(partial(self.show_page, page))
            group.addButton(key)
            top.addWidget(key)
            self.pages[page] = key
            self._stack.addWidget(shown)
        column.addLayout(top)
        column.addWidget(self._stack, 1)

    def show_page(self, page: Page, _: bool = True) -> None:
        """Show one texture, the wall or the fit."""
        self.pages[page].setChecked(True)
        self._stack.setCurrentIndex(list(Page).index(page))
        self.refresh()

    def _look_at(self, row: int) -> None:
        """Look at one texture of the wall; the selection becomes that one."""
        self._session.select((row,))
        self.show_page(Page.ONE)

    def _forget(self) -> None:
        self.one.forget()
        self.sound.forget()
        self.motion.forget()
        self.model.forget()
        self.upload.forget()
        self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def _other(self) -> OtherAsset | None:
        """Return the sound or the clip that is selected, where no texture is."""
        session = self._session
        if session.inventory is None or session.chosen or not session.selected:
            return None
        row = session.inventory.others[session.selected[0] - len(session.inventory.textures)]
        return row if row.family in (Family.AUDIO, Family.ANIMATION) else None

    def _refresh_other(self) -> bool:
        """Show the sound or the clip that is selected, where there is one and the page for it is open."""
        other = self._other() if self.page is Page.ONE else None
        for of, against in self._against.items():
            against.setVisible(self.page is of and other is None)
        if other is None:
            self._ones.setCurrentWidget(self.one)
            return False
        page = self.sound if other.family is Family.AUDIO else self.motion
        self._ones.setCurrentWidget(page)
        self._name.setText(f"{other.name} on {self._session.watched.name}")
        self._name.setToolTip(other.path)
        page.refresh(other.path)
        return True

    def refresh(self) -> None:
        """Show what is selected, on the page that is open."""
        session = self._session
        if not session.is_open or session.inventory is None:
            return
        if self.page is Page.FIT:
            self._name.setText(f"Fit {session.job.name} to {session.watched.name}")
            self._name.setToolTip("")
            if self.isVisible():
                self.fit.refresh()
            return
        if self._refresh_other():
            return
        if not session.chosen:
            self._name.setText("Proof")
            for page in (self.one, self.model, self.upload):
                page.say("Choose a texture in the Survey bench or with Ctrl+K to see what a cut makes of it.")
            return
        texture = session.inventory.textures[session.chosen[0]]
        more = f" and {len(session.chosen) - 1} more" if len(session.chosen) > 1 else ""
        self._name.setText(f"{texture.path.rsplit('/', 1)[-1]}{more} on {session.watched.name}")
        self._name.setToolTip(texture.path)
        if not self.isVisible():
            return
        if self.page is Page.ONE:
            self.one.refresh()
        elif self.page is Page.MODEL:
            self.model.refresh()
        elif self.page is Page.UPLOAD:
            self.upload.refresh()
        else:
            self.wall.refresh()
