"""Every screen on the demonstration: each control has a name and is reached by Tab, and nothing is cut or stands on another."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractButton, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget
from pytestqt.exceptions import TimeoutError as QtTimeoutError

from oaktrim.desk.look.properties import with_properties
from oaktrim.desk.shell.help import HelpPanel
from oaktrim.desk.shell.settingsdialog import SettingsDialog
from oaktrim.desk.widgets.finder import Finder
from tests.desk.screens import controls, cut_texts, overlapping, screens, unnamed, unreached

# A screen may still be reading pictures; what it shows meanwhile is not to be cut either, once it is laid out.
WAIT = 20000


@pytest.fixture
def demo(qtbot, window, demo_job):
    window.resize(1280, 800)
    with qtbot.waitSignal(window.session.opened, timeout=60000):
        window.session.open(demo_job)
    window.session.select((3, 4))
    return window


def faults(root) -> list[str]:
    return cut_texts(root) + overlapping(root)


def laid_out(qtbot, root, name) -> None:
    """Wait until nothing is cut and nothing overlaps; fail with what still was at the end, whether it comes and goes or not."""
    seen: list[str] = []

    def is_whole() -> bool:
        seen[:] = faults(root)
        return not seen

    try:
        qtbot.waitUntil(is_whole, timeout=WAIT)
    except QtTimeoutError:
        pytest.fail(f"{name}: {'; '.join(seen)}")


def sound(qtbot, root, name) -> None:
    """Hold a screen to all that is asked of screens."""
    laid_out(qtbot, root, name)
    assert not unnamed(root), name
    assert not unreached(root.window(), root), name


def test_each_screen_can_be_read_and_used_without_a_mouse(qtbot, demo):
    seen = set()
    for name, show in screens(demo):
        show()
        qtbot.wait(200)
        sound(qtbot, demo, name)
        seen |= {widget.accessibleName() or getattr(widget, "text", str)() for widget in controls(demo)}
    assert len(seen) > 250, "the walk comes by the controls of all screens"


@pytest.mark.parametrize("theme", ["light", "dusk"])
def test_nothing_is_cut_in_a_small_window(qtbot, demo, theme):
    demo.set_theme(theme)
    demo.resize(1100, 700)
    for name, show in screens(demo):
        show()
        qtbot.wait(200)
        laid_out(qtbot, demo, name)


def test_dialogs_too(qtbot, demo):
    for show, kind in ((demo.show_help, HelpPanel), (demo.show_settings, SettingsDialog), (demo.show_finder, Finder)):
        show()
        dialog = demo.findChild(kind)
        dialog.activateWindow()
        qtbot.wait(100)
        sound(qtbot, dialog, kind.__name__)
        dialog.close()


def test_what_the_walk_would_find(qtbot):
    """The checks themselves find what they look for."""
    root = QWidget()
    qtbot.addWidget(root)
    column = QVBoxLayout(root)
    nameless, named = QLineEdit(), with_properties(QLineEdit(), accessibleName="Name of the job")
    skipped = with_properties(QPushButton("Skip"), focusPolicy=Qt.FocusPolicy.NoFocus)
    wide = QLabel("words that have far more to say than there is room for on this little thing")
    for widget in (nameless, named, skipped, wide):
        column.addWidget(widget)
    wide.setFixedWidth(40)
    root.show()
    root.activateWindow()
    qtbot.wait(50)
    assert len(unnamed(root)) == 1 and "QLineEdit ''" in unnamed(root)[0]
    assert [words.split(" in ")[0] for words in unreached(root, root)] == ["QPushButton 'Skip'"]
    assert len(cut_texts(root)) == 1 and "40 of" in cut_texts(root)[0]
    assert overlapping(root) == []
    named.move(nameless.pos())
    assert any("QLineEdit" in words for words in overlapping(root))
    assert any(isinstance(widget, QAbstractButton) for widget in controls(root))
