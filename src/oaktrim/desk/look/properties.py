"""Qt properties given where a widget is made."""

from __future__ import annotations

from typing import Any, TypeVar

from PySide6.QtCore import QObject

Made = TypeVar("Made", bound=QObject)


def with_properties(made: Made, **properties: Any) -> Made:
    """Set properties by their Qt names and return the object: PySide6's stubs know none of base classes as keywords.

    Raises
    ------
    AttributeError : it has no such property
    """
    for name, value in properties.items():
        if not made.setProperty(name, value):
            raise AttributeError(f"{type(made).__name__} has no property {name!r}")
    return made
