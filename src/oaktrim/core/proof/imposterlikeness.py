"""How far an imposter is from the thing that it stands for, by how high it is on the screen, and from where on it will do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import cos, inf, pi, radians, sin
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.imposter.made import ImposterMade
from oaktrim.core.makers.imposter.settings import SheetMap
from oaktrim.core.pixels.metrics import decibels
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.onmodel import compared
from oaktrim.core.render.camera import Camera, Triple
from oaktrim.core.render.drawable import BoundTexture, Chain, Drawable, chain_of, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.picture import Picture, Settings, draw
from oaktrim.core.scene.model import Model, Slot, TextureUse, Wrap

HEIGHTS = (256, 128, 64, 32, 16)
# Steps just noticed, over what shows the thing, from which on it is not noticed.
UNNOTICED = 1.0
_VIEWS = 8
_LIFTS = (radians(4.0), radians(18.0))
_SETTINGS = Settings(4, buffers=("ids",))


@dataclass(frozen=True)
class LikenessAt:
    """How far an imposter is from the thing at a height on the screen, over all views.

    Parameters
    ----------
    pixels : the height; overlap : of where each covers more than half a pixel, both over either
    ceiling : the same of the thing itself and itself moved by half a pixel
    psnr : dB of the colour where both are; jnd : steps just noticed, of the worst view
    own_jnd : the same of the thing itself and itself moved by half a pixel
    """

    pixels: int
    overlap: float
    ceiling: float
    psnr: float
    jnd: float
    own_jnd: float

    @property
    def unnoticed(self) -> bool:
        """Nobody sees it, or it is told apart no better than the thing from itself half a pixel off."""
        return self.jnd <= max(UNNOTICED, self.own_jnd)

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        psnr = None if self.psnr == inf else round(self.psnr, 2)
        return {
            "pixels": self.pixels, "overlap": round(self.overlap, 4), "ceiling": round(self.ceiling, 4), "psnr": psnr,
            "jnd": round(self.jnd, 3), "own_jnd": round(self.own_jnd, 3),
        }  # fmt: skip


@dataclass(frozen=True)
class ImposterLikeness:
    """The curve of an imposter, the largest height first."""

    rows: tuple[LikenessAt, ...]

    @property
    def switch(self) -> int:
        """The greatest height looked at, pixels, from which on it is not noticed; 0 where it is at all."""
        good = 0
        for row in reversed(self.rows):
            if not row.unnoticed:
                break
            good = row.pixels
        return good

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return {"rows": [row.as_json() for row in self.rows], "advised_switch_pixels": self.switch}


def imposter_drawable(made: ImposterMade, model: Model) -> Drawable:
    """Return an imposter's model ready to be drawn with its sheet."""
    slots = {
        Slot.BASE_COLOUR: SheetMap.BASE, Slot.NORMAL: SheetMap.NORMAL, Slot.METALLIC_ROUGHNESS: SheetMap.ORM,
        Slot.OCCLUSION: SheetMap.ORM, Slot.EMISSIVE: SheetMap.EMISSIVE,
    }  # fmt: skip
    chains: dict[Slot, Chain] = {}

    def bind(_: int, slot: Slot, __: TextureUse) -> BoundTexture | None:
        image = made.sheet.maps.get(slots[slot])
        if image is None:
            return None
        if slot not in chains:
            chains[slot] = chain_of(image, slot)
        return BoundTexture(chains[slot], (Wrap.CLAMP, Wrap.CLAMP))

    return drawable(draw_list(model), model.materials, bind)


def views(made: ImposterMade, pixels: int, count: int = _VIEWS) -> list[tuple[Camera, int]]:
    """Return cameras around a thing that lie between those it was baked from, and the side of their pictures in pixels."""
    subject = made.subject
    tall = float(subject.high[1] - subject.low[1])
    wide = 2 * subject.radius
    # Its height is what counts; what lies on the ground is told by its width.
    size = tall if tall > 0.25 * wide else wide
    seen = wide * 1.1
    side = max(8, round(pixels * seen / size))
    found = []
    for place in range(count):
        turn = 2 * pi * (place + 0.37) / count
        lift = _LIFTS[place % 2]
        away = np.array([sin(turn) * cos(lift), sin(lift), cos(turn) * cos(lift)]) * wide * 2
        eye = _triple(subject.centre + away)
        found.append((Camera(eye, _triple(subject.centre), 0.0, seen, wide * 0.01, wide * 5), side))
    return found


def likeness(made: ImposterMade, model: Model, heights: Sequence[int] = HEIGHTS) -> Task[ImposterLikeness]:
    """Draw a thing and its imposter from views that were not baked and compare them, at several heights on the screen."""
    thing, instead = made.subject.scene(), imposter_drawable(made, model)
    rows = []
    for done, pixels in enumerate(heights):
        yield Progress(done, len(heights), "looking at it from afar")
        rows.append((yield from _at(thing, instead, made, pixels)))
    return ImposterLikeness(tuple(rows))


def _at(thing: Drawable, instead: Drawable, made: ImposterMade, pixels: int) -> Task[LikenessAt]:
    overlaps, ceilings, squares, jnds, own = [], [], [], [], []
    for camera, side in views(made, pixels):
        first = yield from draw(thing, camera, (side, side), _SETTINGS)
        second = yield from draw(instead, camera, (side, side), _SETTINGS)
        moved = replace(camera, shift=(1 / side, 1 / side))
        third = yield from draw(thing, moved, (side, side), _SETTINGS)
        overlaps.append(_overlap(first, second))
        ceilings.append(_overlap(first, third))
        both = compared(_with_ids(first), _with_ids(second))
        jnds.append(both.jnd)
        own.append(compared(_with_ids(first), _with_ids(third)).jnd)
        squares.append(_square(first, second))
    square = float(np.mean(squares))
    return LikenessAt(
        pixels, float(np.mean(overlaps)), float(np.mean(ceilings)), decibels(square) if square > 0 else inf, max(jnds),
        max(own),
    )  # fmt: skip


def _with_ids(picture: Picture) -> Picture:
    """Return a picture that says where anything is to be seen by its alpha."""
    return replace(picture, ids=np.where(picture.colour[..., 3] > 0, 0, -1).astype(np.int32))


def _overlap(first: Picture, second: Picture) -> float:
    a, b = _covered(first), _covered(second)
    either = int((a | b).sum())
    return float((a & b).sum() / either) if either else 1.0


def _covered(picture: Picture) -> NDArray[np.bool_]:
    found: NDArray[np.bool_] = picture.colour[..., 3] > 0.5
    return found


def _square(first: Picture, second: Picture) -> float:
    """Return the mean square of the difference of codes, 0 to 1, where both cover."""
    both = _covered(first) & _covered(second)
    if not both.any():
        return 0.0
    apart = first.codes()[both][:, :3].astype(np.float64) - second.codes()[both][:, :3]
    return float(np.square(apart / 255).mean())


def _triple(values: NDArray[np.float64]) -> Triple:
    a, b, c = (float(v) for v in values)
    return a, b, c
