"""Models of several materials to be merged, on disk, and what comes of them."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np

from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.pictures import write_png
from oaktrim.core.makers.atlas.making import Links, atlas_json, lay_out, made
from oaktrim.core.makers.atlas.opened import Pictures, gathered_of
from oaktrim.core.makers.atlas.settings import Atlas
from oaktrim.core.makers.sourcemodel import model_at
from oaktrim.core.progress import finish
from oaktrim.core.proof.alike import alike, atlas_drawables
from oaktrim.core.survey.derived import Sources
from tests.kit.models import SQUARE, SQUARE_TRIANGLES, material, scene
from tests.kit.pictures import busy, smooth

UV = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)


class Coat:
    """A model being put together of squares side by side, one for each part."""

    def __init__(self) -> None:
        self.writer = GltfWriter()
        self.primitives: list[dict] = []
        self.maps: dict[str, int] = {}

    def picture(self, root: Path, name: str, image) -> int:
        if name not in self.maps:
            write_png(root / name, image)
            self.maps[name] = self.writer.image(name)
        return self.maps[name]

    def paint(self, name: str, factors=None, extra=None, **slots) -> int:
        place = material(self.writer, name, **slots)
        row = self.writer.json["materials"][place]
        row["pbrMetallicRoughness"] |= {"metallicFactor": 0.0, **(factors or {})}
        row.update(extra or {})
        return place

    def square(self, paint: int | None, uv=UV, at=(0, 0, 0), size=1.0, **attributes) -> dict:
        points = (SQUARE * size + np.array(at)).astype(np.float32)
        return self.add(paint, points, uv, SQUARE_TRIANGLES, **attributes)

    def add(self, paint, points, uv, triangles, **attributes) -> dict:
        writer = self.writer
        normal = np.tile(np.array([0, 0, 1], np.float32), (len(points), 1))
        row = {
            "POSITION": writer.accessor(points, bounds=True, indices=False),
            "NORMAL": writer.accessor(normal, indices=False),
        }
        if uv is not None:
            row["TEXCOORD_0"] = writer.accessor(np.asarray(uv, np.float32), indices=False)
        row |= {name: writer.accessor(values, indices=False) for name, values in attributes.items()}
        primitive = {"attributes": row, "indices": writer.accessor(np.asarray(triangles).reshape(-1), indices=True)}
        if paint is not None:
            primitive["material"] = paint
        self.primitives.append(primitive)
        return primitive

    def save(self, path: Path, **node) -> Path:
        self.writer.add("meshes", name="coat", primitives=self.primitives)
        scene(self.writer, self.writer.add("nodes", name="coat", mesh=0, **node))
        path.write_bytes(self.writer.glb())
        return path


def coat(root: Path, name: str = "coat.glb", side: int = 64) -> Path:
    """Four materials: two with pictures, one that tints the first's, and one of factors alone."""
    made_of = Coat()
    cloth = made_of.picture(root, "cloth.png", busy(side, side, 3, seed=3))
    felt = made_of.picture(root, "felt.png", smooth(side, side, 3, seed=4))
    made_of.square(made_of.paint("cloth", baseColorTexture=cloth))
    made_of.square(made_of.paint("felt", baseColorTexture=felt), at=(1.1, 0, 0))
    tint = {"baseColorFactor": [0.5, 0.25, 1, 1]}
    made_of.square(made_of.paint("dyed", tint, baseColorTexture=cloth), at=(2.2, 0, 0))
    made_of.square(
        made_of.paint("brass", {"baseColorFactor": [0.8, 0.6, 0.2, 1], "metallicFactor": 1.0}), uv=None, at=(3.3, 0, 0)
    )
    return made_of.save(root / name)


def opened(root: Path, *names: str):
    return tuple(model_at(root, name) for name in names)


def gather(root: Path, *names: str, **settings):
    """Return what goes into an atlas of models, its settings, and their pictures."""
    row = Atlas("coats", names, **settings)
    pictures = Pictures(Sources(root, {}, MAX_PIXELS).picture)
    return gathered_of(opened(root, *names), row, pictures.about), row, pictures


def plan_of(root: Path, *names: str, **settings):
    gathered, row, _ = gather(root, *names, **settings)
    return finish(lay_out(gathered, row))


def make(root: Path, *names: str, **settings):
    """Return an atlas of models, its sheets as files that the models name."""
    gathered, row, pictures = gather(root, *names, **settings)
    plan = finish(lay_out(gathered, row))
    return finish(made(plan, pictures, Links(lambda _, name, __: {"uri": f"{name.path}.png", "name": name.path})))


def likeness(root: Path, result, name: str, **how):
    """Return how far a model is from itself after an atlas."""
    (source,) = opened(root, name)
    before, after = atlas_drawables(source, result, Sources(root, {}, MAX_PIXELS).picture)
    return finish(alike(before, after, **how))


def notes(gathered) -> dict[str, str]:
    """Return why each material is left out, by its name; empty where it is not."""
    return {note.material.name: note.reason for note in gathered.notes}


def placed(result, name: str):
    """Return the matrix and the sheet's number of the first island of a material."""
    plan = result.laid_out
    for laid in plan.groups:
        matrices, on = laid.matrices(), laid.layout.on[laid.unit]
        for place, start in laid.starts.items():
            materials = [plan.gathered.sources.materials[row].name for row in plan.gathered.contents[place].materials]
            if name in materials:
                return matrices[start], int(on[start])
    raise KeyError(name)


def json_of(result) -> dict:
    return msgspec.json.decode(atlas_json(result))
