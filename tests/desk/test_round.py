"""The whole round in the window, by mouse and by keyboard: open, select, cut, undo, prove, ship, read the result."""

import json
import os

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, QSizeF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QGuiApplication
from PySide6.QtTest import QAbstractItemModelTester
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QMessageBox,
    QSlider,
)

from oaktrim.core.codecs.effort import ErrorMetric
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.plan.cuts import Cap, SetErrorMetric, SetFormat
from oaktrim.desk.look.tokens import THEMES
from oaktrim.desk.shell.recent import recent_paths
from oaktrim.desk.widgets.finder import Findable, Finder, ranked
from oaktrim.desk.widgets.picture import Mode
from tests.desk.reach import said


def place_of(window, name):
    """The place in the ledger of the texture whose path ends so."""
    inventory = window.session.inventory
    row = next(row for row, t in enumerate(inventory.textures) if t.path.endswith(name))
    return window.survey.model.place_of(row)


def click_row(qtbot, window, name, modifier=Qt.KeyboardModifier.NoModifier):
    table = window.survey.ledger
    index = window.survey.model.index(place_of(window, name), 1)
    table.scrollTo(index)
    qtbot.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, modifier, table.visualRect(index).center())


def listed(window):
    """The reasons in the list of what will be written."""
    rows = window.ship.list
    return {rows.item(row, 1).text() for row in range(rows.rowCount())}


def widths(window):
    footprint = window.session.plan().footprint
    return {
        t.path.rsplit("/")[-1]: int(w) for t, w in zip(window.session.inventory.textures, footprint.width, strict=True)
    }


def test_the_whole_round(qtbot, opened, tmp_path):
    window, session = opened, opened.session
    assert window.survey.model.rowCount() == 5
    before = session.plan().total("memory")
    # Select two rows with the mouse, and drag the cap.
    click_row(qtbot, window, "brick_base.png")
    click_row(qtbot, window, "brick_n.png", Qt.KeyboardModifier.ControlModifier)
    assert len(session.selected) == 2
    ruler, cap = window.rules.rulers["memory"], window.survey.cuts.cap
    held = ruler.reading.total
    cap.setSliderDown(True)
    for place in (9, 8, 7, 6, 5):  # 1024, 512, 256, 128, 64
        cap.setValue(place)
    assert ruler.reading.total < held, "the rule moves while the hand is still on the control"
    assert not session.changed, "nothing is kept before the hand lets go"
    cap.setSliderDown(False)
    assert [cut.change for cut in session.job.cuts] == [Cap(64)]
    assert set(session.job.cuts[0].targets) == {"lounge"}
    assert widths(window)["brick_base.png"] == 64
    # Undo and redo by key; the rule follows.
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert ruler.reading.total == before == session.plan().total("memory")
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert widths(window)["brick_n.png"] == 64
    # A format, for all targets.
    window.survey.cuts.scope.setCurrentIndex(1)
    box = window.survey.cuts.format
    box.setCurrentIndex(box.findData("bc3"))
    box.activated.emit(box.currentIndex())
    assert session.job.cuts[-1].change == SetFormat("bc3")
    assert session.job.cuts[-1].targets == ()
    # What errors count on, automatic until it is chosen; and automatic again.
    errors = window.survey.cuts.error_metric
    assert errors.currentText() == "automatic"
    errors.setCurrentIndex(errors.findText("by eye"))
    errors.activated.emit(errors.currentIndex())
    assert session.job.cuts[-1].change == SetErrorMetric(ErrorMetric.PERCEPTUAL)
    errors.setCurrentIndex(0)
    errors.activated.emit(0)
    assert session.job.cuts[-1].change == SetFormat("bc3")
    # Prove it.
    click_row(qtbot, window, "brick_base.png")
    qtbot.keyClick(window, Qt.Key.Key_3, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: len(window.proof.one.view.layers) == 2, timeout=20000)
    source, cut = window.proof.one.view.layers
    assert (source.size, cut.size) == ((512, 512), (64, 64))
    assert "512²" in source.words
    assert "BC3" in cut.words
    assert "dB" in cut.words
    # Ship, and read the result.
    qtbot.keyClick(window, Qt.Key.Key_8, Qt.KeyboardModifier.AltModifier)
    out = tmp_path / "out"
    window.ship.folder.setText(str(out))
    window.ship.refresh()
    qtbot.waitUntil(lambda: listed(window) == {"new"}, timeout=20000)
    qtbot.mouseClick(window.ship.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.ship.result.rowCount() > 0, timeout=30000)
    manifest = json.loads((out / "manifest.json").read_text())
    shipped = sum(t["memory"] for t in manifest["textures"])
    assert shipped == session.plan().total("memory")
    texts = [window.ship.result.item(0, column).text() for column in range(6)]
    assert texts[0] == "Texture memory"
    assert texts[2] == texts[3]
    assert "to spare" in texts[5]
    window.ship.refresh()
    qtbot.waitUntil(lambda: listed(window) == {"unchanged"}, timeout=20000)


def test_keyboard_alone(qtbot, opened):
    window, session = opened, opened.session
    table = window.survey.ledger
    table.setFocus()
    qtbot.keyClick(table, Qt.Key.Key_Home, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClick(table, Qt.Key.Key_Down)
    qtbot.keyClick(table, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert len(session.selected) == 2
    qtbot.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    cap = window.survey.cuts.cap
    cap.setValue(0)
    qtbot.keyClick(cap, Qt.Key.Key_Right)
    assert [cut.change for cut in session.job.cuts] == [Cap(4)]
    qtbot.keyClick(cap, Qt.Key.Key_Left)
    assert session.job.cuts == ()
    qtbot.keyClick(table, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert len(session.selected) == 5
    qtbot.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    lines = QGuiApplication.clipboard().text().split("\n")
    assert len(lines) == 6
    assert lines[0].startswith("Texture\tUsed as")
    assert str(FORMATS["rgba8"].mip_chain_bytes(512, 512, 10)) in QGuiApplication.clipboard().text()


def test_filters_and_sorting(qtbot, opened):
    window = opened
    model = window.survey.model
    window.survey.filters.set_filter("Findings")
    assert model.rowCount() == 3
    window.survey.filters.set_filter("All")
    window.survey.filters.line.setText("wall/")
    assert model.rowCount() == 3
    window.survey.filters.line.clear()
    window.rules.rulers["memory"].family_clicked.emit("normal")
    assert [model.index(0, 0).data()] == ["brick_n.png"]
    assert model.rowCount() == 1
    window.survey.set_family("")
    for column, ascending in ((0, True), (5, False), (5, True)):
        window.survey.ledger.sortByColumn(
            column, Qt.SortOrder.AscendingOrder if ascending else Qt.SortOrder.DescendingOrder
        )
        rows = [model.row_at(place) for place in range(model.rowCount())]
        key = (
            np.array([t.path for t in window.session.inventory.textures]) if column == 0 else model.now.footprint.memory
        )
        values = [key[row] for row in rows]
        assert values == sorted(values, reverse=not ascending)


def test_the_ledger_is_a_model_that_qt_accepts(opened):
    tester = QAbstractItemModelTester(opened.survey.model, QAbstractItemModelTester.FailureReportingMode.Fatal)
    opened.survey.filters.line.setText("brick")
    opened.survey.ledger.sortByColumn(0, Qt.SortOrder.AscendingOrder)
    opened.survey.filters.line.clear()
    opened.session.undo()
    assert tester.model() is opened.survey.model


def test_the_cut_list_removes_and_selects(qtbot, opened):
    window, session = opened, opened.session
    click_row(qtbot, window, "brick_n.png")
    session.cut(Cap(32), everywhere=True, keep=True)
    click_row(qtbot, window, "plaster_base.png")
    session.cut(Cap(16), everywhere=False, keep=True)
    window.cuts.opener.setChecked(True)
    cuts = window.cuts.list
    assert cuts.rowCount() == 2 and cuts.currentRow() == 1, "it opens on the newest"
    assert [cuts.item(1, column).text() for column in (1, 2, 3)] == ["Cap 16", "plaster_base.png", "Lounge"]
    # Each says what comes back without it; one that is switched off counts no more, and is kept.
    qtbot.waitUntil(lambda: cuts.item(0, 4).text() not in ("", "0 B"), timeout=10000)
    total = session.plan().total("memory")
    cuts.item(0, 0).setCheckState(Qt.CheckState.Unchecked)
    assert [cut.enabled for cut in session.job.cuts] == [False, True] and session.plan().total("memory") > total
    qtbot.waitUntil(lambda: cuts.item(0, 4).text() == "off", timeout=10000)
    session.undo()
    assert session.plan().total("memory") == total
    cuts.setCurrentCell(0, 1)
    qtbot.mouseClick(window.cuts.edit, Qt.MouseButton.LeftButton)
    assert [session.inventory.textures[row].path for row in session.selected] == ["wall/brick_n.png"]
    window.activateWindow()
    assert window.focusWidget() is window.survey.cuts.cap
    qtbot.mouseClick(window.cuts.remove, Qt.MouseButton.LeftButton)
    assert [cut.change for cut in session.job.cuts] == [Cap(16)]
    assert "remove" in session.history.undo_name
    assert "1 cut " in window.cuts.words.text() + " "


def test_the_swatch_shows_the_ladder_and_leads_to_the_control(qtbot, opened):
    window = opened
    click_row(qtbot, window, "brick_base.png")
    window.session.cut(Cap(128), everywhere=False, keep=True)
    qtbot.waitUntil(lambda: bool(window.swatch.picture.layers), timeout=10000)
    ladder = window.swatch.ladder
    assert [rung.width for rung in ladder.steps] == [512, 128]
    qtbot.mouseClick(ladder, Qt.MouseButton.LeftButton, pos=QPoint(150, 36))
    window.activateWindow()
    assert window.focusWidget() is window.survey.cuts.cap
    click_row(qtbot, window, "flat_m.png")
    assert "all 64x64 pixels are the same" in said(window, "Findings of the texture")


def test_proof_modes_zoom_and_split(qtbot, opened):
    window = opened
    click_row(qtbot, window, "brick_base.png")
    window.reveal(window.proof)
    view = window.proof.one.view
    qtbot.waitUntil(lambda: len(view.layers) == 2, timeout=20000)
    pictures = {}
    for mode in Mode:
        window.proof.one.against.set_mode(mode)
        pictures[mode] = view.grab().toImage()
    assert pictures[Mode.SPLIT] != pictures[Mode.BESIDE]
    window.proof.one.against.set_mode(Mode.SPLIT)
    fitted = view.port.zoom
    view.zoom_to(8.0)
    assert view.port.zoom == 8.0
    assert view.grab().toImage() != pictures[Mode.SPLIT]
    qtbot.keyClick(view, Qt.Key.Key_0)
    assert view.port.zoom == pytest.approx(fitted)
    middle = QPoint(view.width() // 2, view.height() // 2)
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=middle)
    qtbot.mouseMove(view, middle + QPoint(100, 0))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=middle + QPoint(100, 0))
    assert view.split.points(QSizeF(view.size()))[1].x() > view.width() / 2
    view.set_channels("A")
    assert view.grab().toImage().pixelColor(middle - QPoint(40, 60)).saturation() < 3


def test_finding_things(qtbot, opened):
    window = opened
    finder_keys = (Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClick(window, *finder_keys)
    finder = next(w for w in QApplication.topLevelWidgets() if isinstance(w, Finder))
    qtbot.keyClicks(finder.line, "plaster")
    qtbot.keyClick(finder.line, Qt.Key.Key_Return)
    assert [window.session.inventory.textures[row].path for row in window.session.selected] == ["wall/plaster_base.png"]
    rows = [Findable(name, what, lambda: None) for name, what in (("a/ship.png", "texture"), ("Ship bench", "action"))]
    assert [row.name for row in ranked("ship", rows)] == ["Ship bench", "a/ship.png"]
    assert ranked("ship zebra", rows) == []


def test_dropping_and_errors(qtbot, window, art, tmp_path):
    assert not window.survey.isVisible()
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(art))])
    event = QDropEvent(
        QPointF(10, 10), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.dropEvent(event)
    assert window.survey.isVisible()
    qtbot.waitUntil(lambda: window.survey.findings.kinds.rowCount() > 0, timeout=20000)

    def chips():
        return [c for c in window.survey.findChildren(QAbstractButton) if "Unreadable 1" in c.text() and c.isVisible()]

    qtbot.waitUntil(lambda: bool(chips()), timeout=5000)
    qtbot.mouseClick(chips()[0], Qt.MouseButton.LeftButton)
    assert "torn.png" in said(window, "What the findings say")
    bad = tmp_path / "bad.oak"
    bad.write_text('{"version": 99}')
    window.session.open(bad)
    box = next(w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible())
    assert "bad.oak: is of version 99" in box.text()
    box.close()
    assert window.session.root == art, "what was open stays open"


def test_saving_and_opening_again(qtbot, opened, tmp_path, art):
    session = opened.session
    click_row(qtbot, opened, "brick_n.png")
    session.cut(Cap(32), everywhere=True, keep=True)
    assert session.changed
    assert "•" in opened.windowTitle()
    assert session.save(tmp_path / "a.oak")
    assert not session.changed
    with qtbot.waitSignal(session.opened, timeout=20000):
        session.open(tmp_path / "a.oak")
    assert session.root == art
    assert [cut.change for cut in session.job.cuts] == [Cap(32)]
    assert str(tmp_path / "a.oak") in recent_paths()


def test_shipping_can_be_stopped_and_refuses_the_source_tree(qtbot, opened, tmp_path, art):
    window = opened
    window.reveal(window.ship)
    window.ship.folder.setText(str(art / "inside"))
    window.ship.refresh()
    qtbot.waitUntil(lambda: "inside the source tree" in said(window, "State of the run"), timeout=20000)
    assert not window.ship.go.isEnabled()
    out = tmp_path / "out"
    window.ship.folder.setText(str(out))
    window.ship.refresh()
    qtbot.waitUntil(lambda: listed(window) == {"new"}, timeout=20000)
    qtbot.mouseClick(window.ship.go, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(window.ship.cancel, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.ship.work is None, timeout=20000)
    left = [name for _, _, names in os.walk(out) for name in names]
    assert not [name for name in left if "oak-trim-" in name]
    assert window.ship.result.rowCount() == 0
    assert window.ship.go.isEnabled()


def test_both_themes_can_be_read(opened):
    """Text against its ground: at least 4.5 to 1, by WCAG 2.1, success criterion 1.4.3."""

    def light(colour):
        channels = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    for theme in THEMES.values():
        pairs = [(text, ground) for text in ("ink", "soft", "brick") for ground in ("linen", "sheet", "stripe")]
        pairs += [("moss", "sheet"), ("ink", "oak_pale"), ("on_oak", "oak"), ("foot_text", "foot")]
        for text, ground in pairs:
            a, b = sorted((light(getattr(theme, text)), light(getattr(theme, ground))))
            assert (b + 0.05) / (a + 0.05) >= 4.5, (text, ground)
    for name in THEMES:
        opened.set_theme(name)
        assert opened.grab().toImage().pixelColor(4, 4).name() == THEMES[name].linen.lower()


def test_every_control_has_a_name(opened):
    kinds = (QAbstractButton, QAbstractItemView, QComboBox, QLineEdit, QSlider, QAbstractSpinBox)
    for kind in kinds:
        for widget in opened.findChildren(kind):
            inner = type(widget.parent()).__name__ in (
                "QSpinBox",
                "QDoubleSpinBox",
                "QComboBox",
                "QTableView",
                "LedgerTable",
                "QTableWidget",
                "QLineEdit",
                "FilterLine",
            )
            inner = inner or type(widget).__name__ in ("QHeaderView", "QTableCornerButton", "QComboBoxListView")
            text = widget.text() if isinstance(widget, QAbstractButton) else ""
            assert inner or widget.accessibleName() or text or type(widget).__name__ == "QListView", widget
