"""Measures against their definitions."""

import numpy as np
import pytest

from oaktrim.core import progress
from oaktrim.core.errors import Unsupported
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.metrics import banding, compare, mean_square, ssim
from oaktrim.core.pixels.perception import perceptual_error_map
from oaktrim.core.pixels.statistics import pixel_facts
from tests.kit.pictures import busy, flat


def test_equal_pictures():
    got = compare(busy(), busy())
    assert got.psnr_rgb == float("inf")
    assert got.ssim == pytest.approx(1)
    assert got.largest_error == 0


def test_psnr_of_a_known_difference():
    got = compare(flat((100, 100, 100, 255)), flat((110, 100, 95, 255)))
    assert got.psnr["R"] == pytest.approx(20 * np.log10(255 / 10))
    assert got.psnr["G"] == float("inf")
    assert got.psnr_rgb == pytest.approx(10 * np.log10(255**2 / ((100 + 25) / 3)))
    assert got.largest_error == pytest.approx(10 / 255)


def test_ssim_by_its_formula():
    """The paper's window summed by hand at every place of a small picture, mirrored at its edges."""
    rng = np.random.default_rng(3)
    a, b = rng.random((13, 12)), rng.random((13, 12))
    steps = np.arange(11) - 5
    window = np.exp(-(steps[:, None] ** 2 + steps[None] ** 2) / (2 * 1.5**2))
    window /= window.sum()
    wide_a, wide_b = (np.pad(plane, 5, mode="reflect") for plane in (a, b))
    total = 0.0
    for y in range(13):
        for x in range(12):
            p, q = wide_a[y : y + 11, x : x + 11], wide_b[y : y + 11, x : x + 11]
            mp, mq = (window * p).sum(), (window * q).sum()
            vp, vq = (window * p * p).sum() - mp**2, (window * q * q).sum() - mq**2
            cov = (window * p * q).sum() - mp * mq
            total += (2 * mp * mq + 1e-4) * (2 * cov + 9e-4) / ((mp**2 + mq**2 + 1e-4) * (vp + vq + 9e-4))
    assert ssim(a, b) == pytest.approx(total / (13 * 12))


def test_sizes_must_agree():
    with pytest.raises(Unsupported, match="16x16 and 8x16"):
        compare(flat((1, 2, 3)), flat((1, 2, 3), width=8))


def test_colour_that_nobody_sees_can_be_left_out():
    a = busy(16, 16, 4).pixels.copy()
    a[:8, :, 3], a[8:, :, 3] = 0, 255
    b = a.copy()
    b[:8, :, :3] = 255 - b[:8, :, :3]
    assert mean_square(Image.of(a), Image.of(b))[:3].max() > 0
    assert mean_square(Image.of(a), Image.of(b), seen_only=True).max() == 0
    b[8, 0, 0] ^= 255
    assert mean_square(Image.of(a), Image.of(b), seen_only=True)[0] * 128 == pytest.approx(
        (float(a[8, 0, 0]) - float(b[8, 0, 0])) ** 2 / 255**2
    )


def test_facts_of_pixels():
    grey = flat((9, 9, 9, 255))
    facts = pixel_facts(grey)
    assert facts.grey
    assert facts.constant
    assert facts.low == (9, 9, 9, 255)
    nearly = grey.pixels.copy()
    nearly[5, 7, 1] = 10
    facts = pixel_facts(Image.of(nearly))
    assert not facts.grey
    assert not facts.constant
    assert facts.high == (9, 10, 9, 255)
    assert facts.digest != pixel_facts(grey).digest == pixel_facts(flat((9, 9, 9, 255))).digest
    assert pixel_facts(grey).digest != pixel_facts(flat((9, 9, 9, 255), 8, 32)).digest


@pytest.mark.parametrize("height", [40, 300, 1100])
def test_bands_of_rows_measure_as_the_whole_does(height, monkeypatch):
    """Whatever a measure reaches for across the border of a band, down to a last band of a few rows."""
    rng = np.random.default_rng(4)
    ramp = np.add.outer(np.linspace(0, 200, height), np.linspace(0, 40, 90))
    coarse = np.round((ramp + rng.normal(0, 0.3, ramp.shape)) / 6) * 6
    light = [np.repeat((plane / 255)[..., None], 3, axis=2).astype(np.float32) for plane in (ramp, coarse)]

    def measured(rows):
        monkeypatch.setattr(progress, "_BAND_ROWS", rows)
        return ssim(ramp / 255, coarse / 255), banding(ramp, coarse), perceptual_error_map(*light)

    whole = measured(1 << 20)
    assert whole[0] < 0.99 and 0 < whole[1] < 1 and whole[2].max() > 0.5
    for rows in (36, 512):
        found = measured(rows)
        assert found[:2] == pytest.approx(whole[:2], rel=1e-9)
        np.testing.assert_allclose(found[2], whole[2], atol=2e-3)
