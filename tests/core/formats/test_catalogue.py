"""Bytes of every format, against sizes worked out from the standards."""

import numpy as np
import pytest

from oaktrim.core.errors import Unsupported
from oaktrim.core.formats.catalogue import FORMATS, format_named
from oaktrim.core.formats.columns import mip_chain_bytes
from oaktrim.core.formats.format import Alpha, Hardware


@pytest.mark.parametrize(
    ("name", "bits"),
    [
        ("r8", 8), ("rg8", 16), ("rgb8", 24), ("rgba8", 32), ("r16", 16), ("rgba16f", 64), ("rgb565", 16),
        ("r11g11b10f", 32), ("rgb9e5", 32), ("bc1", 4), ("bc3", 8), ("bc4", 4), ("bc5", 8), ("bc6h", 8), ("bc7", 8),
        ("etc2-rgb", 4), ("etc2-rgb-a1", 4), ("etc2-rgba", 8), ("eac-r11", 4), ("eac-rg11", 8),
        ("astc-4x4", 8), ("astc-5x4", 6.4), ("astc-6x6", 128 / 36), ("astc-8x8", 2), ("astc-12x12", 128 / 144),
    ],
)  # fmt: skip
def test_bits_a_pixel(name, bits):
    assert FORMATS[name].bits_per_pixel == pytest.approx(bits)


def test_the_whole_list_is_there():
    assert len([name for name in FORMATS if name.startswith("astc")]) == 14
    assert len({row.vk for row in FORMATS.values()}) == len(FORMATS)
    for row in FORMATS.values():
        assert (row.alpha is Alpha.NONE) == ("A" not in row.channels)
        assert row.hardware is not Hardware.ASTC or row.vk_srgb == row.vk + 1


@pytest.mark.parametrize("name", ["rgba8", "bc1", "astc-12x10"])
@pytest.mark.parametrize("size", [(1, 1), (13, 7), (1024, 1024), (300, 1)])
def test_a_chain_is_the_sum_of_its_levels(name, size):
    row = FORMATS[name]
    width, height, total, levels = *size, 0, 0
    while True:
        across, down = -(-width // row.block[0]), -(-height // row.block[1])
        total += across * down * row.block_bytes
        levels += 1
        if (width, height) == (1, 1):
            break
        width, height = max(1, width // 2), max(1, height // 2)
    assert row.mip_chain_bytes(*size, levels) == total
    assert row.mip_chain_bytes(*size, levels, faces=6, layers=3) == 18 * total
    columns = [np.array([value] * 4) for value in (*size, levels, *row.block, row.block_bytes)]
    assert mip_chain_bytes(*columns).tolist() == [total] * 4


def test_a_known_texture():
    assert FORMATS["rgba8"].mip_chain_bytes(4096, 4096, 13) == 89478484
    assert FORMATS["bc7"].mip_chain_bytes(1024, 1024, 11) == 1398128
    assert FORMATS["astc-12x12"].level_bytes(13, 13) == 64


def test_an_unknown_name_is_refused():
    with pytest.raises(Unsupported, match="no texture format 'bc9'"):
        format_named("bc9")
