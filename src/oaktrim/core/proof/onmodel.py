"""A texture on the object that uses it: its source, and what will ship, each drawn with the same camera and light."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import inf

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.metrics import decibels
from oaktrim.core.pixels.perception import PIXELS_A_DEGREE, perceptual_error_map
from oaktrim.core.pixels.transfer import srgb_to_linear
from oaktrim.core.plan.resolve import Plan, Recipe
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.trial import reference_for, try_recipe
from oaktrim.core.render.camera import Camera, facing, framing
from oaktrim.core.render.drawable import Chain, Drawable, chain_of_levels
from oaktrim.core.render.picture import Picture
from oaktrim.core.scene.slots import Slot
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.drawables import Loaded, TextureCache, load, ready
from oaktrim.core.survey.inventory import Inventory

# Of the canvas that pictures are judged on.
CANVAS = 0x7B


@dataclass(frozen=True, eq=False)
class OnModel:
    """An object ready to be looked at with a texture's source and with its cut.

    Parameters
    ----------
    cut : None while the cut is still being made
    camera : sees all that wears the texture, from where most of it faces; whole : sees all of the model
    others : (M,) triangles of objects that do not wear it
    faults : what could not be read, in sentences; that is drawn hatched
    """

    loaded: Loaded
    source: Drawable
    cut: Drawable | None
    camera: Camera
    whole: Camera
    others: NDArray[np.bool_]
    faults: tuple[str, ...]


def users(inventory: Inventory, row: int) -> tuple[int, ...]:
    """Return the places of the models whose materials use a texture."""
    return tuple(dict.fromkeys(owner.model for owner in inventory.ownership.owners.get(row, ())))


def on_model(
    plan: Plan,
    row: int,
    recipe: Recipe,
    place: int,
    cache: TextureCache,
    store: MadeStore | None = None,
    before: OnModel | None = None,
) -> Task[OnModel]:
    """Make a model ready to be drawn with a texture's source, and with the levels that a recipe ships.

    The model with the source alone is brought as soon as it stands (`OnModel`).

    Parameters
    ----------
    place : of the model in the inventory
    before : what was made for the same model and texture, so that only the cut is made anew

    Raises
    ------
    OakTrimError : the model or the texture cannot be read; names the file
    """
    inventory = plan.inventory
    sources = inventory.sources(1 << 28)
    if before is None:
        loaded = yield from load(inventory, place, sources)
        source, faults = yield from ready(inventory, loaded, sources, cache)
        before = OnModel(loaded, source, None, *_cameras(loaded, row), _others(loaded, row), faults)
    yield Progress(0, 1, f"encoding {recipe.path}", before)
    trial = yield from try_recipe(plan, row, recipe, reference_for(plan, row), store=store)
    levels = [trial.shipped(level) for level in range(len(trial.made.encoded.levels))]

    def shipped(slot: Slot) -> Chain:
        return chain_of_levels(levels, slot)

    cut, _ = yield from ready(inventory, before.loaded, sources, cache, {row: shipped})
    return replace(before, cut=cut)


def _others(loaded: Loaded, row: int) -> NDArray[np.bool_]:
    draws, mine = loaded.draws, loaded.reading(row)
    found: NDArray[np.bool_] = ~np.isin(draws.objects, np.unique(draws.objects[mine]))
    return found if mine.any() else np.zeros(len(mine), np.bool_)


def _cameras(loaded: Loaded, row: int) -> tuple[Camera, Camera]:
    """Return the cameras that see what wears a texture, and the whole."""
    draws, mine = loaded.draws, loaded.reading(row)
    whole = framing(*draws.box())
    if not mine.any():
        return whole, whole
    return framing(*draws.box(mine), facing(draws.positions[draws.triangles[mine]])), whole


@dataclass(frozen=True, eq=False)
class Compared:
    """How far two pictures of a scene are apart.

    Parameters
    ----------
    steps : (H, W) float32, JND
    jnd : root of the mean square of the steps, and psnr in dB, infinite where nothing differs, over what shows something
    """

    steps: NDArray[np.float32]
    jnd: float
    psnr: float


def compared(before: Picture, after: Picture, pixels_a_degree: float = PIXELS_A_DEGREE) -> Compared:
    """Compare two pictures of one camera, laid on the canvas as they are shown; both need ids."""
    return on_canvas(before).against(on_canvas(after), pixels_a_degree)


@dataclass(frozen=True, eq=False)
class CanvasPicture:
    """A picture on the canvas.

    Parameters
    ----------
    codes : (H, W, 4) uint8, straight alpha, as it is shown without the canvas; seen : (H, W) bool, where there is anything
    shown : (H, W, 3) float32, codes on the canvas; light : likewise, linear
    """

    codes: NDArray[np.uint8]
    seen: NDArray[np.bool_]
    shown: NDArray[np.float32]
    light: NDArray[np.float32]

    def against(self, other: CanvasPicture, pixels_a_degree: float = PIXELS_A_DEGREE) -> Compared:
        """Compare it with another of the same size."""
        steps = perceptual_error_map(self.light, other.light, pixels_a_degree)
        seen = self.seen | other.seen
        if not seen.any():
            return Compared(steps, 0.0, inf)
        square = float(np.square(self.shown[seen].astype(np.float64) - other.shown[seen]).mean())
        return Compared(steps, float(np.sqrt(np.square(steps[seen]).mean())), decibels(square / 255**2))


def on_canvas(picture: Picture) -> CanvasPicture:
    """Return a picture on the canvas; it needs ids."""
    codes = picture.codes()
    alpha = codes[..., 3:].astype(np.float32) / 255
    shown = (codes[..., :3] * alpha + CANVAS * (1 - alpha)).astype(np.float32)
    light: NDArray[np.float32] = srgb_to_linear(shown / 255).astype(np.float32)
    return CanvasPicture(codes, picture.ids >= 0, shown, light)
