"""How far an imposter is from the thing that it stands for, by how high it is on the screen, and from where on it will do."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from itertools import product
from math import cos, inf, pi, radians, sin
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import distance_transform_edt

from oaktrim.core.makers.imposter.frames.bake import FrameSheet
from oaktrim.core.makers.imposter.frames.lookup import draw_frames
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.made import AnyMade
from oaktrim.core.makers.imposter.settings import SheetMap
from oaktrim.core.makers.imposter.subject import Subject
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.metrics import decibels
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.onmodel import CanvasPicture, on_canvas
from oaktrim.core.render.camera import Camera, Triple
from oaktrim.core.render.drawable import BoundTexture, Chain, Drawable, chain_of, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.picture import Picture, Settings, draw
from oaktrim.core.scene.model import Model, TextureUse, Wrap
from oaktrim.core.scene.slots import Slot

HEIGHTS = (256, 128, 64, 32, 16)
# Steps just noticed, over what shows the thing, from which on it is not noticed.
UNNOTICED = 1.0
_VIEWS, _FEWER_ABOVE = 8, 128
# Of what is seen of a thing, that a picture shows.
_ROOM = 1.1
_LIFTS = (radians(4.0), radians(18.0))
_SETTINGS = Settings(4, buffers=("ids",))


@dataclass(frozen=True)
class LikenessAt:
    """How far an imposter is from the thing at a height on the screen, over all views.

    Parameters
    ----------
    pixels : the height; overlap : of where each covers more than half a pixel, both over either
    ceiling : the same of the thing itself and itself moved by half a pixel
    psnr : dB of the colour where both are; jnd : JND, of the worst view
    apart : pixels between their silhouettes where these are farthest apart, of the worst view (the distance of Hausdorff)
    own_jnd : the same of the thing itself and itself moved by half a pixel
    """

    pixels: int
    overlap: float
    ceiling: float
    psnr: float
    jnd: float
    own_jnd: float
    apart: float = 0.0

    @property
    def unnoticed(self) -> bool:
        """Nobody sees it, or it is told apart no better than the thing from itself half a pixel off."""
        return self.jnd <= max(UNNOTICED, self.own_jnd)

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        psnr = None if self.psnr == inf else round(self.psnr, 2)
        return {
            "pixels": self.pixels, "overlap": round(self.overlap, 4), "ceiling": round(self.ceiling, 4), "psnr": psnr,
            "jnd": round(self.jnd, 3), "own_jnd": round(self.own_jnd, 3), "apart": round(self.apart, 2),
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

    def at(self, pixels: float) -> LikenessAt:
        """Return what is to be seen at any height, between those that were looked at: the popping, where it is the switch."""
        rows = self.rows[::-1]
        heights = np.log2([row.pixels for row in rows])

        def between(values: Sequence[float]) -> float:
            return float(np.interp(np.log2(pixels), heights, values))

        fields = ("overlap", "ceiling", "psnr", "jnd", "own_jnd", "apart")
        found = {name: between([min(getattr(row, name), 99.0) for row in rows]) for name in fields}
        return LikenessAt(round(pixels), **found)

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return {"rows": [row.as_json() for row in self.rows], "advised_switch_pixels": self.switch}


@dataclass(frozen=True, eq=False)
class StandIn:
    """An imposter as it is drawn.

    Parameters
    ----------
    scene : its geometry; drawn : draws it from a camera at a size
    turned : returns what is drawn of it from a camera: cards stay, a quad of frames turns to the eye
    """

    scene: Drawable
    drawn: Callable[[Camera, tuple[int, int], Settings], Task[Picture]]
    turned: Callable[[Camera], Drawable]


def stand_in(made: AnyMade, model: Model, maps: Mapping[SheetMap, Image] | None = None) -> StandIn:
    """Return an imposter ready to be drawn.

    Parameters
    ----------
    model : its own; maps : of its sheet as they ship; as they were baked without
    """
    scene = _card_scene(made.sheet.maps if maps is None else maps, model)
    if isinstance(made, FramesMade):
        drawn = partial(draw_frames, made.texels(maps), steps=made.settings.steps)
        return StandIn(scene, drawn, partial(_turned, scene, made.sheet))
    return StandIn(scene, partial(draw, scene), lambda _: scene)


def _turned(scene: Drawable, sheet: FrameSheet, camera: Camera) -> Drawable:
    """Return a quad of frames turned to the eye."""
    right, up, back = camera.axes()
    flat = (scene.draws.positions - sheet.centre) @ np.stack([right, up, back]) + sheet.centre
    return replace(scene, draws=replace(scene.draws, positions=flat.astype(np.float32)))


def _card_scene(maps: Mapping[SheetMap, Image], model: Model) -> Drawable:
    """Return an imposter's model ready to be drawn with its sheet."""
    slots = {
        Slot.BASE_COLOUR: SheetMap.BASE, Slot.NORMAL: SheetMap.NORMAL, Slot.METALLIC_ROUGHNESS: SheetMap.ORM,
        Slot.OCCLUSION: SheetMap.ORM, Slot.EMISSIVE: SheetMap.EMISSIVE,
    }  # fmt: skip
    chains: dict[Slot, Chain] = {}

    def bind(_: int, slot: Slot, __: TextureUse) -> BoundTexture | None:
        image = maps.get(slots[slot])
        if image is None:
            return None
        if slot not in chains:
            chains[slot] = chain_of(image, slot)
        return BoundTexture(chains[slot], (Wrap.CLAMP, Wrap.CLAMP))

    return drawable(draw_list(model), model.materials, bind)


@dataclass(frozen=True)
class _View:
    """A camera beside those that were baked from, and the size of its pictures in pixels, with the thing whole in them."""

    camera: Camera
    size: tuple[int, int]

    def aside(self) -> Camera:
        """Return the camera half a pixel to the right and up."""
        return replace(self.camera, shift=(1 / self.size[0], 1 / self.size[1]))


def _views(subject: Subject, pixels: int) -> list[_View]:
    """Return views around a thing that is so many pixels high, between those that it was baked from."""
    wide, found = 2 * subject.radius, []
    corners = _corners(subject)
    # What is large needs fewer views to be judged as surely.
    count = _VIEWS if pixels <= _FEWER_ABOVE else _VIEWS // 2
    for place in range(count):
        turn = 2 * pi * (place + 0.37) / count
        lift = _LIFTS[place % 2]
        away = np.array([sin(turn) * cos(lift), sin(lift), cos(turn) * cos(lift)]) * wide * 2
        camera = Camera(
            _triple(subject.centre + away), _triple(subject.centre), 0.0, wide, wide * 0.01, wide * 5
        )  # fmt: skip
        right, up, _ = camera.axes()
        spans = [float(np.abs((corners - subject.centre) @ axis).max()) * 2 * _ROOM for axis in (right, up)]
        width, height = (max(8, round(pixels * span / subject.height)) for span in spans)
        found.append(_View(replace(camera, height=height * subject.height / pixels), (width, height)))
    return found


def _corners(subject: Subject) -> NDArray[np.float64]:
    """Return the corners of the box around a thing, (8, 3)."""
    ends = np.stack([subject.low, subject.high])
    return np.array([[ends[i, 0], ends[j, 1], ends[k, 2]] for i, j, k in product(range(2), repeat=3)])


def likeness(subject: Subject, instead: StandIn, heights: Sequence[int] = HEIGHTS) -> Task[ImposterLikeness]:
    """Draw a thing and its imposter from views that were not baked and compare them, at several heights on the screen."""
    thing = subject.scene()
    rows = []
    for done, pixels in enumerate(heights):
        yield Progress(done, len(heights), "looking at it from afar")
        rows.append((yield from _at(thing, instead, subject, pixels)))
    return ImposterLikeness(tuple(rows))


def _at(thing: Drawable, instead: StandIn, subject: Subject, pixels: int) -> Task[LikenessAt]:
    overlaps, ceilings, squares, jnds, own, apart = [], [], [], [], [], []
    for view in _views(subject, pixels):
        first = _looked((yield from draw(thing, view.camera, view.size, _SETTINGS)))
        second = _looked((yield from instead.drawn(view.camera, view.size, _SETTINGS)))
        third = _looked((yield from draw(thing, view.aside(), view.size, _SETTINGS)))
        overlaps.append(_overlap(first.covered, second.covered))
        ceilings.append(_overlap(first.covered, third.covered))
        jnds.append(first.on_canvas.against(second.on_canvas).jnd)
        own.append(first.on_canvas.against(third.on_canvas).jnd)
        squares.append(_square(first, second))
        apart.append(_apart(first.covered, second.covered))
    square = float(np.mean(squares))
    return LikenessAt(
        pixels, float(np.mean(overlaps)), float(np.mean(ceilings)), decibels(square) if square > 0 else inf, max(jnds),
        max(own), max(apart),
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class _Looked:
    """A picture as it is judged; `covered` (H, W) is where it covers more than half a pixel."""

    on_canvas: CanvasPicture
    covered: NDArray[np.bool_]


def _looked(picture: Picture) -> _Looked:
    # Anything is to be seen where its alpha says so.
    seen = replace(picture, ids=np.where(picture.colour[..., 3] > 0, 0, -1).astype(np.int32))
    return _Looked(on_canvas(seen), picture.colour[..., 3] > 0.5)


def _overlap(a: NDArray[np.bool_], b: NDArray[np.bool_]) -> float:
    either = int((a | b).sum())
    return float((a & b).sum() / either) if either else 1.0


def _apart(a: NDArray[np.bool_], b: NDArray[np.bool_]) -> float:
    """Return how far from either silhouette the farthest pixel of the other is, pixels (F. Hausdorff, 1914)."""
    if not a.any() or not b.any():
        return 0.0 if a.any() == b.any() else float(max(a.shape))
    return max(float(distance_transform_edt(~b)[a].max()), float(distance_transform_edt(~a)[b].max()))


def _square(first: _Looked, second: _Looked) -> float:
    """Return the mean square of the difference of codes, 0 to 1, where both cover."""
    both = first.covered & second.covered
    if not both.any():
        return 0.0
    apart = first.on_canvas.codes[both][:, :3].astype(np.float64) - second.on_canvas.codes[both][:, :3]
    return float(np.square(apart / 255).mean())


def _triple(values: NDArray[np.float64]) -> Triple:
    a, b, c = (float(v) for v in values)
    return a, b, c
