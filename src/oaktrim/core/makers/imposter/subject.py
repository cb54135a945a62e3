"""What an imposter is baked of: the triangles of a model or of some nodes, and scenes that show one kind of map of it each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError, OakTrimError, Unsupported
from oaktrim.core.makers.imposter.settings import Moment, Pivot, SheetMap
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.pixels.resample import resample
from oaktrim.core.render.drawable import BoundTexture, Chain, Drawable, chain_of, drawable
from oaktrim.core.render.drawlist import DrawList, draw_list
from oaktrim.core.scene.model import AlphaMode, Animation, Material, Model, Surface, TextureUse
from oaktrim.core.scene.pose import posed
from oaktrim.core.scene.slots import Slot

Floats = NDArray[np.float64]
# A thing that is thinner than this part of its largest side is seen edge-on as nothing.
FLAT = 1e-4
# What lies beyond, or is no number, is left out.
_FARTHEST = 1e12
_SLOTS = {SheetMap.BASE: Slot.BASE_COLOUR, SheetMap.ORM: Slot.METALLIC_ROUGHNESS, SheetMap.EMISSIVE: Slot.EMISSIVE}


# In the place of materials that nothing of it has, whose textures are not read.
_NOTHING = Material("", (), "")


@dataclass(frozen=True, eq=False)
class Subject:
    """A thing to be baked.

    Parameters
    ----------
    draws : its triangles, the pivot at the origin; low, high : the corners of the box around it
    materials : of the triangles; picture : returns an image of the model by its place, or raises OakTrimError
    """

    draws: DrawList
    low: Floats
    high: Floats
    pivot: Floats
    materials: tuple[Material, ...]
    picture: Callable[[int], Image]

    @property
    def centre(self) -> Floats:
        found: Floats = (self.low + self.high) / 2
        return found

    @property
    def radius(self) -> float:
        """Of the sphere around the box."""
        return float(np.linalg.norm(self.high - self.low) / 2)

    @property
    def height(self) -> float:
        """How high it is taken to be: what lies on the ground is told by its width."""
        tall, wide = float(self.high[1] - self.low[1]), 2 * self.radius
        return tall if tall > 0.25 * wide else wide

    @property
    def corners(self) -> Floats:
        """The corners of the triangles, (M, 3, 3)."""
        return self.draws.positions[self.draws.triangles].astype(np.float64)

    @property
    def normals(self) -> Floats:
        """The directions that triangles face, (M, 3), as long as they are large."""
        corners = self.corners
        return np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]) / 2

    @property
    def two_sided(self) -> NDArray[np.bool_]:
        """Which triangles show their backs, (M,)."""
        both = np.array([row.surface.two_sided for row in self.materials] or [True], np.bool_)
        found: NDArray[np.bool_] = np.where(self.draws.materials < 0, True, both[np.maximum(self.draws.materials, 0)])
        return found

    def unread(self) -> list[str]:
        """Return what textures of it could not be read, each a sentence; these are drawn hatched or left out."""
        found: dict[str, None] = {}
        for material in self.drawn_materials.values():
            for use in material.uses:
                if use.image is None:
                    found[f"{material.name}: its {use.name} has no image that can be read"] = None
                    continue
                try:
                    self.picture(use.image)
                except OakTrimError as error:
                    found[str(error)] = None
        return list(found)

    def shines(self) -> bool:
        """Say whether anything glows."""
        return any(max(row.surface.emissive) > 0 for row in self.drawn_materials.values())

    @property
    def drawn_materials(self) -> dict[int, Material]:
        """The materials that its triangles have, by their places."""
        places = (int(place) for place in np.unique(self.draws.materials) if place >= 0)
        return {place: self.materials[place] for place in places}

    def scene(self) -> Drawable:
        """Return it as it is seen."""
        chains: dict[tuple[int, bool], Chain | None] = {}

        def bind(_: int, slot: Slot, use: TextureUse) -> BoundTexture | None:
            if use.image is None:
                return None
            key = (use.image, slot in (Slot.BASE_COLOUR, Slot.EMISSIVE))
            if key not in chains:
                image = self._image(use)
                chains[key] = None if image is None else chain_of(image, slot)
            chain = chains[key]
            return None if chain is None else BoundTexture(chain, use.wrap)

        drawn = self.drawn_materials
        materials = tuple(row if place in drawn else _NOTHING for place, row in enumerate(self.materials))
        return drawable(self.draws, materials, bind)

    def scene_of(self, kind: SheetMap, backs: bool = False) -> Drawable:
        """Return it with one map as its colour, cut out and seen through as it is, without light; with all `backs` if asked."""
        if kind not in _SLOTS:
            kind = SheetMap.BASE
        drawn = self.drawn_materials
        materials = tuple(
            _as_colour(row, kind, backs) if place in drawn else _NOTHING for place, row in enumerate(self.materials)
        )
        chains: dict[tuple[int, str], BoundTexture | None] = {}

        def bind(number: int, slot: Slot, use: TextureUse) -> BoundTexture | None:
            if slot is not Slot.BASE_COLOUR:
                return None
            key = (number, slot.value)
            if key not in chains:
                chains[key] = self._bound(self.materials[number], kind, use)
            return chains[key]

        return drawable(self.draws, materials, bind)

    def _bound(self, material: Material, kind: SheetMap, use: TextureUse) -> BoundTexture | None:
        """Return what a material reads as its colour: the map's colours with the base colour's alpha."""
        slot = _SLOTS[kind]
        base = material.use_of(Slot.BASE_COLOUR)
        other = material.use_of(slot)
        cover = self._image(base) if base is not None else None
        colour = cover if kind is SheetMap.BASE else self._image(other) if other is not None else None
        first = cover if cover is not None else colour
        if first is None:
            return None
        size = first.size
        codes = np.full((size[1], size[0], 4), 255, np.uint8)
        if colour is not None:
            codes[..., :3] = _fitted(colour, size)[..., :3]
        shade = material.use_of(Slot.OCCLUSION) if kind is SheetMap.ORM else None
        if kind is SheetMap.ORM:
            shading = self._image(shade) if shade is not None else None
            codes[..., 0] = 255 if shading is None else _fitted(shading, size)[..., 0]
        if cover is not None:
            codes[..., 3] = to_rgba(cover)[..., 3]
        how = Slot.METALLIC_ROUGHNESS if kind is SheetMap.ORM else Slot.BASE_COLOUR
        return BoundTexture(chain_of(Image.of(codes), how), use.wrap)

    def _image(self, use: TextureUse) -> Image | None:
        if use.image is None:
            return None
        try:
            return self.picture(use.image)
        except OakTrimError:
            return None


def _fitted(image: Image, size: tuple[int, int]) -> NDArray[np.uint8]:
    """Return the codes of a picture at a size, (H, W, 4)."""
    found: NDArray[np.uint8] = to_rgba(image if image.size == size else resample(image, *size))
    return found


def _as_colour(material: Material, kind: SheetMap, backs: bool) -> Material:
    """Return a material whose colour is one of its maps."""
    surface = material.surface
    alpha = surface.base_colour[3]
    if kind is SheetMap.ORM:
        colour = (1.0, surface.roughness, surface.metallic, alpha)
    elif kind is SheetMap.EMISSIVE:
        largest = max(1.0, *surface.emissive)
        red, green, blue = (value / largest for value in surface.emissive)
        colour = (red, green, blue, alpha)
    else:
        colour = surface.base_colour
    made = Surface(
        base_colour=colour,
        alpha=surface.alpha,
        cutoff=surface.cutoff,
        two_sided=surface.two_sided or backs,
        unlit=True,
    )
    use = material.use_of(Slot.BASE_COLOUR) or material.use_of(_SLOTS[kind])
    uses = () if use is None else (replace(use, slot=Slot.BASE_COLOUR),)
    return replace(material, uses=uses, surface=made)


def subject_of(
    model: Model,
    picture: Callable[[int], Image],
    nodes: Sequence[str] = (),
    pivot: Pivot = Pivot.ORIGIN,
    file: str = "",
    moment: Moment | None = None,
) -> Subject:
    """Return the triangles of a model, or of nodes by their names, at rest or at a moment of a clip.

    Raises
    ------
    FileError : a node or a clip is named that it has not
    Unsupported : nothing is drawn there, or nothing of it is finite
    """
    roots: list[int] | None = None
    if nodes:
        places = {row.name: place for place, row in reversed(list(enumerate(model.nodes)))}
        for name in nodes:
            if name not in places:
                raise FileError(file, f"has no node called {name[:100]!r}")
        roots = [places[name] for name in nodes]
    draws = draw_list(
        model, None if moment is None else posed(model, _clip(model, moment.clip, file), moment.seconds), roots
    )
    with np.errstate(invalid="ignore", over="ignore"):
        good: NDArray[np.bool_] = np.all(np.abs(draws.positions[draws.triangles]) < _FARTHEST, axis=(1, 2))
    draws = draws.without(~good)
    who = ", ".join(nodes) or file
    if not len(draws.triangles):
        raise Unsupported(f"{who}: nothing is drawn there, so that there is nothing to bake")
    low, high = draws.box(np.ones(len(draws.triangles), np.bool_))
    if not (high - low).max() > 0:
        raise Unsupported(f"{who}: all of it lies in one point")
    middle = (low + high) / 2
    at = {Pivot.CENTRE: middle, Pivot.GROUND: np.array([middle[0], low[1], middle[2]]), Pivot.ORIGIN: np.zeros(3)}[
        pivot
    ]
    moved = replace(draws, positions=(draws.positions - at).astype(np.float32))
    return Subject(moved, low - at, high - at, at, model.materials, picture)


def _clip(model: Model, name: str, file: str) -> Animation:
    found = next((row for row in model.animations if row.name == name), None)
    if found is None:
        has = ", ".join(row.name or "one without a name" for row in model.animations) or "none"
        raise FileError(file, f"has no animation called {name[:100]!r}; it has {has[:200]}")
    return found


def is_clear(subject: Subject) -> bool:
    """Say whether nothing of it could ever be seen, by its factors alone."""
    used = subject.drawn_materials.values()
    return bool(used) and all(
        row.surface.alpha is not AlphaMode.OPAQUE and row.surface.base_colour[3] <= 0 for row in used
    )
