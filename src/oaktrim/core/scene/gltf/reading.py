"""What every part of a glTF document is read with: attempts whose faults are noted, and numbers that are checked."""

from __future__ import annotations

from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError
from oaktrim.core.files.gltf import Document
from oaktrim.core.scene.faults import Faults
from oaktrim.core.scene.model import Points

T = TypeVar("T")


class Reading:
    """One document on its way to a model."""

    def __init__(self, document: Document, whole: bool, faults: Faults) -> None:
        self.document = document
        self.whole = whole
        self.root = document.root
        self.note = faults.note

    def attempt(self, who: str, make: Any, otherwise: T) -> T:
        """Return what `make` makes, or note its fault."""
        try:
            return make()  # type: ignore[no-any-return]
        except FileError as error:
            self.note(f"{who}: {error.fault}")
        except (OverflowError, MemoryError, ValueError) as error:
            self.note(f"{who}: its numbers are beyond all bounds ({error})")
        return otherwise

    def floats(self, index: int, width: int, who: str) -> Points:
        values = self.document.accessor(index)
        if values.shape[1] != width:
            raise self.document.fault(f"{who} has {values.shape[1]} components, not {width}")
        values = np.ascontiguousarray(values, np.float32)
        if not np.isfinite(values).all():
            raise self.document.fault(f"{who} holds values that are not finite")
        return values

    def numbers(self, values: list[float], count: int, what: str) -> NDArray[np.float64]:
        array = np.array(values, np.float64)
        if len(values) != count or not (np.abs(array) < 1e30).all():
            raise self.document.fault(f"its {what} is not {count} finite numbers")
        return array

    def stated_bytes(self, accessors: set[int]) -> int:
        """Return what accessors state in all, but no more than the file could hold."""
        known = [index for index in accessors if 0 <= index < len(self.root.accessors)]
        room = sum(max(0, row.byte_length) for row in self.root.buffers)
        return min(sum(self.document.accessor_bytes(index) for index in known), room)


def number(value: Any) -> float:
    return float(value) if isinstance(value, int | float) and abs(value) < 1e30 else float("nan")


def positive(value: Any) -> float | None:
    found = number(value)
    return found if found > 0 else None


def list_of(value: Any) -> list[float]:
    return [number(v) for v in value] if isinstance(value, list | tuple) else []


def as_floats(values: NDArray[Any]) -> Points:
    return np.ascontiguousarray(values, np.float32)
