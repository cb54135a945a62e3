"""The sRGB transfer against the standard's own numbers."""

import numpy as np
import pytest

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_depth
from oaktrim.core.pixels.resample import from_light
from oaktrim.core.pixels.transfer import decode_table, linear_to_srgb, srgb_to_linear


def test_values_of_the_standard():
    # IEC 61966-2-1: the knee, the ends, and middle grey worked out with the published exponent.
    codes = np.array([0.0, 0.04045, 0.5, 1.0])
    light = np.array([0.0, 0.04045 / 12.92, ((0.5 + 0.055) / 1.055) ** 2.4, 1.0])
    np.testing.assert_allclose(srgb_to_linear(codes), light, rtol=1e-12)
    np.testing.assert_allclose(linear_to_srgb(light), codes, atol=1e-7)


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
@pytest.mark.parametrize("transfer", Transfer)
def test_every_code_survives_the_way_there_and_back(dtype, transfer):
    codes = np.arange(np.iinfo(dtype).max + 1).astype(dtype).reshape(1, -1, 1)
    light = decode_table(transfer, np.iinfo(dtype).bits)[codes]
    assert (from_light(light, Image.of(codes, transfer)).pixels == codes).all()


def test_rounding_is_that_of_the_curve():
    rng = np.random.default_rng(0)
    light = np.concatenate([rng.random(20000), rng.random(20000) ** 6]).astype(np.float32).reshape(1, -1, 1)
    got = from_light(light, Image.of(np.zeros((1, 1, 1), np.uint8))).pixels.astype(int)
    exact = linear_to_srgb(light.astype(np.float64)) * 255
    assert np.abs(got - exact).max() <= 0.5 + 1e-4


def test_depths_round_to_nearest():
    wide = np.arange(65536, dtype=np.uint16)
    assert (to_depth(wide, np.uint8) == np.floor(wide / 257 + 0.5)).all()
    assert (to_depth(to_depth(np.arange(256, dtype=np.uint8), np.uint16), np.uint8) == np.arange(256)).all()
    assert to_depth(np.array([-1, 0.5, 2, np.nan], np.float32), np.uint8).tolist() == [0, 128, 255, 0]
