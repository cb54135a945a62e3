"""Two edits of a job made one: each keeps what it did, what contradicts is said, and a version control merges by it."""

import random
import shutil
import subprocess
import sys

import msgspec
import pytest
from click.testing import CliRunner

from oaktrim.cli.main import commands
from oaktrim.core.job.document import Job, Suppression, load_job, new_job, save_job
from oaktrim.core.job.merge import LISTS, PLAIN, merge_jobs
from oaktrim.core.plan.checks import Grade
from oaktrim.core.plan.cuts import Cap, Cut, Drop, SetFormat, SetLevels
from oaktrim.core.plan.rolerules import RoleRule
from oaktrim.core.sight.sightlines import Path, Sightlines, Station, Step
from oaktrim.core.survey.roles import Role, RoleChoice

ASSETS = ("a.png", "b.png", "c.png", "d.png", "e.png")


def job_on(tmp_path, *cuts):
    job = new_job(tmp_path)
    for cut in cuts:
        job = job.with_cut(cut)
    return job


def counting(job):
    """What counts on each asset and target, by kind of cut: told with nothing of what merges."""
    found = {}
    for cut in job.cuts:
        for target in job.targets:
            for asset in cut.assets if cut.is_for(target) else ():
                found[asset, target, type(cut.change)] = cut.change
    return found


def edited(job, pick):
    for _ in range(pick.randint(1, 4)):
        deed = pick.choice(["cut", "cut", "remove", "off", "role", "rule"])
        some = tuple(sorted(pick.sample(ASSETS, pick.randint(1, 3))))
        if deed == "cut":
            change = pick.choice([Cap(512), Cap(64), SetFormat("bc7"), SetLevels(False), Drop(1)])
            job = job.with_cut(Cut(change, some, pick.choice([(), ("pocket",)])))
        elif deed == "remove" and job.cuts:
            job = job.without_cut(pick.randrange(len(job.cuts)))
        elif deed == "off" and job.cuts:
            job = job.with_cut_enabled(pick.randrange(len(job.cuts)), pick.random() < 0.5)
        elif deed == "role":
            job = job.with_role(pick.choice([Role.MASK, Role.NORMAL, None]), some)
        else:
            job = job.with_rule(RoleRule(pick.choice([Role.MASK, Role.NORMAL]), share=pick.choice([0.5, 0.25])))
    return job


@pytest.mark.parametrize("seed", range(150))
def test_what_one_did_counts_unless_it_is_said(tmp_path, seed):
    pick = random.Random(seed)
    base = edited(job_on(tmp_path), pick)
    ours, theirs = edited(base, pick), edited(base, pick)
    merged = merge_jobs(base, ours, theirs)
    if not merged.conflicts:
        was, mine, other, got = (counting(job) for job in (base, ours, theirs, merged.job))
        for name in {*was, *mine, *other, *got}:
            changed = [side.get(name) for side in (mine, other) if side.get(name) != was.get(name)]
            assert got.get(name) == (changed[0] if changed else was.get(name))
            assert len(set(changed)) < 2
    assert merge_jobs(base, ours, base).job == ours and merge_jobs(base, base, theirs).job == theirs
    assert not merge_jobs(base, ours, ours).conflicts and merge_jobs(None, ours, ours).job == ours
    # Who merges whom says in which order the parts stand, not whether they agree.
    assert bool(merge_jobs(base, theirs, ours).conflicts) == bool(merged.conflicts)


def test_no_field_of_a_job_is_forgotten(tmp_path):
    fields = {field.name for field in msgspec.structs.fields(Job)}
    assert fields == {*LISTS, *PLAIN, "version", "roles", "map_names", "sightlines"}
    said = {
        "name": "another", "root": "../elsewhere", "max_pixels": 999, "map_names": {"orm": {"ao": "occ"}},
        "sightlines": Sightlines((Station("here", (0, 0, 5), (0, 0, 0)),), percentile=90.0), "ignore": ("*.tmp",),
        "check_files": ("studio.toml",), "role_rules": (RoleRule(Role.MASK, 0.5),), "targets": ("lounge", "pocket"),
        "cuts": (Cut(Cap(4), ("a.png",)),), "roles": (RoleChoice(Role.MASK, ("b.png",)),),
        "suppressed": (Suppression("clipped", "c.png", "soon"),), "grades": (Grade("clipped", None),),
    }  # fmt: skip
    base = job_on(tmp_path)
    ours = base.with_rule(RoleRule(Role.NORMAL, 0.25))
    for name, value in said.items():
        merged = merge_jobs(base, ours, msgspec.structs.replace(base, **{name: value}))
        assert not merged.conflicts
        assert getattr(merged.job, name) == ((*value, *ours.role_rules) if name == "role_rules" else value)
        assert set(merged.job.role_rules) >= set(ours.role_rules)


@pytest.mark.parametrize(
    ("mine", "other", "words"),
    [
        (
            lambda j: j.with_cut(Cut(Cap(64), ASSETS[:2])),
            lambda j: j.with_cut(Cut(Cap(32), ASSETS[1:3])),
            "b.png on pocket",
        ),
        (
            lambda j: j.without_cut(0),
            lambda j: j.with_cut_enabled(0, False),
            "was removed by ours and changed by theirs",
        ),
        (
            lambda j: j.with_role(Role.MASK, ("a.png",)),
            lambda j: j.with_role(Role.NORMAL, ("a.png",)),
            "the role of a.png",
        ),
        (
            lambda j: msgspec.structs.replace(j, name="one"),
            lambda j: msgspec.structs.replace(j, name="two"),
            'the name was changed by both, to "one" by ours and to "two" by theirs',
        ),
    ],
)
def test_what_both_changed_otherwise_is_said(tmp_path, mine, other, words):
    base = job_on(tmp_path, Cut(Cap(1024), ("a.png", "b.png")))
    merged = merge_jobs(base, mine(base), other(base))
    assert any(words in conflict for conflict in merged.conflicts), merged.conflicts


def test_edits_that_make_no_job_together(tmp_path):
    here = (Station("here", (0, 0, 5), (0, 0, 0)), Station("there", (5, 0, 5), (0, 0, 0)))
    base = msgspec.structs.replace(job_on(tmp_path), sightlines=Sightlines(here))
    ours = msgspec.structs.replace(base, sightlines=Sightlines(here[:1]))
    walk = Path("walk", (Step("here", 0.0), Step("there", 2.0)))
    theirs = msgspec.structs.replace(base, sightlines=Sightlines(here, (walk,)))
    merged = merge_jobs(base, ours, theirs)
    assert merged.job == ours and "there" in merged.conflicts[0]


def test_a_cut_takes_a_line(tmp_path):
    path = tmp_path / "a.oak"
    job = save_job(job_on(tmp_path, Cut(Cap(64), ASSETS), Cut(Drop(1), ("z.png",))), path, tmp_path)
    lines = [line for line in path.read_text().splitlines() if '"assets"' in line]
    assert len(lines) == 2 and all('"kind"' in line for line in lines) and load_job(path) == job


@pytest.mark.skipif(shutil.which("git") is None, reason="no version control here")
def test_a_version_control_merges_by_it(tmp_path):
    def git(*words, check=True):
        who = ("-c", "user.name=a", "-c", "user.email=a@b")
        return subprocess.run(["git", *who, *words], cwd=tmp_path, check=check, capture_output=True, text=True)

    path = tmp_path / "a.oak"
    driver = f'"{sys.executable}" -c "from oaktrim.cli.main import main; main()" job merge %O %A %B'
    git("init", "-q", "-b", "main")
    git("config", "merge.oak-trim.driver", driver)
    (tmp_path / ".gitattributes").write_text("*.oak merge=oak-trim\n")
    base = save_job(job_on(tmp_path, Cut(Cap(1024), ("a.png",))), path, tmp_path)
    for branch, cuts in (("theirs", (Cut(Cap(64), ("b.png",)),)), ("against", (Cut(Cap(8), ("c.png",)),))):
        git("add", ".")
        git("commit", "-qm", "one", check=False)
        git("checkout", "-qb", branch)
        save_job(job_on(tmp_path, *base.cuts, *cuts), path, tmp_path)
        git("commit", "-qam", branch)
        git("checkout", "-q", "main")
    save_job(job_on(tmp_path, *base.cuts, Cut(Cap(16), ("c.png",))), path, tmp_path)
    git("commit", "-qam", "ours")
    git("merge", "-q", "theirs", "-m", "both")
    assert {cut.change.side for cut in load_job(path).cuts} == {1024, 64, 16}
    refused = git("merge", "against", check=False)
    said = refused.stdout + refused.stderr
    assert refused.returncode and "to 'Cap 16' by ours and to 'Cap 8' by theirs" in said
    assert {cut.change.side for cut in load_job(path).cuts} == {1024, 64, 16}


def test_broken_files_are_named_and_nothing_is_written(tmp_path):
    ours = tmp_path / "ours.oak"
    save_job(job_on(tmp_path), ours, tmp_path)
    before = ours.read_bytes()
    (tmp_path / "theirs.oak").write_text("<<<<<<< ours")
    (tmp_path / "none").write_bytes(b"")
    result = CliRunner().invoke(
        commands, ["job", "merge", *(str(tmp_path / n) for n in ("none", "ours.oak", "theirs.oak"))]
    )
    assert result.exit_code and "theirs.oak" in str(result.exception) and ours.read_bytes() == before
