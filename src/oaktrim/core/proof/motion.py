"""A clip with fewer keys beside its source: how far what it moves is off over time, and the worst moment drawn."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.plan.modelrecipes import model_of_path
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.onmodel import on_canvas
from oaktrim.core.render.camera import framing
from oaktrim.core.render.drawable import drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.scene.model import Animation, Model
from oaktrim.core.scene.pose import posed
from oaktrim.core.survey.facts import CLIP_MARK
from oaktrim.core.survey.places import file_of
from oaktrim.core.trim.clips import curves_of, hierarchy_of
from oaktrim.core.trim.model import trim
from oaktrim.core.trim.motion import MotionBound, Reduced, reduce_motion
from oaktrim.core.trim.rework import Rework
from oaktrim.core.trim.settings import ModelSettings

# What is tried where a clip is not cut.
USUAL = MotionBound(1.0, 1.0)
_SIZE, _SAMPLES = (360, 360), 4


@dataclass(frozen=True, eq=False)
class MotionProof:
    """A clip against what ships of it.

    Parameters
    ----------
    reduced : what becomes of its keys; bound : within what; tried : it is not cut so, this is only what would come of it
    node : the name of what carries what is farthest off
    bytes : of its keys before and after
    moments : the worst moment before and after, (H, W, 4) uint8 each; seconds : when that is
    """

    name: str
    reduced: Reduced
    bound: MotionBound
    tried: bool
    node: str
    bytes: tuple[int, int]
    moments: tuple[NDArray[np.uint8], NDArray[np.uint8]]
    seconds: float


def prove_motion(plan: Plan, path: str) -> Task[MotionProof]:
    """Reduce a clip as its cut says, or as it usually would be, and draw the worst moment of both.

    Raises
    ------
    OakTrimError : the model cannot be read or written again, or the clip moves nothing; names the file
    """
    file, number = model_of_path(path), int(path.partition(CLIP_MARK)[2])
    inventory = plan.inventory
    place = ReferenceFolder(inventory.root, file)
    data = (
        inventory.sources(1 << 28).model(file) if file in inventory.made else read_bytes(file_of(inventory.root, file))
    )
    yield Progress(0, 3, f"reading {file}")
    document = parse_gltf(data, place)
    model = model_of(document, whole=True)
    rework = Rework(document)
    rows = rework.rows("animations")
    if not 0 <= number < len(rows):
        raise FileError(place.file, f"has no clip {number} any more")
    curves = [curve for curve in curves_of(rework, rows[number]) if curve is not None]
    if not curves:
        raise FileError(place.file, f"has a clip {model.animations[number].name} that moves no node")
    settings = plan.others.models.settings.get(file, ModelSettings())
    bound = dict(settings.motion).get(number)
    yield Progress(1, 3, "reducing keys")
    hierarchy = hierarchy_of(rework, model)
    reduced = reduce_motion(curves, hierarchy, bound or USUAL)
    trimmed = trim(parse_gltf(data, place), ModelSettings(motion=((number, bound or USUAL),)), "trimmed.bin")
    after = _read_again(trimmed.file.data, trimmed.file.buffer, place)
    yield Progress(2, 3, "drawing the worst moment")
    seconds = float(reduced.times[reduced.worst])
    moments = yield from _moments(model, after, number, seconds)
    worst = int(reduced.nodes[reduced.worst]) if len(reduced.nodes) else -1
    node = model.nodes[worst].name if 0 <= worst < len(model.nodes) else ""
    size = model.animations[number].data_bytes, trimmed.clip_bytes.get(number, 0)
    return MotionProof(
        model.animations[number].name, reduced, bound or USUAL, bound is None, node, size, moments, seconds
    )


def _read_again(data: bytes, buffer: bytes | None, place: ReferenceFolder) -> Model:
    document = parse_gltf(data, place)
    if buffer is not None:
        document.hold(0, buffer)
    return model_of(document, whole=True)


def _moments(
    before: Model, after: Model, number: int, seconds: float
) -> Task[tuple[NDArray[np.uint8], NDArray[np.uint8]]]:
    """Draw both at a time, with one camera, without textures: what moves is to be seen, not what it wears."""
    found: list[NDArray[np.uint8]] = []
    camera = None
    for model in (before, after):
        clip: Animation = model.animations[number]
        draws = draw_list(model, posed(model, clip, seconds))
        if not len(draws.triangles):
            raise Unsupported(f"{clip.name} moves nothing that is drawn")
        camera = camera or framing(*draws.box())
        bare = [replace(material, uses=()) for material in model.materials]
        scene = drawable(draws, bare, lambda *_: None)
        picture = yield from draw(scene, camera, _SIZE, Settings(_SAMPLES, buffers=("ids",)))
        found.append(on_canvas(picture).codes)
    return found[0], found[1]
