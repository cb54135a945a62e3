"""Checks of a studio's own, and what built-in findings count as."""

import pytest

from oaktrim.core.errors import DocumentError
from oaktrim.core.job.document import checks_of, load_job, new_job, save_job
from oaktrim.core.plan.checks import Check, CheckFix, Checks, Grade, as_toml, example_checks, read_checks
from oaktrim.core.plan.report import survey
from oaktrim.core.plan.verdict import change_of, findings_of
from oaktrim.core.progress import finish
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.targets.target import target_named
from tests.kit.trees import planned, put, surveyed


@pytest.fixture
def tree(tmp_path):
    root = tmp_path / "art"
    put(root, "ui/Arrow.png", size=(600, 100), channels=4)
    put(root, "rock_base.png", size=(128, 128))
    put(root, "rock_n.png", size=(128, 64))
    put(root, "moss_base.png", size=(128, 128))
    return root


def test_what_breaks_a_check_is_a_finding_with_its_fix(tree):
    check = Check("ui-small", "path:ui/* side>512", Severity.ERROR, "small pictures in ui", CheckFix(cap=256))
    plan = planned(tree, "pocket")
    (finding,) = (f for f in findings_of(plan, Checks((check,))) if f.code == "ui-small")
    assert (finding.path, finding.severity, finding.message) == ("ui/Arrow.png", Severity.ERROR, "small pictures in ui")
    assert finding.bytes == plan.footprint.memory[plan.inventory.row_of["ui/Arrow.png"]]
    assert finding.remedy == "cap it at 256" and change_of(finding.fix).label == "Cap 256"


def test_built_in_findings_are_graded_by_job_and_by_target(tree):
    plan = planned(tree, "pocket")
    before = [f for f in findings_of(plan) if f.code == "not-power-of-two"]
    assert before and before[0].severity is not Severity.NOTE
    off = Checks(grades=(Grade("not-power-of-two"),))
    assert not [f for f in findings_of(plan, off) if f.code == "not-power-of-two"]
    # What is said of one target stands over what is said of all.
    here = Checks(grades=(Grade("not-power-of-two", Severity.NOTE, ("pocket",)), Grade("not-power-of-two")))
    assert [f.severity for f in findings_of(plan, here) if f.code == "not-power-of-two"] == [Severity.NOTE] * len(
        before
    )


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"name": "Ui", "where": "a"}, "lower-case letters"), ({"name": "no-levels", "where": "a"}, "built-in finding"),
        ({"name": "x", "where": "sid>3"}, "at letter 1 of 'sid>3': there is no field 'sid'"),
        ({"name": "x", "where": "side>3 or"}, "nothing is after it"),
    ],
)  # fmt: skip
def test_a_check_that_makes_no_sense_says_where(fields, words):
    with pytest.raises(ValueError, match=words):
        Check(**fields)
    with pytest.raises(ValueError, match="one of them"):
        CheckFix(cap=4, levels=True)
    with pytest.raises(ValueError, match="no built-in finding"):
        Grade("odd")


def test_examples_find_what_they_are_for(tree):
    found = {(f.code, f.path) for f in findings_of(planned(tree, "pocket"), Checks(example_checks()))}
    assert len(example_checks()) == 8
    assert {("name-in-lower-case", "ui/Arrow.png"), ("interface-within-512", "ui/Arrow.png")} <= found
    assert ("square-normals", "rock_n.png") in found and ("square-normals", "rock_base.png") not in found


def test_files_of_checks_are_shared_and_damaged_ones_named(tree, tmp_path):
    file = tmp_path / "studio.toml"
    file.write_bytes(as_toml(example_checks()))
    assert read_checks(file) == example_checks()
    job = new_job(tree).with_check(Check("mine", "side>64")).with_check_file("../studio.toml")
    path = tmp_path / "jobs" / "a.oak"
    path.parent.mkdir()
    save_job(job, path, tree)
    checks = checks_of(load_job(path), tree)
    assert [row.name for row in checks.own] == ["mine", *(row.name for row in example_checks())]
    for text, words in (
        (b"version = 1\n[[check]]\nname = 'x'\nwhere = 'side>'\n", "needs a value"),
        (b"version = 9\n", "newer"), (b"check = 3", "no valid file"), (b"\xff", "no valid file"),
        (b"version = 1\n[[check]]\nname = 'mine'\nwhere = 'a'\n", "there already"),
        (b"version = 1\n" + b"[[check]]\nname = 'x'\nwhere = 'a'\n" * 2, "two checks"),
    ):  # fmt: skip
        file.write_bytes(text)
        with pytest.raises(DocumentError, match=words) as caught:
            checks_of(load_job(path), tree)
        assert "studio.toml" in str(caught.value)
    file.unlink()
    with pytest.raises(DocumentError, match=r"studio\.toml"):
        checks_of(load_job(path), tree)


def test_a_survey_counts_them_and_suppressed_ones_do_not(tree):
    inventory = surveyed(tree)
    check = Check("ui-small", "path:ui/* side>512", Severity.ERROR)
    quiet = frozenset({("ui-small", "ui/Arrow.png")})
    targets = (target_named("lounge"),)
    loud, silent = (
        finish(survey(inventory, targets, SurveyCache(), checks=Checks((check,), (), row)))
        for row in (frozenset(), quiet)
    )
    assert loud.grave and "ui-small" in {f.code for f in loud.findings}
    assert "ui-small" not in {f.code for f in silent.findings} and silent.suppressed == 1
