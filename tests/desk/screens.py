"""All screens of the window, and what is asked of each: that controls have names, are reached by Tab, and are not cut."""

from collections.abc import Callable, Iterator
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QScrollBar,
    QWidget,
)

from oaktrim.desk.benches.channels.bench import Page as ChannelsPage
from oaktrim.desk.benches.proof.bench import Page as ProofPage
from oaktrim.desk.benches.survey.bench import Pane
from oaktrim.desk.widgets.elidedlabel import ElidedLabel


def screens(window) -> Iterator[tuple[str, Callable[[], object]]]:
    """Yield each screen's name and what shows it."""

    def reveal(bench, then=lambda: None):
        window.reveal(bench)
        then()

    for pane in Pane:
        yield f"Survey, {pane.value}", partial(reveal, window.survey, partial(window.survey.show_pane, pane))
    yield "Survey, Rules of formats", partial(reveal, window.survey, partial(window.survey.show_rules, True))
    yield "Survey, Rules of sounds", partial(reveal, window.survey, window.survey.rules.pages["Sounds"].click)
    yield "Sightlines", partial(reveal, window.sightlines)
    for page in ProofPage:
        yield f"Proof, {page.value}", partial(reveal, window.proof, partial(window.proof.show_page, page))
    for page in ChannelsPage:
        yield f"Channels, {page.value}", partial(reveal, window.channels, partial(window.channels.show_page, page))
    for bench in (window.atlas, window.imposters, window.surface, window.ship):
        yield bench.title, partial(reveal, bench)
    yield from _of_others(window, reveal)


def _of_others(window, reveal) -> Iterator[tuple[str, Callable[[], object]]]:
    """Yield the screens that show one of each sort of asset which is no texture."""
    session = window.session
    count = len(session.inventory.textures)
    sorts = {row.family.value: count + place for place, row in enumerate(session.inventory.others)}
    for sort, asset in sorts.items():
        yield (
            f"Survey, {sort} chosen",
            partial(
                reveal,
                window.survey,
                lambda asset=asset: (session.select((asset,)), window.survey.show_pane(Pane.PLANKS)),
            ),
        )
        yield (
            f"Proof, {sort}",
            partial(
                reveal,
                window.proof,
                lambda asset=asset: (session.select((asset,)), window.proof.show_page(ProofPage.ONE)),
            ),
        )


def controls(root: QWidget) -> list[QWidget]:
    """Return what a person can act on, as it is shown now."""
    kinds = (QAbstractButton, QComboBox, QLineEdit, QAbstractSlider, QAbstractSpinBox, QAbstractItemView)
    found = []
    for widget in root.findChildren(QWidget):
        part = isinstance(widget, QScrollBar | QHeaderView) or isinstance(
            widget.parent(), QComboBox | QAbstractSpinBox | QAbstractItemView
        )
        acts = isinstance(widget, kinds) or widget.focusPolicy() & Qt.FocusPolicy.TabFocus
        if acts and not part and not isinstance(widget, QScrollArea) and widget.isVisible() and widget.isEnabled():
            found.append(widget)
    return found


def described(widget: QWidget) -> str:
    """Return what tells a widget from others, for a failure's message."""
    text = getattr(widget, "text", lambda: "")()
    parents, at = [], widget.parentWidget()
    while at is not None and len(parents) < 3:
        parents.append(type(at).__name__)
        at = at.parentWidget()
    return f"{type(widget).__name__} {widget.accessibleName() or text!r} in {' in '.join(parents)}"


def unnamed(root: QWidget) -> list[str]:
    """Return the controls that a screen reader could not name."""
    buddies = {label.buddy() for label in root.findChildren(QLabel) if label.buddy() is not None}
    found = []
    for widget in controls(root):
        text = widget.text() if isinstance(widget, QAbstractButton) else ""
        if not widget.accessibleName() and widget not in buddies and not any(c.isalpha() for c in text):
            found.append(described(widget))
    return found


def tabbed(window: QWidget) -> set[QWidget]:
    """Return the widgets that Tab comes by, from where the focus is until it is there again."""
    seen: dict[QWidget, None] = {}
    for _ in range(600):
        window.focusNextPrevChild(True)
        now = QApplication.focusWidget()
        if now is None or now in seen:
            break
        seen[now] = None
    return set(seen)


def unreached(window: QWidget, root: QWidget) -> list[str]:
    """Return the controls that Tab does not come by: of keys that exclude each other, one is enough."""
    seen = tabbed(window)
    groups = {widget.group() for widget in seen if isinstance(widget, QAbstractButton) and widget.group() is not None}
    found = []
    for widget in controls(root):
        among = isinstance(widget, QAbstractButton) and widget.group() in groups
        inside = any(widget.isAncestorOf(other) for other in seen)
        if widget not in seen and not among and not inside:
            found.append(described(widget))
    return found


def cut_texts(root: QWidget) -> list[str]:
    """Return the widgets whose text has no room."""
    found = []
    for widget in root.findChildren(QWidget):
        if not widget.isVisible() or isinstance(widget, ElidedLabel):
            continue
        if isinstance(widget, QLabel) and widget.text() and not widget.wordWrap():
            need, room = widget.sizeHint().width(), widget.width()
        elif isinstance(widget, QLabel) and widget.text():
            need, room = widget.heightForWidth(widget.width()), widget.height()
        elif isinstance(widget, QAbstractButton) and widget.text():
            edges = 12 if isinstance(widget, QPushButton) else 0
            need, room = widget.fontMetrics().horizontalAdvance(widget.text()) + edges, widget.width()
        elif isinstance(widget, QComboBox) and widget.currentText():
            need, room = widget.fontMetrics().horizontalAdvance(widget.currentText()) + 24, widget.width()
        else:
            continue
        if need > room + 1:
            found.append(f"{described(widget)}: {room} of {need} pixels")
    return found


def overlapping(root: QWidget) -> list[str]:
    """Return pairs of widgets that stand on each other, or beyond the edge of what holds them."""
    found = []
    for parent in [root, *root.findChildren(QWidget)]:
        if not parent.isVisible() or parent.layout() is None:
            continue
        children = [w for w in parent.children() if isinstance(w, QWidget) and w.isVisible() and not w.isWindow()]
        children = [w for w in children if parent.layout().indexOf(w) >= 0 or _in_layout(parent.layout(), w)]
        for place, one in enumerate(children):
            for other in children[place + 1 :]:
                both = one.geometry().intersected(other.geometry())
                if both.width() > 2 and both.height() > 2:
                    found.append(f"{described(one)} on {described(other)}: {both.width()}x{both.height()}")
            if not parent.rect().adjusted(-2, -2, 2, 2).contains(one.geometry()):
                found.append(f"{described(one)} stands beyond its parent's edge")
    return found


def _in_layout(layout, widget) -> bool:
    for place in range(layout.count()):
        inner = layout.itemAt(place).layout()
        if inner is not None and (inner.indexOf(widget) >= 0 or _in_layout(inner, widget)):
            return True
    return False
