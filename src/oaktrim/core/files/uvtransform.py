"""Where another file is read instead: UVs scaled, turned by a quarter, and moved, as KHR_texture_transform writes it."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class UvTransform:
    """What is read at `uv` is read at `rotation * (uv * scale) + offset` instead; V from the top.

    Parameters
    ----------
    turned : rotated by a quarter, as KHR_texture_transform counts it: (u, v) becomes (v, -u)
    clamped : beyond it there is nothing, so that what repeated does not any more
    """

    scale: tuple[float, float] = (1.0, 1.0)
    turned: bool = False
    offset: tuple[float, float] = (0.0, 0.0)
    clamped: bool = False

    @property
    def is_identity(self) -> bool:
        """Nothing changes."""
        return self == SAME_UV

    def matrix(self) -> NDArray[np.float64]:
        """Return it as rows (3, 3) of columns u, v, 1."""
        (x, y), (u, v) = self.scale, self.offset
        rows = [[0, y, u], [-x, 0, v]] if self.turned else [[x, 0, u], [0, y, v]]
        return np.array([*rows, [0, 0, 1]], np.float64)

    def after(self, there: dict[str, Any]) -> dict[str, Any] | None:
        """Return the KHR_texture_transform that does another first; None where one cannot say both."""
        scale, rotation = there.get("scale", [1, 1]), there.get("rotation", 0)
        # A scale after a turn is a shear, but where it is as much both ways; a mirror turns the turn round.
        if rotation and abs(self.scale[0]) != abs(self.scale[1]):
            return None
        if self.scale[0] != self.scale[1]:
            rotation = -rotation
        u, v, _ = self.matrix() @ [*there.get("offset", [0, 0]), 1]
        found = {
            **there,
            "scale": [a * b for a, b in zip(scale, self.scale, strict=True)],
            "offset": [float(u), float(v)],
        }
        if self.turned or rotation:
            found["rotation"] = rotation + (pi / 2 if self.turned else 0)
        return found


SAME_UV = UvTransform()
