"""Reading in processes of their own: the same as on threads, whatever the files are and whatever becomes of a process."""

import os
import subprocess
import sys

import pytest

from oaktrim.core import processes
from oaktrim.core.progress import finish
from oaktrim.core.survey import scan as module
from oaktrim.core.survey import worker
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan
from oaktrim.core.survey.walk import walk
from oaktrim.core.survey.worker import Workers
from tests.kit.models import rich_model
from tests.kit.trees import put, surveyed, write_model

# A reader that one file ends on the spot, as a fault in somebody's decoder would.
_FRAIL = """
import os
from oaktrim.core.survey import worker
whole = worker.tell
worker.tell = lambda seen, *rest, **more: os.abort() if "poison" in seen.path else whole(seen, *rest, **more)
worker.serve()
"""


@pytest.fixture
def apart(monkeypatch):
    """Have even the smallest tree read by processes; returns those that were started."""
    monkeypatch.setattr(module, "_APART_FROM", 0)
    monkeypatch.setattr(module, "_BATCH", 3)
    started = []

    class Watched(subprocess.Popen):
        def __init__(self, *args, **kwargs):
            super().__init__(*args, **kwargs)
            started.append(self)

    monkeypatch.setattr(processes.subprocess, "Popen", Watched)
    return started


def _tree(root):
    for number in range(8):
        put(root, f"walls/w{number}_base.png", size=(32 + number, 24), channels=1 + number % 4)
    put(root, "caf.png").rename(os.fsdecode(os.fsencode(root) + b"/caf\xe9.png"))
    (root / "broken.png").write_bytes(b"\x89PNG\r\n\x1a\n123")
    (root / "text.jpg").write_text("no picture")
    write_model(root, "crate.glb", rich_model())


def test_processes_find_what_threads_find(tmp_path, apart, monkeypatch):
    _tree(tmp_path / "art")
    caches = [SurveyCache(tmp_path / name) for name in ("apart.sqlite", "threads.sqlite")]
    found = surveyed(tmp_path / "art", cache=caches[0])
    assert apart
    monkeypatch.setattr(module, "_APART_FROM", 1000)
    same = surveyed(tmp_path / "art", cache=caches[1])
    assert (found.textures, found.unreadable, found.roles) == (same.textures, same.unreadable, same.roles)
    assert len(found.textures) >= 9 and len(found.unreadable) == 3 and found.ownership.models
    for texture in found.textures:
        samples = [cache.sample(texture.content) for cache in caches]
        assert [p.pixels.tobytes() for p in samples[0]] == [p.pixels.tobytes() for p in samples[1]]


def test_a_process_that_is_ended_is_replaced(tmp_path, apart):
    _tree(tmp_path)
    steps = []

    def watch(step):
        steps.append(step)
        if step.done:
            for process in apart[:1]:
                process.kill()

    found = finish(scan(tmp_path, threads=1), watch)
    assert len(apart) > 1
    assert (len(found.textures), len(found.unreadable)) == (len(surveyed(tmp_path).textures), 3)
    assert (steps[-1].done, steps[-1].total) == (12, 12)


def _frail(*_, **__):
    return subprocess.Popen([sys.executable, "-c", _FRAIL], stdin=subprocess.PIPE, stdout=subprocess.PIPE)


def test_a_file_that_brings_its_reader_down_is_told_alone_and_not_read_again(tmp_path, apart, monkeypatch):
    root, cache = tmp_path / "art", SurveyCache(tmp_path)
    for name in ("a.png", "poison.png", "b.png", "c.png"):
        put(root, name)
    monkeypatch.setattr(worker, "start", _frail)
    found = surveyed(root, cache=cache)
    assert [texture.path for texture in found.textures] == ["a.png", "b.png", "c.png"]
    assert [(row.path, row.error.split(";")[0]) for row in found.unreadable] == [
        ("poison.png", "brought down what read it")
    ]
    # One file is fresh, too few for a process: the window would read it itself.
    put(root, "b.png", size=(8, 8))
    monkeypatch.setattr(module, "_APART_FROM", 1000)
    read = []
    monkeypatch.setattr(module, "tell", lambda seen, *rest: read.append(seen.path) or worker.tell(seen, *rest))
    again = surveyed(root, cache=cache)
    assert read == ["b.png"] and again.unreadable == found.unreadable
    # Once it is another file, it is read like any other.
    put(root, "poison.png")
    os.utime(root / "poison.png", (1, 1))
    mended = surveyed(root, cache=cache)
    assert len(mended.textures) == 4 and mended.unreadable == ()


def _ends_at_once():
    return subprocess.Popen(["false"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)


def _is_not_there():
    return subprocess.Popen(["/no/such/python"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)


@pytest.mark.parametrize("begin", [_ends_at_once, _is_not_there])
def test_where_no_process_starts_no_file_is_to_blame(tmp_path, begin):
    put(tmp_path, "a.png")
    (tmp_path / "broken.png").write_bytes(b"")
    told = Workers(tmp_path, 1 << 20, True, begin).read(list(walk(tmp_path, (), [])))
    assert [row.facts.path if row.facts else row.fault for row in told] == ["a.png", "is empty"]
    assert list(told[0].samples) == [told[0].facts.textures[0].content]


def test_a_survey_that_is_stopped_leaves_no_process(tmp_path, apart):
    _tree(tmp_path / "art")
    cache = SurveyCache(tmp_path / "cache.sqlite")
    survey = scan(tmp_path / "art", cache=cache)
    while next(survey).done == 0:
        pass
    survey.close()
    assert apart and all(process.returncode is not None for process in apart)
    # At least the first three files were read, of which one is broken.
    assert len(cache.facts(tmp_path / "art")) >= 2
