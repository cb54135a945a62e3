"""The session under a quick hand: what is overtaken is dropped, and what is shown is of the job that is shown."""

import gc
import os
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import pytest
from PySide6.QtCore import QObject, QThreadPool

from oaktrim.core.plan.cuts import Cap
from oaktrim.core.progress import Progress
from oaktrim.desk.session import plans as plans_module
from oaktrim.desk.session import surveys as surveys_module
from oaktrim.desk.session.session import Session
from oaktrim.desk.work import tasks
from oaktrim.desk.work.tasks import Work, start
from tests.kit.trees import put


class Gate:
    """A task that waits at its start until it is let through; `value` is what it comes to."""

    def __init__(self, value=None, found=None):
        self.through, self.begun = threading.Event(), threading.Event()
        self._value, self._found = value, found

    def task(self):
        yield Progress(0, 1, "waiting")
        self.begun.set()
        self.through.wait(10)
        if self._found is not None:
            yield Progress(1, 1, "found", self._found)
        return self._value


@pytest.mark.parametrize("late", ["value", "error"])
def test_cancelled_work_says_only_that_it_was_cancelled(qtbot, late):
    """Also where its result was on the way already when it was cancelled."""
    said, parent, gate = [], QObject(), Gate("late", found="early")

    def task():
        yield from gate.task()
        if late == "error":
            raise ValueError("late")
        return "late"

    work = start(task(), parent, said.append, said.append)
    work.found.connect(said.append)
    work.cancelled.connect(lambda: said.append("cancelled"))
    assert gate.begun.wait(10)
    gate.through.set()
    QThreadPool.globalInstance().waitForDone()
    work.cancel()
    qtbot.waitUntil(lambda: not work.running)
    assert said == ["cancelled"]


def test_what_is_found_on_the_way_comes_whole_and_on_the_windows_thread(qtbot):
    seen, parent, here = [], QObject(), threading.get_ident()

    def task():
        for place in range(200):
            yield Progress(place, 200, "working", (place, threading.get_ident()))
        return None

    work = start(task(), parent, lambda _: None, seen.append)
    work.found.connect(lambda found: seen.append((*found, threading.get_ident())))
    qtbot.waitUntil(lambda: not work.running)
    assert [row[0] for row in seen] == list(range(200)), "none is lost to the pace of progress"
    assert all(worker != here and merged == here for _, worker, merged in seen)


@pytest.fixture
def two(tmp_path):
    roots = [tmp_path / name for name in ("first", "second")]
    for place, root in enumerate(roots):
        put(root, f"{root.name}_base.png", size=(16 << place, 16))
    return roots


def test_opening_another_while_one_is_read(qtbot, window, two, monkeypatch):
    """The first survey ends after the second has begun, and after it has ended: neither shows nor hides anything."""
    gate, real, busy = Gate(), surveys_module.survey_tree, []

    def survey_tree(root, *rest, **more):
        if root == two[0].absolute():
            yield from gate.task()
        return (yield from real(root, *rest, **more))

    monkeypatch.setattr(surveys_module, "survey_tree", survey_tree)
    session = window.session
    session.busy.connect(busy.append)
    session.open(two[0])
    assert gate.begun.wait(10)
    session.open(two[1])
    second = session.work
    gate.through.set()
    qtbot.waitUntil(lambda: session.is_open, timeout=20000)
    qtbot.wait(200)
    assert session.root == two[1].absolute()
    assert [t.path for t in session.inventory.textures] == ["second_base.png"]
    assert busy[-1] is None and busy.index(second) == len(busy) - 2, "nothing hid the progress of the second"


def test_reading_again_while_another_opens_does_not_mix_them(qtbot, window, two):
    session = window.session
    with qtbot.waitSignal(session.opened, timeout=20000):
        session.open(two[0])
    session.open(two[1])
    session.survey_again()
    qtbot.waitUntil(lambda: session.root == two[1].absolute(), timeout=20000)
    qtbot.wait(200)
    assert [t.path for t in session.inventory.textures] == ["second_base.png"]


@pytest.mark.slow
def test_totals_of_states_are_those_of_their_jobs(qtbot, opened):
    """Edits after an undo get jobs at addresses that were used before."""
    session: Session = opened.session
    session.select([0])
    wrong = 0
    for turn in range(50):
        session.cut(Cap(1 << (3 + turn % 6)), everywhere=False, keep=True)
        state = len(session.history.states) - 1
        total = session.total_at(state)
        wrong += total != session.plan_of(session.history.states[state]).total("memory")
        session.undo()
        gc.collect()
    assert wrong == 0


def test_findings_of_a_plan_that_is_gone_are_dropped(qtbot, opened, monkeypatch):
    session, real, gate = opened.session, plans_module.judge_plan, Gate()

    def judge_plan(plan, checks):
        yield from gate.task()
        return (yield from real(plan, checks))

    QThreadPool.globalInstance().waitForDone()
    qtbot.wait(400)
    monkeypatch.setattr(plans_module, "judge_plan", judge_plan)
    before, told = session.findings(), []
    session._plans.judge()
    assert gate.begun.wait(10)
    session.findings_changed.connect(lambda: told.append(len(session.job.cuts)))
    session.select([0])
    session.cut(Cap(4), everywhere=False, keep=True)
    gate.through.set()
    qtbot.waitUntil(lambda: bool(told), timeout=20000)
    assert told[0] == 1 and session.findings() is not before, "only what was found on the present plan is shown"


def test_closing_the_window_cancels_all_that_is_under_way(qtbot, opened):
    gates = [Gate() for _ in range(3)]
    parents = (opened.proof, opened.session, opened.ship)
    works = [
        start(gate.task(), parent, lambda _: None, lambda _: None) for gate, parent in zip(gates, parents, strict=True)
    ]
    opened.session._document._saved = opened.session.history.job
    assert all(isinstance(work, Work) and work.running for work in works)
    opened.close()
    assert all(work._stop for work in works)
    for gate in gates:
        gate.through.set()
    started = time.monotonic()
    QThreadPool.globalInstance().waitForDone()
    assert time.monotonic() - started < 10


def niceness():
    """How nice the thread is that asks."""
    return os.getpriority(os.PRIO_PROCESS, threading.get_native_id())


def test_threads_at_work_let_the_window_go_first(qtbot):
    """Those that they start, too; the window's thread stays as it is."""
    before, found, parent, pool = niceness(), [], QObject(), QThreadPool(maxThreadCount=1)

    def task():
        yield Progress(0, 1, "")
        with ThreadPoolExecutor(1) as others:
            return niceness(), others.submit(niceness).result()

    tasks.work_behind(7)
    try:
        start(task(), parent, found.append, found.append, pool)
        qtbot.waitUntil(lambda: bool(found), timeout=5000)
    finally:
        tasks.work_behind(0)
    assert found == [(min(19, before + 7),) * 2]
    assert niceness() == before
