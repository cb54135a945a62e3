"""Undo as a list of jobs."""

from __future__ import annotations

from dataclasses import dataclass

from oaktrim.core.job.document import Job


@dataclass(frozen=True)
class History:
    """States of a job and the names of the edits between them.

    Parameters
    ----------
    states : at least one
    edits : the edit that led to each state after the first
    at : the place of the present state
    """

    states: tuple[Job, ...]
    edits: tuple[str, ...] = ()
    at: int = 0

    @property
    def job(self) -> Job:
        """The present state."""
        return self.states[self.at]

    @property
    def undo_name(self) -> str | None:
        """The edit that undo would take back."""
        return self.edits[self.at - 1] if self.at > 0 else None

    @property
    def redo_name(self) -> str | None:
        """The edit that redo would do again."""
        return self.edits[self.at] if self.at < len(self.edits) else None

    def edited(self, job: Job, edit: str) -> History:
        """Return the history with a new present; what was undone before is gone. No change is no edit."""
        if job == self.job:
            return self
        return History((*self.states[: self.at + 1], job), (*self.edits[: self.at], edit), self.at + 1)

    def went_to(self, at: int) -> History:
        """Return the history with another of its states as the present one."""
        return History(self.states, self.edits, max(0, min(len(self.edits), at)))

    def undone(self) -> History:
        """Return the history one edit back."""
        return History(self.states, self.edits, max(0, self.at - 1))

    def redone(self) -> History:
        """Return the history one edit on."""
        return History(self.states, self.edits, min(len(self.edits), self.at + 1))
