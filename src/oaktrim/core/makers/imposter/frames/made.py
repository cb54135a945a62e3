"""An imposter of view frames: its quad as a model, and what its JSON says so that it can be drawn without our code."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.makers.imposter.frames.bake import FrameSheet, baked_frames
from oaktrim.core.makers.imposter.frames.lookup import FrameTexels, texels_of
from oaktrim.core.makers.imposter.settings import Imposter, SheetMap
from oaktrim.core.makers.imposter.subject import Subject
from oaktrim.core.progress import Task

Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class FramesMade:
    """What comes of an imposter of frames; the same as `ImposterMade` is of cards."""

    settings: Imposter
    subject: Subject
    sheet: FrameSheet
    warnings: tuple[str, ...]

    @property
    def triangles(self) -> int:
        return len(self.sheet.outline) - 2

    @property
    def clear_share(self) -> float:
        """Of the texels that its quad draws of a frame, how many are clear, over all frames."""
        x, y = self.sheet.outline.T
        drawn = float(abs((x * np.roll(y, -1) - y * np.roll(x, -1)).sum()) / 2) / 4
        covered = float((self.sheet.maps[SheetMap.BASE].pixels[..., 3] > 0).mean())
        return max(0.0, 1 - covered / max(drawn, 1e-9))

    def texels(self, maps: Mapping[SheetMap, Any] | None = None) -> FrameTexels:
        """Return what it is drawn from; `maps` are those of the sheet as they ship, where not as they were baked."""
        return texels_of(self.sheet if maps is None else self.sheet.with_maps(maps))


def frames_of(subject: Subject, settings: Imposter, warnings: tuple[str, ...]) -> Task[FramesMade]:
    """Make an imposter of frames.

    Raises
    ------
    Unsupported : nothing of the subject is to be seen
    """
    sheet = yield from baked_frames(subject, settings)
    if not sheet.maps[SheetMap.BASE].pixels[..., 3].any():
        raise Unsupported(
            f"{settings.source_model}: nothing of it shows on its frames; its materials may be fully clear"
        )
    return FramesMade(settings, subject, sheet, warnings)


def frames_glb(made: FramesMade, image: Callable[[SheetMap], Mapping[str, Any]], name: str) -> bytes:
    """Return the quad as a model: any viewer shows the frame from ahead on it, the shader that ships shows it from anywhere.

    UVs 0 read that frame; UVs 1 are 0 to 1 over the whole of the quad, from its upper left.
    """
    writer, sheet = GltfWriter(), made.sheet
    texture = writer.image(**image(SheetMap.BASE))
    # What the shader reads beside it is named in the file, so that it ships.
    for kind in sheet.maps:
        if kind is not SheetMap.BASE:
            writer.image(**image(kind))
    writer.add("samplers", magFilter=9729, minFilter=9987, wrapS=33071, wrapT=33071)
    for row in writer.json["textures"]:
        row["sampler"] = 0
    writer.add(
        "materials", name=name, alphaMode="MASK", alphaCutoff=0.5, extensions={"KHR_materials_unlit": {}},
        pbrMetallicRoughness={"baseColorTexture": {"index": texture}},
    )  # fmt: skip
    writer.json["extensionsUsed"] = ["KHR_materials_unlit"]
    shape, grid = sheet.outline, sheet.grid
    place = grid.around(np.array([0.0, 0.0, 1.0]))
    cell = place[0][int(place[1].argmax())]
    points = np.concatenate([shape * sheet.extent, np.zeros((len(shape), 1))], axis=1) + sheet.centre
    part = np.stack([(shape[:, 0] + 1) / 2, (1 - shape[:, 1]) / 2], axis=1)
    uv = (cell + part) / [grid.columns, grid.rows]
    fan = np.array([[0, k, k + 1] for k in range(1, len(shape) - 1)])
    if _clockwise(shape):
        fan = fan[:, ::-1]
    columns = (points, np.tile([0.0, 0.0, 1.0], (len(shape), 1)), uv, part)
    position, normal, first, second = (column.astype(np.float32) for column in columns)
    primitive = {
        "attributes": {
            "POSITION": writer.accessor(position, bounds=True, indices=False),
            "NORMAL": writer.accessor(normal, indices=False),
            "TEXCOORD_0": writer.accessor(first, indices=False),
            "TEXCOORD_1": writer.accessor(second, indices=False),
        },
        "indices": writer.accessor(fan.reshape(-1).astype(np.uint16), indices=True),
        "material": 0,
    }
    writer.add("meshes", name=name, primitives=[primitive])
    writer.json["scenes"] = [{"name": name, "nodes": [writer.add("nodes", name=name, mesh=0)]}]
    writer.json["scene"] = 0
    return writer.glb()


def _clockwise(shape: Floats) -> bool:
    """Say whether a polygon runs clockwise, its Y counting up."""
    x, y = shape.T
    return bool((x * np.roll(y, -1) - y * np.roll(x, -1)).sum() < 0)


def frames_json(made: FramesMade) -> dict[str, Any]:
    """Return what a description says of frames."""
    sheet, grid = made.sheet, made.sheet.grid
    return {
        "mapping": {"ring": "ring", "sphere": "octahedral", "dome": "hemi-octahedral"}[grid.family.value],
        "columns": grid.columns,
        "rows": grid.rows,
        "rise": [round(value, 6) for value in grid.rise],
        "turn": [round(value, 6) for value in grid.turn],
        "frame_size": sheet.side,
        "centre": np.round(sheet.centre, 6).tolist(),
        "extent": round(sheet.extent, 6),
        "depth_range": [round(-sheet.extent, 6), round(sheet.extent, 6)],
        "last_level": max(0, sheet.side.bit_length() - 3),
        "steps": made.settings.steps.value,
        "alpha": "straight",
        "normals": "object space",
        "below_horizon": "clamped to the rim" if grid.family.value == "dome" else "baked",
        "outline": np.round(sheet.outline, 5).tolist(),
        "directions": [
            np.round(grid.direction(number % grid.columns, number // grid.columns), 6).tolist()
            for number in range(grid.count)
        ],
    }
