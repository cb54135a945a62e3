"""The survey as a technical artist works it: findings mended in one go, rules, targets, planks, pasting, and files that change."""

import csv
import threading

import numpy as np
import pytest
from PySide6.QtCore import QObject, QPoint, Qt, QThreadPool
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication
from shiboken6 import delete, isValid

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.plan.breakdown import Grouping
from oaktrim.core.plan.cuts import Cap
from oaktrim.core.plan.rolerules import RoleRule
from oaktrim.core.progress import Progress, finish
from oaktrim.core.survey import scan as scanning
from oaktrim.core.survey.roles import Certainty, Role
from oaktrim.core.targets.target import load_target
from oaktrim.desk.benches.survey.bench import Pane
from oaktrim.desk.benches.survey.pasteview import PasteView
from oaktrim.desk.models.ledger import COLUMNS
from oaktrim.desk.work.tasks import start
from tests.desk.reach import said
from tests.kit.models import add_mesh, material, scene
from tests.kit.pictures import smooth
from tests.kit.trees import put, write_model

WAIT = 20000


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    put(root, "boat/oak_base.png", size=(512, 512))
    put(root, "boat/oak_n.png", size=(512, 512))
    put(root, "sky_base.png", smooth(256, 256, 3).pixels)
    put(root, "fog_base.png", smooth(256, 256, 3, seed=5).pixels)
    put(root, "loose_mask.png", size=(64, 64), channels=1)
    writer = GltfWriter()
    planks = material(writer, "planks", baseColorTexture=writer.image("boat/oak_base.png"))
    writer.json["materials"][planks]["normalTexture"] = {"index": writer.image("boat/oak_n.png")}
    writer.add("nodes", name="boat", mesh=add_mesh(writer, planks))
    scene(writer, 0)
    write_model(root, "boat.glb", writer)
    return root


def paths(window):
    return [window.session.asset_path(asset) for asset in window.session.selected]


def shown(window):
    model = window.survey.model
    rows = (model.row_at(place) for place in range(model.rowCount()))
    return {window.session.asset_path(row).rsplit("/", 1)[-1] for row in rows if row >= 0}


def row(window, name):
    return next(r for r in range(window.session.asset_count) if window.session.asset_path(r).endswith(name))


def test_a_finding_is_mended_for_all_at_once(qtbot, opened):
    window, session = opened, opened.session
    window.survey.show_finding("more-size-than-detail")
    assert shown(window) == {"sky_base.png", "fog_base.png"}
    pane = window.survey.findings
    assert pane.fix.text() == "Fix all 2" and "no detail above a quarter" in said(pane, "What the findings say")
    qtbot.mouseClick(pane.fix, Qt.MouseButton.LeftButton)
    (cut,) = session.job.cuts
    assert cut.change == Cap(64) and set(cut.assets) == {"sky_base.png", "fog_base.png"} and cut.targets == ("lounge",)
    qtbot.waitUntil(lambda: "more-size-than-detail" not in {f.code for f in session.findings()}, timeout=WAIT)
    assert session.history.undo_name.startswith("fix")
    session.undo()
    qtbot.waitUntil(lambda: "more-size-than-detail" in {f.code for f in session.findings()}, timeout=WAIT)
    # Suppressed, with a reason that the job keeps.
    session.select([row(window, "fog_base.png")])
    window.survey.show_finding("more-size-than-detail")
    session.select([row(window, "sky_base.png"), row(window, "fog_base.png")])
    pane.suppress("they are meant to be soft")
    assert {(s.path, s.reason) for s in session.job.suppressed} == {
        ("sky_base.png", "they are meant to be soft"), ("fog_base.png", "they are meant to be soft"),
    }  # fmt: skip
    qtbot.waitUntil(lambda: "more-size-than-detail" not in {f.code for f in session.findings()}, timeout=WAIT)
    # What is suppressed can be listed, with its reason, and restored.
    qtbot.mouseClick(pane.show_suppressed, Qt.MouseButton.LeftButton)
    pane.choose("more-size-than-detail")
    assert "suppressed: they are meant to be soft" in said(pane, "What the findings say")
    session.select(())
    qtbot.mouseClick(pane.restore, Qt.MouseButton.LeftButton)
    assert session.job.suppressed == ()
    qtbot.waitUntil(lambda: not pane.show_suppressed.isVisible(), timeout=WAIT)


def test_the_filter_field(qtbot, opened):
    window = opened
    find = window.survey.filters.line
    find.setText("role:base-colour side>=512")
    assert shown(window) == {"oak_base.png"}
    find.setText("sise>3")
    assert "no field 'sise'" in said(window, "What is wrong with the filter")
    find.setText("is:unused")
    assert shown(window) == {"sky_base.png", "fog_base.png", "loose_mask.png"}
    qtbot.keyClick(window, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert len(window.session.selected) == 3
    find.clear()
    find.setFocus()
    qtbot.keyClicks(find, "ro")
    assert find.found.stringList() == ["role:"]
    qtbot.keyClick(find, Qt.Key.Key_Tab)
    qtbot.keyClicks(find, "nor")
    qtbot.keyClick(find, Qt.Key.Key_Tab)
    assert find.text() == "role:normal" and shown(window) == {"oak_n.png"}


def test_role_rules_move_the_totals_and_hands_win(qtbot, opened):
    window, session = opened, opened.session
    pane, before = window.survey.rules, session.plan().total("memory")
    window.survey.show_pane(Pane.RULES)
    share = pane.lines[Role.NORMAL][0]
    share.setCurrentIndex(share.findText("a quarter of base"))
    share.activated.emit(share.currentIndex())
    assert session.job.role_rules == (RoleRule(Role.NORMAL, 0.25),)
    assert session.plan().total("memory") < before
    assert window.rules.rulers["memory"].reading.total == session.plan().total("memory")
    assert "1 of 1" in pane.lines[Role.NORMAL][3].text()
    session.select([row(window, "oak_n.png")])
    assert "Role: a quarter of base colour" in [rung.cause for rung in window.swatch.ladder.steps]
    session.cut(Cap(256), everywhere=True, keep=True)
    assert "✎" in pane.lines[Role.NORMAL][3].text()
    model = window.survey.model
    assert model.index(model.place_of(row(window, "oak_n.png")), 3).data() == "256² ✎"
    assert "Cut by hand" in said(window, "Warnings of the texture")


def test_the_history_strip_goes_back_and_forth(qtbot, opened):
    window, session = opened, opened.session
    session.select([row(window, "oak_base.png")])
    totals = [session.plan().total("memory")]
    for side in (256, 128):
        session.cut(Cap(side), everywhere=True, keep=True)
        totals.append(session.plan().total("memory"))
    strip = window.cuts.strip
    assert strip.isVisible() and [session.total_at(state) for state in range(3)] == totals
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(5, 12))
    assert session.job.cuts == () and session.history.at == 0
    assert "Cap 128" in window.cuts.state_words(2)
    strip.setFocus()
    for _ in range(2):
        qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert session.plan().total("memory") == totals[2]


def test_planks_share_the_selection(qtbot, opened):
    window, session = opened, opened.session
    planks = window.survey.planks.planks
    qtbot.waitUntil(lambda: bool(planks.boards), timeout=WAIT)
    names = planks.shown.tree.names
    drawn = {names[board]: rect for rect, board in planks.boards}
    assert {"yard", "boat", "planks", "oak_base.png"} <= set(drawn)
    qtbot.mouseClick(planks, Qt.MouseButton.LeftButton, pos=drawn["planks"].center().toPoint())
    assert set(paths(window)) == {"boat/oak_base.png", "boat/oak_n.png"}
    assert len(window.survey.ledger.selectionModel().selectedRows()) == 2
    planks.setFocus()
    qtbot.keyClick(planks, Qt.Key.Key_Down)
    assert paths(window) == ["boat/oak_base.png"]
    qtbot.keyClick(planks, Qt.Key.Key_Up)
    qtbot.keyClick(planks, Qt.Key.Key_Return)
    assert [name for _, name in planks.trail()] == ["All", "yard", "boat", "planks"]
    qtbot.keyClick(planks, Qt.Key.Key_Backspace)
    assert planks.trail()[-1][1] == "boat"
    grouping = window.survey.planks.grouping
    for group in Grouping:
        grouping.setCurrentIndex(grouping.findData(group))
        kinds = {Grouping.OWNER: "scene", Grouping.FOLDER: "folder", Grouping.FAMILY: "family"}
        qtbot.waitUntil(lambda kind=kinds[group]: kind in planks.shown.tree.kinds, timeout=WAIT)
        costs = planks.shown.costs
        assert costs[0] == pytest.approx(session.plan().total("memory"))


def test_groups_and_columns(opened):
    window, model = opened, opened.survey.model
    window.survey.filters.group.setCurrentIndex(window.survey.filters.group.findData("folder"))
    heads = [model.index(place, 0).data() for place in range(model.rowCount()) if model.row_at(place) < 0]
    assert sorted(heads) == ["boat  ·  2", "none  ·  4"]
    window.survey.ledger.selectAll()
    assert len(window.session.selected) == 6 and len(window.session.chosen) == 5
    window.survey.ledger.show_column("Saves", True)
    place = [column.head for column in COLUMNS].index("Saves")
    assert not window.survey.ledger.isColumnHidden(place)
    window.session.select([row(window, "boat.glb")])
    assert "triangles" in said(window, "Facts of the texture")


def test_a_column_is_pasted_back(qtbot, opened, tmp_path):
    window, session = opened, opened.session
    session.select([row(window, "oak_base.png"), row(window, "oak_n.png")])
    window.survey.ledger.setCurrentIndex(window.survey.model.index(0, 3))
    session.select([row(window, "oak_base.png"), row(window, "oak_n.png")])
    QGuiApplication.clipboard().setText("128\n9999\n")
    window.survey.paste()
    view = next(w for w in QApplication.topLevelWidgets() if isinstance(w, PasteView) and w.isVisible())
    assert len(view.pasted.changes) == 1 and "never enlarged" in view.pasted.refused[0][2]
    view.go.click()
    assert [cut.change for cut in session.job.cuts] == [Cap(128)]
    window.survey.filters.line.setText("oak")
    window.survey.write_csv(str(tmp_path / "out.csv"))
    rows = list(csv.DictReader((tmp_path / "out.csv").read_text().splitlines()))
    assert {r["path"] for r in rows} == {"boat/oak_base.png", "boat/oak_n.png"}


def test_a_role_set_by_hand(opened):
    window, session = opened, opened.session
    session.select([row(window, "loose_mask.png")])
    box = window.survey.cuts.role
    assert box.currentText() == "automatic"
    box.setCurrentIndex(box.findData(Role.HEIGHT))
    box.activated.emit(box.currentIndex())
    guess = session.inventory.roles[row(window, "loose_mask.png")]
    assert (guess.role, guess.certainty) == (Role.HEIGHT, Certainty.CHOSEN)
    assert box.currentText() == "Height"
    session.undo()
    assert session.inventory.roles[row(window, "loose_mask.png")].role is Role.MASK and box.currentText() == "automatic"


def test_targets_are_edited_checked_and_exchanged(qtbot, opened, tmp_path):
    window, session = opened, opened.session
    page = window.survey.targets
    window.survey.show_pane(Pane.TARGETS)
    page.list.setCurrentRow([t.id for t in session.targets].index("lounge"))
    page.fields["memory"].setText("1 MiB")
    page.fields["memory"].editingFinished.emit()
    assert session.watched.limits.memory == "1 MiB"
    assert window.rules.rulers["memory"].verdict().endswith("over")
    page.fields["memory"].setText("plenty")
    page.fields["memory"].editingFinished.emit()
    assert "a size is a number" in page.said.text() and session.watched.limits.memory == "1 MiB"
    page._show()
    page.fields["streaming"].setText("2 MiB")
    page.fields["streaming"].editingFinished.emit()
    assert "never met first" in page.said.text()
    page.export_target(tmp_path / "own.toml")
    assert load_target(tmp_path / "own.toml") == session.watched
    qtbot.mouseClick(page.copy, Qt.MouseButton.LeftButton)
    assert session.targets[-1].id == "lounge-2" and len(session.targets) == 4
    qtbot.mouseClick(page.remove, Qt.MouseButton.LeftButton)
    assert len(session.targets) == 3
    page.list.setCurrentRow([t.id for t in session.targets].index("lounge"))
    qtbot.mouseClick(page.reset, Qt.MouseButton.LeftButton)
    assert session.job.own_targets == ()
    (tmp_path / "own.toml").write_text((tmp_path / "own.toml").read_text().replace('"lounge"', '"attic"'))
    page.import_target(tmp_path / "own.toml")
    assert [t.id for t in session.targets][-1] == "attic"


def test_rulers_of_all_targets(qtbot, opened):
    window = opened
    qtbot.keyClick(window, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    assert set(window.rules.others) == {"pocket", "visor"}
    assert all(ruler.reading is not None for ruler in window.rules.others.values())


def test_files_that_change_are_surveyed_again(qtbot, opened, art):
    window, session = opened, opened.session
    session.select([row(window, "oak_n.png")])
    with qtbot.waitSignal(session.disk_changed, timeout=4000) as said:
        put(art, "boat/oak_base.png", size=(1024, 1024))
    assert "1 changed" in said.args[0] and "+" in said.args[0]
    assert int(session.inventory.width.max()) == 1024
    assert paths(window) == ["boat/oak_n.png"]
    with qtbot.waitSignal(session.disk_changed, timeout=4000) as said:
        (art / "sky_base.png").unlink()
        put(art, "new/sand_base.png")
    told = said.args[0]
    if "added" not in told or "gone" not in told:
        with qtbot.waitSignal(session.disk_changed, timeout=4000) as said:
            pass
        told += said.args[0]
    assert "1 added" in told and "1 gone" in told


def test_a_large_tree_opens_as_it_was_and_then_as_it_is(qtbot, window, art, monkeypatch):
    monkeypatch.setattr(scanning, "_WORTH_REMEMBERING", 1)
    finish(scanning.scan(art, cache=window.session.cache))
    (art / "sky_base.png").unlink()
    monkeypatch.setattr(window._watching, "look_at", lambda root: None)
    session = window.session
    with qtbot.waitSignal(session.disk_changed, timeout=WAIT) as said, qtbot.waitSignal(session.opened, timeout=WAIT):
        session.open(art)
        qtbot.waitUntil(lambda: session.is_open, timeout=WAIT)
        assert "sky_base.png" in shown(window)
    assert "1 gone" in said.args[0]
    assert "sky_base.png" not in shown(window)


def test_estimates_are_replaced_by_what_is_measured(qtbot, opened):
    session = opened.session
    qtbot.waitUntil(lambda: session.plan().all_measured, timeout=60000)
    plan = session.plan()
    assert plan.uncertainty == 0 and np.all(plan.package > 0)
    qtbot.waitUntil(lambda: not opened.rules.rulers["package"].reading.estimated, timeout=5000)


def test_work_may_outlive_those_who_wait_for_it(qtbot):
    begun, go_on = threading.Event(), threading.Event()

    def slow():
        begun.set()
        go_on.wait(5)
        yield Progress(1, 2, "still at it")

    waiting = QObject()
    work = start(slow(), waiting, lambda _: None, lambda _: None)
    assert begun.wait(5)
    delete(waiting)
    assert not isValid(work)
    go_on.set()
    assert QThreadPool.globalInstance().waitForDone(5000)


def test_hundreds_of_folders_leave_nothing_out_of_the_planks(qtbot, window, tmp_path):
    root = tmp_path / "many"
    for number in range(400):
        put(root, f"crate_{number:03d}/lid_base.png", size=(8, 8))
    put(root, "hall/floor_base.png", size=(128, 128))
    with qtbot.waitSignal(window.session.opened, timeout=WAIT):
        window.session.open(root)
    planks = window.survey.planks.planks
    window.survey.planks.grouping.setCurrentText("by folder")
    qtbot.waitUntil(lambda: len(planks.rests) > 0, timeout=WAIT)
    rect, rest = planks.rests[0]
    drawn = {planks.shown.tree.names[board] for _, board in planks.boards}
    assert "hall" in drawn and len(rest) == 400
    with qtbot.waitSignal(window.session.selection_changed, timeout=WAIT):
        qtbot.mouseClick(planks, Qt.MouseButton.LeftButton, pos=rect.center().toPoint())
    assert len(window.session.chosen) == 400
    assert all(path.startswith("crate_") for path in window.session.chosen_paths)
