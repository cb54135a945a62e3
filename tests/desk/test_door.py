"""How the window begins, ends, and goes on after a fault: loading, settings, help, and edits that were not saved."""

import sys

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QDialogButtonBox, QLabel, QMessageBox

from oaktrim.core.job.aside import Aside, keep_aside, left_asides
from oaktrim.core.job.document import load_job, new_job, save_job
from oaktrim.core.plan.cuts import Cap, Cut
from oaktrim.core.settings import Settings, load_settings
from oaktrim.desk.look.tokens import DUSK, LIGHT, tokens
from oaktrim.desk.shell.help import HelpPanel
from oaktrim.desk.shell.loading import Loading
from oaktrim.desk.shell.settingsdialog import SettingsDialog

_GONE = 2**22 + 1  # Over the largest number of a process.


@pytest.fixture(autouse=True)
def state(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


def press(qtbot, window, words):
    """Press a key of the box that is open."""
    box = next(box for box in window.findChildren(QMessageBox) if box.isVisible())
    qtbot.mouseClick(next(key for key in box.buttons() if key.text() == words), Qt.MouseButton.LeftButton)
    return box.text()


def edit(window):
    session = window.session
    session.edit(session.job.with_cut(Cut(Cap(64), ("wall/brick_base.png",))), "cap")


def test_a_page_says_what_is_loaded_before_the_window_is_there(qtbot):
    page = Loading()
    qtbot.addWidget(page)
    page.show()
    said = []
    for _ in page.load(QApplication.instance()):
        said.append(page.words.text())
    assert said[0] == "loading the compiler …" and said[-1] == "loading the window …" and len(set(said)) == len(said)


def test_edits_are_kept_aside_and_offered_after_a_crash(qtbot, opened, art):
    keeper, session = opened.files.keeper, opened.session
    keeper.keep()
    assert left_asides() == [], "nothing was edited"
    edit(opened)
    keeper.keep()
    # As though this process had ended, and another had begun.
    kept = Aside(str(art), _GONE, 1e9, session.job)
    keep_aside(kept)
    session.undo()
    with qtbot.waitSignal(session.opened, timeout=20000):
        opened.files.open_path(art)
    assert session.job.cuts == ()
    assert "edits that were not saved" in press(qtbot, opened, "Take them up")
    assert session.job.cuts == kept.job.cuts and session.changed and left_asides() == []
    session.undo()
    assert session.job.cuts == (), "one step of undo"


def test_they_can_be_discarded_or_left_for_later(qtbot, opened, art):
    keep_aside(Aside(str(art), _GONE, 1e9, opened.session.job.with_cut(Cut(Cap(8), ("torn.png",)))))
    opened.files.offer_left()
    press(qtbot, opened, "Later")
    assert len(left_asides()) == 1
    opened.files.offer_left()
    press(qtbot, opened, "Discard them")
    assert left_asides() == [] and opened.session.job.cuts == ()


def test_a_saved_job_is_not_kept_aside(opened, tmp_path, monkeypatch):
    keeper = opened.files.keeper
    monkeypatch.setattr("oaktrim.core.job.aside.os.getpid", lambda: _GONE)
    monkeypatch.setattr("oaktrim.desk.session.aside.os.getpid", lambda: _GONE)
    monkeypatch.setattr("oaktrim.core.job.aside._runs", lambda process: False)
    edit(opened)
    keeper.keep()
    assert len(left_asides()) == 1
    assert opened.session.save(tmp_path / "a.oak")
    assert left_asides() == []


def test_what_nobody_foresaw_saves_the_job_first_and_says_where(qtbot, opened, tmp_path, capsys):
    session, hook = opened.session, sys.excepthook
    try:
        opened.faults.watch()
        assert session.save(tmp_path / "a.oak")
        edit(opened)
        for text in ("lost", "lost again"):
            try:
                raise KeyError(text)
            except KeyError as error:
                sys.excepthook(type(error), error, error.__traceback__)
        boxes = [box for box in opened.findChildren(QMessageBox) if box.isVisible()]
        assert len(boxes) == 1 and opened.faults.count == 2
        beside = tmp_path / "a.rescued.oak"
        assert load_job(beside).cuts == session.job.cuts
        assert load_job(tmp_path / "a.oak").cuts == ()
        said = press(qtbot, opened, "OK")
        assert "KeyError: 'lost'" in said and str(beside) in said and "oak-trim.log" in said
        assert "KeyError: 'lost again'" in capsys.readouterr().err
    finally:
        opened.faults.unwatch()
        sys.excepthook = hook


def test_settings_are_checked_written_and_followed(qtbot, opened):
    opened.show_settings()
    dialog = opened.findChild(SettingsDialog)
    save = dialog.buttons.button(QDialogButtonBox.StandardButton.Save)
    dialog.limit.setText("a lot")
    assert not save.isEnabled() and "a size is a number" in dialog.fault.text()
    dialog.limit.setText("1 GiB")
    dialog.theme.setCurrentIndex(dialog.theme.findData("dusk"))
    dialog.threads.setValue(3)
    dialog.pixels.setValue(64)
    for place in range(dialog.targets.count()):
        dialog.targets.item(place).setCheckState(Qt.CheckState.Unchecked)
    assert not save.isEnabled() and dialog.fault.text() == "Choose at least one target."
    dialog.targets.item(0).setCheckState(Qt.CheckState.Checked)
    qtbot.waitUntil(lambda: "used" in dialog.used.text(), timeout=20000)
    qtbot.mouseClick(dialog.clear, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: dialog.used.text().strip().startswith("0 B"), timeout=20000)
    qtbot.mouseClick(save, Qt.MouseButton.LeftButton)
    assert load_settings() == Settings("dusk", 3, "1 GiB", 64 << 20, ("lounge",))
    assert tokens() is DUSK
    opened.set_theme("light")
    assert tokens() is LIGHT and load_settings().theme == "light" and load_settings().threads == 3


def test_help_lists_every_shortcut(opened):
    opened.show_help()
    panel = opened.findChild(HelpPanel)
    said = {label.text() for label in panel.findChildren(QLabel)}
    for name, action in opened.actions_by_name.items():
        if not action.shortcut().isEmpty():
            assert name in said and action.shortcut().toString() in said
    panel.close()


def test_a_job_left_behind_is_opened_with_its_edits(qtbot, window, art, tmp_path):
    file = tmp_path / "left.oak"
    job = save_job(new_job(art), file, art)
    keep_aside(Aside(str(file), _GONE, 1e9, job.with_cut(Cut(Cap(32), ("torn.png",)))))
    window.files.offer_left()
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        press(qtbot, window, "Take them up")
    assert [cut.change for cut in window.session.job.cuts] == [Cap(32)] and window.session.changed
    assert window.session.root == art
