"""The Sightlines bench as a person uses it: looking from stations, reading the fit, capping what has levels to spare."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtWidgets import QListWidget, QPushButton

from oaktrim.core.plan.cuts import Cap
from oaktrim.core.plan.rolerules import RoleRule, ShareOf
from oaktrim.core.sight.sightlines import Path, Sightlines, Step
from oaktrim.core.survey.roles import Role
from oaktrim.desk.benches.sightlines.asking import StationAsking, ZoneAsking
from oaktrim.desk.benches.survey.bench import Pane
from oaktrim.desk.models.ledger import COLUMNS
from oaktrim.desk.widgets.residencyband import ResidencyBand
from oaktrim.desk.widgets.sceneview import SceneView
from tests.desk.reach import named, said
from tests.kit.models import SQUARE, add_mesh, material
from tests.kit.sights import wall
from tests.kit.trees import put


@pytest.fixture
def looking(qtbot, window, tmp_path):
    """A wall whose texture is far larger than its camera ever shows, and a small one that is too small."""
    root = tmp_path / "yard"
    root.mkdir()
    put(root, "small_base.png", size=(32, 32))

    def beside(writer, nodes):
        paint = material(writer, "poster", baseColorTexture=writer.image("small_base.png"))
        mesh = add_mesh(writer, paint, points=(SQUARE - 0.5) * 2 + np.float32([0, 0, 1.2]))
        nodes.append(writer.add("nodes", name="poster", mesh=mesh))

    wall(root, half=2.0, side=1024, repeats=6.0, camera=9.0, edit=beside)
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(root)
    window.session.watch("lounge")
    window.reveal(window.sightlines)
    qtbot.waitUntil(lambda: asked(window), timeout=60000)
    qtbot.waitUntil(lambda: view_of(window).drawn is not None and view_of(window).drawn.whole, timeout=60000)
    return window


def asked(window) -> bool:
    demand = window.session.demand()
    return demand is not None and not demand.estimated.any()


def view_of(window) -> SceneView:
    return named(window, "The scene", SceneView)


def key_of(window, words) -> QPushButton:
    return next(key for key in window.sightlines.findChildren(QPushButton) if key.text() == words)


def row_of(window, path) -> int:
    return window.session.inventory.row_of[path]


def test_the_fit_is_shown_in_colours_and_read_under_the_pointer(qtbot, looking):
    view = view_of(looking)
    assert said(looking, "What is looked from").startswith("1 station · seen on 1920×1080")
    assert named(looking, "Stations", QListWidget).item(0).text() == "eye"
    values = view.drawn.shots[0].values
    middle, edge = (view.height() // 2, view.width() // 2), (view.height() // 2, view.width() // 2 + view.height() // 5)
    demand = looking.session.demand()
    assert values[edge] == pytest.approx(float(demand.levels[row_of(looking, "wall_base.png")]), abs=0.2)
    assert values[middle] == pytest.approx(float(demand.levels[row_of(looking, "small_base.png")]), abs=0.2)
    codes = view.layers[0].levels[0]
    assert codes[edge][2] > codes[edge][0], "slate where there are levels to spare"
    assert codes[middle][0] > codes[middle][2], "oak where they lack"
    qtbot.mouseMove(view, QPoint(edge[1], edge[0]))
    qtbot.waitUntil(lambda: said(looking, "Under the pointer").startswith("wall · +"))
    qtbot.mouseMove(view, QPoint(middle[1], middle[0]))
    qtbot.waitUntil(lambda: said(looking, "Under the pointer").startswith("poster · −"))


def test_a_click_selects_the_object_and_its_cap_is_set_there(qtbot, looking):
    view, session = view_of(looking), looking.session
    qtbot.mouseClick(
        view, Qt.MouseButton.LeftButton, pos=QPoint(view.width() // 2 + view.height() // 5, view.height() // 2)
    )
    pane = looking.sightlines.pane
    assert pane.name.text() == "wall" and session.chosen == (row_of(looking, "wall_base.png"),)
    assert said(looking, "Where most is asked for").startswith("wall_base.png: eye, at 9.")
    pane.cap.setValue(8)
    assert [cut.change for cut in session.job.cuts] == [Cap(256)]
    assert int(session.plan().footprint.width[row_of(looking, "wall_base.png")]) == 256
    looking.session.undo()
    assert session.job.cuts == ()
    qtbot.keyClick(view, Qt.Key.Key_W)
    moved = view.camera
    key_of(looking, "Go there").click()
    assert view.camera != moved and view.camera.eye == pytest.approx((0, 0, 9))


def test_what_has_two_to_spare_is_capped_in_one_edit(qtbot, looking):
    session, row = looking.session, row_of(looking, "wall_base.png")
    demand = session.demand()
    side = demand.kept_side(row, 1024)
    assert side <= 256
    assert said(looking, "What that would do").startswith("1 texture, −")
    before = session.plan().total("memory")
    key_of(looking, "Cap what has two to spare").click()
    assert int(session.plan().footprint.width[row]) == side and session.plan().total("memory") < before
    assert len(session.job.cuts) == 1
    session.undo()
    assert session.plan().total("memory") == before


def test_a_role_rule_goes_by_what_is_seen_and_ships_only_once_that_is_known(qtbot, looking):
    window, session = looking, looking.session
    row, pane = row_of(looking, "wall_base.png"), looking.survey.rules
    window.reveal(window.survey)
    window.survey.show_pane(Pane.RULES)
    share = pane.lines[Role.BASE_COLOUR][0]
    share.setCurrentIndex(share.findText("as wanted"))
    share.activated.emit(share.currentIndex())
    assert session.job.role_rules == (RoleRule(Role.BASE_COLOUR, of=ShareOf.WANTED),)
    kept = session.demand().kept_side(row, 1024)
    assert kept < 1024 and int(session.plan().footprint.width[row]) == kept
    ruler = session.plan("lounge").total("memory")
    assert ruler < session.plan("lounge", cut=False).total("memory")
    # The other targets have screens of their own.
    qtbot.waitUntil(lambda: not any(session.sights.is_pending(target) for target in session.targets), timeout=60000)
    assert all(int(session.plan(target.id).footprint.width[row]) < 1024 for target in session.targets)
    session.edit(session.job.with_rule(RoleRule(Role.BASE_COLOUR, 0.5, of=ShareOf.WANTED)), "half")
    assert int(session.plan().footprint.width[row]) == kept // 2
    assert session.plan_of(session.job).total("memory") == session.plan().total("memory")


def test_findings_filter_and_ledger_know_the_fit(qtbot, looking):
    session = looking.session
    qtbot.waitUntil(lambda: any(f.code == "levels-to-spare" for f in session.findings()), timeout=20000)
    codes = {(f.code, f.path) for f in session.findings()}
    assert ("levels-to-spare", "wall_base.png") in codes and ("levels-short", "small_base.png") in codes
    fit = next(column for column in COLUMNS if column.head == "Fit")
    model = looking.survey.model
    assert fit.text(model, row_of(looking, "wall_base.png")).startswith("+")
    assert fit.text(model, row_of(looking, "small_base.png")).startswith("−")
    looking.reveal(looking.survey)
    looking.survey.filters.line.setText("fit<0")
    qtbot.waitUntil(lambda: looking.survey.model.rowCount() == 1)


def test_a_view_is_kept_as_a_station_renamed_walked_and_undone(qtbot, looking):
    session, view = looking.session, view_of(looking)
    for _ in range(4):
        qtbot.keyClick(view, Qt.Key.Key_W)
    key_of(looking, "Station here").click()
    lines = session.job.sightlines
    assert [row.name for row in lines.stations] == ["eye", "station"], "the camera stays a station"
    assert lines.stations[1].eye == pytest.approx(view.camera.eye)
    shots = named(looking, "Stations", QListWidget)
    qtbot.waitUntil(lambda: shots.count() == 2, timeout=20000)
    shots.item(1).setText("door")
    assert session.job.sightlines.station("door") is not None
    key_of(looking, "Path").click()
    assert session.job.sightlines.paths == (Path("walk", (Step("eye", 0.0), Step("door", 3.0))),)
    band = named(looking, "Streaming along the path after", ResidencyBand)
    qtbot.waitUntil(lambda: band.residency is not None, timeout=60000)
    assert said(looking, "What streaming blurs").split(" · ")[-1].endswith("a second come in")
    qtbot.mouseClick(band, Qt.MouseButton.LeftButton, pos=QPoint(band.width() - 30, 40))
    before = named(looking, "Streaming along the path before", ResidencyBand)
    np.testing.assert_array_equal(before.residency.wanted, band.residency.wanted)
    session.select((row_of(looking, "wall_base.png"),))
    session.cut(Cap(64), everywhere=False, keep=True)
    qtbot.waitUntil(lambda: bool((band.residency.wanted < before.residency.wanted).all()), timeout=20000)
    session.undo()
    door = session.job.sightlines.station("door")
    assert view.camera.eye == pytest.approx(door.eye, abs=0.5)
    qtbot.waitUntil(lambda: asked(looking), timeout=60000)
    shots.setCurrentRow(1)
    named(looking, "Remove the station", QPushButton).click()
    assert session.job.sightlines.paths == () and len(session.job.sightlines.stations) == 1
    for _ in range(4):
        session.undo()
    assert session.job.sightlines == Sightlines()


def test_a_rule_is_added_in_words_and_a_wrong_one_is_an_error(qtbot, looking):
    bench, session, said_so = looking.sightlines, looking.session, []
    session.failed.connect(said_so.append)
    bench.add_rule("3 path:wall*")
    assert session.job.sightlines.nearest[0].metres == 3 and session.job.sightlines.nearest[0].where == "path:wall*"
    for wrong in ("near path:wall*", "3 nofield:x", "-2 path:x"):
        bench.add_rule(wrong)
    assert len(said_so) == 3 and len(session.job.sightlines.nearest) == 1


def answered(looking, key, kind, fill) -> None:
    """Press a key that opens a dialog, fill it, and say yes; what is wrong is looked at by `fill`."""

    def answer() -> None:
        dialog = next(d for d in looking.findChildren(kind) if d.isVisible())
        fill(dialog)
        dialog.check()

    QTimer.singleShot(0, answer)
    key_of(looking, key).click()


def test_a_station_is_typed_and_a_zone_is_looked_around_in(qtbot, looking):
    session, demand = looking.session, looking.session.demand()
    row = row_of(looking, "wall_base.png")

    def by_numbers(dialog):
        named(dialog, "Name of the station").setText("close")
        named(dialog, "Eye").setText("0, 0")
        dialog.check()
        assert dialog.isVisible() and "three numbers" in dialog.wrong.text()
        named(dialog, "Eye").setText("0, 1.5, 3")
        named(dialog, "Looks at").setText("0, 1.5, 0")
        named(dialog, "Screen").setText("640x360")

    answered(looking, "Type", StationAsking, by_numbers)
    close = session.job.sightlines.station("close")
    assert close.eye == (0, 1.5, 3) and close.screen == (640, 360) and close.scene.endswith(".glb")

    def box(dialog):
        named(dialog, "Where somebody stands").setCurrentIndex(0)
        named(dialog, "Lower corner of the box").setText("-1, -1, 2")
        named(dialog, "Higher corner of the box").setText("1, 1, 3")
        named(dialog, "Nothing is seen nearer than").setText("0.4")

    answered(looking, "Zone", ZoneAsking, box)
    assert session.job.sightlines.zones[0].nearest == 0.4
    rules = named(looking, "Zones and rules", QListWidget)
    qtbot.waitUntil(lambda: rules.count() == 1 and "in a box" in rules.item(0).text())
    qtbot.waitUntil(lambda: asked(looking) and looking.session.demand() is not demand, timeout=60000)
    assert session.demand().levels[row] < demand.levels[row] - 0.9, "nearer asks for more"
    rules.setCurrentRow(0)
    named(looking, "Remove the rule", QPushButton).click()
    assert session.job.sightlines.zones == () and len(session.job.sightlines.stations) == 2


@pytest.mark.parametrize("way", ["As seen", "Check", "Cost", "Edges"])
def test_every_way_of_looking_draws_another_picture(qtbot, looking, way):
    view = view_of(looking)
    first = view.layers[0].levels[0].copy()
    with qtbot.waitSignal(view.settled, timeout=20000):
        key_of(looking, way).click()
    assert (view.layers[0].levels[0] != first).mean() > 0.02


def test_a_tree_without_models_says_what_the_bench_is_for(qtbot, opened):
    opened.reveal(opened.sightlines)
    assert "Sightlines say from where things are seen" in opened.sightlines._nothing.text()
    assert opened.sightlines._nothing.isVisible()
