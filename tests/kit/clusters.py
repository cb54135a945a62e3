"""A Dask scheduler and workers on this machine, as processes that can be killed."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

_WAIT = 60


class LocalCluster:
    """A scheduler and workers of one thread each; `own` is run in a worker before it starts."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._all: list[subprocess.Popen] = []
        self.workers: list[subprocess.Popen] = []
        command = "from distributed.cli.dask_scheduler import main; main()"
        self.scheduler = self._start(command, "scheduler.log", "--host", "127.0.0.1", "--port", "0", "--no-dashboard")
        self.address = self._until("scheduler.log", r"Scheduler at:\s+(tcp://\S+)")

    def add_worker(self, own: str = "") -> subprocess.Popen:
        """Start a worker and wait until it is there."""
        log = f"worker{len(self._all)}.log"
        command = f"{own}\nfrom distributed.cli.dask_worker import main; main()"
        worker = self._start(command, log, self.address, "--nthreads", "1", "--no-nanny", "--no-dashboard")
        self.workers.append(worker)
        self._until(log, r"Registered to:\s+(\S+)")
        return worker

    def _start(self, command: str, log: str, *arguments: str) -> subprocess.Popen:
        with (self._folder / log).open("wb") as out:
            process = subprocess.Popen(
                [sys.executable, "-c", command, *arguments], stdout=out, stderr=out, cwd=self._folder,
                env={**os.environ, "XDG_CACHE_HOME": str(self._folder / "worker cache")},
            )  # fmt: skip
        self._all.append(process)
        return process

    def _until(self, log: str, pattern: str) -> str:
        end = time.monotonic() + _WAIT
        while time.monotonic() < end:
            found = re.search(pattern, (self._folder / log).read_text())
            if found:
                return found[1]
            time.sleep(0.05)
        raise AssertionError((self._folder / log).read_text())

    def stop(self) -> None:
        """End all of it."""
        for process in reversed(self._all):
            process.send_signal(signal.SIGKILL)
            process.wait()
