"""Compiling every kernel once, at set-up, so that nobody waits for it later."""

from __future__ import annotations

import numpy as np

from oaktrim.core.codecs.effort import Dither, Effort, EncodeOptions
from oaktrim.core.codecs.texture import decode_level, encode_level, encode_texture
from oaktrim.core.formats.catalogue import FORMATS, ORDER, chain_bytes
from oaktrim.core.kernels import forget_old_kernels
from oaktrim.core.makers.rectangles import smallest_pages
from oaktrim.core.pixels.distance import signed_distance
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import make_levels
from oaktrim.core.pixels.resample import Resampling
from oaktrim.core.progress import Progress, Task, finish
from oaktrim.core.raster.mesh import see
from oaktrim.core.scene.uvs import overlap_share
from oaktrim.core.survey.read import made_facts


def warm() -> Task[None]:
    """Run every kernel on a small picture of every type it can meet."""
    pictures = [
        Image.of((np.arange(16 * 16 * channels).reshape(16, 16, channels) % 251 / scale).astype(dtype))
        for dtype, scale in ((np.uint8, 1), (np.uint16, 1), (np.float16, 250), (np.float32, 250))
        for channels in (1, 2, 3, 4)
    ]
    forget_old_kernels()
    # One size of block stands for all: kernels take it as an argument.
    names = [name for name in ORDER if FORMATS[name].block in ((1, 1), (4, 4))]
    total = len(pictures) + len(names)
    overlap_share(np.zeros((3, 2), np.float32), np.zeros((1, 3), np.int64))
    chain_bytes(*[np.ones(1, np.int64)] * 6)
    smallest_pages(np.full((3, 2), 2, np.int64), 4)
    signed_distance(np.eye(4, dtype=np.bool_))
    see(np.ones((3, 3), np.float32), np.array([[0, 1, 2]]), (2, 2))
    for done, picture in enumerate(pictures):
        yield Progress(done, total, f"compiling for {picture.bit_depth}-bit pictures")
        made_facts("", "", "", picture)
        make_levels(picture, how=Resampling(normals=len(picture.channels) >= 3), threads=1)
    for done, name in enumerate(names, len(pictures)):
        yield Progress(done, total, f"compiling {FORMATS[name].label}")
        for effort in Effort:
            options = EncodeOptions(effort, loss=1.0, threads=1)
            decode_level(finish(encode_texture([pictures[3]], FORMATS[name], options)))
    encode_level(pictures[3], FORMATS["rgb565"], EncodeOptions(dither=Dither.DIFFUSED))
