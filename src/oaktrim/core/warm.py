"""Compiling every kernel once, at set-up, so that nobody waits for it later."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import FIRST_COMPLETED, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from itertools import chain
from multiprocessing import get_context

import numpy as np

from oaktrim.core.codecs.effort import Dither, Effort, EncodeOptions
from oaktrim.core.codecs.texture import decode_level, encode_level, encode_texture
from oaktrim.core.codecs.transcode import LOADED, loaded_as
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.columns import mip_chain_bytes
from oaktrim.core.formats.format import Hardware
from oaktrim.core.kernels import forget_old_kernels, keep_in_turn, kernels_are_whole, note_whole_kernels
from oaktrim.core.makers.atlas.rehearse import rehearse
from oaktrim.core.makers.imposter.frames.lookup import draw_frames
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.made import imposter_of
from oaktrim.core.makers.imposter.settings import Family, Imposter, SheetMap
from oaktrim.core.makers.imposter.subject import subject_of
from oaktrim.core.makers.rectangles import smallest_pages
from oaktrim.core.makers.surface.cut import best_cut
from oaktrim.core.makers.surface.settings import Tile
from oaktrim.core.pixels.distance import signed_distance
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.pixels.resample import Resampling
from oaktrim.core.progress import Progress, Task, finish, threads_here
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import BoundTexture, chain_of, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.overdraw import overdraw
from oaktrim.core.render.picture import Settings, draw, footprints
from oaktrim.core.scene.model import AlphaMode, Material, Mesh, Model, Node, Surface, TextureUse
from oaktrim.core.scene.shapes import plane
from oaktrim.core.scene.slots import Slot
from oaktrim.core.scene.uvs import overlap_share
from oaktrim.core.sight.demand import Stage, Tally, ask, least_levels
from oaktrim.core.sight.estimate import estimate
from oaktrim.core.sight.reads import Reads
from oaktrim.core.sight.views import View
from oaktrim.core.survey.drawables import Loaded
from oaktrim.core.survey.read import made_facts
from oaktrim.core.targets.target import Filtering
from oaktrim.core.trim.cachekernel import cache_misses, ordered_triangles
from oaktrim.core.trim.motion import Curve, Hierarchy, MotionBound, reduce_motion
from oaktrim.core.trim.vertices import CACHE

# Formats whose kernels take longest to compile, the longest first.
_LONGEST = ("astc-4x4", "bc7", "etc2-rgba", "bc6h", "bc1")
_TYPES = ((np.uint8, 1), (np.uint16, 1), (np.float16, 250), (np.float32, 250))


def warm_beside() -> Task[None]:
    """Compile in as many processes as there are processors, then see that nothing is missing."""
    forget_old_kernels()
    if kernels_are_whole():
        yield from warm()
        return
    rest = [name for name in _names() if name not in (*_LONGEST, "uastc")]
    codecs = [
        # UASTC is searched with the kernels of ASTC.
        *((name, "uastc") if name == "astc-4x4" else (name,) for name in _LONGEST),
        *(tuple(rest[start :: len(rest) // 8]) for start in range(len(rest) // 8)),
    ]
    jobs = [("draws",), ("atlases",), ("trims",), *(("codecs", *names) for names in codecs), ("looks",)]
    try:
        with ProcessPoolExecutor(threads_here(), get_context("spawn"), keep_in_turn) as pool:
            pending = {pool.submit(_compile, what, names) for what, *names in jobs}
            while pending:
                yield Progress(len(jobs) - len(pending), len(jobs) + 1, "compiling kernels, which takes some minutes")
                done, pending = wait(pending, timeout=1, return_when=FIRST_COMPLETED)
                for compiled in done:
                    compiled.result()
    except BrokenProcessPool:
        # A process was ended from outside, for its memory say: what is missing now is compiled below, one after the other.
        pass
    yield from warm()
    note_whole_kernels()


def _compile(what: str, names: Sequence[str]) -> None:
    """Compile what encodes and decodes some formats, or one of the other parts."""
    for _ in _codecs(names) if what == "codecs" else _PARTS[what]():
        pass


def _names() -> list[str]:
    """Return formats that stand for all: kernels take the size of a block as an argument."""
    return [name for name in ORDER if FORMATS[name].block in ((1, 1), (4, 4))]


def _picture(channels: int, dtype: type = np.uint8, scale: float = 1) -> Image:
    return Image.of((np.arange(16 * 16 * channels).reshape(16, 16, channels) % 251 / scale).astype(dtype))


def warm() -> Task[None]:
    """Run every kernel on a small picture of every type it can meet."""
    forget_old_kernels()
    names = _names()
    total = 4 * len(_TYPES) + len(_PARTS) - 1 + len(names)
    for done, step in enumerate(chain(*(part() for part in _PARTS.values()), _codecs(names))):
        yield Progress(done, total, step.what)


def _looks() -> Task[None]:
    """Run all kernels but those of the codecs."""
    pictures = [_picture(channels, dtype, scale) for dtype, scale in _TYPES for channels in (1, 2, 3, 4)]
    overlap_share(np.zeros((3, 2), np.float32), np.zeros((1, 3), np.int64))
    mip_chain_bytes(*[np.ones(1, np.int64)] * 6)
    smallest_pages(np.full((3, 2), 2, np.int64), 4)
    signed_distance(np.eye(4, dtype=np.bool_))
    for done, picture in enumerate(pictures):
        yield Progress(done, len(pictures), f"compiling for {picture.bit_depth}-bit pictures")
        made_facts("", "", "", picture)
        build_mip_chain(picture, how=Resampling(normals=len(picture.channels) >= 3), threads=1)


def _draws() -> Task[None]:
    """Run the kernels that draw scenes."""
    yield Progress(0, 1, "compiling for scenes")
    slots = (Slot.BASE_COLOUR, Slot.METALLIC_ROUGHNESS, Slot.NORMAL, Slot.OCCLUSION, Slot.EMISSIVE)
    material = Material(
        "", tuple(TextureUse(slot, "", 0) for slot in slots), "", surface=Surface(alpha=AlphaMode.BLEND)
    )
    model = Model("", "", (0,), (Node("", 0, ()),), (Mesh("", (plane(),), 0),), (material,), ())
    textures = {slot: chain_of(_picture(4), slot) for slot in slots}
    scene = drawable(draw_list(model), model.materials, lambda _, slot, __: BoundTexture(textures[slot]))
    camera = Camera((0.0, 3.0, 1.0), (0.0, 0.0, 0.0))
    finish(draw(scene, camera, (8, 8), Settings(2, buffers=("ids", "depth", "normals")), threads=1))
    seen = finish(footprints(scene, camera, (8, 8), threads=1))
    one = np.zeros(1, np.int64)
    reads = Reads(one, np.array([0, 1]), one, one, np.eye(2).reshape(1, 4), np.ones((1, 2)), np.ones(1, np.bool_))
    loaded = Loaded(0, model, scene.draws, model.materials, {})
    stage = Stage(loaded, reads, scene, None, np.ones(1, np.bool_))
    view = View("", camera, (8, 8))
    finish(ask(stage, view, Filtering.TRILINEAR, 95.0, Tally.empty(1)))
    estimate(scene.draws, reads, view, Filtering.TRILINEAR, 95.0)
    least_levels(seen, loaded, reads, Filtering.TRILINEAR)


def _atlases() -> Task[None]:
    """Run the kernels that lay out and bake atlases, and choose the planes of card clouds."""
    yield Progress(0, 1, "compiling for atlases")
    rehearse()
    model = Model("", "", (0,), (Node("", 0, ()),), (Mesh("", (plane(),), 0),), (Material("", (), ""),), ())
    subject = subject_of(model, lambda _: _picture(4))
    maps = tuple(SheetMap)
    for family in Family:
        how = Imposter("", "a.glb", family=family, axes="y", size=32, maps=maps, outline=4, frames=3, frame_size=16)
        made = finish(imposter_of(subject, how))
        if isinstance(made, FramesMade):
            finish(draw_frames(made.texels(), Camera((0.0, 3.0, 1.0), (0.0, 0.0, 0.0)), (8, 8)))
    best_cut(np.zeros((32, 32, 3), np.float32), Tile(), True, (), ())
    overdraw(subject.scene(), Camera((0.0, 3.0, 1.0), (0.0, 0.0, 0.0)), (8, 8))


def _trims() -> Task[None]:
    """Run the kernels that leave out keys of clips and order triangles."""
    yield Progress(0, 1, "compiling for models")
    times, still = np.arange(4.0), np.zeros((1, 3))
    turns = np.stack([np.sin(times), 0 * times, 0 * times, np.cos(times)], axis=1)
    rest = (still, np.array([[0.0, 0, 0, 1]]), still + 1)
    tree = Hierarchy((-1,), rest, np.eye(4)[None], (np.eye(3),))
    bend = np.repeat(np.sin(times)[:, None], 9, axis=1)
    for curve in (Curve(0, "rotation", times, turns, "LINEAR"), Curve(0, "translation", times, bend, "CUBICSPLINE")):
        reduce_motion([curve], tree, MotionBound(1.0, 1.0))
    indices = np.arange(3)
    ordered_triangles(indices, 3, CACHE, indices.copy())
    cache_misses(indices, 3, CACHE)


_PARTS = {"looks": _looks, "draws": _draws, "atlases": _atlases, "trims": _trims}


def _codecs(names: Sequence[str]) -> Task[None]:
    """Run the kernels that encode and decode some formats."""
    picture = _picture(4)
    for done, name in enumerate(names):
        yield Progress(done, len(names), f"compiling {FORMATS[name].label}")
        for effort in Effort:
            options = EncodeOptions(effort, loss=1.0, threads=1)
            made = finish(encode_texture([picture], FORMATS[name], options))
            decode_level(made)
            for hardware in LOADED if FORMATS[name].hardware is Hardware.UNIVERSAL else ():
                loaded_as(made, hardware)
        if name == "rgb565":
            encode_level(picture, FORMATS[name], EncodeOptions(dither=Dither.DIFFUSED))
