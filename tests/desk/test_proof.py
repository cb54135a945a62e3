"""The Proof bench as a person uses it: looking, choosing a candidate, judging a wall, and taking what fits the budget."""

import msgspec
import numpy as np
import pytest
from PIL import Image as PillowImage
from PySide6.QtCore import QPoint, QPointF, QRectF, QSizeF, Qt

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Hardware
from oaktrim.core.pixels.image import Image
from oaktrim.core.plan.cuts import Cap, SetFormat
from oaktrim.core.proof.trial import pareto_front
from oaktrim.core.units import bytes_text
from oaktrim.desk.benches.proof.bench import Page
from oaktrim.desk.benches.survey.bench import Pane
from oaktrim.desk.widgets.layers import make_layer
from oaktrim.desk.widgets.picture import Mode, PictureView
from oaktrim.desk.widgets.tradechart import Point, TradeChart
from tests.desk.reach import said
from tests.desk.test_round import click_row


@pytest.fixture
def proving(qtbot, opened):
    """The bench with a base colour proved, on Lounge."""
    click_row(qtbot, opened, "brick_base.png")
    opened.reveal(opened.proof)
    qtbot.waitUntil(lambda: len(opened.proof.one.view.layers) == 2, timeout=20000)
    return opened


def tried(pane):
    return [card for card in pane.cards if not card.candidate.against and "JND" in card.words]


def test_candidates_are_tried_and_one_becomes_the_cut(qtbot, proving):
    pane, session = proving.proof.one.candidates, proving.session
    qtbot.waitUntil(lambda: len(tried(pane)) >= 6, timeout=60000)
    absent = [card for card in pane.cards if "hardware" in card.candidate.against]
    assert absent
    assert not any(card.isEnabled() for card in absent)
    card = next(
        c
        for c in tried(pane)
        if c.candidate.recipe.settings.width == 256 and c.candidate.recipe.settings.format.startswith("bc")
    )
    wanted = card.candidate
    qtbot.mouseClick(card, Qt.MouseButton.LeftButton)
    recipe = session.plan().recipe(session.chosen[0])
    assert (recipe.settings.width, recipe.settings.format) == (256, wanted.recipe.settings.format)
    assert int(session.plan().footprint.memory[session.chosen[0]]) == wanted.memory
    assert {type(cut.change) for cut in session.job.cuts} == {Cap, SetFormat}
    qtbot.waitUntil(lambda: any(c.present and c.candidate.recipe == recipe for c in pane.cards), timeout=20000)
    qtbot.keyClick(proving, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.job.cuts == ()


def test_a_universal_texture_is_seen_as_each_audience_sees_it(qtbot, proving):
    """A target whose loader makes blocks: the candidate is taken, and looked at on hardware of each family."""
    page, session = proving.proof.one, proving.session
    assert not page.seen_on.isVisible()
    targets = proving.survey.targets
    session.watch("pocket")
    proving.reveal(proving.survey)
    proving.survey.show_pane(Pane.TARGETS)
    targets.list.setCurrentRow(next(i for i, t in enumerate(session.targets) if t.id == session.watched_id))
    qtbot.mouseClick(targets.has[Hardware.UNIVERSAL], Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
    assert Hardware.UNIVERSAL in session.watched.hardware
    proving.reveal(proving.proof)
    session.cut(SetFormat("uastc"), everywhere=False, keep=True)
    seen = {}
    for place, label in enumerate(("ASTC 4×4", "BC7", "ETC2 RGB")):
        page.seen_on.setCurrentIndex(place)
        qtbot.waitUntil(lambda label=label: label in "".join(layer.words for layer in page.view.layers), timeout=30000)
        seen[label] = float(page.words.text().split(" dB through encoding")[0].split()[-1])
    assert page.seen_on.isVisible()
    assert seen["ASTC 4×4"] > seen["BC7"] > seen["ETC2 RGB"]
    memory = int(session.plan().footprint.memory[session.chosen[0]])
    assert memory == FORMATS["bc7"].mip_chain_bytes(*session.plan().inventory.textures[session.chosen[0]].size, 10)


def test_an_upload_is_rehearsed_beside_a_cut(qtbot, proving):
    page = proving.proof.upload
    qtbot.mouseClick(proving.proof.pages[Page.UPLOAD], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(page.view.layers) == 2, timeout=30000)
    assert page.words.text().startswith(f"On {proving.session.watched.name} ")
    source, upload = (layer.words for layer in page.view.layers)
    assert source.startswith("Source") and upload.startswith("Upload") and "JND" in upload
    qtbot.mouseClick(page.pairs["Upload | cut here"], Qt.MouseButton.LeftButton)
    assert [layer.words.split("  ")[0] for layer in page.view.layers] == ["Upload", "Cut here"]
    assert page.against.isVisible() and not proving.proof.one.against.isVisible()


def test_like_this_for_all_of_a_role(qtbot, proving):
    pane, session = proving.proof.one.candidates, proving.session
    qtbot.waitUntil(lambda: bool(pane.cards), timeout=20000)
    words, paths = pane.alike_choices()[0]
    assert words == "all used as base colour"
    assert set(paths) == {"wall/brick_base.png", "wall/plaster_base.png"}
    promised = pane.promise(paths, "bc7", 128)
    pane.apply_cut(paths, "bc7", 128)
    after = session.plan()
    for path in paths:
        recipe = after.recipe(after.inventory.row_of[path])
        assert (max(recipe.settings.width, recipe.settings.height), recipe.settings.format) == (128, "bc7")
    assert promised.endswith(bytes_text(after.total("memory"))), "the totals are told before it is done"


def test_every_way_of_looking_changes_the_picture(qtbot, proving):
    page = proving.proof.one
    view = page.view
    page.against.set_mode(Mode.BESIDE)
    seen = [view.grab().toImage()]
    for act in (
        lambda: page.canvas.setCurrentIndex(1),
        lambda: page.tiled.setChecked(True),
        lambda: page.level.setCurrentIndex(4),
        lambda: page.against.set_mode(Mode.MAP),
        lambda: page.against.set_mode(Mode.SPLIT),
        lambda: qtbot.keyClick(view, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier),
    ):
        act()
        seen.append(view.grab().toImage())
        assert seen[-1] != seen[-2]
    page.tiled.setChecked(False)
    view.zoom_to(4.0)
    view.port.centre = QPointF(0.05, 0.05)
    at = view.port.rect(view._room()).topLeft() + QPointF(4 * 10 + 2, 4 * 20 + 2)
    qtbot.mouseMove(view, at.toPoint())
    source = proving.session.inventory.root / "wall/brick_base.png"
    with PillowImage.open(source) as picture:
        codes = " ".join(str(v) for v in np.asarray(picture)[20, 10])
    qtbot.waitUntil(lambda: said(page, "Pixel under the pointer").startswith(f"10, 20:  {codes}"), timeout=5000)


def test_the_split_line_turns(qtbot, proving):
    view = proving.proof.one.view
    proving.proof.one.against.set_mode(Mode.SPLIT)
    before = view.split.lean
    top, middle, _ = view.split.points(QSizeF(view.size()))
    way = (top - middle) / 4000
    start = (middle + way * 80).toPoint()
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(view, (middle + QPointF(80, 0)).toPoint())
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=(middle + QPointF(80, 0)).toPoint())
    assert abs(view.split.lean - before) > 0.5
    assert view.pixel_at(QPointF(QPoint(-5, -5))) == (-1, -1)


def test_worst_places_are_one_key_away(qtbot, proving):
    pane, page = proving.proof.one.candidates, proving.proof.one
    pane.apply_cut(("wall/brick_base.png",), "bc1", 128)
    qtbot.waitUntil(lambda: bool(page.view.places) and page.view.layers[1].size == (128, 128), timeout=30000)
    fitted = page.view.port.zoom
    qtbot.keyClick(page.view, Qt.Key.Key_N)
    assert page.view.place == 0
    assert page.view.port.zoom > fitted
    qtbot.keyClick(page.view, Qt.Key.Key_N, Qt.KeyboardModifier.ShiftModifier)
    assert page.view.place == len(page.view.places) - 1
    assert " JND" in page.words.text()
    assert "SSIM" in page.words.text()


def test_a_wall_shows_the_worst_first_and_leads_to_one(qtbot, proving):
    session, wall = proving.session, proving.proof.wall
    session.edit(
        session.history.job.with_changes("lounge", ["wall/plaster_base.png"], Cap(32), SetFormat("bc1")), "small"
    )
    session.select(tuple(range(len(session.inventory.textures))))
    qtbot.mouseClick(proving.proof.pages[Page.WALL], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(wall.results) == 5, timeout=60000)
    assert session.inventory.textures[wall.order[0]].path == "wall/plaster_base.png"
    wall.wall.setFocus()
    qtbot.keyClick(wall.wall, Qt.Key.Key_Return)
    assert proving.proof.page is Page.ONE
    assert session.chosen_paths == ("wall/plaster_base.png",)


def test_fit_to_budget_is_one_step_of_undo(qtbot, proving):
    session, fit = proving.session, proving.proof.fit
    tight = msgspec.structs.replace(session.watched.limits, memory="300 KiB", package="200 KiB", streaming=None)
    session.edit(session.history.job.with_target(msgspec.structs.replace(session.watched, limits=tight)), "tight")
    before = session.history.job
    proving.proof.show_page(Page.FIT)
    fit.effort.setCurrentIndex(fit.effort.findData(Effort.DRAFT))
    qtbot.mouseClick(fit.begin, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: fit.model.rowCount() > 0, timeout=120000)
    found = fit.model.fit
    assert {found.problem.option(int(found.solution.picks[group])).effort for group in fit.model.groups} == {
        Effort.DRAFT
    }
    promised = {line: fit.model.fit.problem.total(fit.picks(), line) for line in ("memory", "package")}
    assert promised["memory"] <= 300 * 1024
    # Refusing one is counted at once; taking it back too.
    fit.model.turn(0, False)
    assert fit.model.fit.problem.total(fit.picks(), "memory") != promised["memory"]
    fit.model.turn(0, True)
    # Along the curve and back.
    fit.curve.setValue(0)
    assert fit.model.fit.problem.total(fit.picks(), "memory") >= promised["memory"]
    proving.proof.fit._show(fit._found)
    qtbot.mouseClick(fit.take, Qt.MouseButton.LeftButton)
    assert session.plan().total("memory") == promised["memory"]
    assert session.history.job != before
    qtbot.keyClick(proving, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.history.job == before


def test_between_two_levels_both_are_seen(qtbot):
    """As a GPU filters between the levels that ship: black at full size and white below meet in grey half way."""
    black, white = (
        np.full((side, side, 4), (code, code, code, 255), np.uint8) for side, code in ((256, 0), (128, 255))
    )
    view = PictureView()
    qtbot.addWidget(view)
    view.resize(300, 300)
    view.show()
    seen = {}
    for zoom in (1.0, 2**-0.5, 0.5):
        view.show_layers((make_layer(Image.of(black), levels=[Image.of(white)]),))
        view.zoom_to(zoom)
        seen[zoom] = view.grab().toImage().pixelColor(150, 150).red()
    assert seen[1.0] == 0 and seen[0.5] == 255
    assert abs(seen[2**-0.5] - 128) <= 2


def test_names_on_the_chart_stand_clear_of_points_and_of_each_other(qtbot):
    chart = TradeChart()
    qtbot.addWidget(chart)
    rng = np.random.default_rng(6)
    left_out = 0
    for width, height in ((440, 190), (260, 140)):
        chart.resize(width, height)
        for _ in range(40):
            count = int(rng.integers(1, 14))
            points = [
                Point(int(2 ** rng.uniform(14, 23)), float(rng.uniform(0, 8)), f"BC1 1-bit alpha {64 << k % 6}", "")
                for k in range(count)
            ]
            best = pareto_front([p.bytes for p in points], [p.jnd for p in points])
            chart.show_points(points, best, best[0])
            named = chart.names_shown(chart.fontMetrics())
            left_out += len(best) - len(named)
            boxes = [QRectF(at.x() - 4, at.y() - 4, 8, 8) for at in map(chart.place_of, points)]
            for k, (_, label) in enumerate(named):
                assert QRectF(chart.rect()).contains(label)
                assert not any(map(label.intersects, boxes))
                assert not any(label.intersects(other) for _, other in named[:k])
    assert left_out > 0, "what has no room stands nowhere"
