"""The Imposters bench as a person uses it: looking at a thing and its cards, dragging risers and corners, making it."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QListWidget

from oaktrim.core.makers.imposter.settings import ChainForm, Family, Imposter
from oaktrim.core.survey.findings.finding import Remedy
from tests.desk.reach import named, said
from tests.kit.atlases import UV, Coat
from tests.kit.models import SQUARE, SQUARE_TRIANGLES
from tests.kit.pictures import smooth


def field(root) -> None:
    """A scene of a stack of squares far from its camera, and a near one."""
    made = Coat()
    paint = made.paint(
        "leaf", extra={"doubleSided": True}, baseColorTexture=made.picture(root, "leaf.png", smooth(64, 64, 3))
    )
    rng = np.random.default_rng(3)
    stack = np.concatenate([SQUARE * 0.4 + rng.uniform(0, 1, 3) for _ in range(300)]).astype(np.float32)
    triangles = np.concatenate([np.asarray(SQUARE_TRIANGLES).reshape(-1, 3) + 4 * n for n in range(300)])
    made.add(paint, stack, np.tile(UV, (300, 1)), triangles)
    writer = made.writer
    far = writer.add(
        "nodes", name="bush", mesh=writer.add("meshes", primitives=made.primitives), translation=[0.0, 0.0, -60.0]
    )
    made.primitives = []
    made.square(paint)
    near = writer.add("nodes", name="sign", mesh=writer.add("meshes", primitives=made.primitives))
    lens = writer.add("cameras", type="perspective", perspective={"yfov": 0.8, "znear": 0.1})
    eye = writer.add("nodes", name="eye", camera=lens, translation=[0.0, 0.5, 4.0])
    writer.json |= {"scenes": [{"nodes": [far, near, eye]}], "scene": 0}
    (root / "field.glb").write_bytes(writer.glb())


@pytest.fixture
def bench(qtbot, window, tmp_path):
    root = tmp_path / "field"
    root.mkdir()
    field(root)
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(root)
    window.session.watch("lounge")
    window.reveal(window.imposters)
    drafted(qtbot, window.imposters)
    return window.imposters


def drafted(qtbot, bench) -> None:
    def done() -> bool:
        now = bench._draft
        return now is not None and now.likeness is not None and now.settings == bench.wanted()

    qtbot.waitUntil(done, timeout=60000)


def test_the_far_thing_is_shown_beside_its_imposter_with_what_was_measured(qtbot, bench):
    rows = named(bench, "Things and their imposters", QListWidget)
    assert rows.count() == 1 and rows.item(0).text().startswith("bush\nfar away · 600")
    assert bench.wanted().nodes == ("bush",) and bench.wanted().chain is not None
    # Both are drawn as wide as there is room for each.
    half = bench.view.width() // 2 + 2
    qtbot.waitUntil(lambda: bench.view.drawn.whole and bench.view.drawn.shots[-1].codes.shape[1] <= half, timeout=20000)
    assert len(bench.view.layers) == 2 and "imposter" in bench.view.layers[1].words
    assert bench.pane.figures["triangles"].startswith("600 →") and bench.pane.figures["draws"] == "1 → 1"
    assert bench.pane.figures["memory, Lounge"].startswith("+") and "at the switch" in bench.pane.figures
    assert said(bench, "What was measured") != ""
    assert "px high on Lounge" in said(bench, "How high it is seen")
    before = bench.view.layers[0].levels[0].copy()
    with qtbot.waitSignal(bench.view.settled, timeout=20000):
        bench.ways["Overdraw"].click()
    assert (bench.view.layers[0].levels[0] != before).mean() > 0.02


def test_it_is_made_undone_and_made_otherwise(qtbot, bench):
    session = bench._session
    bench.make.click()
    (maker,) = session.job.makers
    assert isinstance(maker, Imposter) and maker.name == "field_bush_imposter"
    qtbot.waitUntil(
        lambda: "field_bush_imposter_levels.glb" in {m.path for m in session.inventory.models}, timeout=30000
    )
    assert {t.path for t in session.inventory.textures} >= {"field_bush_imposter_base", "leaf.png"}
    assert not [f for f in session._plans.findings() if f.code == "far-object"]
    session.undo()
    assert session.job.makers == () and bench.wanted().nodes == ("bush",)
    bench.families[Family.CARDS].click()
    bench.settings.chain.setCurrentIndex(0)
    bench.settings.chain.activated.emit(0)
    drafted(qtbot, bench)
    assert bench._draft.made.cloud is None and bench._draft.levels == ()
    bench.make.click()
    qtbot.waitUntil(lambda: "field_bush_imposter.glb" in {m.path for m in session.inventory.models}, timeout=30000)
    assert "field.glb" in {m.path for m in session.inventory.models}, "it stands beside its model"
    assert "cards xz" in named(bench, "Things and their imposters", QListWidget).item(0).text()
    bench.remove.click()
    assert session.job.makers == ()


def test_risers_are_dragged_and_advice_is_taken(qtbot, bench):
    stair, chain = bench.stair, bench.wanted().chain
    y = stair.height() - 20
    before = stair.x_of(chain.switch * bench.lines)
    qtbot.mousePress(stair, Qt.MouseButton.LeftButton, pos=QPoint(round(before), y))
    qtbot.mouseMove(stair, QPoint(round(stair.x_of(32)), y))
    qtbot.mouseRelease(stair, Qt.MouseButton.LeftButton, pos=QPoint(round(stair.x_of(32)), y))
    assert bench.wanted().chain.switch * bench.lines == pytest.approx(32, rel=0.03)
    qtbot.keyClick(stair, Qt.Key.Key_Left)
    assert bench.wanted().chain.switch * bench.lines == pytest.approx(32 * 2 ** (1 / 8), rel=0.03)
    qtbot.keyClick(stair, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert 0 < bench.wanted().chain.vanish < bench.wanted().chain.switch
    drafted(qtbot, bench)
    assert [level.share for level in bench._draft.levels] == [bench.wanted().chain.switch, bench.wanted().chain.vanish]
    switch = bench._draft.likeness.switch
    assert bench.advise.isEnabled() == bool(switch)
    if switch:
        bench.advise.click()
        assert bench.wanted().chain.switch == pytest.approx(switch / bench.lines)
    bench.settings.chain.setCurrentIndex(2)
    bench.settings.chain.activated.emit(2)
    assert bench.wanted().chain.form is ChainForm.NAMED


def test_the_ruler_leads_there_and_the_chain_shows_what_it_should(qtbot, bench):
    bench.stair.looked.emit(20.0)
    assert bench._height_of(bench.view.camera) == pytest.approx(20, rel=1e-3)
    bench.ways["By the chain"].click()
    bench.look_from(bench.wanted().chain.switch * bench.lines * 3)
    qtbot.waitUntil(lambda: bench.view.drawn is not None and bench.view.drawn.whole, timeout=20000)

    def same() -> bool:
        shots = bench.view.drawn.shots
        return bench.view.drawn.whole and np.array_equal(shots[0].codes, shots[1].codes)

    qtbot.waitUntil(same, timeout=20000)
    bench.fly.click()
    assert bench._flight.isActive()
    bench.stop()
    assert not bench._flight.isActive()


def test_a_corner_is_dragged_and_never_into_what_is_covered(qtbot, bench):
    bench.families[Family.CARDS].click()
    bench._change(outline=0)
    drafted(qtbot, bench)
    sheet = bench.pane.sheet
    card = bench._draft.made.sheet.cards[1]
    middle = sheet.point_of(card.x + card.width / 2, card.y + card.height / 2)
    qtbot.mouseClick(sheet, Qt.MouseButton.LeftButton, pos=middle.toPoint())
    assert sheet.card == 1
    # Not where the widget begins: a press there would be one in its middle.
    corner = sheet.point_of(*card.outline[0]) + QPointF(2, 2)

    def drag(to: QPointF) -> None:
        qtbot.mousePress(sheet, Qt.MouseButton.LeftButton, pos=corner.toPoint())
        qtbot.mouseMove(sheet, to.toPoint())
        qtbot.mouseRelease(sheet, Qt.MouseButton.LeftButton, pos=to.toPoint())

    drag(middle)
    drafted(qtbot, bench)
    assert bench._draft.made.sheet.refused == (1,)
    assert "by hand leaves out what it shows" in said(bench, "What does not come through")


def test_a_finding_opens_it_and_any_thing_can_be_chosen(qtbot, bench):
    window = bench.window()
    window.reveal(window.survey)
    window._use_maker(Remedy.IMPOSTER)
    assert bench.isVisible() and bench._now == ("field.glb", ("bush",))
    bench.show_thing(("field.glb", ()))
    drafted(qtbot, bench)
    assert bench._draft.triangles == 602 and "field" in said(bench, "What the imposter is")
    bench.things.all.click()
    (maker,) = bench._session.job.makers
    assert maker.nodes == ("bush",)


def test_a_tree_without_models_says_what_the_bench_is_for(opened):
    opened.reveal(opened.imposters)
    assert opened.imposters._pages.currentIndex() == 0


@pytest.mark.slow
def test_families_are_really_tried_and_frames_are_shown_with_their_weights(qtbot, bench):
    bench._change(size=128, frames=4, frame_size=32)
    bench.advice.click()
    qtbot.waitUntil(lambda: bench._why != "", timeout=60000)
    assert {part.split()[0] for part in bench._why.removeprefix("at 64 px: ").split("; ")} == {"cards", "cloud", "dome"}
    bench._change(family=Family.SPHERE, frames=4, frame_size=32)
    drafted(qtbot, bench)
    assert len(bench.pane.sheet.frames) == 3
    assert sum(weight for *_, weight in bench.pane.sheet.frames) == pytest.approx(1, abs=0.01)
    before = bench.pane.sheet.frames
    bench.view.set_camera(bench.view.camera.orbited(0.9, 0.4))
    assert bench.pane.sheet.frames != before
    assert bench.settings.frames.isVisible() and not bench.settings.cards.isVisible()


def test_frames_that_no_sightline_sees_are_left_out(qtbot, bench):
    bench.families[Family.DOME].click()
    assert bench.settings.seen.isVisible() and not bench.settings.axes.isVisible()
    bench.settings.seen.click()
    qtbot.waitUntil(lambda: bench.wanted().family is Family.RING, timeout=20000)
    # One camera sees it: a step to either side of where it stands.
    assert bench.wanted().frames == 2 and bench.wanted().sector[1] < 10 and bench.wanted().rows == 1
    drafted(qtbot, bench)
    assert "2 frames in the place of 144" in said(bench, "What was measured")
    assert bench.pane.figures["triangles"].startswith("600 →")
