"""Widgets by themselves: what they draw is to scale, and hands and keys do what they say."""

import time
from itertools import pairwise
from math import log2, pi

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, QPointF, QRectF, QSizeF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QHelpEvent, QImage
from PySide6.QtWidgets import QApplication, QScrollArea, QToolTip, QWidget

from oaktrim.core.plan.breakdown import Breakdown
from oaktrim.core.plan.ladder import SizeStep
from oaktrim.core.sight.residency import Residency
from oaktrim.core.survey.findings.marked import Marked
from oaktrim.desk.look.tokens import tokens
from oaktrim.desk.widgets.elidedlabel import ElidedLabel
from oaktrim.desk.widgets.faultstrip import PICTURE, FaultStrip, Faulty
from oaktrim.desk.widgets.finder import Findable, Finder, ranked
from oaktrim.desk.widgets.historystrip import HistoryStrip
from oaktrim.desk.widgets.ladder import Ladder
from oaktrim.desk.widgets.pairwall import Pair, PairWall
from oaktrim.desk.widgets.planks import Planked, Planks
from oaktrim.desk.widgets.residencyband import ResidencyBand
from oaktrim.desk.widgets.ruler import BudgetRule, Reading
from oaktrim.desk.widgets.tradechart import Point, TradeChart
from oaktrim.desk.widgets.viewport import SplitLine, Viewport

MIB = 1 << 20
LEFT = Qt.MouseButton.LeftButton


def shown(qtbot, widget: QWidget, width: int, height: int) -> QWidget:
    qtbot.addWidget(widget)
    widget.resize(width, height)
    widget.show()
    widget.activateWindow()
    widget.setFocus()
    return widget


def grabbed(widget: QWidget) -> np.ndarray:
    """Return what a widget draws, (H, W, 3) of codes."""
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).copy()


def columns_of(picture: np.ndarray, colour: str | QColor, tolerance: int = 3) -> np.ndarray:
    """Return the columns in which a colour is seen."""
    wanted = np.array(QColor(colour).getRgb()[:3], int)
    return np.flatnonzero((np.abs(picture.astype(int) - wanted) <= tolerance).all(axis=-1).any(axis=0))


def hovered(widget: QWidget, at: QPoint) -> str:
    """Return the tooltip at a point."""
    QToolTip.hideText()
    until = time.monotonic() + 2
    while QToolTip.isVisible() and time.monotonic() < until:
        QApplication.processEvents()
    QApplication.sendEvent(widget, QHelpEvent(QHelpEvent.Type.ToolTip, at, widget.mapToGlobal(at)))
    return QToolTip.text() if QToolTip.isVisible() else ""


# The budget rule


def reading(**changes) -> Reading:
    base = {"title": "Pocket", "line": "texture memory", "limit": 64 * MIB, "stated": "64 MiB", "now": 90 * MIB}
    return Reading(**{**base, "after": {"colour": 30 * MIB, "normal": 10 * MIB}, **changes})


def test_a_ruler_is_drawn_to_scale(qtbot):
    ruler = shown(qtbot, BudgetRule(), 900, 58)
    ruler.show_reading(reading())
    wood = ruler._wood()
    picture = grabbed(ruler)[18:32, : int(wood.right())]
    scale = wood.width() / (1.12 * 90 * MIB)
    colour, normal = (columns_of(picture, tokens().family(name)) for name in ("colour", "normal"))
    assert colour[0] == pytest.approx(wood.left(), abs=2)
    assert colour[-1] - colour[0] == pytest.approx(30 * MIB * scale, abs=3)
    assert normal[-1] - normal[0] == pytest.approx(10 * MIB * scale, abs=3)
    assert ruler.verdict() == "24.0 MiB to spare" and "limit 64 MiB" in ruler.accessibleDescription()
    ruler.show_reading(reading(after={"colour": 70 * MIB}))
    assert ruler.verdict() == "6.00 MiB over"
    # What is past the notch is marked in the colour of what is over.
    over = columns_of(grabbed(ruler), tokens().brick)
    over = over[(over > wood.left()) & (over < wood.right())]
    assert over[0] == pytest.approx(ruler._x(64 * MIB), abs=2) and over[-1] == pytest.approx(ruler._x(70 * MIB), abs=2)


def test_a_ruler_answers_what_if_and_tells_families(qtbot):
    ruler = shown(qtbot, BudgetRule(), 900, 58)
    ruler.show_reading(reading())
    at = QPoint(int(ruler._x(20 * MIB)), 24)
    with qtbot.waitSignal(ruler.family_clicked) as clicked:
        qtbot.mouseClick(ruler, LEFT, pos=at)
    assert clicked.args == ["colour"]
    with qtbot.waitSignal(ruler.family_clicked) as clicked:
        qtbot.mouseClick(ruler, LEFT, pos=QPoint(int(ruler._x(35 * MIB)), 24))
    assert clicked.args == ["normal"]
    before = grabbed(ruler)
    qtbot.mousePress(ruler, LEFT, pos=at)
    qtbot.mouseMove(ruler, at + QPoint(40, 0))
    assert (grabbed(ruler) != before).any(), "the limit is shown where the hand is"
    with qtbot.assertNotEmitted(ruler.family_clicked):
        qtbot.mouseRelease(ruler, LEFT, pos=at + QPoint(40, 0))
    assert (grabbed(ruler) == before).all(), "and is where it was once the hand lets go"


def test_estimates_say_how_far_they_may_be_off(qtbot):
    ruler = shown(qtbot, BudgetRule(), 900, 58)
    ruler.show_reading(reading(estimated=True, uncertainty=2 * MIB, measured=(12, 94)))
    assert "12 of 94 textures measured" in ruler.toolTip() and "± 2,097,152" in ruler.toolTip()


# Planks


def planked(costs: list[float]) -> Planked:
    tree = Breakdown()
    one, two = tree.board(0, "boat", "object"), tree.board(0, "kiosk", "object")
    leaves = []
    for place, _ in enumerate(costs):
        tree.names.append(f"t{place}.png")
        tree.kinds.append("asset")
        tree.parent.append(one if place % 2 else two)
        tree.asset.append(place)
        tree.weight.append(1.0)
        leaves.append(len(tree.names) - 1)
    whole = np.zeros(len(tree.names))
    whole[leaves] = costs
    for leaf in leaves:
        whole[tree.parent[leaf]] += whole[leaf]
        whole[0] += whole[leaf]
    return Planked(tree, whole, ["colour"] * len(costs), tree.children())


@given(st.lists(st.integers(0, 1 << 30), min_size=1, max_size=40))
def test_boards_are_as_wide_as_they_cost(costs):
    planks = Planks()
    planks.resize(900, 128)
    planks.show_planks(planked(costs))
    shown_costs = planks.shown.costs
    if shown_costs[0] <= 0:
        assert planks.boards == []
        return
    scale = (900 - 72 - 8) / shown_costs[0]
    for rect, board in planks.boards:
        assert rect.width() == pytest.approx(max(1.0, shown_costs[board] * scale - 1.5), abs=1e-6)
    for rect, rest in planks.rests:
        assert rect.width() == pytest.approx(sum(shown_costs[b] for b in rest) * scale - 1.5, abs=1e-6)
    # Nothing stands on anything else, and each row is within the one above.
    rows: dict[float, list[QRectF]] = {}
    for rect, _ in [*planks.boards, *planks.rests]:
        rows.setdefault(rect.top(), []).append(rect)
    for row in rows.values():
        row.sort(key=lambda rect: rect.left())
        assert all(one.right() <= other.left() + 1e-6 for one, other in pairwise(row))
        assert row[0].left() >= 72 - 1e-6 and row[-1].right() <= 900
    planks.deleteLater()


def test_the_largest_of_what_is_small_is_named(qtbot):
    planks = shown(qtbot, Planks(), 900, 128)
    planks.show_planks(planked([1.0 + (place == 7) for place in range(1200)]))
    rest = next(rest for _, rest in planks.rests if 7 + 3 in rest)
    text = planks._rest_text(rest, QFontMetrics(planks.font()), 400)
    assert text.startswith("t7.png 2 B, ") and text.endswith("smaller")
    assert QFontMetrics(planks.font()).horizontalAdvance(text) <= 400
    metrics = QFontMetrics(planks.font())
    # With less room, costs go first, then names; the count stays as long as it can.
    named = f"t7.png and {len(rest) - 1} smaller"
    assert planks._rest_text(rest, metrics, metrics.horizontalAdvance(named)) == named
    assert planks._rest_text(rest, metrics, metrics.horizontalAdvance(f"{len(rest)} smaller")) == f"{len(rest)} smaller"
    assert planks._rest_text(rest, metrics, 10) == ""


def test_planks_are_walked_and_zoomed_by_keys(qtbot):
    planks = shown(qtbot, Planks(), 900, 128)
    planks.show_planks(planked([100.0, 60.0, 40.0, 30.0]))
    chosen: list[list[int]] = []
    planks.chosen.connect(chosen.append)
    for key in (Qt.Key.Key_Down, Qt.Key.Key_Right, Qt.Key.Key_Left, Qt.Key.Key_Down):
        qtbot.keyClick(planks, key)
    assert chosen == [[0, 2], [1, 3], [0, 2], [0]]
    qtbot.keyClick(planks, Qt.Key.Key_Up)
    qtbot.keyClick(planks, Qt.Key.Key_Return)
    assert [name for _, name in planks.trail()] == ["All", "kiosk"]
    qtbot.keyClick(planks, Qt.Key.Key_Escape)
    assert [name for _, name in planks.trail()] == ["All"]
    board = next(rect for rect, b in planks.boards if planks.shown.tree.names[b] == "t0.png")
    assert "100 B, 43.5 % of the whole" in hovered(planks, board.center().toPoint())


# The ladder, the history, the finder


@pytest.mark.parametrize("width", [284, 260])
@pytest.mark.parametrize("sides", [(4096, 4), (4096, 1024), (2048, 2048)])
def test_a_size_fits_on_its_board(qtbot, width, sides):
    ladder = shown(qtbot, Ladder(), width, 100)
    steps = (SizeStep("Source, RGBA8", sides[0], sides[0] // 2, 64 * MIB), SizeStep("Cap", sides[1], sides[1] // 2, 64))
    ladder.show_rungs(steps)
    picture = grabbed(ladder)[25:50]
    wood = columns_of(picture[4:6], tokens().oak)
    board = picture[4:20, wood[0] : wood[-1] + 1].astype(int)
    written = (np.abs(board - np.array(QColor(tokens().oak).getRgb()[:3])).max(axis=-1) > 20).any(axis=0)
    assert written.any() and not written[:4].any() and not written[-4:].any(), "the last letter is on the wood, too"


def test_steps_of_a_ladder_are_chosen_by_keys(qtbot):
    ladder = shown(qtbot, Ladder(), 284, 100)
    steps = (SizeStep("Source, RGBA8", 4096, 4096, 64 * MIB), SizeStep("Cap 4", 4, 4, 64))
    ladder.show_rungs(steps)
    asked = []
    ladder.rung_chosen.connect(asked.append)
    qtbot.keyClick(ladder, Qt.Key.Key_Down)
    qtbot.keyClick(ladder, Qt.Key.Key_Down)
    qtbot.keyClick(ladder, Qt.Key.Key_Return)
    assert asked == [steps[1]]
    assert "4 × 4 pixels, 64 bytes" in hovered(ladder, QPoint(20, 36))


def test_the_history_goes_back_by_click_and_by_keys(qtbot):
    totals = [40, 30, 20, 10]
    strip = shown(qtbot, HistoryStrip(lambda state: totals[state], lambda state: f"edit {state}"), 60, 26)
    strip.show_states(4, 3)
    wanted = []
    strip.wanted.connect(wanted.append)
    qtbot.mouseClick(strip, LEFT, pos=QPoint(2 + 9 + 4, 13))
    qtbot.keyClick(strip, Qt.Key.Key_Left)
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert wanted == [1, 2], "there is nothing after the last"
    assert hovered(strip, QPoint(2 + 2 * 9 + 4, 13)) == "edit 2"
    strip.show_states(1, 0)
    assert not strip.isVisible()


NAMES = ("boat/boat_base.png", "boat/boat_n.png", "posts/post_base.png", "Ship", "Save")


@given(st.text(alphabet="abot _/", max_size=6))
def test_the_finder_finds_all_that_holds_every_word(wanted):
    rows = [Findable(name, "texture" if "/" in name else "action", lambda: None) for name in NAMES]
    found = {row.name for row in ranked(wanted, rows)}
    assert found == {name for name in NAMES if all(word in name.lower() for word in wanted.lower().split())}


def test_the_finder_ranks_and_says_when_nothing_fits(qtbot):
    done = []
    rows = [Findable(name, "texture", lambda n=name: done.append(n)) for name in NAMES]
    parent = shown(qtbot, QWidget(), 400, 300)
    finder = Finder(rows, parent)
    finder.show()
    qtbot.keyClicks(finder.line, "post")
    assert finder.list.item(0).text().startswith("posts/post_base.png") and not finder.nothing.isVisible()
    finder.line.setText("nowhere")
    assert finder.nothing.isVisible() and "“nowhere”" in finder.nothing.text() and not finder.list.isVisible()
    qtbot.keyClick(finder.line, Qt.Key.Key_Return)
    assert done == []
    finder.line.setText("boat")
    qtbot.keyClick(finder.line, Qt.Key.Key_Down)
    qtbot.keyClick(finder.line, Qt.Key.Key_Return)
    assert done == ["boat/boat_base.png"], "the second: the shorter name stands first"


# Pictures side by side


def test_a_strip_shows_as_many_faults_as_there_is_room_for(qtbot):
    strip = shown(qtbot, FaultStrip(), 3 * (PICTURE + 8), PICTURE + 20)
    mask = np.zeros((32, 32), bool)
    mask[8:16, 8:16] = True
    codes = np.full((32, 32, 4), 255, np.uint8)
    rows = [Faulty(f"{n}.png", f"wall/{n}.png", Marked(codes, mask)) for n in range(5)]
    strip.show_faulty(rows, 5)
    assert strip.room == 3 and strip.accessibleDescription() == "wall/0.png, wall/1.png, wall/2.png"
    # The fault's border is drawn where the mask says, at the scale of the picture.
    edge = columns_of(grabbed(strip)[: PICTURE // 2, :PICTURE], tokens().oak, 40)
    assert edge[0] == pytest.approx(1 + 8 * PICTURE / 32, abs=2) and edge[-1] == pytest.approx(
        1 + 16 * PICTURE / 32, abs=2
    )
    chosen = []
    strip.chosen.connect(chosen.append)
    qtbot.mouseClick(strip, LEFT, pos=QPoint(PICTURE + 20, 20))
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert chosen == ["wall/1.png", "wall/2.png", "wall/2.png"]


@pytest.mark.parametrize(("count", "width", "height"), [(1, 900, 500), (3, 900, 500), (4, 900, 520), (40, 900, 500)])
def test_a_wall_fills_its_room_and_no_more(qtbot, count, width, height):
    scroll = shown(qtbot, QScrollArea(widgetResizable=True), width, height)
    wall = PairWall()
    scroll.setWidget(wall)
    wall.show_pairs([Pair(f"{n}.png", "512²", "0.10 JND") for n in range(count)])
    QApplication.processEvents()
    boxes = [wall.box(place) for place in range(count)]
    assert all(box.right() <= wall.width() and box.width() >= 212 for box in boxes)
    if count < 40:
        # All are seen at once, and one size more would not fit.
        room = scroll.viewport().height()
        assert boxes[-1].bottom() <= room
        assert boxes[0].width() > 212 * 1.3
    else:
        assert boxes[0].width() == pytest.approx(212, abs=30)
    picked = []
    wall.chosen.connect(picked.append)
    wall.setFocus()
    qtbot.keyClick(wall, Qt.Key.Key_Return)
    assert picked == [0]


def test_what_is_elided_is_told_in_full(qtbot):
    label = shown(qtbot, ElidedLabel("94 textures, 8 models, 3 sounds in 94 files"), 90, 20)
    assert label.text() in hovered(label, QPoint(10, 10))
    label.resize(600, 20)
    assert hovered(label, QPoint(10, 10)) == ""
    label.setToolTip("/art")
    assert hovered(label, QPoint(10, 10)) == "/art"


# Charts


POINTS = [Point(1 << 20, 0.0, "RGBA8", "all"), Point(1 << 18, 0.3, "BC7", "good"), Point(1 << 17, 1.2, "BC1", "small")]


def test_a_chart_of_trade_offs_has_roots_down_and_powers_across(qtbot):
    chart = shown(qtbot, TradeChart(), 420, 190)
    chart.show_points(POINTS, [2, 1, 0], 1)
    at = [chart.place_of(point) for point in POINTS]
    assert at[0].x() - at[1].x() == pytest.approx(2 * (at[1].x() - at[2].x()), rel=1e-6), "two powers of two, and one"
    top = chart._room().top()
    assert (at[2].y() - top) / (at[1].y() - top) == pytest.approx((1.2 / 0.3) ** 0.5, rel=1e-6) and at[0].y() == top
    chosen = []
    chart.chosen.connect(chosen.append)
    qtbot.mouseClick(chart, LEFT, pos=at[2].toPoint())
    qtbot.keyClick(chart, Qt.Key.Key_Right)
    qtbot.keyClick(chart, Qt.Key.Key_Right)
    qtbot.keyClick(chart, Qt.Key.Key_Return)
    assert chosen == [2, 1] and hovered(chart, at[0].toPoint()) == "all"


@given(st.lists(st.tuples(st.integers(100, 1 << 26), st.floats(0, 8)), min_size=1, max_size=30))
def test_names_in_a_chart_never_stand_on_each_other(rows):
    chart = TradeChart()
    chart.resize(420, 190)
    points = [Point(size, jnd, f"ASTC 6×6 {n}", "") for n, (size, jnd) in enumerate(rows)]
    chart.show_points(points, list(range(len(points))), 0)
    labels = [label for _, label in chart.names_shown(QFontMetrics(chart.font()))]
    for place, one in enumerate(labels):
        assert not any(one.intersects(other) for other in labels[place + 1 :])
        assert not any(one.contains(chart.place_of(point)) for point in points)
    chart.deleteLater()


def test_a_walk_is_gone_along_in_seconds(qtbot):
    band = shown(qtbot, ResidencyBand("before"), 400, 110)
    times = np.linspace(0, 10, 11)
    wanted, kept = np.full(11, 40 * MIB), np.minimum(40, np.arange(11) * 5.0) * MIB
    found = Residency(
        "walk", times, wanted, kept, 32 * MIB, np.zeros(11), None, np.zeros(11), np.arange(11)[::-1] * 10, ("colour",),
        kept[:, None], 0, (),
    )  # fmt: skip
    band.show_residency(found)
    assert "at most 40.0 MiB wanted" in band.accessibleDescription()
    gone = []
    band.chosen.connect(gone.append)
    room = band._room()
    qtbot.mouseClick(band, LEFT, pos=QPoint(round(room.left() + room.width() / 2), 50))
    assert gone[0] == pytest.approx(5, abs=0.05)


# The frame of a picture, and the line that splits two


ROOM = QRectF(0, 0, 640, 400)


@given(st.floats(0.01, 64), st.floats(0, 640), st.floats(0, 400), st.tuples(st.integers(1, 4096), st.integers(1, 4096)))
def test_what_is_under_the_pointer_stays_there_while_one_zooms(zoom, x, y, frame):
    port = Viewport()
    port.frame = frame
    port.fit(ROOM)
    fitted = port.rect(ROOM)
    assert ROOM.adjusted(-1e-6, -1e-6, 1e-6, 1e-6).contains(fitted)
    about = QPointF(x, y)
    part = (x - fitted.left()) / fitted.width(), (y - fitted.top()) / fitted.height()
    port.zoom_to(zoom, about, ROOM)
    after = port.rect(ROOM)
    assert port.zoom == pytest.approx(zoom)
    assert after.left() + part[0] * after.width() == pytest.approx(x, abs=1e-3 * max(1.0, after.width()) ** 0.5 + 1e-6)
    assert after.top() + part[1] * after.height() == pytest.approx(y, abs=1e-3 * max(1.0, after.height()) ** 0.5 + 1e-6)


@given(st.integers(1, 500), st.integers(1, 500), st.floats(1, 16))
def test_the_pixel_under_a_point_is_the_one_drawn_there(width, height, zoom):
    port = Viewport()
    port.frame = (width, height)
    port.fit(ROOM)
    port.zoom_to(zoom, ROOM.center(), ROOM)
    frame = port.rect(ROOM)
    for x, y in ((0, 0), (width - 1, height - 1), (width // 2, height // 3)):
        middle = QPointF(frame.left() + (x + 0.5) * zoom, frame.top() + (y + 0.5) * zoom)
        assert port.pixel_at(middle, ROOM) == (x, y)
    outside = QPointF(frame.left() - 0.5 * zoom, frame.top() + 0.5 * zoom)
    assert port.pixel_at(outside, ROOM) == (-1, -1)
    assert port.pixel_at(outside, ROOM, tiled=True) == (width - 1, 0)


@given(st.floats(-1.5, 1.5), st.floats(50, 590), st.floats(20, 380))
def test_a_split_line_goes_through_the_point_it_is_turned_to(lean, x, y):
    size, line = QSizeF(640, 400), SplitLine()
    line.turn(lean)
    assert -pi / 2 <= line.lean <= pi / 2
    point = QPointF(x, y)
    middle = line.points(size)[1]
    if (point - middle).manhattanLength() < 2:
        return
    line.turn_to(point, size)
    high, _, low = line.points(size)
    away = (low.x() - high.x()) * (high.y() - y) - (high.x() - x) * (low.y() - high.y())
    assert abs(away) / ((low.x() - high.x()) ** 2 + (low.y() - high.y()) ** 2) ** 0.5 < 0.01
    line.move(log2(1024))
    assert line.points(size)[1].x() == pytest.approx(0.98 * 640)
