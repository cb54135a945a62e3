"""A model looked at for its sizes: with its textures as large as they ship, with a check of known texels, and by what it costs."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.uvtransform import SAME_UV, UvTransform
from oaktrim.core.pixels.image import Image
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.render.drawable import BoundTexture, Chain, Drawable, chain_of, drawable
from oaktrim.core.scene.model import TextureUse, Wrap
from oaktrim.core.scene.slots import Slot
from oaktrim.core.sight.demand import Stage
from oaktrim.core.survey.drawables import TextureCache, ready, side_within, texture_chain

# One square of the check is so many texels wide, and the pattern so many squares.
CHECK_TEXELS, _SQUARES = 8, 8


def dressed(plan: Plan, stage: Stage, cache: TextureCache, shipped: bool) -> Task[tuple[Drawable, tuple[str, ...]]]:
    """Return a model with its textures as they are, or no larger than they ship, and what of them could not be read.

    What formats do to them is left out: that is for a proof.
    """
    inventory, sources = plan.inventory, plan.inventory.sources(1 << 28)
    plain, faults = yield from ready(inventory, stage.loaded, sources, cache)
    if not shipped:
        return plain, faults
    held: dict[tuple[int, Slot], Chain] = {}
    side = side_within(inventory, stage.loaded, cache)

    def smaller(row: int, slot: Slot) -> Chain:
        if (row, slot) not in held:
            chain = texture_chain(inventory, row, slot, sources, cache, side)
            longest = int(max(plan.footprint.width[row], plan.footprint.height[row]))
            first = next((n for n, level in enumerate(chain) if max(level.shape[:2]) <= longest), len(chain) - 1)
            held[row, slot] = chain[first:] if plan.footprint.levels[row] > 1 else chain[first : first + 1]
        return held[row, slot]

    rows = [
        row for row in stage.reads.rows.tolist()
        if plan.footprint.width[row] < inventory.textures[row].width or plan.footprint.levels[row] <= 1
    ]  # fmt: skip
    instead = {row: _Smaller(row, smaller) for row in rows}
    return (yield from ready(inventory, stage.loaded, sources, cache, instead))


class _Smaller:
    """The chain of one texture for any slot."""

    def __init__(self, row: int, make: object) -> None:
        self._row, self._make = row, make

    def __call__(self, slot: Slot) -> Chain:
        assert callable(self._make)
        chain: Chain = self._make(self._row, slot)
        return chain


def checked(plan: Plan, stage: Stage) -> Drawable:
    """Return a model whose base colours are a check, every square of it `CHECK_TEXELS` of what ships."""
    side = CHECK_TEXELS * _SQUARES
    y, x = np.mgrid[0:side, 0:side] // CHECK_TEXELS
    codes = np.where(((x + y) % 2 == 0)[..., None], (222, 214, 198), (96, 104, 112)).astype(np.uint8)
    # One square in each pattern stands out, so that repeats can be counted.
    codes[:CHECK_TEXELS, :CHECK_TEXELS] = (156, 107, 48)
    chain = chain_of(Image.of(codes), Slot.BASE_COLOUR)
    loaded, footprint = stage.loaded, plan.footprint

    def bind(number: int, slot: Slot, use: TextureUse) -> BoundTexture | None:
        row = loaded.rows.get((number, slot))
        if slot is not Slot.BASE_COLOUR or row is None:
            return None
        moved = loaded.moved.get((number, slot), SAME_UV)
        squares = float(footprint.width[row]) / side, float(footprint.height[row]) / side
        # Turned, what runs down is read across.
        (x, y), (across, down) = moved.scale, squares[::-1] if moved.turned else squares
        return BoundTexture(chain, (Wrap.REPEAT, Wrap.REPEAT), UvTransform((x * across, y * down), moved.turned))

    return drawable(loaded.draws, loaded.materials, bind)


def object_costs(plan: Plan, stage: Stage) -> NDArray[np.int64]:
    """Return the texture memory that each object of a model asks for, (O,) bytes; what several use counts for each."""
    draws, found = stage.loaded.draws, np.zeros(len(stage.loaded.draws.names), np.int64)
    for place in range(len(found)):
        rows = rows_of_object(stage, place)
        found[place] = int(plan.footprint.memory[rows].sum()) if len(rows) else 0
    assert len(draws.objects) == len(draws.triangles)
    return found


def rows_of_object(stage: Stage, place: int) -> NDArray[np.int64]:
    """Return the rows of the textures that an object reads."""
    draws = stage.loaded.draws
    materials = set(np.unique(draws.materials[draws.objects == place]).tolist())
    rows = {row for (material, _), row in stage.loaded.rows.items() if material in materials}
    return np.array(sorted(rows), np.int64)
