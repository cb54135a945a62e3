"""Starting: commands against the import of their library, by processor time, and the window's first paint against all of it."""

from __future__ import annotations

import os
import resource
import subprocess
import sys

import pytest

from benchmarks.conftest import report

PROGRAM = os.path.join(os.path.dirname(sys.executable), "oak-trim")
ENVIRONMENT = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
ROUNDS = 7


def processor_seconds(command: list[str]) -> float:
    """Return the processor time of a command."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, check=True, capture_output=True, env=ENVIRONMENT)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


@pytest.mark.parametrize(
    ("arguments", "reach"), [(["--version"], 2.5), (["--help"], 2.5), (["targets"], 5.0), (["formats"], 5.0)]
)
def test_commands(benchmark, arguments, reach):
    import_click = [sys.executable, "-c", "import click"]
    pairs = [(processor_seconds([PROGRAM, *arguments]), processor_seconds(import_click)) for _ in range(ROUNDS)]
    ours, theirs = min(a for a, _ in pairs), min(b for _, b in pairs)
    benchmark.pedantic(lambda: processor_seconds([PROGRAM, *arguments]), rounds=1)
    words = f"{ours / theirs:.2f}x ({ours * 1000:.0f} ms)"
    report(f"oak-trim {' '.join(arguments)}", 'python -c "import click"', words, f"{reach:g}x")


# A process with a window that says after how many seconds it is first painted, and can be used.
WINDOW = """
import time
start = time.perf_counter()
from PySide6.QtWidgets import QApplication
from oaktrim.desk import __main__ as desk
class Loading(desk.Loading):
    painted = False
    def paintEvent(self, event):
        super().paintEvent(event)
        if not self.painted:
            self.painted = True
            print(time.perf_counter() - start)
desk.Loading = Loading
QApplication.exec = lambda *_: print(time.perf_counter() - start) or 0
desk.main()
"""


def test_window(benchmark, tmp_path):
    here = {**ENVIRONMENT, "XDG_CONFIG_HOME": str(tmp_path), "XDG_STATE_HOME": str(tmp_path)}

    def times() -> tuple[float, float]:
        done = subprocess.run([sys.executable, "-c", WINDOW], check=True, capture_output=True, text=True, env=here)
        painted, ready = map(float, done.stdout.split())
        return painted, ready

    rounds = [times() for _ in range(3)]
    painted, ready = min(a for a, _ in rounds), min(b for _, b in rounds)
    benchmark.pedantic(times, rounds=1)
    report(
        "first paint of the window",
        f"its whole start ({ready:.1f} s)",
        f"{painted / ready:.2f}x ({painted:.2f} s)",
        "1x",
    )
