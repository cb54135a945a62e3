"""The guide's ways out in the window, by mouse: a stranger's tree that does not fit is ruled, fixed, fitted and shipped."""

import json

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QListWidget

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.files.pictures import read_picture
from oaktrim.core.plan.cuts import SetLoss
from oaktrim.core.plan.status import limits_of
from oaktrim.core.survey.roles import Role
from oaktrim.desk.benches.proof.bench import Page
from oaktrim.desk.benches.survey.bench import Pane
from tests.core.survey.test_guesses import cut_out, directions, grey, photograph, put
from tests.desk.reach import named, said
from tests.kit.pictures import smooth

LEFT = Qt.MouseButton.LeftButton
WAIT = 60000
pytestmark = pytest.mark.slow


@pytest.fixture
def tree(tmp_path):
    root = tmp_path / "stranger"
    for number in range(4):
        put(root, f"set{number}/c.png", photograph(number))
        put(root, f"set{number}/f.png", grey(number + 30))
        put(root, f"set{number}/h.png", directions(0.2 + number / 40))
    put(root, "leaf.png", cut_out(3))
    put(root, "fog_base.png", smooth(512, 512, 3, seed=4))
    put(root, "ui/button.png", photograph(50))
    return root


@pytest.fixture
def stranger(qtbot, window, tree):
    with qtbot.waitSignal(window.session.opened, timeout=WAIT):
        window.session.open(tree)
    session = window.session
    session.watch("pocket")
    uncut = session.plan(cut=False).total("memory")
    limits = {"memory": f"{uncut // 8192} KiB", "package": f"{uncut // 8192} KiB", "streaming": None}
    tight = msgspec.structs.replace(session.watched, limits=msgspec.structs.replace(session.watched.limits, **limits))
    session.edit(session.job.with_target(tight), "limits of ours")
    window.reveal(window.survey)
    return window


def over(window) -> list[str]:
    return [status.line.name for status in limits_of(window.session.plan()) if status.over]


def test_my_build_crashes_for_memory(qtbot, stranger, tree, tmp_path):
    window, session, survey = stranger, stranger.session, stranger.survey
    weights = [session.plan().total("memory")]
    before = {path: path.read_bytes() for path in tree.rglob("*.png")}
    assert "memory" in over(window) and "▲" in next(
        key.text() for key in window.top._target_group.buttons() if key.isChecked()
    )
    # What is eating it, and what is what.
    qtbot.mouseClick(survey.keys[Pane.ROLES], LEFT)
    groups = named(survey.roles, "Groups of look-alikes", QListWidget)
    qtbot.waitUntil(lambda: groups.count() >= 3, timeout=WAIT)
    place = next(row for row in range(groups.count()) if "named f" in groups.item(row).text())
    groups.setCurrentRow(place)
    assert "or something else?" in said(survey.roles, "The question")
    qtbot.mouseClick(survey.roles.answers[Role.MASK], LEFT)
    roles = dict(zip((t.path for t in session.inventory.textures), session.inventory.roles, strict=True))
    assert {roles[f"set{n}/f.png"].role for n in range(4)} == {Role.MASK}
    # The common rules: totals first, then one step.
    qtbot.mouseClick(survey.keys[Pane.RULES], LEFT)
    survey.use_common_rules()
    qtbot.waitUntil(survey.rules.use.isEnabled, timeout=WAIT)
    qtbot.mouseClick(survey.rules.use, LEFT)
    weights.append(session.plan().total("memory"))
    assert weights[1] < weights[0] / 3
    # What costs nothing.
    qtbot.mouseClick(survey.keys[Pane.FINDINGS], LEFT)
    qtbot.waitUntil(lambda: "more-size-than-detail" in {f.code for f in session.findings()}, timeout=WAIT)
    survey.findings.choose("more-size-than-detail")
    qtbot.waitUntil(lambda: survey.findings.strip.accessibleDescription() != "", timeout=WAIT)
    assert "fog_base.png" in survey.findings.strip.accessibleDescription()
    assert survey.findings.fix.text().startswith("Fix")
    qtbot.mouseClick(survey.findings.fix, LEFT)
    weights.append(session.plan().total("memory"))
    assert weights[2] < weights[1]
    # The rest, at the least visible loss, with the interface left alone.
    qtbot.waitUntil(lambda: session.plan().all_measured, timeout=WAIT)
    window.reveal(window.proof)
    qtbot.mouseClick(window.proof.pages[Page.FIT], LEFT)
    fit = window.proof.fit
    fit.effort.setCurrentIndex(fit.effort.findData(Effort.DRAFT))
    fit.locked.setText("path:ui/*")
    kept = session.plan().recipe(session.inventory.row_of["ui/button.png"])
    qtbot.mouseClick(fit.begin, LEFT)
    qtbot.waitUntil(lambda: fit.take.isEnabled() and fit.model.fit is not None, timeout=120000)
    if fit.model.rowCount():
        qtbot.mouseClick(fit.take, LEFT)
    assert over(window) == []
    assert session.plan().recipe(session.inventory.row_of["ui/button.png"]) == kept
    # Ship, and weigh again.
    window.reveal(window.ship)
    window.ship.folder.setText(str(tmp_path / "build"))
    window.ship.refresh()
    qtbot.waitUntil(lambda: window.ship.list.rowCount() > 0 and window.ship.go.isEnabled(), timeout=WAIT)
    qtbot.mouseClick(window.ship.go, LEFT)
    qtbot.waitUntil(lambda: window.ship.result.rowCount() > 0, timeout=WAIT)
    verdicts = [window.ship.result.item(row, 5).text() for row in range(window.ship.result.rowCount())]
    assert not any("▲" in verdict for verdict in verdicts)
    manifest = json.loads((tmp_path / "build" / "manifest.json").read_text())
    assert sum(row["memory"] for row in manifest["textures"]) == session.plan().total("memory")
    assert before == {path: path.read_bytes() for path in tree.rglob("*.png")}, "sources are never written"
    # All of it is undone, step by step, and what was at first is there again.
    while session.history.undo_name is not None:
        session.undo()
    assert session.plan(cut=False).total("memory") == weights[0]


def test_the_download_is_too_large(qtbot, stranger):
    window, session, survey = stranger, stranger.session, stranger.survey
    survey.use_common_rules()
    qtbot.waitUntil(survey.rules.use.isEnabled, timeout=WAIT)
    qtbot.mouseClick(survey.rules.use, LEFT)
    ruler = window.rules.rulers["package"]
    qtbot.waitUntil(lambda: not ruler.reading.estimated, timeout=WAIT)
    packed, memory = session.plan().total("package"), session.plan().total("memory")
    survey.filters.line.setText("role:base-colour")
    survey.ledger.selectAll()
    assert len(session.chosen) >= 5
    loss = named(survey.cuts, "Max loss of the selected textures")
    loss.setCurrentIndex(loss.findText("1 dB"))
    loss.activated.emit(loss.currentIndex())
    assert session.job.cuts[-1].change == SetLoss(1.0)
    qtbot.waitUntil(lambda: session.plan().all_measured, timeout=WAIT)
    assert session.plan().total("package") < packed and session.plan().total("memory") == memory
    # What it costs in looks is one key away.
    qtbot.keyClick(window, Qt.Key.Key_3, Qt.KeyboardModifier.AltModifier)
    window.proof.show_page(Page.ONE)
    qtbot.waitUntil(lambda: " JND" in window.proof.one.words.text(), timeout=WAIT)
    assert "just noticeable difference" in window.proof.one.words.toolTip()


def test_a_finding_is_suppressed_with_its_reason_and_comes_back(qtbot, stranger, monkeypatch):
    session, survey = stranger.session, stranger.survey
    qtbot.waitUntil(lambda: "more-size-than-detail" in {f.code for f in session.findings()}, timeout=WAIT)
    survey.show_finding("more-size-than-detail")
    monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_: ("it is fog", True))
    qtbot.mouseClick(survey.findings.suppressing, LEFT)
    qtbot.waitUntil(lambda: "more-size-than-detail" not in {f.code for f in session.findings()}, timeout=WAIT)
    key = survey.findings.show_suppressed
    qtbot.waitUntil(key.isVisible, timeout=WAIT)
    assert key.text() == f"Show suppressed ({len(session.job.suppressed)})"
    # Reports of the command line say the same.
    assert all(row.reason == "it is fog" for row in session.job.suppressed)


def test_sizes_under_the_ladder_follow_the_hand(qtbot, stranger):
    window, session = stranger, stranger.session
    row = session.inventory.row_of["fog_base.png"]
    session.select((row,))
    table = lambda: said(window.swatch, "The texture on all targets")  # noqa: E731
    qtbot.waitUntil(lambda: "512²" in table(), timeout=WAIT)
    cap = window.survey.cuts.cap
    cap.setSliderDown(True)
    cap.setValue(5)
    qtbot.waitUntil(lambda: "64²" in table(), timeout=2000)
    assert session.trying, "the hand is still on it"
    cap.setSliderDown(False)
    assert [cut.assets for cut in session.job.cuts] == [("fog_base.png",)]


def test_the_tree_is_what_the_tests_say(tree):
    """The pictures really are of those kinds: otherwise the tests above would show nothing."""
    fog = read_picture(tree / "fog_base.png").pixels.astype(float)
    assert np.abs(np.diff(fog, axis=0)).max() < 8, "nothing fine in fog"
    assert (read_picture(tree / "leaf.png").pixels[..., 3] == 0).any()
