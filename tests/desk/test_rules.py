"""The first minutes on a stranger's tree: questions about look-alikes, the common rules, formats by hand, and checks."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QListWidget

from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.plan.cuts import Cut, SetFormat
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Role
from oaktrim.desk.benches.survey.bench import Pane
from oaktrim.desk.models.ledger import ASIDE
from tests.core.survey.test_guesses import directions, grey, photograph, put
from tests.desk.reach import named, said


@pytest.fixture
def stranger(qtbot, window, tmp_path):
    root = tmp_path / "stranger"
    for number in range(6):
        put(root, f"set{number}/c.png", photograph(number))
        put(root, f"set{number}/f.png", grey(number + 30))
        put(root, f"set{number}/h.png", directions(0.2 + number / 40))
    with qtbot.waitSignal(window.session.opened, timeout=20000):
        window.session.open(root)
    window.session.watch("pocket")
    window.reveal(window.survey)
    return window


def test_a_group_is_answered_at_once_and_undone(qtbot, stranger):
    survey, session = stranger.survey, stranger.session
    survey.show_pane(Pane.ROLES)
    pane = survey.roles
    groups = named(pane, "Groups of look-alikes", QListWidget)
    qtbot.waitUntil(lambda: groups.count() == 3, timeout=10000)
    place = next(row for row in range(3) if "named f" in groups.item(row).text())
    groups.setCurrentRow(place)
    assert said(pane, "The question").startswith("6 grey pictures named f: height, mask, or something else?")
    assert "pattern f" in said(pane, "What an answer changes") and "BC4" not in said(pane, "What an answer changes")
    assert said(pane, "How much is guessed").endswith("not known")
    qtbot.waitUntil(lambda: not pane._cells[0].pixmap().isNull(), timeout=10000)
    pane.answers[Role.HEIGHT].click()
    roles = {t.path: g.role for t, g in zip(session.inventory.textures, session.inventory.roles, strict=True)}
    assert {role for path, role in roles.items() if path.endswith("f.png")} == {Role.HEIGHT}
    assert session.job.role_patterns[-1].pattern == "f"
    qtbot.waitUntil(lambda: groups.count() == 2, timeout=10000)
    session.undo()
    assert Role.HEIGHT not in {guess.role for guess in session.inventory.roles}
    qtbot.waitUntil(lambda: groups.count() == 3, timeout=10000)
    pane.select.click()
    assert len(session.selected) == 6


def test_boards_begin_by_folder_and_names_that_stand_twice_show_theirs(qtbot, stranger):
    survey = stranger.survey
    assert survey.planks.grouping.currentText() == "by folder"
    index = survey.model.index(0, 0)
    assert survey.model.data(index, Qt.ItemDataRole.DisplayRole) in ("c.png", "f.png", "h.png")
    assert survey.model.data(index, ASIDE).startswith("set")


def test_the_common_rules_are_told_first_and_used_as_one_step(qtbot, stranger):
    survey, session = stranger.survey, stranger.session
    by_hand = Cut(SetFormat("astc-8x8"), ("set0/c.png",), ("pocket",))
    session.edit(session.job.with_cut(by_hand), "by hand")
    before = session.job
    survey.use_common_rules()
    pane = survey.rules
    qtbot.waitUntil(pane.use.isEnabled, timeout=10000)
    words = said(pane, "What the common rules come to")
    assert session.job == before and words.count("\n") == 2 and "Pocket: texture memory" in words
    assert "1 keep what was cut by hand" in words
    pane.use.click()
    plan = session.plan()
    formats = {t.path: ORDER[f] for t, f in zip(plan.inventory.textures, plan.formats, strict=True)}
    assert formats["set0/c.png"] == "astc-8x8" and formats["set1/c.png"] == "astc-6x6"
    assert formats["set1/h.png"] == "astc-5x5"
    session.undo()
    assert session.job == before


def test_a_format_is_chosen_for_a_role_and_shown_in_the_ladder(qtbot, stranger):
    survey, session = stranger.survey, stranger.session
    survey.show_rules(formats=True)
    pane = survey.rules
    box = pane.formats.boxes[Role.BASE_COLOUR, PixelKind.OPAQUE]
    place = box.findData("astc-8x8")
    box.setCurrentIndex(place)
    box.activated.emit(place)
    (rule,) = session.job.format_rules
    assert (rule.role, rule.format, rule.targets) == (Role.BASE_COLOUR, "astc-8x8", ())
    row = session.inventory.row_of["set2/c.png"]
    assert ORDER[session.plan().formats[row]] == "astc-8x8"
    assert pane.formats._effects[Role.BASE_COLOUR].text() == "6 of 6"
    session.select((row,))
    stranger._change_step(next(s for s in stranger.swatch.ladder.steps if s.format_rule is not None))
    assert pane.pages["Formats"].isChecked()


def test_checks_count_while_they_are_typed_and_become_findings(qtbot, stranger):
    survey, session = stranger.survey, stranger.session
    survey.show_pane(Pane.CHECKS)
    pane = survey.checks
    pane.name.setText("grey-as-png")
    qtbot.keyClicks(pane.where, "pixels:grey kind:")
    qtbot.waitUntil(lambda: said(pane, "What the check meets").startswith("▲ kind needs a value"), timeout=3000)
    qtbot.keyClicks(pane.where, "png")
    qtbot.waitUntil(lambda: said(pane, "What the check meets") == "meets 6", timeout=3000)
    pane.say.setText("grey pictures are made from code")
    pane.severity.setCurrentIndex(0)
    pane.set.click()
    (check,) = session.job.checks
    assert (check.name, check.severity) == ("grey-as-png", Severity.ERROR)
    qtbot.waitUntil(lambda: sum(f.code == "grey-as-png" for f in session.findings()) == 6, timeout=10000)
    survey.show_finding("grey-as-png")
    assert survey.findings.code == "grey-as-png" and survey.model.rowCount() == 6
    survey.show_pane(Pane.CHECKS)
    pane.examples.click()
    assert len(session.job.checks) == 9 and not pane.examples.isVisible()
    # A built-in finding is switched off here.
    code = next(f.code for f in session.findings() if f.code not in {c.name for c in session.job.checks})
    for row in range(pane.built_in.count()):
        if pane.built_in.item(row).data(Qt.ItemDataRole.UserRole) == code:
            pane.built_in.setCurrentRow(row)
    pane.grade.setCurrentIndex(1)
    pane.grade.activated.emit(1)
    qtbot.waitUntil(lambda: code not in {f.code for f in session.findings()}, timeout=10000)
    assert np.array([grade.code == code for grade in session.job.grades]).all()
