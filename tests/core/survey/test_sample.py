"""Samples: what is told of a whole picture from pieces of it, against what the whole really packs to."""

import numpy as np
import pytest

from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import encode_level
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.image import Image
from oaktrim.core.survey.packed import PACKINGS, pack_bytes, packed_share
from oaktrim.core.survey.sample import sample_of
from tests.kit.pictures import busy

SIDE = 1024


def framed() -> Image:
    """A busy picture in a wide, empty frame: at its edges there is nothing at all."""
    pixels = np.zeros((SIDE, SIDE, 3), np.uint8)
    pixels[128:-128, 64:-64] = busy(SIDE - 128, SIDE - 256, 3).pixels
    return Image.of(pixels)


def tiled() -> Image:
    """Bricks of a few kinds: a packer finds in the whole what it meets but once in a piece."""
    rng = np.random.default_rng(5)
    kinds = [busy(64, 32, 3, seed=seed).pixels for seed in range(12)]
    rows = [np.concatenate([kinds[k] for k in rng.integers(0, 12, SIDE // 64)], axis=1) for _ in range(SIDE // 32)]
    return Image.of(np.concatenate(rows))


def graded() -> Image:
    """Grain that grows from nothing at the top to all there is at the bottom."""
    rng, grain = np.random.default_rng(6), np.linspace(0, 60, SIDE)[:, None, None]
    return Image.of(np.clip(128 + rng.normal(0, 1, (SIDE, SIDE, 3)) * grain, 0, 255).astype(np.uint8))


def shares(image: Image, name: str, method: str) -> tuple[float, float, float]:
    """Return what a sample tells, what its piece packs to, and what the whole does."""
    options, packing = EncodeOptions(Effort.DRAFT), PACKINGS[method]
    piece = sample_of(image).pieces[0]
    part, whole = (encode_level(picture, format_named(name), options) for picture in (piece, image))
    told = packed_share(piece, name, packing, image.width * image.height)
    return told, pack_bytes(part, packing) / len(part), pack_bytes(whole, packing) / len(whole)


@pytest.mark.parametrize("method", PACKINGS)
@pytest.mark.parametrize("name", ["bc1", "astc-6x6", "rgba8"])
@pytest.mark.parametrize("make", [framed, graded])
def test_a_sample_stands_for_the_whole(make, name, method):
    told, _, true = shares(make(), name, method)
    assert told == pytest.approx(true, rel=0.25)


@pytest.mark.parametrize("name", ["bc1", "astc-6x6"])
def test_what_packs_better_in_one_is_carried_on(name):
    told, piece, true = shares(tiled(), name, "zstd")
    assert true < told < piece
    assert abs(told - true) < 0.8 * abs(piece - true)
