"""What is wrong with parts of a model, each fault once and no more of them than anybody reads."""

from __future__ import annotations

_MOST = 100


class Faults:
    """Sentences in the order in which they were noted."""

    def __init__(self) -> None:
        self._noted: dict[str, None] = {}

    def note(self, fault: str) -> None:
        """Note a fault, once."""
        self._noted[fault] = None

    def sentences(self) -> tuple[str, ...]:
        """Return the first faults, and how many more there are."""
        noted = list(self._noted)
        return tuple(noted) if len(noted) <= _MOST else (*noted[:_MOST], f"{len(noted) - _MOST:,} more faults")
