"""Whether a model still looks the same: two of one shape drawn from a ring of views, under one light, and compared."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from math import cos, inf, pi, radians, sin
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.pictures import decode_picture
from oaktrim.core.makers.atlas.making import AtlasMade
from oaktrim.core.makers.sourcemodel import SourceModel, image_path
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.metrics import decibels
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.onmodel import compared
from oaktrim.core.render.camera import Camera, framing
from oaktrim.core.render.drawable import BoundTexture, Chain, Drawable, chain_of, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.scene.model import Model, TextureUse
from oaktrim.core.scene.slots import Slot

VIEWS = 12
_SIDE = 512
# The ring goes up and down, so that hats and soles are seen, too.
_LOW, _HIGH = radians(-20.0), radians(35.0)
_SETTINGS = Settings(samples=4, buffers=("ids",))


@dataclass(frozen=True, eq=False)
class ViewAlike:
    """Two pictures of one view.

    Parameters
    ----------
    outline : pixels that only one of them covers; psnr : dB, infinite where nothing differs; jnd : JND
    worst : steps at the worst place; place : (3,) where in the world that is
    """

    camera: Camera
    outline: int
    psnr: float
    jnd: float
    worst: float
    place: tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Alike:
    """How far two models of one shape are apart: over all views, and the view with the worst place."""

    views: tuple[ViewAlike, ...]

    @property
    def outline(self) -> int:
        """Pixels that only one of the models covers, in all views."""
        return sum(view.outline for view in self.views)

    @property
    def psnr(self) -> float:
        """Of the mean error of all views, dB; infinite where nothing differs."""
        square = float(np.mean([10 ** (-view.psnr / 10) if view.psnr < inf else 0.0 for view in self.views]))
        return decibels(square) if square > 0 else inf

    @property
    def jnd(self) -> float:
        """The greatest JND of the views."""
        return max(view.jnd for view in self.views)

    @property
    def worst(self) -> ViewAlike:
        return max(self.views, key=lambda view: view.worst)

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        worst = self.worst
        return {
            "views": len(self.views),
            "outline_pixels": self.outline,
            "psnr": None if self.psnr == inf else round(self.psnr, 2),
            "jnd": round(self.jnd, 3),
            "worst": {"jnd": round(worst.worst, 3), "place": [round(v, 4) for v in worst.place]},
        }


def atlas_drawables(source: SourceModel, made: AtlasMade, picture: Callable[[str], Image]) -> tuple[Drawable, Drawable]:
    """Return a model before and after an atlas, ready to be drawn.

    Raises
    ------
    OakTrimError : it cannot be read again
    """
    before: dict[int, Callable[[], Image]] = {}
    for number in range(len(source.model.images)):
        # One that lies outside the root is drawn hatched, as one that is not there.
        with suppress(FileError):
            before[number] = partial(picture, image_path(source, number))
    place = source.document.place
    again = model_of(parse_gltf(made.models[source.path].glb(), place), whole=True)
    after: dict[int, Callable[[], Image]] = {}
    for number, image in enumerate(again.images):
        if image.name in made.sheets:
            after[number] = partial(made.sheets.__getitem__, image.name)
        elif image.data is not None:
            after[number] = partial(decode_picture, image.data, place.file)
        else:
            with suppress(FileError):
                after[number] = partial(picture, place.target_of(image.uri))
    return model_drawable(source.model, before), model_drawable(again, after)


def model_drawable(model: Model, pictures: Mapping[int, Callable[[], Image]]) -> Drawable:
    """Return a model ready to be drawn with the pictures of its images, by their places; one that has none is hatched."""
    chains: dict[tuple[int, bool], Chain] = {}

    def bind(_: int, slot: Slot, use: TextureUse) -> BoundTexture | None:
        if use.image is None or use.image not in pictures:
            return None
        key = (use.image, slot in (Slot.BASE_COLOUR, Slot.EMISSIVE))
        if key not in chains:
            try:
                chains[key] = chain_of(pictures[use.image](), slot)
            except OakTrimError:
                return None
        return BoundTexture(chains[key], use.wrap)

    return drawable(draw_list(model), model.materials, bind)


def ring(scene: Drawable, count: int = VIEWS) -> list[Camera]:
    """Return cameras around a scene that see all of it, by turns from above and from below."""
    low, high = scene.draws.box()
    found = []
    for place in range(count):
        turn = 2 * pi * place / count
        lift = _HIGH if place % 2 == 0 else _LOW
        found.append(framing(low, high, (sin(turn) * cos(lift), sin(lift), cos(turn) * cos(lift))))
    return found


def alike(before: Drawable, after: Drawable, count: int = VIEWS, side: int = _SIDE) -> Task[Alike]:
    """Draw two models of one shape from a ring of views and compare them; their triangles may stand in any order."""
    found = []
    for place, camera in enumerate(ring(before, count)):
        yield Progress(place, count, "looking at it from all around")
        first = yield from draw(before, camera, (side, side), _SETTINGS)
        second = yield from draw(after, camera, (side, side), _SETTINGS)
        both = compared(first, second)
        y, x = np.unravel_index(int(both.steps.argmax()), both.steps.shape)
        found.append(
            ViewAlike(
                camera,
                int(((first.ids >= 0) != (second.ids >= 0)).sum()),
                both.psnr,
                both.jnd,
                float(both.steps[y, x]),
                _place_of(before, first.ids, int(y), int(x), camera),
            )
        )
    return Alike(tuple(found))


def _place_of(scene: Drawable, ids: NDArray[np.int32], y: int, x: int, camera: Camera) -> tuple[float, float, float]:
    """Return the middle of the triangle at a pixel, or of the nearest pixel that shows one."""
    rows, columns = np.nonzero(ids >= 0)
    if not len(rows):
        return camera.target
    near = int(np.argmin((rows - y) ** 2 + (columns - x) ** 2))
    triangle = scene.draws.triangles[ids[rows[near], columns[near]]]
    a, b, c = (float(v) for v in scene.draws.positions[triangle].mean(axis=0))
    return a, b, c
