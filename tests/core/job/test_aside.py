"""Edits kept aside: those of programs that run no more come back, the newest first; damaged ones do no harm."""

import os
import subprocess
import sys
import time

import pytest

from oaktrim.core.job.aside import Aside, aside_folder, forget_aside, keep_aside, left_asides
from oaktrim.core.job.document import new_job
from oaktrim.core.plan.cuts import Cap, Cut


@pytest.fixture(autouse=True)
def state(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


@pytest.fixture
def gone():
    """The number of a process that has ended."""
    ended = subprocess.Popen([sys.executable, "-c", ""])
    ended.wait()
    return ended.pid


def test_what_ended_programs_left_comes_back(tmp_path, gone, caplog):
    job = new_job(tmp_path).with_cut(Cut(Cap(64), ("a.png",)))
    for source, process, when in (("/a.oak", gone, 10.0), ("/b", gone, 20.0), ("/a.oak", os.getpid(), 30.0)):
        assert keep_aside(Aside(source, process, when, job))
    assert [(row.source, row.saved) for row in left_asides()] == [("/b", 20.0), ("/a.oak", 10.0)]
    assert left_asides()[0].job == job
    keep_aside(Aside("/b", gone, 5.0, job))
    assert [row.source for row in left_asides()] == ["/a.oak", "/b"], "one a source and process"
    forget_aside("/a.oak", gone)
    forget_aside("/a.oak", gone)
    assert [row.source for row in left_asides()] == ["/b"]
    (aside_folder() / "x-1.aside.json").write_bytes(b"{")
    assert [row.source for row in left_asides()] == ["/b"]
    assert "x-1.aside.json" in caplog.text


def test_another_program_that_still_runs_keeps_its_own(tmp_path):
    code = "import oaktrim, time; print('ready', flush=True); time.sleep(60)"
    with subprocess.Popen([sys.executable, "-c", code, "oaktrim"], stdout=subprocess.PIPE) as running:
        assert running.stdout.readline()
        keep_aside(Aside("/c", running.pid, time.time(), new_job(tmp_path)))
        assert left_asides() == []
        running.kill()
        running.wait()
    assert [row.source for row in left_asides()] == ["/c"]


def test_where_it_cannot_be_written_nothing_else_is_lost(tmp_path, monkeypatch, caplog):
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "file"))
    assert not keep_aside(Aside("/a", 1, 0.0, new_job(tmp_path)))
    assert "not kept aside" in caplog.text and left_asides() == []
