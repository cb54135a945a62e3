"""Resampling against a plain twin in double precision, and by its properties."""

import tracemalloc

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import build_mip_chain, level_count, level_size
from oaktrim.core.pixels.resample import Edge, Filter, Resampling, resample, resample_linear, taps
from oaktrim.core.pixels.transfer import linear_to_srgb, srgb_to_linear
from tests.kit.pictures import busy


def matrix(source, target, how):
    """The filter as a dense matrix (target, source)."""
    _, weights, index = taps(source, target, how.filter, how.edge)
    out = np.zeros((target, source))
    for row in range(target):
        np.add.at(out[row], index[row], weights[row])
    return out


def twin(pixels, width, height, how):
    """sRGB RGBA codes resampled in linear light, weighted by alpha, in double precision."""
    values = pixels / 255.0
    light, alpha = srgb_to_linear(values[..., :3]), values[..., 3:]
    weight = alpha * (1 - 1 / 65536) + 1 / 65536
    down, across = matrix(pixels.shape[0], height, how), matrix(pixels.shape[1], width, how)
    filtered = np.einsum("yh,hwc,xw->yxc", down, np.dstack([light * weight, weight]), across)
    colour = np.clip(filtered[..., :3] / np.maximum(filtered[..., 3:], 1e-7), 0, 1)
    clear = np.clip((filtered[..., 3:] - 1 / 65536) / (1 - 1 / 65536), 0, 1)
    return np.dstack([linear_to_srgb(colour), clear]) * 255


@pytest.mark.parametrize("size", [(31, 17), (64, 48), (16, 12), (100, 5), (1, 1)])
@pytest.mark.parametrize("edge", Edge)
@pytest.mark.parametrize("kind", Filter)
def test_parity_with_the_twin(kind, edge, size):
    picture, how = busy(64, 48), Resampling(kind, edge)
    got = resample(picture, *size, how).pixels.astype(float)
    assert np.abs(got - twin(picture.pixels, *size, how)).max() <= 0.51 or size == picture.size


@pytest.mark.parametrize("kind", Filter)
def test_weights_add_up(kind):
    for source, target in ((7, 3), (3, 7), (100, 1), (1, 9), (512, 511)):
        _, weights, index = taps(source, target, kind, Edge.CLAMP)
        np.testing.assert_allclose(weights.sum(1), 1, atol=1e-6)
        assert index.min() >= 0
        assert index.max() < source


@given(st.integers(0, 255), st.integers(1, 40), st.integers(1, 40), st.sampled_from(Filter))
@settings(max_examples=60, deadline=None)
def test_a_flat_picture_stays_flat(code, width, height, kind):
    picture = Image.of(np.full((23, 17, 4), code, np.uint8))
    got = resample(picture, width, height, Resampling(kind)).pixels
    assert (got[..., 3] == code).all()
    assert code == 0 or (got[..., :3] == code).all()


def test_a_wrapped_picture_may_be_rolled_first():
    picture, how = busy(64, 64, 3), Resampling(Filter.KAISER, Edge.WRAP)
    rolled = picture.with_pixels(np.roll(picture.pixels, (16, 32), (0, 1)))
    a, b = resample(picture, 16, 16, how).pixels, resample(rolled, 16, 16, how).pixels
    assert np.abs(np.roll(a, (4, 8), (0, 1)).astype(int) - b).max() <= 1
    clamped = resample(rolled, 16, 16, Resampling(Filter.KAISER)).pixels
    assert np.abs(clamped.astype(int) - b).max() > 1


def test_light_is_averaged_not_codes():
    checks = np.indices((64, 64)).sum(0) % 2 * 255
    got = resample(Image.of(checks.astype(np.uint8)), 8, 8, Resampling(Filter.BOX)).pixels
    assert (got == 188).all()  # half the light of white; averaged codes would give 128
    linear = resample(Image.of(checks.astype(np.uint8), Transfer.LINEAR), 8, 8, Resampling(Filter.BOX)).pixels
    assert (linear == 128).all()


def test_colour_under_clear_pixels_does_not_bleed():
    pixels = np.zeros((32, 32, 4), np.uint8)
    pixels[:, :16] = (0, 200, 0, 255)
    pixels[:, 16:] = (255, 0, 0, 0)
    for kind in Filter:
        got = resample(Image.of(pixels), 10, 10, Resampling(kind)).pixels
        seen = got[got[..., 3] > 8]
        assert (np.abs(seen[:, :3].astype(int) - (0, 200, 0)) <= 1).all()


def test_normals_stay_of_unit_length():
    rng = np.random.default_rng(2)
    vectors = rng.normal(0, 1, (64, 64, 3)) + np.array([0, 0, 2])
    vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
    codes = np.round((vectors * 0.5 + 0.5) * 65535).astype(np.uint16)
    for level in build_mip_chain(Image.of(codes, Transfer.LINEAR), how=Resampling(Filter.KAISER, normals=True)):
        length = np.linalg.norm(level.pixels / 65535.0 * 2 - 1, axis=2)
        assert np.abs(length - 1).max() < 1e-3


def test_precision_is_kept_to_the_end():
    deep = busy(64, 64, 3, dtype=np.uint16)
    fine = resample(deep, 20, 20).pixels / 65535
    coarse = resample(deep.with_pixels((deep.pixels >> 8).astype(np.uint8)), 20, 20).pixels / 255
    assert len(np.unique(fine)) > 3 * len(np.unique(coarse))
    bright = Image.of(np.full((16, 16, 3), 40.0, np.float32), Transfer.LINEAR)
    assert np.allclose(resample(bright, 5, 5).pixels, 40, rtol=1e-6)


@pytest.mark.parametrize("size", [(1, 1), (7, 5), (640, 3), (100, 200)])
def test_levels_go_down_to_one_pixel(size):
    levels = build_mip_chain(busy(*size, channels=3))
    assert levels[-1].size == (1, 1)
    assert len(levels) == level_count(*size) == 1 + int(np.log2(max(size)))
    assert [level.size for level in levels] == [level_size(*size, n) for n in range(len(levels))]


def test_threads_change_nothing():
    picture = busy(300, 500, 4)
    one, four = (resample_linear(picture, 70, 333, threads=n) for n in (1, 4))
    assert np.array_equal(one, four)


def test_a_large_picture_is_reduced_in_bounded_memory():
    pixels = np.zeros((8192, 8192, 4), np.uint8)
    pixels[::64] = 255
    picture = Image.of(pixels)
    tracemalloc.start()
    levels = build_mip_chain(picture)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert levels[1].size == (4096, 4096)
    # The source itself was there before the count began.
    assert peak + pixels.nbytes < 3 * pixels.nbytes
