"""The Atlas bench as a person uses it: opened from a finding, islands moved and weighed by hand, made, undone."""

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication, QPushButton

from oaktrim.core.makers.atlas.settings import Atlas, Repeats, Rotation, Take
from oaktrim.core.makers.registry import of_type
from tests.desk.reach import said
from tests.kit.atlases import coat


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    root.mkdir()
    coat(root)
    return root


def drafted(qtbot, bench):
    """Wait until all of the draft of what is set stands."""

    qtbot.waitUntil(lambda: bench.likeness is not None, timeout=60000)
    return bench._shown


@pytest.fixture
def bench(qtbot, opened):
    """The bench, opened from what the survey found."""
    pane = opened.survey
    pane.show_finding("mergeable-materials")
    findings = pane.findings
    assert findings.fix.text() == "Open in Atlas"
    qtbot.mouseClick(findings.fix, Qt.MouseButton.LeftButton)
    assert opened.atlas.isVisible() and opened.atlas.model == "coat.glb"
    drafted(qtbot, opened.atlas)
    return opened.atlas


def middle(bench, number):
    """A point of the widget inside an island."""
    island = next(row for row in bench.sheet.islands if row.number == number)
    frame = bench.sheet.port.rect(bench.sheet._room())
    size = bench.sheet._size
    x = frame.left() + (island.box[0] + 0.6 * island.box[2]) / size[0] * frame.width()
    y = frame.top() + (island.box[1] + 0.6 * island.box[3]) / size[1] * frame.height()
    return QPoint(int(x), int(y))


def test_what_would_come_of_it_is_shown_before_it_is_made(bench, opened):
    assert said(bench, "What the atlas changes") == "4 materials → 1 · 4 draws → 1"
    assert "outline the same" in said(bench, "How far the model is from itself")
    assert {card.note.material.name for card in bench.cards.cards.values()} == {"cloth", "felt", "dyed", "brass"}
    assert len(bench.sheet.islands) == 4 and bench.pane.view.drawn is not None
    assert [key.text() for key in bench.maps.values() if key.isVisible()] == ["base colour", "surface"]
    assert bench.make.isEnabled() and not of_type(opened.session.job.makers, Atlas)


def test_it_is_made_counts_everywhere_and_is_undone_in_one_step(qtbot, bench, opened):
    session = opened.session
    before = session.plan().total("memory")
    qtbot.mouseClick(bench.make, Qt.MouseButton.LeftButton)
    (maker,) = of_type(session.job.makers, Atlas)
    assert maker.name == "coat_atlas" and maker.size > 0
    qtbot.waitUntil(lambda: "coat_atlas_base" in session.inventory.row_of, timeout=30000)
    assert "cloth.png" not in session.inventory.row_of and [m.path for m in session.inventory.models] == [
        "coat_atlas.glb"
    ]
    assert session.plan().total("memory") != before
    qtbot.waitUntil(lambda: bench.make.text() == "Change it" and not bench.make.isEnabled(), timeout=30000)
    session.undo()
    assert not session.job.makers and session.plan().total("memory") == before
    assert bench.make.text() == "Make it"


def test_islands_are_moved_turned_and_weighed_by_hand(qtbot, bench):
    first = bench.sheet.islands[0]
    qtbot.mouseClick(bench.sheet, Qt.MouseButton.LeftButton, pos=middle(bench, first.number))
    assert bench.sheet.chosen == first.number and bench.cards._chosen == "coat.glb#materials/cloth"
    start = middle(bench, first.number)
    qtbot.mousePress(bench.sheet, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(bench.sheet, start + QPoint(40, 60))
    qtbot.mouseMove(bench.sheet, start + QPoint(60, 90))
    qtbot.mouseRelease(bench.sheet, Qt.MouseButton.LeftButton, pos=start + QPoint(60, 90))
    (pin,) = bench.wanted().pins
    assert pin.island == first.number and pin.x % 8 == 0 and pin.y % 8 == 0 and pin.y > first.box[1]
    shown = drafted(qtbot, bench)
    moved = shown.islands[first.number]
    assert moved.box[:2] == (pin.x, pin.y)
    qtbot.keyClick(bench.sheet, Qt.Key.Key_R)
    assert bench.wanted().pins[0].turn == (pin.turn + 1) % 4
    drafted(qtbot, bench)
    at = QPointF(middle(bench, first.number))
    turn = QWheelEvent(
        at, bench.sheet.mapToGlobal(at), QPoint(), QPoint(0, -120), Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(bench.sheet, turn)
    assert bench.wanted().pins[0].levels == -1
    assert drafted(qtbot, bench).islands[first.number].levels == 1
    qtbot.mouseClick(bench.free, Qt.MouseButton.LeftButton)
    assert bench.wanted().pins == ()


def test_materials_are_told_by_hand(qtbot, bench):
    path = "coat.glb#materials/felt"
    bench.cards.cards[path].picked.emit(path)
    card = bench.cards.cards[path]
    assert card.take.isVisible() and {row.material for row in bench.sheet.islands if row.material == "felt"}
    qtbot.mouseClick(card.fewer, Qt.MouseButton.LeftButton)
    assert bench.wanted().choice(path).levels == -1
    assert next(i for i in drafted(qtbot, bench).islands if i.material == "felt").levels == 1
    qtbot.mouseClick(bench.cards.cards[path].take, Qt.MouseButton.LeftButton)
    assert bench.wanted().choice(path).take is Take.LEAVE
    drafted(qtbot, bench)
    assert said(bench, "What the atlas changes") == "4 materials → 2 · 4 draws → 2"
    texts = [label.text() for label in bench.cards.cards[path].findChildren(type(bench._about))]
    assert "stays: left out by hand" in texts
    # What a layout was given last is shown at the next turn of the event loop.
    keys = bench.cards.cards[path].findChildren(QPushButton)
    qtbot.waitUntil(lambda: [key.text() for key in keys if key.isVisible()][-1:] == ["take in"])
    assert bench.wanted().repeats is Repeats.BAKE


def test_the_floor_is_dragged_and_what_has_no_room_is_said(qtbot, bench):
    band = bench.density
    qtbot.mousePress(band, Qt.MouseButton.LeftButton, pos=QPoint(band.width() // 2, 30))
    qtbot.mouseRelease(band, Qt.MouseButton.LeftButton, pos=QPoint(band.width() // 2, 30))
    assert bench.wanted().floor > 0
    drafted(qtbot, bench)
    bench._change(size=16)
    qtbot.waitUntil(lambda: "no room" in bench.sheet._words, timeout=30000)
    assert not bench.make.isEnabled()


def test_more_is_set_in_its_menu_and_another_model_goes_in(qtbot, bench, opened, art):
    def choose(words):
        action = next(a for a in bench.settings.more.menu().actions() if a.text() == words)
        action.trigger()

    choose("Sheets as high as wide")
    choose("No turns")
    assert bench.wanted().square and bench.wanted().rotate is Rotation.NONE
    drafted(qtbot, bench)
    width, height = bench._shown.draft.plan.groups[0].layout.width, bench._shown.draft.plan.groups[0].layout.height
    assert width == height and "sheet" in bench.settings.sheets.suffix()
    coat(art, "cap.glb")
    opened.session.survey_again()
    qtbot.waitUntil(lambda: bench.models.count() == 2, timeout=20000)
    choose("cap.glb")
    assert bench.wanted().source_models == ("coat.glb", "cap.glb")
    shown = drafted(qtbot, bench)
    assert len(shown.draft.gathered.notes) == 8 and shown.draft.change.after.materials == 2
    assert sum(note.same_as >= 0 for note in shown.draft.gathered.notes) == 4
