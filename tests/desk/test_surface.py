"""The Surface bench as a person uses it: opened from a finding, steps switched and dosed, seen on shapes and models, made."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QComboBox, QListWidget

from oaktrim.core.files.pictures import write_png
from oaktrim.core.makers.surface.measures import GOOD_SEAM
from oaktrim.core.makers.surface.settings import Axes, Surface
from oaktrim.core.pixels.image import Image
from oaktrim.core.proof.surfacedraft import Where
from oaktrim.core.survey.findings.finding import Remedy
from tests.core.makers.test_surface import paint, picture
from tests.desk.reach import named, said
from tests.kit.atlases import UV, Coat
from tests.kit.models import SQUARE, SQUARE_TRIANGLES


@pytest.fixture
def bench(qtbot, window, tmp_path):
    root = tmp_path / "deck"
    root.mkdir()
    ramp = np.exp2(1.2 * np.linspace(-1, 0, 200))[None, :, None]
    write_png(root / "deck_base.png", picture(paint(2, "spots", 260)[:200, :200] * ramp))
    write_png(root / "deck_n.png", Image.of(np.tile(np.array([128, 128, 255], np.uint8), (200, 200, 1))))
    sand = picture(np.clip(paint(7, "grain", 128) * np.linspace(0.6, 1.4, 128)[None, :, None], 0, 1))
    write_png(root / "sand_base.png", sand)
    made = Coat()
    base, normal = (made.writer.image(f"deck_{kind}.png") for kind in ("base", "n"))
    coat = made.paint("deck", baseColorTexture=base, normalTexture=normal)
    made.add(coat, SQUARE * 4.0, UV * np.float32(3.0), SQUARE_TRIANGLES)
    made.save(root / "deck.glb")
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(root)
    qtbot.waitUntil(lambda: bool(window.session.findings()), timeout=20000)
    window.reveal(window.surface)
    drafted(qtbot, window.surface)
    return window.surface


def drafted(qtbot, bench) -> None:
    qtbot.waitUntil(lambda: bench._draft is not None and bench._draft.settings == bench.wanted(), timeout=30000)
    drawn_anew(qtbot, bench, None)


def drawn_anew(qtbot, bench, before) -> None:
    """Wait until the whole picture is on the screen, and another than ``before``."""

    def is_drawn() -> bool:
        drawn = bench.view.drawn
        return drawn is not None and drawn is not before and drawn.whole

    qtbot.waitUntil(is_drawn, timeout=30000)


def test_what_is_wrong_stands_first_with_the_steps_that_mend_it(qtbot, bench):
    pictures = named(bench, "Textures and their surfaces", QListWidget)
    assert pictures.count() == 2 and pictures.item(0).text().startswith("deck_base.png")
    wanted = bench.wanted()
    assert wanted.source == "deck_base.png" and wanted.followers == ("deck_n.png",)
    assert wanted.flatten is not None and wanted.tile is not None and wanted.calm is None
    assert "1 map follows" in said(bench, "What the surface is") and "worn by 1 model" in said(
        bench, "What the surface is"
    )
    assert bench.steps.cast.words.text().startswith("from the right, 1.")
    rulers = bench.pane.rulers
    assert set(rulers) == {"shading left", "repetition seen", "seam contrast", "spread of lightness", "detail kept"}
    assert rulers["seam contrast"].is_good and rulers["seam contrast"].reading.before > GOOD_SEAM
    assert rulers["shading left"].is_good and rulers["shading left"].reading.before > 0.25
    # In the field the border before shows, and after does not.
    shots = bench.view.drawn.shots
    middle = [np.abs(np.diff(shot.codes[..., :3].astype(int), axis=1)).mean(axis=(0, 2)) for shot in shots]
    assert middle[0].max() > 1.5 * middle[1].max()


def test_steps_are_switched_dosed_and_looked_at_elsewhere(qtbot, bench):
    bench.steps.tile.on.click()
    drafted(qtbot, bench)
    assert bench.wanted().tile is None and bench.pane.rulers["seam contrast"].reading.after > 1.15
    bench.steps.tile.on.click()
    axes = named(bench, "Axes that it repeats along", QComboBox)
    axes.setCurrentIndex(axes.findData(Axes.X))
    axes.activated.emit(axes.currentIndex())
    bench.steps.calm.on.click()
    bench.steps.calm.dose.setValue(15)
    drafted(qtbot, bench)
    assert bench.wanted().tile.axes is Axes.X and bench.wanted().calm.spread == pytest.approx(0.15)
    assert bench._draft.measured[1].spread == pytest.approx(0.15, abs=0.02)
    for where in (Where.PLANE, Where.POST, Where.SPHERE, Where.WORN):
        before = bench.view.drawn
        bench.wheres[where].click()
        drawn_anew(qtbot, bench, before)
        assert all((shot.ids >= 0).any() for shot in bench.view.drawn.shots), where
        assert (bench.view.drawn.shots[0].codes != bench.view.drawn.shots[1].codes).any(), where
    near = bench.view.camera.distance
    bench.far.click()
    assert bench.view.camera.distance > 3 * near
    # A place that is kept, and let go of again.
    view = bench.pane.keep
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(60, 50))
    (stroke,) = bench.wanted().tile.keep
    assert stroke.x == pytest.approx(60 / view._room().width(), abs=0.01)
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(61, 51))
    assert bench.wanted().tile.keep == ()


def test_it_is_made_taken_back_and_made_of_all_that_is_selected(qtbot, bench):
    session = bench._session
    bench.make.click()
    (maker,) = session.job.makers
    assert isinstance(maker, Surface) and maker.name == "deck_base_surface"
    paths = {t.path for t in session.inventory.textures}
    assert {"deck_base_surface", "deck_base_surface_deck_n"} <= paths and "deck_base.png" not in paths
    qtbot.waitUntil(lambda: not [f for f in session.findings() if f.code == "tiling-seam"], timeout=20000)
    assert named(bench, "Textures and their surfaces", QListWidget).item(0).text().endswith("made · 200²")
    bench.remove.click()
    assert session.job.makers == ()
    rows = session.inventory.row_of
    session.select((rows["deck_base.png"], rows["sand_base.png"]))
    bench.refresh()
    assert bench.every.isVisible()
    bench.every.click()
    assert {row.source for row in session.job.makers} == {"deck_base.png", "sand_base.png"}
    session.undo()
    assert session.job.makers == ()


def test_a_finding_opens_it_on_what_has_it(qtbot, bench):
    window, session = bench.window(), bench._session
    session.select((session.inventory.row_of["sand_base.png"],))
    window._use_maker(Remedy.SURFACE)
    assert bench.isVisible() and bench._now == "sand_base.png"


def test_the_upload_is_rehearsed_beside_a_cut(qtbot, bench):
    bench._session.watch("visor")
    pane = bench.pane.upload
    pane.key.click()
    qtbot.waitUntil(lambda: pane.errors[1].text() != "", timeout=30000)
    words = said(bench, "What the upload makes of it")
    assert words.startswith("Visor avatar: 200² becomes 256², ASTC") and "enough" in words
    upload, cut = (float(label.text().split()[-2]) for label in pane.errors)
    assert 0 < cut <= upload * 1.02


def test_a_cut_is_dragged_and_given_back(qtbot, bench):
    view = bench.pane.keep
    dot = view.dots("across")[3].toPoint()
    share = view._cuts["across"][0]
    wanted = QPoint(max(1, round(0.75 * share * view._room().width())), dot.y())
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=dot)
    qtbot.mouseMove(view, wanted)
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=wanted)
    drawn = bench.wanted().tile.across
    assert len(drawn) == 7 and drawn[3] == pytest.approx(0.75, abs=0.06) and bench.wanted().tile.down == ()
    drafted(qtbot, bench)
    path = bench._draft.made.across.path
    assert path[len(path) // 2] == pytest.approx(drawn[3], abs=0.02)
    view.drawn.emit("across", ())
    assert bench.wanted().tile.across == ()


def test_one_texture_serves_near_same_ones(qtbot, bench, tmp_path):
    session, window = bench._session, bench.window()
    root = tmp_path / "two"
    root.mkdir()
    sand = picture(np.clip(paint(7, "spots", 128) * np.linspace(0.6, 1.4, 128)[None, :, None], 0, 1))
    write_png(root / "one_base.png", sand)
    write_png(root / "two_base.png", Image.of(np.ascontiguousarray(sand.pixels[:, ::-1])))
    with qtbot.waitSignal(session.opened, timeout=20000):
        session.open(root)
    window.reveal(bench)
    qtbot.waitUntil(bench.share.isVisible, timeout=20000)
    assert bench.share.text().startswith("Share with 1 alike: −") and "(mirrored)" in bench.share.toolTip()
    bench.share.click()
    assert {t.path for t in session.inventory.textures} == {"one_base_shared"} and not bench.share.isVisible()
    session.undo()
    assert len(session.inventory.textures) == 2
