"""Every finding, on a picture that has the fault and on one that nearly has it."""

import numpy as np
import pytest

from oaktrim.core.codecs.texture import encode_texture
from oaktrim.core.files import dds, ktx2
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.levels import make_levels
from oaktrim.core.progress import finish
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.findings.rules import findings_on, merge
from oaktrim.core.targets.target import target_named
from tests.kit.pictures import busy
from tests.kit.trees import found, put, surveyed


def only(root, target, code):
    """The one finding of a code."""
    (finding,) = [f for f in findings_on(surveyed(root), target_named(target)) if f.code == code]
    return finding


def test_not_power_of_two(tmp_path):
    put(tmp_path, "odd.png", size=(100, 64))
    put(tmp_path, "even.png", size=(128, 64))
    for target, words in (
        ("pocket", "loses its mip levels"), ("visor", "resamples it to 128x64"), ("lounge", "would rather"),
    ):  # fmt: skip
        assert found(tmp_path, target) == {"odd.png": ["not-power-of-two"]}
        assert words in only(tmp_path, target, "not-power-of-two").message
    # 128x64 with levels, less 100x64 with levels, in RGBA8.
    grown = FORMATS["rgba8"].chain_bytes(128, 64, 8) - FORMATS["rgba8"].chain_bytes(100, 64, 7)
    assert only(tmp_path, "visor", "not-power-of-two").bytes == grown


def test_over_the_longest_side(tmp_path):
    put(tmp_path, "long.png", np.arange(4096 * 4, dtype=np.uint8).reshape(4, 4096))
    put(tmp_path, "fits.png", np.arange(2048 * 4, dtype=np.uint8).reshape(4, 2048))
    assert found(tmp_path, "pocket") == {"long.png": ["over-longest-side"]}
    assert "arrives at 2048x2" in only(tmp_path, "pocket", "over-longest-side").message
    assert "over-longest-side" not in str(found(tmp_path, "lounge"))


@pytest.mark.parametrize(("code", "fault", "near"), [
    ("opaque-alpha", (..., 3, 255), (0, 3, 254)),
    ("grey-as-colour", None, (0, 1, 7)),
    ("constant-image", (..., slice(None), 80), (0, 1, 81)),
])  # fmt: skip
def test_faults_of_content(tmp_path, code, fault, near):
    pixels = busy(64, 64, 4).pixels.copy()
    pixels[..., 3] = 200
    pixels[0, 0, 3] = 10
    if code == "grey-as-colour":
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    else:
        pixels[fault[0], fault[1]] = fault[2]
        if code == "constant-image":
            pixels = pixels[..., :3]
    put(tmp_path, "fault.png", pixels)
    nearly = pixels.copy()
    place, channel, value = near
    nearly[place, place, channel] = value
    put(tmp_path, "near.png", nearly)
    assert found(tmp_path, "pocket") == {"fault.png": [code]}
    memory = FORMATS["rgba8"].chain_bytes(64, 64, 7)
    stake = {"opaque-alpha": memory // 4, "grey-as-colour": memory * 3 // 4, "constant-image": memory - 64}[code]
    assert only(tmp_path, "pocket", code).bytes == stake


def test_grey_with_an_alpha_that_is_used_is_left_alone(tmp_path):
    grey = np.repeat(busy(64, 64, 1).pixels, 4, axis=2)
    put(tmp_path, "a.png", grey)
    assert found(tmp_path, "pocket") == {}


def test_same_pixels_under_several_names(tmp_path):
    pixels = busy(64, 64, 3).pixels
    put(tmp_path, "a_base.png", pixels)
    put(tmp_path, "b_base.tga", pixels)
    put(tmp_path, "c_n.png", pixels)  # read as data: another texture on a GPU
    nearly = pixels.copy()
    nearly[63, 63, 2] ^= 1
    put(tmp_path, "d_base.png", nearly)
    assert found(tmp_path, "pocket") == {"b_base.tga": ["duplicate-pixels"]}
    finding = only(tmp_path, "pocket", "duplicate-pixels")
    assert "a_base.png" in finding.message
    assert finding.bytes == FORMATS["rgba8"].chain_bytes(64, 64, 7)


def test_formats_that_the_hardware_lacks(tmp_path):
    texture = finish(encode_texture(make_levels(busy(64, 64)), FORMATS["bc1"]))
    (tmp_path / "a.dds").write_bytes(dds.pack(texture))
    plain = finish(encode_texture(make_levels(busy(64, 64)), FORMATS["rgba8"]))
    (tmp_path / "b.ktx2").write_bytes(ktx2.pack(plain))
    assert found(tmp_path, "lounge") == {}
    assert found(tmp_path, "pocket") == {"a.dds": ["format-not-on-hardware"]}
    finding = only(tmp_path, "pocket", "format-not-on-hardware")
    assert finding.severity is Severity.ERROR
    assert "expanded to RGBA8" in finding.message
    assert finding.bytes == FORMATS["rgba8"].chain_bytes(64, 64, 7) - FORMATS["bc1"].chain_bytes(64, 64, 7)


def test_unreadable_files_are_findings_too(tmp_path):
    (tmp_path / "a.png").write_bytes(b"nothing")
    assert found(tmp_path, "pocket") == {"a.png": ["unreadable"]}


def test_findings_of_several_targets_are_told_once(tmp_path):
    put(tmp_path, "odd.png", size=(100, 64))
    inventory = surveyed(tmp_path)
    (one,) = merge([findings_on(inventory, target_named(t)) for t in ("pocket", "visor", "lounge")])
    assert one.targets == ("pocket", "visor", "lounge")
    assert one.severity is Severity.WARNING
    assert one.message.count(";") == 2
