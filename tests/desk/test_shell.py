"""The frame of the window: its top, its foot, themes, and what is said when something cannot be done."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QScrollArea

from oaktrim.core.errors import FileError
from oaktrim.core.plan.cuts import Cap, SetFormat
from oaktrim.core.plan.resolve import resolve
from oaktrim.desk.look.terms import breakable
from oaktrim.desk.look.tokens import DUSK, LIGHT, Tokens, tokens
from oaktrim.desk.models.thumbnails import SIDE, Thumbnails
from tests.kit.trees import put

LEFT = Qt.MouseButton.LeftButton


def luminance(colour: str) -> float:
    """Relative luminance (Web Content Accessibility Guidelines 2.2, "relative luminance")."""
    parts = [int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5)]
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("theme", [LIGHT, DUSK], ids=["light", "dusk"])
def test_text_stands_out_from_what_it_is_written_on(theme: Tokens):
    for ground in (theme.sheet, theme.linen, theme.stripe):
        assert contrast(theme.ink, ground) >= 7, "enhanced contrast for what is read"
        assert contrast(theme.soft, ground) >= 4.4, "what is soft can still be read"
    assert contrast(theme.on_oak, theme.oak) >= 3.9
    assert contrast(theme.foot_text, theme.foot) >= 7
    for sign in (theme.brick, theme.moss):
        assert contrast(sign, theme.sheet) >= 4.4


def test_the_top_says_what_is_open_and_what_is_watched(qtbot, opened):
    top, session = opened.top, opened.session
    assert top._title.text() == "art" and top._about.text().startswith("5 textures in ")
    keys = {key.property("target"): key for key in top._target_group.buttons()}
    assert keys["lounge"].isChecked() and set(keys) == {"lounge", "pocket", "visor"}
    qtbot.mouseClick(keys["pocket"], LEFT)
    assert session.watched_id == "pocket" and not keys["lounge"].isChecked()
    session.select((0,))
    session.cut(Cap(8), everywhere=False, keep=True)
    assert top._title.text() == "art •" and opened.windowTitle() == "art • – Oak Trim"
    session.undo()
    assert top._title.text() == "art"


def test_a_narrow_window_says_less_of_the_finder_and_all_of_the_job(qtbot, opened):
    opened.resize(1400, 800)
    qtbot.waitUntil(lambda: opened.top.find_key.text().startswith("Find a texture"))
    opened.resize(1100, 700)
    qtbot.waitUntil(lambda: opened.top.find_key.text() == "Find   Ctrl+K")
    assert opened.top.find_key.accessibleName() == "Find a texture or an action"
    assert opened.top._about.width() >= opened.top._about.fontMetrics().horizontalAdvance(opened.top._about.text())


def test_the_foot_counts_and_leads_on(qtbot, opened):
    session, foot = opened.session, opened.cuts
    assert foot.words.text().startswith("No cuts yet")
    session.select((0, 1))
    session.cut(Cap(32), everywhere=True, keep=True)
    assert foot.words.text().startswith("1 cut  ·  ") and foot.words.text().count(" off ") == 3
    assert (
        foot.undo.isEnabled()
        and foot.undo.toolTip() == "Undo Cap 32 · 2 textures (Ctrl+Z)"
        and not foot.redo.isEnabled()
    )
    qtbot.mouseClick(foot.undo, LEFT)
    assert foot.redo.toolTip() == "Redo Cap 32 · 2 textures (Ctrl+Shift+Z)"
    qtbot.mouseClick(foot.redo, LEFT)
    qtbot.mouseClick(foot.opener, LEFT)
    assert foot.list.isVisible() and foot.edit.isVisible() and foot.remove.isVisible()
    foot.list.setFocus()
    qtbot.keyClick(foot.list, Qt.Key.Key_Delete)
    assert session.job.cuts == () and foot.list.rowCount() == 0 and not foot.remove.isVisible()
    qtbot.mouseClick(foot.ship, LEFT)
    assert opened.ship.isVisible()


def test_themes_change_at_once_and_are_remembered(opened):
    opened.set_theme("dusk")
    assert tokens() is DUSK
    dark = opened.grab().toImage().pixelColor(5, 5)
    opened.set_theme("light")
    assert tokens() is LIGHT
    light = opened.grab().toImage().pixelColor(5, 5)
    assert light.lightness() > 180 > 80 > dark.lightness()


def test_an_error_names_the_file_and_does_not_stop_the_window(qtbot, opened, tmp_path):
    opened.session.failed.emit(FileError(tmp_path / "a.oak", "the disk is full"))
    box = next(box for box in opened.findChildren(QMessageBox) if box.isVisible())
    assert "a.oak" in box.text() and "the disk is full" in box.text()
    box.close()
    opened.session.select((0,))
    assert opened.session.chosen == (0,)


def test_small_pictures_are_made_once_and_by_their_size(qtbot, opened):
    session = opened.session
    for side in (SIDE, 96):
        thumbnails = Thumbnails(session.cache, opened, side)
        thumbnails.use(session.inventory)
        row = session.inventory.row_of["wall/brick_base.png"]
        assert thumbnails.codes_of(row) is None, "it is made beside the window"
        with qtbot.waitSignal(thumbnails.ready, timeout=10000) as ready:
            pass
        assert ready.args == [row]
        codes, pixmap = thumbnails.codes_of(row), thumbnails.of(row)
        assert codes.shape[2] == 4 and side <= max(codes.shape[:2]) <= 3 * side
        assert (pixmap.width(), pixmap.height()) == (codes.shape[1], codes.shape[0])
        thumbnails.stop()


@given(st.text(alphabet="aB_-./ 9", max_size=60))
def test_words_are_broken_at_their_joints_and_nowhere_else(text):
    broken = breakable(text)
    assert broken.replace("\u200b", "") == text
    for part in broken.split("\u200b")[1:]:
        before = broken[: broken.index("\u200b" + part)].rstrip("\u200b")
        assert before[-1:] in "_-./" or (before[-1:].islower() and part[:1].isupper())


def test_a_long_name_does_not_push_the_swatch_out_of_sight(qtbot, window, tmp_path):
    name = "generic_trigger_squeeze_NormalMapOfTheWholeThing_and_more.png"
    put(tmp_path / "long", name, size=(64, 64))
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(tmp_path / "long")
    window.session.select((0,))
    swatch = window.swatch
    qtbot.wait(100)
    scroll = swatch.findChild(QScrollArea)
    assert scroll.widget().width() <= scroll.viewport().width()
    assert swatch.name.height() > 2 * swatch.name.fontMetrics().height() - 4, "it stands in several lines"
    right = swatch.picture.mapTo(swatch, swatch.picture.rect().topRight()).x()
    assert right <= swatch.width()


def test_each_cut_says_what_comes_back_without_it(opened):
    """Against plans that are made by themselves: of the watched target, or of its own where a cut is not for that."""
    session = opened.session
    session.select((0, 1, 2))
    session.cut(Cap(32), everywhere=True, keep=True)
    session.select((1,))
    session.cut(SetFormat("bc7"), everywhere=False, keep=True)
    session.watch("pocket")
    session.cut(Cap(16), everywhere=False, keep=True)
    session.watch("lounge")
    cuts = session.job.cuts
    targets = {target.id: target for target in session.targets}

    def weight(target, without=None):
        left = tuple(cut for place, cut in enumerate(cuts) if place != without)
        return resolve(session.inventory, targets[target], left, rules=session.job.rules).total("memory")

    for place, cut in enumerate(cuts):
        target = "lounge" if cut.is_for("lounge") else cut.targets[0]
        saved = weight(target, place) - weight(target)
        assert (session.measured_on(place), *session.saved_by_cut(place)) == (targets[target], "memory", saved)
    assert session.saved_by_cut(0)[1] > 0 and session.measured_on(2).id == "pocket"
    # One that is off saves nothing, and the others are told without it.
    session.enable_cut(0, False)
    assert session.saved_by_cut(0)[1] == 0
    assert session.history.undo_name.startswith("leave out Cap 32")
    session.enable_cut(0, True)
    assert session.job.cuts == cuts
