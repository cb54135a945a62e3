"""An imposter from its subject to its sheet, its model and its description."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.makers.imposter.cards import flat_cards
from oaktrim.core.makers.imposter.chain import Level
from oaktrim.core.makers.imposter.cloud import Cloud, cloud_cards
from oaktrim.core.makers.imposter.frames.made import FramesMade, frames_glb, frames_json, frames_of
from oaktrim.core.makers.imposter.settings import Family, Imposter, SheetMap
from oaktrim.core.makers.imposter.sheet import BakedSheet, PlacedCard, baked
from oaktrim.core.makers.imposter.subject import Subject, is_clear
from oaktrim.core.progress import Task

Floats = NDArray[np.float64]
SCREEN = 1920, 1080


@dataclass(frozen=True, eq=False)
class ImposterMade:
    """What comes of an imposter.

    Parameters
    ----------
    cloud : how its planes were chosen, of a card cloud
    warnings : what does not come through, in sentences
    """

    settings: Imposter
    subject: Subject
    sheet: BakedSheet
    cloud: Cloud | None
    warnings: tuple[str, ...]

    @property
    def triangles(self) -> int:
        twice = 1 if self.all_both else 2
        return sum((len(row.outline) - 2) * (twice if self.shown_on_both_sides(row) else 1) for row in self.sheet.drawn)

    def shown_on_both_sides(self, row: PlacedCard) -> bool:
        """Say whether one side of a card is shown on both."""
        return row.card.both and self.settings.sides == 1

    @property
    def all_both(self) -> bool:
        """All cards show one side on both, so that one material that is seen from both sides will do."""
        return all(self.shown_on_both_sides(row) for row in self.sheet.drawn)

    @property
    def clear_share(self) -> float:
        """Of the texels that its triangles draw, how many are clear."""
        alpha = self.sheet.maps[SheetMap.BASE].pixels[..., 3]
        drawn = sum(_area(row.outline) for row in self.sheet.drawn)
        return float(1 - min(1.0, (alpha > 0).sum() / max(1.0, drawn)))


AnyMade = ImposterMade | FramesMade


def imposter_of(subject: Subject, settings: Imposter) -> Task[AnyMade]:
    """Make an imposter.

    Raises
    ------
    Unsupported : nothing of the subject can be seen on any card, or its cards have no room
    """
    if is_clear(subject):
        raise Unsupported(f"{settings.source_model}: every material is fully clear, so that there is nothing to see")
    if settings.family.of_frames:
        return (yield from frames_of(subject, settings, tuple(_warned(subject, settings))))
    cloud: Cloud | None = None
    if settings.family is Family.CLOUD:
        cards, cloud = yield from cloud_cards(subject, settings)
    else:
        cards = flat_cards(subject, settings)
    if not cards:
        raise Unsupported(
            f"{settings.source_model}: it is flat, and cards that face along {settings.axes} all see it edge-on; turn them"
        )
    sheet = yield from baked(subject, cards, settings)
    if not sheet.maps[SheetMap.BASE].pixels[..., 3].any():
        raise Unsupported(
            f"{settings.source_model}: nothing of it shows on its cards; its materials may be fully clear"
        )
    warnings = _warned(subject, settings)
    warnings += [
        f"the outline of card {row + 1} by hand leaves out what it shows, and is not taken" for row in sheet.refused
    ]
    return ImposterMade(settings, subject, sheet, cloud, tuple(warnings))


def _warned(subject: Subject, settings: Imposter) -> list[str]:
    """Return what does not come through, in sentences."""
    warnings = subject.unread()
    if subject.shines() and SheetMap.EMISSIVE not in settings.maps:
        warnings.append("it glows, and no emissive map is baked: the imposter stays dark at night")
    if SheetMap.ORM not in settings.maps:
        warnings.append("no occlusion, roughness and metalness are baked: the imposter is fully rough and no metal")
    return warnings


def imposter_glb(made: AnyMade, image: Callable[[SheetMap], Mapping[str, Any]], name: str) -> bytes:
    """Return the imposter as a model of one mesh and one material.

    Parameters
    ----------
    image : returns `uri` of a sheet's map, or its `data` as PNG
    """
    if isinstance(made, FramesMade):
        return frames_glb(made, image, name)
    writer = GltfWriter()
    settings, sheet = made.settings, made.sheet
    textures = {kind: writer.image(**image(kind)) for kind in settings.maps if kind is not SheetMap.DEPTH}
    pbr: dict[str, Any] = {"metallicFactor": 0.0, "roughnessFactor": 1.0}
    row: dict[str, Any] = {
        "name": name, "pbrMetallicRoughness": pbr, "alphaMode": "MASK", "alphaCutoff": 0.5,
        "doubleSided": made.all_both,
    }  # fmt: skip
    pbr["baseColorTexture"] = {"index": textures[SheetMap.BASE]}
    if SheetMap.NORMAL in textures:
        row["normalTexture"] = {"index": textures[SheetMap.NORMAL]}
    if SheetMap.ORM in textures:
        pbr |= {"metallicFactor": 1.0, "metallicRoughnessTexture": {"index": textures[SheetMap.ORM]}}
        row["occlusionTexture"] = {"index": textures[SheetMap.ORM]}
    if SheetMap.EMISSIVE in textures:
        row |= {"emissiveTexture": {"index": textures[SheetMap.EMISSIVE]}, "emissiveFactor": [1.0, 1.0, 1.0]}
    writer.add("materials", **row)
    writer.add("samplers", magFilter=9729, minFilter=9987, wrapS=33071, wrapT=33071)
    for texture in writer.json["textures"]:
        texture["sampler"] = 0
    base = sheet.maps[SheetMap.BASE]
    points, normals, tangents, uvs, triangles = _geometry(made, base.size)
    primitive = {
        "attributes": {
            "POSITION": writer.accessor(points, bounds=True, indices=False),
            "NORMAL": writer.accessor(normals, indices=False),
            "TANGENT": writer.accessor(tangents, indices=False),
            "TEXCOORD_0": writer.accessor(uvs, indices=False),
        },
        "indices": writer.accessor(triangles.astype(np.uint16 if len(points) < 65535 else np.uint32), indices=True),
        "material": 0,
    }
    writer.add("meshes", name=name, primitives=[primitive])
    writer.json["scenes"] = [{"name": name, "nodes": [writer.add("nodes", name=name, mesh=0)]}]
    writer.json["scene"] = 0
    return writer.glb()


def _geometry(
    made: ImposterMade, size: tuple[int, int]
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32], NDArray[np.float32], NDArray[np.int64]]:
    """Return positions, normals, tangents, UVs and indices of all outlines."""
    points, normals, tangents, uvs, triangles = [], [], [], [], []
    count = 0
    faces = [(row, 1.0) for row in made.sheet.drawn]
    if not made.all_both:
        faces += [(row, -1.0) for row in made.sheet.drawn if made.shown_on_both_sides(row)]
    for row, side in faces:
        card, shape = row.card, row.outline
        across = (shape[:, 0] - row.x) / row.width
        above = 1 - (shape[:, 1] - row.y) / row.height
        points.append(card.points(across, above))
        normals.append(np.tile(card.normal * side, (len(shape), 1)))
        tangents.append(np.tile(np.append(card.right, side), (len(shape), 1)))
        uvs.append(shape / np.array(size, np.float64))
        # Downwards on the sheet, clockwise: turned round, its front is seen.
        fan = np.array([[0, k + 1, k] for k in range(1, len(shape) - 1)]) + count
        triangles.append(fan if _clockwise(shape) == (side > 0) else fan[:, ::-1])
        count += len(shape)
    columns = (np.concatenate(rows).astype(np.float32) for rows in (points, normals, tangents, uvs))
    a, b, c, d = columns
    return a, b, c, d, np.concatenate(triangles).reshape(-1)


def _clockwise(shape: Floats) -> bool:
    """Say whether a polygon runs clockwise on a picture whose Y counts down."""
    x, y = shape.T
    return bool((x * np.roll(y, -1) - y * np.roll(x, -1)).sum() > 0)


def _area(shape: Floats) -> float:
    x, y = shape.T
    return float(abs((x * np.roll(y, -1) - y * np.roll(x, -1)).sum()) / 2)


def imposter_json(
    made: AnyMade,
    likeness: Mapping[str, Any] | None = None,
    levels: Sequence[Level] = (),
    screen: tuple[int, int] = SCREEN,
) -> bytes:
    """Return the JSON that goes beside an imposter: `oak-trim.imposter/1`.

    Parameters
    ----------
    levels : of its chain, where it has one; screen : on which the distances hold, pixels
    """
    subject, base = made.subject, made.sheet.maps[SheetMap.BASE]
    document = {
        "schema": "oak-trim.imposter/1",
        "kind": made.settings.family.value,
        "model": made.settings.source_model,
        "nodes": list(made.settings.nodes),
        "pivot": np.round(subject.pivot, 6).tolist(),
        "radius": round(subject.radius, 6),
        "width": base.width,
        "height": base.height,
        "maps": [kind.value for kind in made.settings.sheet_maps],
        "triangles": made.triangles,
        "clear_share": round(made.clear_share, 4),
        **({"frames": frames_json(made)} if isinstance(made, FramesMade) else _cards_json(made)),
        "likeness": likeness,
        "chain": _chain_json(made, levels, screen) if levels else None,
        "warnings": list(made.warnings),
    }
    return msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n"


def _cards_json(made: ImposterMade) -> dict[str, Any]:
    """Return what a description says of cards."""
    sheet = made.sheet
    cards = [
        {
            "corner": np.round(row.card.corner, 6).tolist(),
            "right": np.round(row.card.right, 6).tolist(),
            "up": np.round(row.card.up, 6).tolist(),
            "normal": np.round(row.card.normal, 6).tolist(),
            "size": [round(row.card.width, 6), round(row.card.height, 6)],
            "place": [row.x, row.y, row.width, row.height],
            "outline": np.round(row.outline, 3).tolist(),
            "depth": [round(row.depth[0], 6), round(row.depth[1], 6)],
            "back": row.card.back,
        }
        for row in sheet.drawn
    ]
    return {
        "texels_a_unit": round(sheet.density, 4),
        "error": None if made.cloud is None else round(made.cloud.error, 6),
        "cards": cards,
    }


def _chain_json(made: AnyMade, levels: Sequence[Level], screen: tuple[int, int]) -> dict[str, Any]:
    chain, height = made.settings.chain, made.subject.height
    return {
        "form": None if chain is None else chain.form.value,
        "fade": 0.0 if chain is None else chain.fade,
        "screen": list(screen),
        "height": round(height, 6),
        "levels": [
            {
                "node": level.name, "triangles": level.triangles, "share": round(level.share, 6),
                "pixels": round(level.share * screen[1], 2),
                "distance": None if (far := level.distance(height)) is None else round(far, 4),
            }
            for level in levels
        ],
    }  # fmt: skip
