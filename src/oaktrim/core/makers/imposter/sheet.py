"""The sheet of an imposter: cards laid out by the packer of atlases, and each drawn onto its place by the renderer."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from math import ceil
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.atlas.layout import ChartSet, OneFactor, Wanted, arranged
from oaktrim.core.makers.atlas.sampling import CLEAR, FULL, fill
from oaktrim.core.makers.imposter.cards import Card
from oaktrim.core.makers.imposter.outline import holds, outline
from oaktrim.core.makers.imposter.settings import Imposter, SheetMap
from oaktrim.core.makers.imposter.subject import Subject
from oaktrim.core.pixels.image import Image, held
from oaktrim.core.pixels.transfer import linear_to_srgb
from oaktrim.core.progress import Progress, Task
from oaktrim.core.render.camera import Camera, Triple
from oaktrim.core.render.drawable import Drawable
from oaktrim.core.render.picture import Picture, Settings, draw

Floats = NDArray[np.float64]
_SAMPLES = 16
# Alpha that an outline holds, of 255.
_COVERED = 1
_CHANNELS = {SheetMap.BASE: 4, SheetMap.DEPTH: 1}


@dataclass(frozen=True, eq=False)
class PlacedCard:
    """A card on the sheet: its rectangle in texels, and the corners of its outline there, (K, 2) from the sheet's top left.

    One on which nothing shows has no corners, and is not drawn.
    """

    card: Card
    x: int
    y: int
    width: int
    height: int
    outline: Floats
    depth: tuple[float, float]


@dataclass(frozen=True, eq=False)
class BakedSheet:
    """Maps of one size, by kind, and the cards on them; `density` is texels to a unit of length.

    Parameters
    ----------
    refused : cards whose outline by hand leaves out what is covered
    """

    maps: Mapping[SheetMap, Image]
    cards: tuple[PlacedCard, ...]
    density: float
    refused: tuple[int, ...] = ()

    @property
    def drawn(self) -> tuple[PlacedCard, ...]:
        """The cards on which anything shows."""
        return tuple(row for row in self.cards if len(row.outline))


def baked(subject: Subject, cards: Sequence[Card], settings: Imposter) -> Task[BakedSheet]:
    """Lay out cards and bake them.

    Raises
    ------
    Unsupported : they have no room on the sheet
    """
    sides = [
        side for card in cards for side in ((card, card.turned()) if settings.sides == 2 and card.both else (card,))
    ]
    placed, size, density = yield from _place_cards(sides, settings)
    maps: dict[SheetMap, NDArray[np.uint8]] = {
        kind: np.zeros((size[1], size[0], _CHANNELS.get(kind, 3)), np.uint8) for kind in settings.maps
    }
    known = np.zeros((size[1], size[0]), np.uint8)
    # Depth and normals come with the base colour.
    drawn = [kind for kind in settings.maps if kind not in (SheetMap.DEPTH, SheetMap.NORMAL)]
    asked = {row.card.slice and settings.sides == 1 for row in placed}
    scenes = {backs: {kind: subject.scene_of(kind, backs) for kind in drawn} for backs in asked}
    found: list[PlacedCard] = []
    refused: list[int] = []
    for done, row in enumerate(placed):
        yield Progress(done, len(placed), "baking cards")
        alpha, depth = yield from _bake_one(subject, row, scenes[row.card.slice and settings.sides == 1], maps, known)
        shape = _outline_of(row, alpha, settings.outline)
        mine = next((by_hand for by_hand in settings.outlines if by_hand.card == done), None)
        if mine is not None and len(shape):
            given = np.array(mine.corners) * [row.width, row.height]
            if holds(given, alpha >= _COVERED):
                shape = given + np.array([row.x, row.y], np.float64)
            else:
                refused.append(done)
        found.append(replace(row, outline=shape, depth=depth))
    for kind, pixels in maps.items():
        if kind is SheetMap.BASE:
            fill(pixels, np.where(known == FULL, FULL, CLEAR).astype(np.uint8))
        else:
            fill(pixels, known.copy())
    images = {kind: Image.of(held(pixels)) for kind, pixels in maps.items()}
    return BakedSheet(images, tuple(found), density, tuple(refused))


def _place_cards(cards: Sequence[Card], settings: Imposter) -> Task[tuple[list[PlacedCard], tuple[int, int], float]]:
    """Return cards on whole texels of the sheet, at the largest common density."""
    largest = max(max(card.width, card.height) for card in cards)
    unit = 2 * settings.size / largest
    corners, chart = [], []
    for number, card in enumerate(cards):
        w, h = card.width * unit, card.height * unit
        corners += [[[0, 0], [w, 0], [w, h]], [[0, 0], [w, h], [0, h]]]
        chart += [number, number]
    charts = ChartSet(np.array(corners, np.float64), np.array(chart, np.int64), len(cards))
    wanted = Wanted(settings.size, gutter=settings.gutter, turns=1)
    layout = yield from arranged(charts, OneFactor(len(cards)), wanted)
    scale = float(layout.scales[0])
    density = unit * scale
    matrices = layout.matrices()
    found = []
    for card, matrix in zip(cards, matrices, strict=True):
        width, height = (max(1, ceil(side * density - 1e-6)) for side in (card.width, card.height))
        x, y = (round(float(v)) for v in matrix[:, 2])
        width, height = min(width, layout.width - x), min(height, layout.height - y)
        whole = replace(card, width=width / density, height=height / density)
        found.append(PlacedCard(whole, x, y, width, height, np.zeros((0, 2)), (0.0, 0.0)))
    # What no card reaches is cut off, by halves.
    ends = max(row.x + row.width for row in found), max(row.y + row.height for row in found)
    size = layout.width, layout.height
    return found, (_halved(size[0], ends[0]), _halved(size[1], ends[1])), density


def _halved(side: int, used: int) -> int:
    """Return a side, halved as often as what is used still has room."""
    while side % 2 == 0 and side // 2 >= max(used, 4):
        side //= 2
    return side


def _bake_one(
    subject: Subject,
    row: PlacedCard,
    scenes: Mapping[Any, Drawable],
    maps: Mapping[SheetMap, NDArray[np.uint8]],
    known: NDArray[np.uint8],
) -> Task[tuple[NDArray[np.uint8], tuple[float, float]]]:
    """Draw a card's triangles onto its place in every map; return its alpha, and how far before and behind the plane they lie."""
    card = row.card
    camera, depth = _camera(subject, card)
    hidden = np.ones(len(subject.draws.triangles), np.bool_)
    hidden[card.triangles] = False
    draws = subject.draws.without(hidden)
    area = slice(row.y, row.y + row.height), slice(row.x, row.x + row.width)
    alpha = np.zeros((row.height, row.width), np.uint8)
    for kind, scene in scenes.items():
        picture = yield from draw(
            replace(scene, draws=draws),
            camera,
            (row.width, row.height),
            Settings(_SAMPLES, buffers=("ids", "depth", "normals")),
        )
        cover = np.clip(picture.colour[..., 3], 0, 1)
        if kind is SheetMap.BASE:
            alpha = np.rint(cover * 255).astype(np.uint8)
            maps[kind][(*area, 3)] = alpha
            known[area] = np.where(alpha > 0, FULL, known[area])
            if SheetMap.DEPTH in maps:
                maps[SheetMap.DEPTH][area] = np.rint((1 - picture.depth) * 255)[..., None]
            if SheetMap.NORMAL in maps:
                maps[SheetMap.NORMAL][area] = _codes(SheetMap.NORMAL, picture, card)
        maps[kind][area][..., :3] = _codes(kind, picture, card)
    return alpha, depth


def _codes(kind: SheetMap, picture: Picture, card: Card) -> NDArray[np.uint8]:
    """Return what a drawn picture holds as codes of a map."""
    if kind is SheetMap.NORMAL:
        turned = picture.normals.astype(np.float64) @ np.stack([card.right, card.up, card.normal]).T
        turned[..., 2] = np.maximum(np.abs(turned[..., 2]), 0.05)
        turned[picture.ids < 0] = (0, 0, 1)
        turned /= np.maximum(np.linalg.norm(turned, axis=-1, keepdims=True), 1e-9)
        return np.rint((turned + 1) / 2 * 255).astype(np.uint8)
    cover = np.clip(picture.colour[..., 3:], 0, 1)
    light = np.clip(picture.colour[..., :3] / np.maximum(cover, 1e-6), 0, 1).astype(np.float32)
    values = light if kind is SheetMap.ORM else linear_to_srgb(light)
    return np.rint(values * 255).astype(np.uint8)


def _camera(subject: Subject, card: Card) -> tuple[Camera, tuple[float, float]]:
    """Return the camera that sees a card whole and straight, and the depths of what is baked before and behind its plane."""
    away = (subject.corners[card.triangles] - card.middle) @ card.normal
    before, behind = float(away.max(initial=0.0)), float(-away.min(initial=0.0))
    pad = max(subject.radius * 1e-3, 1e-12)
    eye = card.middle + card.normal * (before + 2 * pad)
    camera = Camera(
        _triple(eye), _triple(card.middle), 0.0, card.height, pad, before + behind + 4 * pad, _triple(card.up)
    )  # fmt: skip
    return camera, (before + pad, behind + 2 * pad)


def _triple(values: Floats) -> Triple:
    a, b, c = (float(v) for v in values)
    return a, b, c


def _outline_of(row: PlacedCard, alpha: NDArray[np.uint8], corners: int) -> Floats:
    """Return the corners of the polygon that is drawn of a card, on the sheet."""
    if not (alpha >= _COVERED).any():
        return np.zeros((0, 2))
    if corners:
        shape = outline(alpha >= _COVERED, corners)
    else:
        shape = np.array([[0, 0], [row.width, 0], [row.width, row.height], [0, row.height]], np.float64)
    return shape + np.array([row.x, row.y], np.float64)
