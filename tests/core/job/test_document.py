"""The job's file: what goes in comes out, and what is wrong is named with its place."""

import json

import pytest

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.errors import DocumentError, FileError
from oaktrim.core.job.document import load_job, new_job, root_of, save_job
from oaktrim.core.job.history import History
from oaktrim.core.pixels.resample import Filter
from oaktrim.core.plan.cuts import Cap, Cut, Drop, SetEffort, SetFilter, SetFormat, SetLevels

CHANGES = (Cap(512), Drop(2), SetFormat("bc3"), SetLevels(False), SetEffort(Effort.FINE), SetFilter(Filter.BOX))


def job_with(root, *changes, targets=()):
    job = new_job(root)
    for change in changes:
        job = job.with_cut(Cut(change, ("a.png", "b.png"), targets))
    return job


def test_every_cut_comes_back(tmp_path):
    path = tmp_path / "jobs" / "a.oak"
    (tmp_path / "art").mkdir()
    saved = save_job(job_with(tmp_path / "art", *CHANGES), path, tmp_path / "art")
    assert load_job(path) == saved
    assert [cut.change for cut in saved.cuts] == list(CHANGES)
    assert saved.root == "../art"
    assert root_of(saved, path) == tmp_path / "art"
    assert path.read_text().startswith('{\n  "version": 1,')


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda d: d.update(colour="oak"), "unknown field `colour`"),
        (lambda d: d.pop("name"), "missing required field `name`"),
        (
            lambda d: d["cuts"][0]["change"].update(side="big"),
            r"Expected `int`, got `str` - at `\$.cuts\[0\].change.side`",
        ),
        (lambda d: d["cuts"][0]["change"].update(side=0), r"1 to 65536 pixels, not 0 - at `\$.cuts\[0\].change`"),
        (lambda d: d["cuts"][0]["change"].update(kind="melt"), r"'melt' - at `\$.cuts\[0\].change.kind`"),
        (
            lambda d: d["cuts"][2]["change"].update(format="bc9"),
            r"no texture format 'bc9'.* - at `\$.cuts\[2\].change`",
        ),
        (lambda d: d.update(targets=["toaster"]), "no target 'toaster'"),
        (lambda d: d.update(version=2), "is of version 2, made by a newer Oak Trim; this one reads 1"),
    ],
)
def test_what_is_wrong_is_named(tmp_path, spoil, words):
    path = tmp_path / "a.oak"
    save_job(job_with(tmp_path, *CHANGES), path, tmp_path)
    document = json.loads(path.read_text())
    spoil(document)
    path.write_text(json.dumps(document))
    with pytest.raises(DocumentError, match=words) as caught:
        load_job(path)
    assert str(path) in str(caught.value)


@pytest.mark.parametrize("data", [b"", b"{", b"[]", b"7", b"\xff\xfe", b'{"version": "x"}', b"[" * 100_000])
def test_what_is_no_job_is_refused(tmp_path, data):
    path = tmp_path / "a.oak"
    path.write_bytes(data)
    with pytest.raises(DocumentError, match=r"a\.oak: is not a valid job"):
        load_job(path)
    with pytest.raises(DocumentError, match="cannot be read"):
        load_job(tmp_path / "gone.oak")


def test_saving_loses_nothing_when_it_fails(tmp_path):
    path = tmp_path / "a.oak"
    save_job(job_with(tmp_path, Cap(8)), path, tmp_path)
    before = path.read_bytes()
    with pytest.raises(FileError):
        save_job(job_with(tmp_path, Cap(9)), path / "b.oak", tmp_path)
    assert path.read_bytes() == before


def test_a_new_cut_takes_the_place_of_one_it_makes_pointless(tmp_path):
    job = job_with(tmp_path, Cap(512), Drop(1), Cap(256))
    assert [cut.change for cut in job.cuts] == [Drop(1), Cap(256)]
    other = job.with_cut(Cut(Cap(64), ("b.png",)))
    assert len(other.cuts) == 3
    assert other.without_cut(0).cuts == other.cuts[1:]


def test_one_kind_of_cut_is_taken_off_some_textures(tmp_path):
    job = job_with(tmp_path, Cap(512), Drop(1))
    off = job.without_change(Cap, {"a.png"}, None)
    assert off.cuts == (Cut(Cap(512), ("b.png",)), Cut(Drop(1), ("a.png", "b.png")))
    here = job.without_change(Cap, {"a.png"}, "pocket")
    caps = {(cut.assets, cut.targets) for cut in here.cuts if cut.change == Cap(512)}
    assert caps == {(("a.png",), ("lounge", "visor")), (("b.png",), ())}
    assert job.without_change(Cap, {"c.png"}, None) == job


def test_history_goes_back_and_on(tmp_path):
    jobs = [job_with(tmp_path, Cap(2**n)) for n in range(4)]
    history = History((jobs[0],))
    for job in jobs[1:]:
        history = history.edited(job, f"cap {job.cuts[0].change.side}")
    assert history.edited(jobs[3], "nothing") is history
    back = history.undone().undone()
    assert (back.job, back.undo_name, back.redo_name) == (jobs[1], "cap 2", "cap 4")
    assert back.redone().redone() == history
    assert back.undone().undone().undone().job == jobs[0]
    branch = back.edited(jobs[3], "another way")
    assert (branch.redo_name, branch.undone().job) == (None, jobs[1])
