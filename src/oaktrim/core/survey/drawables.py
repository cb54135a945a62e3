"""Models of an inventory made ready to be drawn: read whole, with the textures that their materials read now."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.files.uvtransform import UvTransform
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.progress import Progress, Task
from oaktrim.core.render.drawable import (
    COLOURS,
    SLOTS,
    BoundTexture,
    Chain,
    Drawable,
    chain_of,
    drawable,
    surface_chain,
)
from oaktrim.core.render.drawlist import DrawList, draw_list
from oaktrim.core.render.textures import TexelStore
from oaktrim.core.scene.model import Material, Model, TextureUse, Wrap
from oaktrim.core.scene.read import parse_model
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.derived import Sources, material_path
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.places import file_of

_GIB = 1 << 30
# Of the store, what one scene may take: others stand beside it.
_SHARE, _LEAST_SIDE = 0.6, 64
MOST_SIDE = 4096
# MTL has them apart.
_APART = (Slot.ROUGHNESS, Slot.METALNESS)
# What stands in for the levels of a texture where it is to be looked at otherwise, by its row.
Instead = Mapping[int, Callable[[Slot], Chain]]


class TextureCache:
    """Mip chains of textures in one store that scenes share, up to so many bytes."""

    def __init__(self, limit: int = _GIB) -> None:
        self.limit = limit
        self._store = TexelStore(limit)
        self._chains: dict[tuple[object, ...], Chain] = {}
        self._bytes = 0
        self._lock = Lock()

    @property
    def bytes(self) -> int:
        """What is held."""
        return self._bytes

    def chain(self, key: tuple[object, ...], make: Callable[[], Chain]) -> Chain:
        """Return the chain of a key, made where it is not held."""
        with self._lock:
            if key in self._chains:
                return self._chains[key]
        chain = self.put(make())
        with self._lock:
            self._chains[key] = chain
        return chain

    def put(self, chain: Chain) -> Chain:
        """Return a chain as it lies in the store; when that is full another takes its place, and all is read anew."""
        with self._lock:
            if self._store.holds(chain):
                return chain
            held = self._store.put(chain)
            if held is None:
                # Scenes that lie in the old one keep it for as long as they are shown.
                self._store, self._bytes = TexelStore(self.limit), 0
                self._chains.clear()
                held = self._store.put(chain)
            self._bytes += chain_bytes(chain) if held is not None else 0
        return chain if held is None else held


def chain_bytes(chain: Chain) -> int:
    """Return what a chain takes in memory."""
    return sum(level.nbytes for level in chain)


def read_model(sources: Sources, path: str) -> Model:
    """Return a model of an inventory with all that drawing needs, one that a maker made too.

    Raises
    ------
    OakTrimError : it cannot be read; names the file
    """
    data = sources.model(path) if path in sources.made else read_bytes(file_of(sources.root, path))
    return parse_model(data, ReferenceFolder(sources.root, path), whole=True)


@dataclass(frozen=True, eq=False)
class Loaded:
    """A model ready to be drawn.

    Parameters
    ----------
    place : in the inventory's models
    materials : with the slots that makers gave them
    rows : of the textures that each material's slots read, by the material's place and the slot
    """

    place: int
    model: Model
    draws: DrawList
    materials: tuple[Material, ...]
    rows: Mapping[tuple[int, Slot], int]
    moved: Mapping[tuple[int, Slot], UvTransform] = field(default_factory=dict)

    def reading(self, row: int) -> NDArray[np.bool_]:
        """Return which triangles have a material that reads a texture, (M,) bool."""
        readers = sorted({material for (material, _), mine in self.rows.items() if mine == row})
        found: NDArray[np.bool_] = np.isin(self.draws.materials, readers)
        return found


def load(inventory: Inventory, place: int, sources: Sources) -> Task[Loaded]:
    """Read a model of an inventory whole.

    Raises
    ------
    OakTrimError : it cannot be read, or has more triangles than can be drawn; names the file
    """
    facts = inventory.models[place]
    yield Progress(0, 1, f"reading {facts.path}")
    model = read_model(sources, facts.path)
    rows: dict[tuple[int, Slot], int] = {}
    for row, owners in inventory.ownership.owners.items():
        for owner in owners:
            if owner.model == place:
                rows.setdefault((owner.material, owner.slot.slot), row)
    materials = tuple(_with_slots(material, number, rows) for number, material in enumerate(model.materials))
    return Loaded(place, model, draw_list(model), materials, rows, _moved(inventory, place, model, rows))


def _with_slots(material: Material, number: int, rows: Mapping[tuple[int, Slot], int]) -> Material:
    """Return a material that has a use for each slot that a maker or a file of its own kind gave it."""
    held = {use.slot for use in material.uses}
    added = [TextureUse(slot, slot.value, None) for slot in SLOTS if slot not in held and (number, slot) in rows]
    if Slot.METALLIC_ROUGHNESS not in held and any((number, slot) in rows for slot in _APART):
        first = next((use for use in material.uses if use.slot in _APART), None)
        use = TextureUse(Slot.METALLIC_ROUGHNESS, Slot.METALLIC_ROUGHNESS.value, None)
        added.append(use if first is None else replace(first, slot=Slot.METALLIC_ROUGHNESS, image=None))
        # The map holds the factors of what it has none for.
        material = replace(material, surface=replace(material.surface, metallic=1.0, roughness=1.0))
    return replace(material, uses=(*material.uses, *added)) if added else material


def _moved(
    inventory: Inventory, place: int, model: Model, rows: Mapping[tuple[int, Slot], int]
) -> dict[tuple[int, Slot], UvTransform]:
    """Return how slots read what makers made, where UVs are to be moved for it."""
    found: dict[tuple[int, Slot], UvTransform] = {}
    facts = inventory.models[place]
    for (number, slot), row in rows.items():
        path = inventory.textures[row].path
        derivation = inventory.made.get(path)
        if derivation is None or number >= len(facts.materials):
            continue
        name = material_path(facts.path, facts.materials[number].name)
        uses = [use for source in derivation.inputs for use in derivation.uses(name, {slot.value: (slot, source)})]
        use = next((use for use in uses if use.output == path), None)
        if use is not None and not use.where.is_identity:
            found[number, slot] = use.where
    return found


def ready(
    inventory: Inventory,
    loaded: Loaded,
    sources: Sources,
    cache: TextureCache,
    instead: Instead | None = None,
    side: int = MOST_SIDE,
) -> Task[tuple[Drawable, tuple[str, ...]]]:
    """Return a model with its textures, and what of them could not be read, each a sentence; that is drawn hatched.

    Parameters
    ----------
    instead : what some textures are looked at as, by row
    side : textures are held at most this large; where all take more than the cache may hold, the largest are halved
    """
    bound: dict[tuple[int, Slot], Chain] = {}
    faults: list[str] = []
    side = side_within(inventory, loaded, cache, side)
    wanted = [(number, slot) for number, material in enumerate(loaded.materials) for slot in _slots_of(material)]
    for done, (number, slot) in enumerate(wanted):
        yield Progress(done, len(wanted), f"reading the textures of {inventory.models[loaded.place].path}")
        try:
            chain = _chain(inventory, loaded, sources, cache, (number, slot), instead or {}, side)
        except OakTrimError as error:
            faults.append(str(error))
            continue
        if chain is not None:
            bound[number, slot] = cache.put(chain)
    bound = _within(bound, cache.limit)

    def bind(number: int, slot: Slot, use: TextureUse) -> BoundTexture | None:
        chain = bound.get((number, slot))
        if chain is None:
            return None
        moved = loaded.moved.get((number, slot))
        if moved is None:
            return BoundTexture(chain, use.wrap)
        wrap = (use.wrap[1], use.wrap[0]) if moved.turned else use.wrap
        return BoundTexture(chain, (Wrap.CLAMP, Wrap.CLAMP) if moved.clamped else wrap, moved)

    return drawable(loaded.draws, loaded.materials, bind), tuple(dict.fromkeys(faults))


def side_within(inventory: Inventory, loaded: Loaded, cache: TextureCache, side: int = MOST_SIDE) -> int:
    """Return a side, halved as often as it takes for all textures of a model to have room in a cache."""
    limit = int(cache.limit * _SHARE)
    rows = {row for (_, slot), row in loaded.rows.items() if slot in (*SLOTS, *_APART)}
    sizes = [(inventory.textures[row].width, inventory.textures[row].height) for row in rows]

    def total(side: int) -> float:
        scales = (min(1.0, side / max(width, height)) for width, height in sizes)
        return sum(w * s * h * s for (w, h), s in zip(sizes, scales, strict=True)) * 8 * 4 / 3

    while side > _LEAST_SIDE and total(side) > limit:
        side //= 2
    return side


def _slots_of(material: Material) -> list[Slot]:
    used = {use.slot for use in material.uses}
    return [slot for slot in SLOTS if slot in used]


def _chain(
    inventory: Inventory,
    loaded: Loaded,
    sources: Sources,
    cache: TextureCache,
    where: tuple[int, Slot],
    instead: Instead,
    side: int,
) -> Chain | None:
    number, slot = where
    rows, surface = loaded.rows, loaded.model.materials[number].surface
    apart = {kind: rows[number, kind] for kind in _APART if (number, kind) in rows}
    if slot is Slot.METALLIC_ROUGHNESS and where not in rows and apart:

        def both() -> Chain:
            maps = {kind: sources.picture(inventory.textures[row].path) for kind, row in apart.items()}
            return _cut_to(surface_chain(maps, (surface.roughness, surface.metallic)), side)

        return cache.chain(
            ("apart", *_contents(inventory, apart.values()), surface.roughness, surface.metallic, side), both
        )
    row = rows.get(where)
    if row is None:
        return None
    if row in instead:
        return instead[row](slot)
    path = inventory.textures[row].path
    cover = rows.get((number, Slot.OPACITY)) if slot is Slot.BASE_COLOUR else None
    if cover is None or cover == row or inventory.models[loaded.place].kind != "obj":
        return texture_chain(inventory, row, slot, sources, cache, side)

    def covered() -> Chain:
        return _cut_to(
            chain_of(_covered(sources.picture(path), sources.picture(inventory.textures[cover].path)), slot), side
        )

    return cache.chain(("covered", *_contents(inventory, (row, cover)), side), covered)


def texture_chain(
    inventory: Inventory, row: int, slot: Slot, sources: Sources, cache: TextureCache, side: int
) -> Chain:
    """Return the levels of a texture as a slot reads it, none larger than a side."""
    texture = inventory.textures[row]
    key = (texture.content, slot in COLOURS, side)
    return cache.chain(key, lambda: _cut_to(chain_of(sources.picture(texture.path), slot), side))


def _contents(inventory: Inventory, rows: Iterable[int]) -> list[str]:
    return [inventory.textures[row].content for row in rows]


def _covered(colour: Image, cover: Image) -> Image:
    """Return a picture with the red of another as its alpha (MTL's map_d)."""
    codes, alpha = to_rgba(colour).copy(), to_rgba(cover)
    rows = np.arange(codes.shape[0]) * alpha.shape[0] // codes.shape[0]
    columns = np.arange(codes.shape[1]) * alpha.shape[1] // codes.shape[1]
    codes[..., 3] = alpha[rows[:, None], columns, 0]
    return Image.of(codes, Transfer.SRGB)


def _cut_to(chain: Chain, side: int) -> Chain:
    """Return a chain without its levels that are larger than a side."""
    first = next((n for n, level in enumerate(chain) if max(level.shape[:2]) <= side), len(chain) - 1)
    # A copy, so that what was left out is not held by what is kept.
    return chain if not first else [level.copy() for level in chain[first:]]


def _within(bound: dict[tuple[int, Slot], Chain], limit: int) -> dict[tuple[int, Slot], Chain]:
    """Return chains that take no more than a limit together: the largest lose levels first."""
    chains = {id(chain): list(chain) for chain in bound.values()}
    total = sum(map(chain_bytes, chains.values()))
    while total > limit:
        largest = max(chains.values(), key=chain_bytes)
        if len(largest) < 2:
            break
        total -= largest.pop(0).nbytes
    return {where: chains[id(chain)] for where, chain in bound.items()}
