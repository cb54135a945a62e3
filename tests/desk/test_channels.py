"""The Channels bench as a person uses it: a pack from the selection, a batch, a patch moved by hand, a sheet typed and set."""

import json
import threading

import numpy as np
import pytest
from fontTools.ttLib import TTFont
from PIL import Image as PillowImage
from PySide6.QtCore import QMimeData, QPoint, Qt, QUrl
from PySide6.QtGui import QDropEvent, QGuiApplication
from PySide6.QtWidgets import QPushButton

from oaktrim.core.job.makers import NamePatterns
from oaktrim.core.makers.glyphs.sheet import GlyphSheet
from oaktrim.core.makers.layouts import LAYOUTS
from oaktrim.core.makers.pack.pack import Channel
from oaktrim.core.makers.patch.patch import Rect
from oaktrim.demo.signface import sign_font
from oaktrim.desk.benches.channels import patchpage
from oaktrim.desk.benches.channels.bench import Page
from oaktrim.desk.benches.channels.layoutdialog import LayoutDialog
from oaktrim.desk.benches.channels.mapnames import MapNamesDialog
from oaktrim.desk.benches.channels.namesdialog import NamesDialog
from oaktrim.desk.benches.survey.bench import Pane
from tests.desk.reach import said
from tests.desk.test_round import click_row
from tests.kit.pictures import busy, noise
from tests.kit.trees import put


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    for number, name in enumerate(("door_ao", "door_gloss", "gate_ao", "gate_rough", "gate_metal")):
        put(root, f"set/{name}.png", busy(64, 64, 1, seed=number).pixels)
    put(root, "set/door_base.png")
    sign = np.zeros((128, 256, 4), np.uint8)
    sign[40:52, 60:100] = noise(40, 12, 4).pixels | 64
    put(root, "sign_overlay.png", sign)
    (root / "signs.ttf").write_bytes(sign_font())
    return root


def rows_of(page):
    return [row.pack.subject for row in page.model.rows]


def choose(page, *subjects):
    page.choose([place for place, row in enumerate(page.model.rows) if row.pack.subject in subjects])


def key(widget, words):
    # Keys that were replaced linger until the event loop comes round: the last is the one that is seen.
    return [k for k in widget.findChildren(QPushButton) if words in (k.accessibleName(), k.text())][-1]


@pytest.fixture
def packs(qtbot, opened):
    qtbot.keyClick(opened, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    page = opened.channels.packs
    page.origin.setCurrentIndex(1)
    page.origin.activated.emit(1)
    assert rows_of(page) == ["door", "gate"]
    return page


def test_a_batch_is_made_in_one_step_and_counts_everywhere(qtbot, opened, packs):
    session = opened.session
    before, files = session.plan().total("memory"), len(session.inventory.textures)
    assert packs.count.text() == "2 to make, 0 made, ▲ 1"
    assert packs.model.rows[0].problems, "those with problems stand on top"
    qtbot.waitUntil(lambda: all(row.saves is not None for row in packs.model.rows), timeout=20000)
    promised = [row.saves for row in packs.model.rows]
    qtbot.mouseClick(packs.make_all, Qt.MouseButton.LeftButton)
    assert len(session.job.makers) == 2
    assert len(session.inventory.textures) == files - 3
    assert before - session.plan().total("memory") == sum(promised)
    qtbot.waitUntil(lambda: all(t.pixels for t in session.inventory.textures), timeout=20000)
    assert packs.count.text().startswith("0 to make, 2 made")
    opened.reveal(opened.survey)
    click_row(qtbot, opened, "gate_orm")
    assert "made of gate_ao.png" in said(opened, "Facts of the texture")
    qtbot.keyClick(opened, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.job.makers == () and len(session.inventory.textures) == files
    qtbot.keyClick(opened, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert len(session.inventory.made) == 2


def test_lanes_are_changed_by_keys_on_every_selected_pack(qtbot, opened, packs):
    choose(packs, "door", "gate")
    lane = packs.lanes[0]
    qtbot.mouseClick(key(lane, "Invert red"), Qt.MouseButton.LeftButton)
    assert all(row.pack.lanes[0].feeds[0].invert for row in packs.model.rows), "one edit for all"
    qtbot.mouseClick(key(lane, "Red takes luminance"), Qt.MouseButton.LeftButton)
    assert {row.pack.lanes[0].feeds[0].channel for row in packs.model.rows} == {Channel.LUMINANCE}
    choose(packs, "gate")
    qtbot.mouseClick(packs.make, Qt.MouseButton.LeftButton)
    assert [maker.subject for maker in opened.session.job.makers] == ["gate"]
    choose(packs, "gate")
    qtbot.mouseClick(key(packs.lanes[2], "Blue takes fill"), Qt.MouseButton.LeftButton)
    assert opened.session.job.makers[0].lanes[2].feeds == (), "what is made is changed in the job"
    packs.lanes[2].fill.setValue(0.5)
    packs.lanes[2].fill.editingFinished.emit()
    assert opened.session.job.makers[0].lanes[2].fill == 0.5
    assert "set/gate_metal.png" in opened.session.inventory.row_of, "it ships again: no lane needs it"
    choose(packs, "gate")
    qtbot.mouseClick(packs.remove, Qt.MouseButton.LeftButton)
    assert opened.session.job.makers == ()


def test_a_lane_shows_what_it_holds_and_takes_what_is_dropped(qtbot, opened, packs, art):
    choose(packs, "gate")
    rough = np.asarray(PillowImage.open(art / "set/gate_rough.png"))

    def holds_rough():
        shown = packs.lanes[1].thumb.picture
        return shown is not None and abs(shown.pixelColor(20, 30).red() - int(rough[30, 20])) <= 1

    qtbot.waitUntil(holds_rough, timeout=20000)
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(art / "set/door_gloss.png"))])
    buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    packs.lanes[1].dropEvent(QDropEvent(QPoint(9, 9).toPointF(), Qt.DropAction.CopyAction, mime, buttons, keys))
    feed = packs.row.pack.lanes[1].feeds[0]
    assert (feed.source, feed.invert) == ("set/door_gloss.png", True), "gloss is turned over for roughness"
    qtbot.waitUntil(lambda: "exact" in said(packs, "Taken apart again"), timeout=30000)
    qtbot.waitUntil(lambda: packs.pane.table.rowCount() > 3, timeout=30000)
    picture = packs.pane.thumb.picture
    qtbot.mouseClick(packs.pane.views["Sphere"], Qt.MouseButton.LeftButton)
    lit = packs.pane.thumb.picture
    assert lit != picture
    packs.pane.maps[1].setChecked(False)
    assert packs.pane.thumb.picture != lit, "roughness can be switched off"


def test_packs_of_the_selection_and_layouts_of_ones_own(qtbot, opened, packs):
    session = opened.session
    rows = session.inventory.row_of
    session.select((rows["set/door_ao.png"], rows["set/gate_metal.png"]))
    qtbot.keyClick(opened, Qt.Key.Key_P, Qt.KeyboardModifier.ControlModifier)
    pack = packs.row.pack
    assert [len(lane.feeds) for lane in pack.lanes] == [1, 0, 1, 0]
    dialog = LayoutDialog(LAYOUTS[0], opened)
    dialog.check()
    assert "give the layout a name" in dialog.wrong.text()
    dialog.name.setText("Gate masks")
    dialog.slots[0].setText("rust")
    dialog.slots[1].clear()
    dialog.slots[2].clear()
    dialog.slots[3].setText("wear")
    packs.take_layout(dialog.made(), False)
    dialog.deleteLater()
    assert session.job.layout("gate-masks").place("wear") == 3
    assert packs.layout_used.id == "gate-masks" and not packs.model.rows
    asked = MapNamesDialog(session.workshop.found, packs.layout_used, packs.name_patterns(), opened)
    asked.lines["rust"].setText("{name}_metal")
    assert asked.total.text().startswith("0 sets")
    asked.lines["wear"].setText("{name}_rough {name}_gloss")
    assert asked.total.text() == "1 sets of at least two maps, 1 single maps", "counted while it is typed"
    packs.set_patterns(asked.made())
    asked.lines["wear"].setText("rough")
    asked.check()
    assert "needs {name} once" in asked.wrong.text()
    asked.deleteLater()
    assert rows_of(packs) == ["gate"]
    assert session.job.map_names["gate-masks"]["rust"] == "{name}_metal"


def test_a_pack_is_split_again_outside_the_tree(qtbot, opened, packs, art, tmp_path):
    session = opened.session
    qtbot.mouseClick(packs.make_all, Qt.MouseButton.LeftButton)
    session.select((session.inventory.row_of["set/gate_orm"],))
    said = []
    session.failed.disconnect(opened.show_error)
    session.failed.connect(said.append)
    packs.unpack_to(art / "parts")
    qtbot.waitUntil(lambda: bool(said), timeout=10000)
    assert "inside the source tree" in str(said[0]) and not (art / "parts").exists()
    packs.unpack_to(tmp_path / "parts")
    path = tmp_path / "parts" / "gate_orm_metalness.png"
    qtbot.waitUntil(lambda: "3 pictures" in packs.count.text(), timeout=20000)
    metal = np.asarray(PillowImage.open(art / "set/gate_metal.png"))
    np.testing.assert_array_equal(np.asarray(PillowImage.open(path)), metal)


def test_a_font_that_changes_is_drawn_anew(qtbot, opened, art):
    session = opened.session
    sheet = GlyphSheet("ui/signs", "signs.ttf", 32, "AB")
    session.edit(session.history.job.with_maker(sheet), "a sheet")
    qtbot.waitUntil(lambda: "ui/signs" in session.inventory.row_of, timeout=20000)
    before = session.inventory.textures[session.inventory.row_of["ui/signs"]].content
    font = TTFont(art / "signs.ttf")
    font["hmtx"]["A"] = (900, 75)
    font.save(art / "signs.ttf")
    with qtbot.waitSignal(session.disk_changed, timeout=20000) as told:
        session.look_at_disk()
    assert told.args[0].startswith("1 made anew")
    assert session.inventory.textures[session.inventory.row_of["ui/signs"]].content != before


def test_a_patch_is_found_moved_by_hand_and_made(qtbot, opened):
    session = opened.session
    opened.actions_by_name["Patches of overlays"].trigger()
    page = opened.channels.patches
    qtbot.waitUntil(lambda: page.view.rect_shown is not None, timeout=20000)
    assert page.row.path == "sign_overlay.png"
    assert page.row.patch.rect == Rect(48, 38, 64, 16)
    qtbot.waitUntil(lambda: "as they were" in said(page, "Proof of the patch"), timeout=20000)
    page.view.setFocus()
    qtbot.keyClick(page.view, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    assert page.row.patch.rect.x == 64
    qtbot.waitUntil(lambda: "lie outside" in said(page, "Proof of the patch"), timeout=20000)
    qtbot.keyClick(page.view, Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier)
    # Pull the lower right corner with the mouse.
    corner = page.view.on_widget(page.row.patch.rect).bottomRight().toPoint()
    scale = page.view.frame().width() / 256
    qtbot.mousePress(page.view, Qt.MouseButton.LeftButton, pos=corner)
    qtbot.mouseMove(page.view, corner + QPoint(round(8 * scale), round(4 * scale)))
    qtbot.mouseRelease(page.view, Qt.MouseButton.LeftButton, pos=corner + QPoint(round(8 * scale), round(4 * scale)))
    assert page.row.patch.rect == Rect(48, 38, 72, 20)
    page.numbers["width"].setValue(80)
    page.numbers["width"].editingFinished.emit()
    assert page.row.patch.rect.width == 80
    qtbot.mouseClick(key(page, "Copy pixels, from bottom left"), Qt.MouseButton.LeftButton)
    assert QGuiApplication.clipboard().text() == "48 70 80 20"
    before = session.plan().total("memory")
    qtbot.mouseClick(page.make, Qt.MouseButton.LeftButton)
    assert session.job.makers[0].rect == Rect(48, 38, 80, 20)
    assert session.inventory.replaced == {"sign_overlay.png": "sign_overlay_patch"}
    assert session.plan().total("memory") < before / 2
    qtbot.keyClick(opened, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.job.makers == ()


def test_names_follow_a_pattern_and_a_clash_is_told(qtbot, opened, packs):
    session = opened.session
    choose(packs, "gate")
    qtbot.mouseClick(packs.make, Qt.MouseButton.LeftButton)
    dialog = NamesDialog(session.job.names, opened)
    dialog.lines["pack"].setText("{nobody}")
    dialog.check()
    assert "{nobody} is not known" in dialog.wrong.text()
    dialog.lines["pack"].setText("packed/{material}-{layout}")
    session.edit(session.history.job.with_names(dialog.made()), "names")
    dialog.deleteLater()
    assert list(session.inventory.made) == ["packed/gate-orm"]
    session.edit(session.history.job.with_names(NamePatterns(pack="set/door_base")), "a name that is taken")
    assert "has that name too" in session.inventory.unmade[0].error
    assert "has that name too" in packs.model.rows[0].problems[0], "on top, where it is seen"
    opened.reveal(opened.ship)
    qtbot.waitUntil(lambda: "cannot be made" in said(opened, "State of the run"), timeout=20000)
    assert not opened.ship.go.isEnabled()


def test_a_finding_leads_to_its_maker(qtbot, opened):
    opened.survey.show_pane(Pane.FINDINGS)
    pane = opened.survey.findings
    pane.choose("mostly-empty")
    assert pane.fix.text() == "Open in Channels"
    qtbot.mouseClick(pane.fix, Qt.MouseButton.LeftButton)
    assert opened.channels.page is Page.PATCHES
    assert opened.channels.patches.row.path == "sign_overlay.png"
    qtbot.waitUntil(lambda: opened.channels.patches.view.rect_shown is not None, timeout=20000)


def test_a_sheet_is_typed_set_and_shipped(qtbot, opened, art, tmp_path):
    session = opened.session
    opened.actions_by_name["Glyph sheets"].trigger()
    page = opened.channels.glyphs
    page.use_font(art / "signs.ttf")
    page.characters.setPlainText("HERON 0123$")
    qtbot.waitUntil(lambda: page.sheet is not None, timeout=20000)
    assert page.font_line.text() == "signs.ttf"
    assert "not in the font, 1: $" in said(page, "What the font lacks")
    assert "10 glyphs" in said(page, "Facts of the sheet")
    page.line.setText("HERON")
    one = page.set.picture
    page.line.setText("HERO")
    assert page.set.picture != one
    qtbot.waitUntil(lambda: "smears" in said(page, "What formats do to the sheet"), timeout=30000)
    qtbot.mouseClick(page.make, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "signs_48_glyphs" in session.inventory.made, timeout=20000)
    row = session.inventory.row_of["signs_48_glyphs"]
    assert session.inventory.textures[row].width == page.sheet.image.width
    page.em.setValue(24)
    qtbot.waitUntil(lambda: page.sheet is not None and page.sheet.metrics.size == 24, timeout=20000)
    qtbot.mouseClick(page.make, Qt.MouseButton.LeftButton)
    assert [maker.size for maker in session.job.makers] == [24]
    out = tmp_path / "out"
    opened.reveal(opened.ship)
    opened.ship.folder.setText(str(out))
    opened.ship.refresh()
    qtbot.waitUntil(lambda: opened.ship.go.isEnabled() and opened.ship.list.rowCount() > 0, timeout=20000)
    qtbot.waitUntil(lambda: not session.workshop.busy, timeout=20000)
    qtbot.mouseClick(opened.ship.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: opened.ship.result.rowCount() > 0, timeout=60000)
    metrics = json.loads((out / "signs_48_glyphs.glyphs.json").read_text())
    assert metrics["size"] == 24


def test_patches_asked_for_in_one_job_do_not_land_in_the_next(qtbot, opened, tmp_path, monkeypatch):
    """Looking at the overlays takes a while, and another folder is opened meanwhile."""
    page, session = opened.channels.patches, opened.session
    qtbot.keyClick(opened, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    opened.channels.show_page(Page.PATCHES)
    qtbot.waitUntil(lambda: bool(page.chosen) and page.looked is not None, timeout=20000)
    through, real = threading.Event(), patchpage.look_at
    monkeypatch.setattr(patchpage, "look_at", lambda *given: through.wait(20) and real(*given))
    page.looked = None
    page.make_chosen()
    put(tmp_path / "other", "sign_overlay.png")
    with qtbot.waitSignal(session.opened, timeout=20000):
        session.open(tmp_path / "other")
    through.set()
    qtbot.waitUntil(lambda: not page.batch.running, timeout=20000)
    assert session.root == tmp_path / "other"
    assert session.job.makers == () and not session.changed
