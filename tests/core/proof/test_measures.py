"""Measures that say what an eye or a shader would: known angles, known shares, and order where no number is known."""

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import build_mip_chain, coverage, preserve_alpha_coverage
from oaktrim.core.pixels.metrics import banding
from oaktrim.core.pixels.normals import angles_between
from oaktrim.core.pixels.perception import JUST_NOTICED, oklab, perceptual_error_map
from oaktrim.core.pixels.resample import resample
from oaktrim.core.proof.measures import Reference, judge, worst_regions
from oaktrim.core.survey.roles import Role
from tests.kit.pictures import busy


def test_oklab_of_known_colours():
    """The values that the paper's own table gives for XYZ are met by way of sRGB: white, and the three primaries."""
    light = np.array([[[1, 1, 1], [1, 0, 0], [0, 1, 0], [0, 0, 1]]], np.float32)
    wanted = [[1, 0, 0], [0.62796, 0.22486, 0.12585], [0.86644, -0.23389, 0.17950], [0.45201, -0.03246, -0.31153]]
    np.testing.assert_allclose(oklab(light)[0], wanted, atol=2e-4)


def test_an_even_shift_is_seen_whole_and_fine_grain_is_not():
    grey = np.full((128, 128, 3), 0.2, np.float32)
    apart = float(oklab(grey * 1.2)[0, 0, 0] - oklab(grey)[0, 0, 0]) / JUST_NOTICED
    np.testing.assert_allclose(perceptual_error_map(grey, grey * 1.2), apart, rtol=1e-3)
    noise = np.random.default_rng(0).normal(0, 1, (128, 128, 1)).astype(np.float32)
    coarse = gaussian_filter(noise, (6, 6, 0))
    coarse *= noise.std() / coarse.std()
    fine, broad = (perceptual_error_map(grey, grey * (1 + 0.1 * n)).mean() for n in (noise, coarse))
    assert fine < broad / 2
    # The eye tells colour less finely than light: the same stripes in colour alone fade first.
    stripes = np.where(np.arange(128) % 6 < 3, 1, -1).astype(np.float32)[None, :, None] * np.float32(0.02)
    lab_light, lab_colour = stripes * [[[1, 1, 1]]], stripes * [[[1, -0.297, 0]]]
    assert perceptual_error_map(grey, grey + lab_colour).mean() < perceptual_error_map(grey, grey + lab_light).mean()


@pytest.mark.parametrize("degrees", [0.5, 5, 40])
def test_angles(degrees):
    a = np.radians(degrees)
    straight = np.full((4, 4, 3), (0.5, 0.5, 1), np.float32)
    leaning = np.full((4, 4, 3), (np.sin(a) / 2 + 0.5, 0.5, np.cos(a) / 2 + 0.5), np.float32)
    np.testing.assert_allclose(angles_between(straight, leaning), degrees, rtol=2e-3)
    got = judge(
        Image(straight, ("R", "G", "B"), Transfer.LINEAR), Image(leaning, ("R", "G", "B"), Transfer.LINEAR), Role.NORMAL
    )
    assert got.jnd == pytest.approx(degrees / 2, rel=2e-3)
    # In two channels the third is rebuilt, not lost.
    two = Image(leaning[..., :2], ("R", "G"), Transfer.LINEAR)
    assert judge(Image(leaning, ("R", "G", "B"), Transfer.LINEAR), two, Role.NORMAL).jnd < 0.05


def test_data_is_told_by_value():
    codes = np.full((32, 32, 3), 100, np.uint8)
    other = codes.copy()
    other[3, 4] += 51  # a fifth of the range: ten steps of 2 %
    got = judge(Image.of(codes, Transfer.LINEAR), Image.of(other, Transfer.LINEAR), Role.MASK)
    assert got.map.max() == pytest.approx(10)
    assert dict(got.figures())["largest error"] == "51.0 of 255"
    assert judge(Image.of(codes), Image.of(codes), Role.MASK).figures() == (("largest error", "exact"),)


@pytest.mark.parametrize("role", [Role.BASE_COLOUR, Role.NORMAL, Role.ROUGHNESS, Role.UNKNOWN])
def test_less_left_is_never_nearer(role):
    source = busy(256, 256, 3)
    jnd = [judge(source, resample(source, side, side), role).jnd for side in (256, 128, 64, 16)]
    assert jnd[0] == pytest.approx(0, abs=1e-4)
    assert jnd == sorted(jnd)


def test_what_is_seen_small_may_be_small():
    source = busy(256, 256, 3)
    half = resample(source, 128, 128)
    assert judge(source, half, Role.BASE_COLOUR, seen=0.25).jnd < judge(source, half, Role.BASE_COLOUR).jnd / 4


def test_colour_under_clear_pixels_does_not_count():
    codes = busy(64, 64, 4).pixels.copy()
    codes[..., 3] = 0
    other = codes.copy()
    other[..., :3] = 255 - other[..., :3]
    assert judge(Image.of(codes), Image.of(other), Role.BASE_COLOUR).jnd == 0
    other[..., 3] = 51
    assert judge(Image.of(codes), Image.of(other), Role.BASE_COLOUR).jnd > 9


def test_the_worst_squares_are_where_the_fault_is():
    jnd = np.zeros((70, 260), np.float32)
    jnd[64:70, 256:260] = 3  # the cut corner
    jnd[0:32, 32:64] = 2
    jnd[32:64, 32:64] = 1.9  # a neighbour: the same fault
    found = worst_regions(jnd, 5, 32)
    assert [(r.x, r.y, r.width, r.height) for r in found] == [(256, 64, 4, 6), (32, 0, 32, 32)]
    assert [r.jnd for r in found] == pytest.approx([3, 2])


def test_lost_gradients():
    """A ramp in steps of eight codes is banded, with grain over it it is not, and an edge was never a gradient."""
    ramp = np.broadcast_to(np.linspace(40, 140, 400), (64, 400)).astype(np.float64)
    stepped = np.floor(ramp / 8) * 8
    grain = ramp + np.random.default_rng(0).normal(0, 1.5, ramp.shape)
    assert banding(ramp, ramp) == 0
    assert banding(ramp, stepped) > 0.9
    assert banding(ramp, grain) < 0.05
    edge = np.where(np.arange(400) < 200, 40.0, 140.0)[None].repeat(64, 0)
    assert banding(edge, stepped) == 0


def test_levels_keep_what_a_cut_out_keeps():
    """Thin wires: plain levels lose them at the threshold, and levels that keep coverage do not."""
    codes = np.zeros((256, 256, 4), np.uint8)
    codes[::8, :, 3] = codes[:, ::8, 3] = 255
    levels = build_mip_chain(Image.of(codes))
    wanted = coverage(levels[0], 128)
    assert coverage(levels[4], 128) < 0.01, "the wires vanish"
    kept = preserve_alpha_coverage(levels, 128)
    for plain, level in list(zip(levels, kept, strict=True))[1:4]:
        alpha = plain.pixels[..., 3]
        best = min(abs((alpha >= edge).mean() - wanted) for edge in np.unique(alpha[alpha > 0]))
        assert abs(coverage(level, 128) - wanted) == pytest.approx(best, abs=1e-6), "no other scale is nearer"
    assert kept[0] is levels[0]
    leaves = busy(256, 256, 4)
    for plain, level in zip(
        build_mip_chain(leaves)[:6], preserve_alpha_coverage(build_mip_chain(leaves), 128)[:6], strict=True
    ):
        assert (
            abs(coverage(level, 128) - coverage(leaves, 128))
            <= abs(coverage(plain, 128) - coverage(leaves, 128)) + 0.02
        )


def test_windows_stand_for_the_whole():
    source = busy(1500, 1300, 3)
    small = resample(source, 750, 650)
    whole = Reference.whole(source, Role.BASE_COLOUR).judge(small)
    sampled = Reference.sampled(source, Role.BASE_COLOUR)
    assert len(sampled.windows) == 16
    assert sampled.judge(source).jnd < 1e-4
    assert sampled.judge(small).jnd == pytest.approx(whole.jnd, rel=0.1)
    flat = Reference.sampled(source, Role.BASE_COLOUR, seen=0.4)
    assert flat.scale == 4
    assert flat.judge(small).jnd == pytest.approx(Reference.whole(source, Role.BASE_COLOUR, 0.4).judge(small).jnd)
