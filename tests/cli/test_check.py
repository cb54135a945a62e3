"""Whether a build may go on: what fails it, what others read of its reports, the last answer again, and the recipes."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import junitparser
import pytest
from click.testing import CliRunner
from ruamel.yaml import YAML

from oaktrim.cli import freshcheck
from oaktrim.cli.check import check
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.job.document import load_job, new_job, save_job
from oaktrim.core.plan import lastcheck
from oaktrim.core.plan.checks import Check
from oaktrim.core.settings import Settings, settings_file
from oaktrim.core.survey.findings.finding import Severity
from tests.kit import validator
from tests.kit.models import add_mesh, scene
from tests.kit.pictures import busy
from tests.kit.trees import put

RECIPES = Path(__file__).parents[2] / "docs" / "ci"


@pytest.fixture
def yard(tmp_path, monkeypatch):
    """A folder with a job that finds nothing grave, and the folder as the one that commands run in."""
    put(tmp_path, "art/oak_base.png", size=(256, 256))
    put(tmp_path, "art/ui/icon_overlay.png", size=(128, 128), channels=4)
    job = new_job(tmp_path / "art", Settings(targets=("pocket",)))
    own = Check("icons", "path:ui/* side>128", Severity.ERROR, "Icons are at most 128.")
    save_job(job.with_check(own), tmp_path / "game.oak", tmp_path / "art")
    monkeypatch.chdir(tmp_path)
    return tmp_path


def ask(*arguments, status=0):
    """Return what the command says."""
    done = CliRunner().invoke(check, [*map(str, arguments)], catch_exceptions=False)
    assert done.exit_code == status, done.output
    return done.output


def test_what_fails_a_build_and_what_does_not(yard):
    assert "Passes: nothing stands against it" in ask("game.oak", "--report", "good.json")
    put(yard, "art/odd_n.png", size=(100, 64))
    assert "Passes" in ask("game.oak"), "a warning does not fail unless it is asked to"
    assert "odd_n.png: not-power-of-two" in ask("game.oak", "--fail-on", "warning", status=1)
    put(yard, "art/ui/large_overlay.png", size=(256, 256))
    said = ask("game.oak", status=1)
    assert "error: ui/large_overlay.png: icons" in said and "Icons are at most 128." in said
    assert "Fails: 0 limits and 1 finding" in said
    assert "Passes" in ask("game.oak", "--fail-on", "never")
    # What a baseline knows fails no more; what is new does.
    ask("game.oak", "--report", "now.json", status=1)
    assert "Passes: nothing got worse" in ask("game.oak", "--baseline", "now.json")
    (yard / "art/torn.png").write_bytes(b"\x89PNG\r\n\x1a\n12")
    said = ask("game.oak", "--baseline", "now.json", status=1)
    assert "error: torn.png: unreadable" in said and "large_overlay" not in said
    assert "large_overlay" in ask("game.oak", "--baseline", "good.json", status=1)


def test_limits_fail_only_by_more_than_they_did(yard):
    put(yard, "art/wall_base.png", busy(2048, 2048, 4).pixels)
    job = load_job(yard / "game.oak")
    ask("game.oak", "--report", "before.json")
    for number in range(4):
        shutil.copy(yard / "art/wall_base.png", yard / f"art/wall{number}_base.png")
    said = ask("game.oak", status=1)
    assert "pocket: texture memory is" in said and "it was" not in said
    assert "it was 21.7 MiB" in ask("game.oak", "--baseline", "before.json", status=1)
    ask("game.oak", "--report", "over.json", status=1)
    assert "Passes: nothing got worse" in ask("game.oak", "--baseline", "over.json")
    assert job == load_job(yard / "game.oak"), "nothing was written to the job"


@pytest.mark.parametrize("form", ["survey", "list"])
def test_findings_on_what_nobody_touched_do_not_fail(yard, form):
    put(yard, "art/ui/first_overlay.png", size=(256, 256))
    writer = GltfWriter()
    writer.add("nodes", name="square", mesh=add_mesh(writer))
    scene(writer, 0)
    document, blob = writer.gltf("square.bin")
    (yard / "art/ui/square.gltf").write_bytes(document)
    (yard / "art/ui/square.bin").write_bytes(blob)
    job = load_job(yard / "game.oak")
    save_job(
        job.with_check(Check("meshes", "kind:mesh", Severity.ERROR, "No meshes here.")), yard / "game.oak", yard / "art"
    )
    ask("game.oak", "--report", "before.json", status=1)
    since = yard / ("before.json" if form == "survey" else "changed.txt")

    def changed(*names):
        if form == "list":
            since.write_text("".join(f"art/{name}\n" for name in (*names, "gone.png")))

    changed()
    said = ask("game.oak", "--changed-since", since)
    assert "2 on files that have not changed" in said
    os.utime(yard / "art/ui/first_overlay.png", (1, 1))
    assert "Passes" in ask("game.oak", "--changed-since", since), "another time is no change"
    put(yard, "art/ui/second_overlay.png", size=(256, 256))
    changed("ui/second_overlay.png")
    said = ask("game.oak", "--changed-since", since, status=1)
    assert "second_overlay" in said and "first_overlay" not in said and "square" not in said
    (yard / "art/ui/second_overlay.png").unlink()
    (yard / "art/ui/square.bin").write_bytes(blob[:-1] + b"\x01")
    changed("ui/square.bin")
    assert "ui/square.gltf: meshes" in ask("game.oak", "--changed-since", since, status=1), (
        "what it is read with counts"
    )


def test_what_cannot_be_read_is_said(yard):
    (yard / "bad.json").write_text("[]")
    (yard / "old.json").write_text('{"schema": "oak-trim.survey/1", "targets": [], "findings": []}')
    (yard / "raw").write_bytes(b"\xff\xfe\x00")
    command = Path(sys.executable).parent / "oak-trim"
    for arguments, fault in (
        (("--baseline", "bad.json"), "bad.json: is not a survey"),
        (("--baseline", "none.json"), "none.json"),
        (("--changed-since", "old.json"), "old.json: does not say what files held"),
        (("--changed-since", "raw"), "raw: is neither a survey nor a list of paths"),
        (("--report", "a.pdf"), "a report ends in"),
        (("--target", "attic"), "attic"),
    ):
        done = subprocess.run([command, "check", "game.oak", *arguments], capture_output=True, text=True, check=False)
        assert done.returncode == 2 and fault in done.stderr, (arguments, done.stderr)


def test_reports_are_read_by_others(yard):
    put(yard, "art/ui/large over\x07lay.png", size=(256, 256))
    odd = os.fsdecode(b"art/ui/b\xff_overlay.png")
    shutil.copy(yard / "art/ui/large over\x07lay.png", odd)
    put(yard, "art/odd_n.png", size=(100, 64))
    ask("game.oak", "--report", "r.xml", "--report", "r.sarif", "--report", "r.json", "--report", "r.html", status=1)
    told = json.loads((yard / "r.json").read_text())
    suites = junitparser.JUnitXml.fromfile(str(yard / "r.xml"))
    cases = [case for suite in suites for case in suite]
    assert suites.tests == len(cases) and suites.failures == 2
    assert suites.failures + suites.skipped == len(told["findings"])
    failed = [case for case in cases if any(isinstance(row, junitparser.Failure) for row in case.result)]
    assert {case.classname for case in failed} == {"oak-trim.icons"}
    assert {case._elem.get("file") for case in failed} == {
        "art/ui/large over\ufffdlay.png",
        "art/ui/b\\xff_overlay.png",
    }
    limits = {case.name for case in cases if case.classname == "oak-trim.limits.pocket"}
    assert "texture memory" in {name.lower() for name in limits}
    run = json.loads((yard / "r.sarif").read_text())["runs"][0]
    results = {
        (row["ruleId"], row["locations"][0]["physicalLocation"]["artifactLocation"]["uri"]) for row in run["results"]
    }
    assert len(results) == len(told["findings"])
    assert {("icons", "art/ui/large%20over%07lay.png"), ("icons", "art/ui/b%FF_overlay.png")} <= results
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert all(rules[row["ruleIndex"]] == row["ruleId"] for row in run["results"])
    marks = {row["partialFingerprints"]["oakTrim/v1"] for row in run["results"]}
    ask("game.oak", "--baseline", "r.json", "--report", "again.sarif")
    again = json.loads((yard / "again.sarif").read_text())["runs"][0]["results"]
    assert {row["partialFingerprints"]["oakTrim/v1"] for row in again} == marks
    errors = [row for row in again if row["level"] == "error"]
    assert errors and {row["baselineState"] for row in errors} == {"unchanged"}
    if not validator.judges_sarif():
        pytest.skip("no validator of SARIF")
    for name in ("r.sarif", "again.sarif"):
        faults = [line for line in validator.sarif_faults(yard / name) if "informationUri" not in line]
        assert not faults


def test_the_last_answer_is_given_again_while_nothing_changes(yard, monkeypatch):
    looks = []
    real = freshcheck.Ask.look
    monkeypatch.setattr(freshcheck.Ask, "look", lambda self, wanted: looks.append(wanted) or real(self, wanted))

    def looked(*arguments, status=0):
        before = len(looks)
        said = ask("game.oak", *arguments, status=status)
        return len(looks) - before, said

    put(yard, "art/ui/large_overlay.png", size=(256, 256))
    count, first = looked("--report", "r.xml", status=1)
    kept = (yard / "r.xml").read_bytes()
    (yard / "r.xml").unlink()
    assert count == 1 and looked("--report", "r.xml", status=1) == (0, first)
    assert (yard / "r.xml").read_bytes() == kept
    assert looked("--report", "art/r.sarif", status=1)[0] == 1, "another kind of report"
    assert looked("--report", "art/r.sarif", "--report", "r.xml", status=1)[0] == 0
    assert looked("--fail-on", "never")[0] == 1
    assert looked("--fail-on", "never")[0] == 0
    (yard / "art/ui/large_overlay.png").unlink()
    assert looked()[0] == 1 and looked()[0] == 0
    put(yard, "art/new_base.png")
    assert looked()[0] == 1 and looked()[0] == 0
    os.utime(yard / "game.oak", (1, 1))
    assert looked()[0] == 1 and looked()[0] == 0
    settings_file().parent.mkdir(parents=True, exist_ok=True)
    settings_file().write_text('theme = "dusk"\n')
    assert looked()[0] == 1 and looked()[0] == 0
    # A folder in the place of a job, into which reports are written.
    for count in (1, 0):
        before = len(looks)
        ask("art", "--target", "pocket", "--report", "art/r.xml")
        assert len(looks) - before == count
    # Another program says other things.
    monkeypatch.setattr(lastcheck, "__version__", "another")
    assert looked()[0] == 1


def steps_of(name):
    """Return the shell steps of a recipe: a script each, as its build server runs them."""
    recipe = YAML(typ="safe").load((RECIPES / name).read_text())
    if name == "github.yml":
        (job,) = recipe["jobs"].values()
        return [step["run"] for step in job["steps"] if "run" in step], {"GITHUB_BASE_REF": "main"}, "oak-trim.sarif"
    lines = [*recipe["textures"]["before_script"], *recipe["textures"]["script"]]
    settings = {"CI_MERGE_REQUEST_TARGET_BRANCH_NAME": "main"}
    return ["\n".join(lines)], settings, recipe["textures"]["artifacts"]["reports"]["junit"]


@pytest.mark.slow
@pytest.mark.parametrize(("name", "schema"), [("github.yml", "github-workflows"), ("gitlab.yml", "gitlab-ci")])
def test_recipes_run_step_by_step(yard, name, schema):
    """In a clone with a branch, first with a change that is good, then with one that is not."""
    command = Path(sys.executable).parent / "check-jsonschema"
    more = ["--data-transform", "gitlab-ci"] if schema == "gitlab-ci" else []
    subprocess.run([command, "--builtin-schema", f"vendor.{schema}", *more, RECIPES / name], check=True)

    def git(*arguments):
        subprocess.run(["git", "-c", "user.name=a", "-c", "user.email=a@example.com", *arguments], check=True)

    git("init", "-q", "-b", "main", ".")
    ask("game.oak", "--report", "good.json")
    put(yard, "art/ui/old_overlay.png", size=(256, 256))
    git("add", "game.oak", "good.json", "art")
    git("commit", "-qm", "base")
    clone = yard / "clone"
    git("clone", "-q", ".", "clone")
    steps, settings, report = steps_of(name)
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"

    def build():
        status = 0
        for step in steps:
            done = subprocess.run(
                ["bash", "-eo", "pipefail", "-c", step], cwd=clone, env={**os.environ, **settings, "PATH": path},
                capture_output=True, text=True, check=False,
            )  # fmt: skip
            status, said = done.returncode, done.stdout + done.stderr
            if status:
                break
        return status, said

    put(clone, "art/oak_base.png", size=(128, 128))
    git("-C", "clone", "commit", "-qam", "smaller")
    status, said = build()
    assert status == 0 and "on files that have not changed" in said, said
    put(clone, "art/ui/icon_overlay.png", size=(256, 256))
    git("-C", "clone", "commit", "-qam", "larger")
    (clone / report).unlink()
    status, said = build()
    assert status == 1 and "ui/icon_overlay.png: icons" in said and "old_overlay" not in said, said
    assert (clone / report).is_file()
