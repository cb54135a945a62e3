"""The maps of an atlas: one picture for each kind of map, sheet and group, each chart read from its source.

Factors that differ between the materials of a group are multiplied in; those that all have in common stay with the new material.
A map that a material lacks is filled from its factors.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from functools import partial
from math import ceil
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.atlas.contents import Content, Gathered, Group
from oaktrim.core.makers.atlas.layout import CELL, Layout
from oaktrim.core.makers.atlas.mapkinds import KINDS, MapKind, MapSlot, holds_normals, named_kinds
from oaktrim.core.makers.atlas.matrices import between, is_exact, rounded, sheet_to_slot, vector_turn
from oaktrim.core.makers.atlas.reading import MapRead, SourceMaterial
from oaktrim.core.makers.atlas.sampling import (
    APART,
    CLAMP,
    CLEAR,
    COVERED,
    FULL,
    MIRROR,
    REPEAT,
    VECTOR,
    copy,
    fill,
    mark,
    read,
)
from oaktrim.core.makers.atlas.settings import FactorUse
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, held, to_rgba
from oaktrim.core.pixels.resample import Filter, Resampling, from_light, resample
from oaktrim.core.pixels.transfer import decode_table
from oaktrim.core.progress import Progress, Task, map_unordered
from oaktrim.core.scene.model import AlphaMode, Surface, Wrap
from oaktrim.core.scene.slots import Slot

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
_WRAPS = {Wrap.REPEAT: REPEAT, Wrap.CLAMP: CLAMP, Wrap.MIRROR: MIRROR}
# Samples of a texel each way, at most; what shrinks more is read from a smaller picture.
_MOST_SAMPLES = 2
_BAND = 256
# Rows of a chart's box on a sheet: the first column and row, and which texels are its own.
_Band = tuple[int, int, NDArray[np.bool_]]


@dataclass(frozen=True)
class Factors:
    """What the new material of a group multiplies its maps by; what its materials have in common stays, the rest is baked.

    Parameters
    ----------
    surface : of the new material; warnings : what does not come through whole, in sentences
    """

    surface: Surface
    warnings: tuple[str, ...] = ()


def materials_of(gathered: Gathered, group: Group) -> list[SourceMaterial]:
    """Return the material that stands for each content of a group."""
    return [gathered.sources.materials[gathered.contents[place].materials[0]] for place in group.contents]


def factors_of(gathered: Gathered, group: Group) -> Factors:
    """Return the factors of a group's new material."""
    materials = materials_of(gathered, group)
    surfaces = [row.surface for row in materials]

    def common(values: Sequence[object], slot: Slot) -> bool:
        every = all(slot in row.maps for row in materials) or not any(slot in row.maps for row in materials)
        return len(set(values)) == 1 and every and group.factors is not FactorUse.BAKED

    first = surfaces[0]
    base = first.base_colour if common([s.base_colour for s in surfaces], Slot.BASE_COLOUR) else (1.0, 1.0, 1.0, 1.0)
    same = common([(s.metallic, s.roughness) for s in surfaces], Slot.METALLIC_ROUGHNESS)
    metallic, roughness = (first.metallic, first.roughness) if same else (1.0, 1.0)
    bumps = [row.surface.normal_scale for row in materials if Slot.NORMAL in row.maps]
    shades = [row.surface.occlusion_strength for row in materials if Slot.OCCLUSION in row.maps]
    glow = first.emissive
    if not common([s.emissive for s in surfaces], Slot.EMISSIVE):
        largest = max(max(s.emissive) for s in surfaces)
        glow = (largest, largest, largest)
    # The least: alpha is scaled down to it, which moves no edge; scaled up, it would be clipped.
    cutoff = min((s.cutoff for s in surfaces if s.cutoff > 0), default=0.0)
    return Factors(
        replace(
            first,
            base_colour=base,
            metallic=metallic,
            roughness=roughness,
            normal_scale=bumps[0] if len(set(bumps)) == 1 else 1.0,
            occlusion_strength=shades[0] if len(set(shades)) == 1 else 1.0,
            emissive=glow,
            cutoff=cutoff,
            two_sided=group.two_sided,
        ),
        tuple(_clipped(materials, group, cutoff)),
    )


def _clipped(materials: Sequence[SourceMaterial], group: Group, cutoff: float) -> list[str]:
    """Return what of factors a sheet cannot hold."""
    found = []
    for row in materials:
        if max(row.surface.base_colour) > 1:
            found.append(f"{row.name}: a base colour factor above 1 is clipped at white")
        if group.alpha is AlphaMode.MASK and 0 < cutoff < row.surface.cutoff:
            scale = cutoff / row.surface.cutoff
            found.append(f"{row.name}: its alpha is scaled by {scale:.2f}, as one material has one cut-off")
    return found


def kinds_of(gathered: Gathered, group: Group) -> tuple[MapKind, ...]:
    """Return the kinds of maps that a group needs: those any of its materials has, or whose factors differ."""
    materials = materials_of(gathered, group)
    surfaces = [row.surface for row in materials]
    baked = group.factors is FactorUse.BAKED
    differ = {
        "base": _differ({s.base_colour for s in surfaces}, (1.0, 1.0, 1.0, 1.0), baked),
        "normal": False,
        "orm": not group.unlit and surface_differs(group, surfaces),
        "emissive": not group.unlit and _differ({s.emissive for s in surfaces}, (0.0, 0.0, 0.0), baked),
    }
    found = []
    for kind in KINDS:
        if kind.ending == "emissive" and not any(max(s.emissive) for s in surfaces):
            continue
        if any(slot in row.maps for row in materials for slot, _ in kind.slots) or differ[kind.ending]:
            found.append(kind)
    # Materials of a group have the same maps of extensions.
    return (*found, *named_kinds(materials[0].maps))


def _differ(values: Collection[object], neutral: object, baked: bool) -> bool:
    """Say whether factors have to go into a map: they differ, or are baked and change anything."""
    return len(values) > 1 or (baked and any(value != neutral for value in values))


def surface_differs(group: Group, surfaces: Sequence[Surface]) -> bool:
    """Say whether roughness and metalness of a group have to go into a map, whatever maps its materials have."""
    return _differ({(s.metallic, s.roughness) for s in surfaces}, (1.0, 1.0), group.factors is FactorUse.BAKED)


@dataclass(frozen=True, eq=False)
class ChartPlace:
    """A chart on a sheet: which it is, of which content, and the matrix from texels of its source to those of the sheet."""

    number: int
    content: int
    matrix: Floats


def shift_of(kind: MapKind, gathered: Gathered, group: Group) -> int:
    """Return by how many powers of two the sheets of a kind are smaller than the layout: no island loses a texel by it."""
    shifts = []
    for row in materials_of(gathered, group):
        densities = [abs(np.linalg.det(m.array[:, :2])) for m in row.maps.values()]
        for slot, _ in kind.slots:
            if slot in row.maps:
                mine = abs(np.linalg.det(row.maps[slot].array[:, :2]))
                ratio = max(densities) / mine if mine > 0 else 1.0
                shifts.append(int(np.floor(np.log2(max(1.0, ratio)) / 2 + 1e-9)))
    return min(2, min(shifts, default=2 if kind.ending != "base" else 0))


def bake(
    kind: MapKind,
    gathered: Gathered,
    group: Group,
    layout: Layout,
    charts: Sequence[ChartPlace],
    picture: Callable[[str], Image],
) -> Task[Image]:
    """Return one map of one sheet.

    Parameters
    ----------
    charts : those that stand on the sheet; picture : returns a picture by its path

    Raises
    ------
    OakTrimError : a picture cannot be read
    """
    materials = materials_of(gathered, group)
    shift = shift_of(kind, gathered, group)
    deep = any(row.maps[slot].picture.bits > 8 for row in materials for slot, _ in kind.slots if slot in row.maps)
    channels = kind.channels(group.alpha is not AlphaMode.OPAQUE)
    shape = (max(1, layout.height >> shift), max(1, layout.width >> shift))
    dtype = np.uint16 if deep else np.uint8
    pixels, known = np.zeros((*shape, channels), dtype), np.zeros(shape, np.uint8)
    surface = factors_of(gathered, group).surface
    baker = _Baker(kind, surface, group, layout, shift, pixels, known)
    by_content: dict[int, list[ChartPlace]] = {}
    for chart in charts:
        by_content.setdefault(chart.content, []).append(chart)
    last: tuple[str, Image] | None = None
    for done, (number, mine) in enumerate(by_content.items()):
        material = gathered.sources.materials[gathered.contents[number].materials[0]]
        for slot, places in kind.slots:
            yield Progress(done, len(by_content), f"baking {kind.ending} of {material.name}")
            wanted = tuple(c for c in places if c < channels)
            row = material.maps.get(slot)
            if row is None:
                baker.fill_from_factors(slot, wanted, material, mine)
                continue
            if last is None or last[0] != row.picture.path:
                last = (row.picture.path, picture(row.picture.path))
            yield from baker.read_charts(row, wanted, material, gathered.contents[number], mine, last[1])
    fill(pixels, known)
    return Image.of(held(pixels), Transfer.SRGB)


class _Baker:
    """One map of one sheet, being filled."""

    def __init__(
        self,
        kind: MapKind,
        surface: Surface,
        group: Group,
        layout: Layout,
        shift: int,
        pixels: NDArray[np.integer],
        known: NDArray[np.uint8],
    ) -> None:
        self.kind, self.surface, self.group, self.layout, self.shift = kind, surface, group, layout, shift
        self.pixels, self.known = pixels, known
        self.largest = 255 if pixels.dtype == np.uint8 else 65535

    def _bands(self, chart: int) -> list[_Band]:
        """Return the rows of a chart's box on the sheet in bands: left, top, and which texels are its own."""
        layout, shift = self.layout, self.shift
        box, turn, place = layout.boxes[chart], int(layout.turns[chart]), layout.places[chart]
        wide, high = (box[0], box[1]) if turn % 2 == 0 else (box[1], box[0])
        left, top = (max(0, int(side) >> shift) for side in place)
        right = min(self.pixels.shape[1], -(-int(place[0] + wide) >> shift))
        bottom = min(self.pixels.shape[0], -(-int(place[1] + high) >> shift))
        cells = layout.cells.cells[layout.cells.starts[chart] : layout.cells.starts[chart + 1]]
        columns = int(layout.cells.sizes[chart, 0])
        found = []
        for first in range(top, bottom, _BAND):
            owned = np.zeros((min(_BAND, bottom - first), max(0, right - left)), np.bool_)
            mark(cells, columns, CELL, box, turn, place, shift, left, first, owned)
            found.append((left, first, owned))
        return found

    def fill_from_factors(
        self, slot: MapSlot, channels: tuple[int, ...], material: SourceMaterial, charts: Sequence[ChartPlace]
    ) -> None:
        """Give charts what the factors of their material say of a map that it lacks."""
        multiply, add = self._factors(slot, material.surface)
        value = 1.0 if slot is not Slot.NORMAL else 0.5
        light = np.full(4, value, np.float32)
        if slot is Slot.NORMAL:
            light[2] = 1.0
        light = np.clip(light * multiply + add, 0, 1).astype(np.float32)
        if slot is Slot.OCCLUSION:
            light[:] = 1.0
        codes = from_light(light.reshape(1, 1, 4), self._like(4), self.kind.transfer is Transfer.LINEAR).pixels[0, 0]
        for chart in charts:
            for left, top, owned in self._bands(chart.number):
                area = self.pixels[top : top + owned.shape[0], left : left + owned.shape[1]]
                for channel in channels:
                    area[..., channel][owned] = codes[channel]
                self.known[top : top + owned.shape[0], left : left + owned.shape[1]][owned] = FULL

    def _like(self, channels: int) -> Image:
        return Image.of(np.zeros((1, 1, channels), self.pixels.dtype), self.kind.transfer)

    def _factors(self, slot: MapSlot, source: Surface) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Return what channels of a picture are multiplied by, and what is added, in light."""
        multiply, add = np.ones(4), np.zeros(4)
        mine = self.surface
        if slot is Slot.BASE_COLOUR and source.base_colour != mine.base_colour:
            multiply = np.array(source.base_colour) / np.maximum(np.array(mine.base_colour), 1e-9)
        if slot is Slot.BASE_COLOUR and self.group.alpha is AlphaMode.MASK and source.cutoff != mine.cutoff:
            # What is never cut is full.
            multiply[3] = multiply[3] * mine.cutoff / source.cutoff if source.cutoff > 0 else 0.0
            add[3] = 0.0 if source.cutoff > 0 else 1.0
        if slot is Slot.METALLIC_ROUGHNESS:
            pairs = ((1, source.roughness, mine.roughness), (2, source.metallic, mine.metallic))
            for channel, theirs, ours in pairs:
                multiply[channel] = theirs / ours if ours else 1.0
        if slot is Slot.OCCLUSION and source.occlusion_strength != mine.occlusion_strength:
            multiply[0] = source.occlusion_strength
            add[0] = 1 - source.occlusion_strength
        if slot is Slot.EMISSIVE:
            multiply[:3] = [a / b if b else 0.0 for a, b in zip(source.emissive, mine.emissive, strict=True)]
        return multiply.astype(np.float32), add.astype(np.float32)

    def read_charts(
        self,
        row: MapRead,
        channels: tuple[int, ...],
        material: SourceMaterial,
        content: Content,
        charts: Sequence[ChartPlace],
        image: Image,
    ) -> Task[None]:
        """Read the charts of one content from one of its pictures."""
        multiply, add = self._factors(row.slot, material.surface)
        plain = bool((multiply == 1).all() and (add == 0).all())
        vector = holds_normals(row.slot)
        bump = 1.0
        if row.slot is Slot.NORMAL and material.surface.normal_scale != self.surface.normal_scale:
            bump, plain = material.surface.normal_scale, False
        codes = to_rgba(image, np.uint16 if self.pixels.dtype == np.uint16 else np.uint8)
        smaller: dict[int, NDArray[np.integer]] = {0: held(codes)}
        assert content.reference is not None
        to_slot = between(content.reference, row)
        wraps = np.array([_WRAPS[wrap] for wrap in row.wrap], np.int64)
        pairs = np.array([(channel, channel) for channel in channels], np.int64)
        how = VECTOR if vector else COVERED if 3 in channels and row.slot is Slot.BASE_COLOUR else APART
        tasks: list[Callable[[], None]] = []
        for chart in charts:
            matrix = sheet_to_slot(chart.matrix, to_slot, self.shift)
            turn = vector_turn(content.reference, chart.matrix) if vector else np.eye(2)
            exact = (
                plain and is_exact(matrix) and (not vector or bool(np.allclose(np.abs(turn), np.round(np.abs(turn)))))
            )
            if exact:
                swap = bool(abs(turn[0, 0]) < 0.5)
                signs = np.array([turn[0].sum() < 0, turn[1].sum() < 0], np.bool_)
                whole = rounded(matrix)

                def copied(
                    chart: ChartPlace = chart, matrix: Floats = whole, signs: Any = signs, swap: bool = swap
                ) -> None:
                    for left, top, owned in self._bands(chart.number):
                        copy(smaller[0], matrix, wraps, owned, left, top, signs, swap, self.pixels, pairs, self.known)

                tasks.append(copied)
                continue
            size = max(float(np.linalg.norm(matrix[:, k])) for k in range(2))
            level = max(0, ceil(np.log2(max(size, 1e-9) / _MOST_SAMPLES) - 1e-6))
            source, scale = self._smaller(smaller, image, level, vector)
            matrix = matrix * scale[:, None]
            samples = max(1, min(_MOST_SAMPLES, ceil(float(np.linalg.norm(matrix[:, :2], axis=0).max()) - 0.01)))
            bits = 8 * source.itemsize
            tables = decode_table(self.kind.transfer, bits), decode_table(Transfer.LINEAR, bits)
            aim = turn.astype(np.float32), np.float32(bump)

            def resampled(
                band: _Band, source: Any = source, matrix: Floats = matrix, samples: int = samples, tables: Any = tables,
                aim: Any = aim,
            ) -> None:  # fmt: skip
                left, top, owned = band
                light = np.zeros((*owned.shape, 4), np.float32)
                read(source, *tables, matrix, wraps, samples, how, *aim, owned, left, top, light)
                self._write(light * multiply + add, owned, left, top, channels, how)

            tasks += [partial(resampled, band) for band in self._bands(chart.number)]
        yield from _all_done(tasks, f"baking {self.kind.ending} of {material.name}")

    def _smaller(
        self, kept: dict[int, NDArray[np.integer]], image: Image, level: int, vector: bool
    ) -> tuple[NDArray[np.integer], Floats]:
        """Return a picture some halvings smaller, and what its texels are multiplied by."""
        width, height = image.size
        if level not in kept:
            how = Resampling(Filter.BOX, normals=vector)
            shrunk = resample(
                image.read_as(self.kind.transfer), max(1, width >> level), max(1, height >> level), how
            )  # fmt: skip
            kept[level] = held(to_rgba(shrunk, np.uint16 if self.pixels.dtype == np.uint16 else np.uint8))
        found = kept[level]
        return found, np.array([found.shape[1] / width, found.shape[0] / height])

    def _write(
        self,
        light: NDArray[np.float32],
        owned: NDArray[np.bool_],
        left: int,
        top: int,
        channels: tuple[int, ...],
        how: int,
    ) -> None:
        like = self._like(4)
        codes = from_light(np.clip(light, 0, 1), like, self.kind.transfer is Transfer.LINEAR).pixels
        rows, columns = slice(top, top + owned.shape[0]), slice(left, left + owned.shape[1])
        area, known = self.pixels[rows, columns], self.known[rows, columns]
        for channel in channels:
            area[..., channel][owned] = codes[..., channel][owned]
        known[owned] = FULL
        if how == COVERED:
            known[owned & (codes[..., 3] == 0)] = CLEAR


def _all_done(tasks: Sequence[Callable[[], None]], what: str) -> Task[None]:
    """Run tasks on all processors; each fills texels of its own."""
    for done, _ in enumerate(map_unordered(lambda task: task(), tasks)):
        if done % 64 == 63 or done < 8:
            yield Progress(done, len(tasks), what)
