"""How the materials of a model read the textures of an inventory, as tables that kernels take."""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, sin
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.uvtransform import SAME_UV
from oaktrim.core.scene.model import TextureUse
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.drawables import Loaded
from oaktrim.core.survey.inventory import Inventory


@dataclass(frozen=True, eq=False)
class Reads:
    """How the materials of a model read textures, as tables.

    Parameters
    ----------
    rows : (T,) of the textures in the inventory
    starts : (K + 1,) where the uses of each material begin
    textures, sets, matrices : (U,), (U,), (U, 4) of the uses: place among `rows`, set of UVs, matrix after the transform
    sizes : (T, 2) of the sources in texels
    two_sided : (K,) materials that are seen from both sides
    """

    rows: NDArray[np.int64]
    starts: NDArray[np.int64]
    textures: NDArray[np.int64]
    sets: NDArray[np.int64]
    matrices: NDArray[np.float64]
    sizes: NDArray[np.float64]
    two_sided: NDArray[np.bool_]

    def tables(self) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any], NDArray[Any], NDArray[Any]]:
        """Return what kernels take of it."""
        return self.starts, self.textures, self.sets, self.matrices, self.sizes


def reads_of(inventory: Inventory, loaded: Loaded) -> Reads:
    """Return how a model's materials read the textures of an inventory, each slot's UVs as its transform leaves them."""
    local: dict[int, int] = {}
    starts, textures, sets = [0], list[int](), list[int]()
    matrices: list[tuple[float, float, float, float]] = []
    for number, material in enumerate(loaded.materials):
        for slot, row in sorted(((s, r) for (n, s), r in loaded.rows.items() if n == number), key=lambda p: p[0].value):
            use = next((use for use in material.uses if use.slot is slot), TextureUse(slot, "", None))
            read = local.setdefault(row, len(local)), min(1, use.uv_set), _turn(use, loaded, number, slot)
            # What two slots read alike counts once.
            if read not in zip(textures[starts[-1] :], sets[starts[-1] :], matrices[starts[-1] :], strict=True):
                textures.append(read[0])
                sets.append(read[1])
                matrices.append(read[2])
        starts.append(len(textures))
    rows = np.array(list(local), np.int64)
    sizes = np.array([(inventory.textures[row].width, inventory.textures[row].height) for row in rows], np.float64)
    return Reads(
        rows, np.array(starts, np.int64), np.array(textures, np.int64), np.array(sets, np.int64),
        np.array(matrices, np.float64).reshape(-1, 4), sizes.reshape(-1, 2),
        np.array([material.surface.two_sided for material in loaded.materials], np.bool_),
    )  # fmt: skip


def _turn(use: TextureUse, loaded: Loaded, number: int, slot: Slot) -> tuple[float, float, float, float]:
    c, s = cos(use.rotation), sin(use.rotation)
    own = np.array([[c * use.scale[0], s * use.scale[1]], [-s * use.scale[0], c * use.scale[1]]])
    moved = loaded.moved.get((number, slot), SAME_UV)
    (a, b), (e, f) = moved.matrix()[:2, :2] @ own
    return float(a), float(b), float(e), float(f)
