"""What is looked at in one pass is what plain NumPy finds: ranges, use, cells and seams, of every type of pixels."""

import numpy as np
import pytest

from oaktrim.core.pixels.detail import detail_share, normal_facts, seam_ratio
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import resample
from oaktrim.core.pixels.statistics import pixel_facts

DTYPES = (np.uint8, np.uint16, np.float16, np.float32)


def picture(dtype, channels, height=70, width=150, seed=3):
    """Noise with an empty margin: clear where there is alpha, of one colour where there is none."""
    codes = np.random.default_rng(seed).integers(1, 250, (height, width, channels))
    codes[:5], codes[-7:], codes[:, :11], codes[:, -2:] = 0, 0, 0, 0
    return (codes / (250 if np.dtype(dtype).kind == "f" else 1)).astype(dtype)


@pytest.mark.parametrize("channels", [1, 2, 3, 4])
@pytest.mark.parametrize("dtype", DTYPES)
def test_ranges_and_what_is_in_use(dtype, channels):
    pixels = picture(dtype, channels)
    facts = pixel_facts(Image.of(pixels))
    flat = pixels.reshape(-1, channels).astype(np.float64)
    assert facts.low == pytest.approx(flat.min(axis=0)) and facts.high == pytest.approx(flat.max(axis=0))
    assert facts.used == (11, 5, 150 - 13, 70 - 12)
    seen = pixels[..., -1] != 0 if channels in (2, 4) else (pixels != pixels[0, 0]).any(axis=2)
    # Without alpha every second row of seventy is looked at.
    looked = seen if channels in (2, 4) else seen[1::2]
    assert facts.used_share == pytest.approx(looked.mean())
    assert not facts.grey
    grey = np.repeat(pixels[..., :1], channels, axis=2)
    assert pixel_facts(Image.of(grey)).grey == (channels >= 3)
    grey[40, 60, channels - 2] += 1
    assert channels < 4 or not pixel_facts(Image.of(grey)).grey


@pytest.mark.parametrize("dtype", DTYPES)
def test_seams(dtype):
    pixels = picture(dtype, 3)[5:-7, 11:-2]
    rows, floor = pixels.astype(np.float64), (1.0 if np.dtype(dtype).kind == "f" else np.iinfo(dtype).max) * 1.5 / 255
    wanted = []
    for side in (rows.swapaxes(0, 1), rows):
        border, near, far = (
            np.abs(a - b).mean() for a, b in ((side[-1], side[0]), (side[0], side[1]), (side[-2], side[-1]))
        )
        wanted.append(border / max(near, far, floor))
    assert seam_ratio(Image.of(pixels)) == pytest.approx(wanted, rel=1e-4)


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
def test_an_enlarged_picture_is_found_out(dtype):
    # Gentle noise: what is cut off at black or white would have every frequency.
    top = np.iinfo(dtype).max
    small = Image.of(np.random.default_rng(1).integers(top // 3, top // 2, (64, 64, 3)).astype(dtype))
    for times, share in ((1, 1.0), (2, 0.5), (4, 0.25)):
        image = resample(small, 64 * times, 64 * times)
        assert detail_share(image, pixel_facts(image)) == share


def test_lengths_of_normals():
    vectors = np.random.default_rng(2).normal((0, 0, 1), 0.2, (64, 64, 3))
    vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
    for length in (1.0, 0.8):
        image = Image.of(np.rint((vectors * length * 0.5 + 0.5) * 255).astype(np.uint8))
        few = image.pixels[1::2, 1::2] / 127.5 - 1
        found = normal_facts(image, pixel_facts(image))
        assert found.length_error == pytest.approx(np.abs(np.linalg.norm(few, axis=2) - 1).mean(), abs=1e-6)
        assert found.likely == (length == 1.0)
