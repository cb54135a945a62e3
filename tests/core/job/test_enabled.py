"""Cuts that are switched off: kept in the job, and of no account anywhere."""

import json

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.errors import DocumentError
from oaktrim.core.job.document import load_job, new_job, save_job, targets_of
from oaktrim.core.plan.cuts import (
    Cap,
    Cut,
    Drop,
    KeepCoverage,
    SetEffort,
    SetErrorMetric,
    SetFormat,
    SetLevels,
    SetLoss,
)
from oaktrim.core.plan.ladder import ladder_of
from oaktrim.core.plan.resolve import resolve
from tests.kit.trees import put, surveyed

NAMES = ("a_base.png", "b_n.png", "c_mask.png")
TARGETS = ("lounge", "pocket", "visor")
CHANGES = st.one_of(
    st.sampled_from([16, 32, 64]).map(Cap),
    st.integers(1, 3).map(Drop),
    st.sampled_from(["bc1", "bc7", "astc-6x6", "etc2-rgb", "rgba8"]).map(SetFormat),
    st.booleans().map(SetLevels),
    st.sampled_from([0.25, 1.0]).map(SetLoss),
)
CUTS = st.lists(
    st.builds(
        Cut,
        CHANGES,
        st.lists(st.sampled_from(NAMES), min_size=1, max_size=3, unique=True).map(tuple),
        st.lists(st.sampled_from(TARGETS), max_size=2, unique=True).map(tuple),
        st.booleans(),
    ),
    max_size=6,
)


@pytest.fixture(scope="module")
def inventory(tmp_path_factory):
    root = tmp_path_factory.mktemp("tree")
    for name in NAMES:
        put(root, name, size=(128, 64))
    return surveyed(root)


def weights(inventory, job):
    plans = [resolve(inventory, target, job.cuts, rules=job.rules) for target in targets_of(job)]
    return [
        (p.footprint.memory.tolist(), p.formats.tolist(), [p.recipe(row) for row in range(len(NAMES))]) for p in plans
    ]


@given(CUTS)
def test_what_is_off_is_as_if_it_were_not_there(inventory, cuts):
    job = msgspec.structs.replace(new_job(inventory.root), cuts=tuple(cuts))
    without = msgspec.structs.replace(job, cuts=tuple(cut for cut in cuts if cut.enabled))
    assert weights(inventory, job) == weights(inventory, without)


@given(CUTS)
def test_the_file_keeps_it_and_says_nothing_of_what_is_on(inventory, tmp_path_factory, cuts):
    folder = tmp_path_factory.mktemp("jobs")
    job = msgspec.structs.replace(new_job(inventory.root), cuts=tuple(cuts))
    written = save_job(job, folder / "a.oak", inventory.root)
    assert load_job(folder / "a.oak") == written and written.cuts == job.cuts
    rows = json.loads((folder / "a.oak").read_text())["cuts"]
    assert [row.get("enabled", True) for row in rows] == [cut.enabled for cut in cuts]
    assert all("enabled" not in row for row in rows if row.get("enabled", True)), "what is on is not written"


@given(CUTS.filter(bool), st.data())
def test_switching_twice_is_nothing(inventory, cuts, data):
    job = msgspec.structs.replace(new_job(inventory.root), cuts=tuple(cuts))
    place = data.draw(st.integers(0, len(cuts) - 1))
    other = job.with_cut_enabled(place, not cuts[place].enabled)
    assert other.cuts[place].enabled is not cuts[place].enabled
    assert other.with_cut_enabled(place, cuts[place].enabled) == job
    assert job.without_cut(place) == other.without_cut(place)


def test_a_new_cut_takes_the_place_of_one_that_is_off(inventory):
    job = new_job(inventory.root).with_cut(Cut(Cap(16), NAMES, ("pocket",), enabled=False))
    job = job.with_cut(Cut(Cap(32), NAMES, ("pocket",)))
    assert job.cuts == (Cut(Cap(32), NAMES, ("pocket",)),)


def test_it_causes_no_step_of_the_ladder(inventory):
    pocket = next(target for target in targets_of(new_job(inventory.root)) if target.id == "pocket")
    row = inventory.row_of["a_base.png"]
    off = ladder_of(resolve(inventory, pocket, (Cut(Cap(16), NAMES, enabled=False),)), row)
    on = ladder_of(resolve(inventory, pocket, (Cut(Cap(16), NAMES),)), row)
    assert [step.width for step in off.steps] == [128] and [step.width for step in on.steps] == [128, 16]


@pytest.mark.parametrize(
    ("change", "label"),
    [
        (Cap(512), "Cap 512"),
        (SetLoss(0.5), "Up to 0.5 dB for the download"),
        (SetEffort(Effort.FINE), "Effort fine"),
        (SetErrorMetric(ErrorMetric.COLOUR), "Error metric: colour"),
    ],
)
def test_cuts_say_what_they_do_and_on_what(change, label):
    one, many = Cut(change, ("wall/a.png",)), Cut(change, NAMES)
    assert change.label == label
    assert one.label == f"{change.label} · a.png" and many.subject == "3 textures"


def test_a_file_that_says_it_otherwise_is_refused(inventory, tmp_path):
    job = new_job(inventory.root).with_cut(Cut(Cap(16), NAMES))
    save_job(job, tmp_path / "a.oak", inventory.root)
    raw = json.loads((tmp_path / "a.oak").read_text())
    raw["cuts"][0]["enabled"] = "no"
    (tmp_path / "a.oak").write_text(json.dumps(raw))
    with pytest.raises(DocumentError, match=r"a\.oak.*enabled"):
        load_job(tmp_path / "a.oak")


def test_coverage_is_switched_like_the_rest(inventory):
    job = new_job(inventory.root).with_cut(Cut(KeepCoverage(128), ("a_base.png",)))
    off = job.with_cut_enabled(0, False)
    lounge = targets_of(job)[0]
    kept = [resolve(inventory, lounge, each.cuts).recipe(0).settings.coverage for each in (job, off)]
    assert kept[0] is not None and kept[1] != kept[0]
