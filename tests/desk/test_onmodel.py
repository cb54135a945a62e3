"""A texture on the object that wears it, as a person looks at it: turned, come nearer to, against its cut."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QPushButton

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.plan.cuts import Cap
from oaktrim.desk.benches.proof.bench import Page
from oaktrim.desk.widgets.picture import Mode
from oaktrim.desk.widgets.sceneview import SceneView
from tests.desk.reach import named, said
from tests.desk.test_round import click_row
from tests.kit.models import SQUARE, add_mesh, material, scene
from tests.kit.pictures import noise
from tests.kit.trees import put, write_model


@pytest.fixture
def proving(qtbot, window, tmp_path):
    """A crate that wears a busy picture, on the page that shows it there."""
    root = tmp_path / "crate"
    put(root, "crate_base.png", noise(512, 512, 3, seed=4).pixels)
    put(root, "loose_base.png")
    put(root, "lid_base.png")
    writer = GltfWriter()
    side = add_mesh(writer, material(writer, "planks", baseColorTexture=writer.image("crate_base.png")))
    lid = add_mesh(writer, material(writer, "lid", baseColorTexture=writer.image("lid_base.png")), points=SQUARE * 0.2)
    scene(
        writer,
        writer.add("nodes", name="crate", mesh=side),
        writer.add("nodes", name="lid", mesh=lid, translation=[0.4, 1.05, 0]),
    )
    write_model(root, "crate.glb", writer)
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(root)
    window.session.watch("lounge")
    click_row(qtbot, window, "crate_base.png")
    window.reveal(window.proof)
    window.proof.show_page(Page.MODEL)
    qtbot.waitUntil(lambda: compared(window), timeout=60000)
    return window


def view_of(window) -> SceneView:
    return named(window, "The object with source and cut", SceneView)


def key_of(window, words) -> QPushButton:
    return next(key for key in window.proof.model.findChildren(QPushButton) if key.text() == words)


def compared(window) -> bool:
    return said(window, "How far they are apart in this view").startswith("In this view")


def steps(window) -> float:
    return float(said(window, "How far they are apart in this view").split()[3])


def test_source_and_cut_are_drawn_alike_and_a_harder_cut_is_farther_off(qtbot, proving):
    view = view_of(proving)
    source, cut = (layer.levels[0] for layer in view.layers)
    assert source.shape == cut.shape == (view.height(), view.width(), 4)
    assert (source[..., 3] == 255).mean() > 0.2
    np.testing.assert_array_equal(source[..., 3], cut[..., 3])
    mild = steps(proving)
    camera = view.camera
    proving.session.cut(Cap(16), everywhere=True, keep=True)
    qtbot.waitUntil(lambda: compared(proving) and steps(proving) > 4 * max(mild, 0.05), timeout=60000)
    assert view.camera == camera, "a cut leaves the camera where it is"
    assert (view.layers[0].levels[0] == source).all()
    view.set_mode(Mode.MAP)
    shown = view.grab().toImage()
    assert shown.pixelColor(view.width() // 2, view.height() // 2).saturation() > 60, "the map shows where they differ"


def test_the_camera_orbits_comes_nearer_flies_and_goes_home(qtbot, proving):
    view = view_of(proving)
    home, first = view.camera, view.layers[0].levels[0].copy()
    middle = QPoint(view.width() // 3, view.height() // 3)
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=middle)
    qtbot.mouseMove(view, middle + QPoint(120, 30))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=middle + QPoint(120, 30))
    assert view.camera != home and view.camera.distance == pytest.approx(home.distance)
    assert view.camera.target == home.target
    qtbot.waitUntil(lambda: compared(proving), timeout=60000)
    assert (view.layers[0].levels[0] != first).any()
    wheel = QWheelEvent(
        QPointF(middle), QPointF(middle), QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    view.wheelEvent(wheel)
    assert view.camera.distance < home.distance
    for key in (Qt.Key.Key_W, Qt.Key.Key_D, Qt.Key.Key_E, Qt.Key.Key_Left, Qt.Key.Key_Minus):
        before = view.camera
        qtbot.keyClick(view, key)
        assert view.camera != before
    qtbot.keyClick(view, Qt.Key.Key_F)
    assert view.camera == home
    qtbot.waitUntil(lambda: compared(proving) and view.drawn.whole, timeout=60000)
    np.testing.assert_array_equal(view.layers[0].levels[0], first)


def test_how_it_is_made_can_be_seen_and_what_is_under_the_pointer(qtbot, proving):
    view = view_of(proving)
    key_of(proving, "Whole model").click()
    for shows in ("Triangles", "Edges", "Objects"):
        with qtbot.waitSignal(view.settled, timeout=20000):
            key_of(proving, shows).click()
        colours = {tuple(colour) for colour in view.layers[0].levels[0].reshape(-1, 4) if colour[3] == 255}
        assert len(colours) == {"Triangles": 4, "Objects": 2}.get(shows, len(colours))
    qtbot.mouseMove(view, view.rect().center())
    qtbot.waitUntil(lambda: said(proving, "What is under the pointer") == "crate > planks")


def test_a_texture_that_no_model_wears_says_so(qtbot, proving):
    rows = [n for n, t in enumerate(proving.session.inventory.textures) if t.path == "loose_base.png"]
    proving.session.select(rows)
    view = view_of(proving)
    qtbot.waitUntil(lambda: not view.layers, timeout=20000)
    assert not compared(proving)
