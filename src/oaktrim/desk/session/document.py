"""The open job: where it was read from, its history, and what of it is only tried while a control is held."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from oaktrim.core.errors import FileError
from oaktrim.core.job.document import SUFFIX, Job, load_job, new_job, root_of, save_job
from oaktrim.core.job.history import History
from oaktrim.core.settings import load_settings


@dataclass(frozen=True)
class Opened:
    """A job as it was read: its file, None for that of a folder, and the root of its sources."""

    file: Path | None
    job: Job
    root: Path

    @classmethod
    def read(cls, path: Path) -> Opened:
        """Read a folder or a job.

        Raises
        ------
        OakTrimError : it is neither, or cannot be read
        """
        if not path.exists():
            raise FileError(path, "there is no such folder or job")
        if path.is_dir():
            return cls(None, new_job(path, load_settings()), path.absolute())
        if path.suffix != SUFFIX:
            raise FileError(path, f"is neither a folder nor a job; a job's name ends in {SUFFIX}")
        job = load_job(path)
        return cls(path.absolute(), job, root_of(job, path))


class Document:
    """One open job.

    Parameters
    ----------
    number : counts what has been opened, so that what was asked for in one job is not done in the next
    """

    def __init__(self, opened: Opened, number: int) -> None:
        self.file, self.root, self.number = opened.file, opened.root, number
        self.history = History((opened.job,))
        self._saved = opened.job
        self._tried: Job | None = None

    @property
    def job(self) -> Job:
        """The job as shown: what is being tried, or else the present one."""
        return self._tried if self._tried is not None else self.history.job

    @property
    def changed(self) -> bool:
        """The job holds edits that are not saved."""
        return self.history.job != self._saved

    @property
    def trying(self) -> bool:
        """A control is held."""
        return self._tried is not None

    def try_out(self, job: Job) -> None:
        """Show a changed job for as long as a control is held."""
        self._tried = job

    def take(self, history: History) -> None:
        """Make another history the present one; what was only tried is gone."""
        self._tried, self.history = None, history

    def save(self, path: Path) -> None:
        """Write the job.

        Raises
        ------
        OakTrimError : it cannot be written
        """
        save_job(self.history.job, path, self.root)
        self.file, self._saved = path, self.history.job
