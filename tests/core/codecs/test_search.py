"""What the searches say of their blocks is true of the blocks once they are decoded, and what they better gets better."""

import numpy as np
import pytest
from click.testing import CliRunner
from PIL import Image as PillowImage
from tools import astc_choices as choices_tool

from oaktrim.core.codecs.astc import choices as astc_choices
from oaktrim.core.codecs.astc import encode as astc_encode
from oaktrim.core.codecs.astc.decode import decode_astc
from oaktrim.core.codecs.astc.encode import encode_astc
from oaktrim.core.codecs.astc.endpoints import CONTRACTED, WIDE, decode_endpoints, round_endpoints
from oaktrim.core.codecs.astc.tables import partition_of
from oaktrim.core.codecs.bc1.codec import decode_bc1, encode_bc1
from oaktrim.core.codecs.bc4.codec import decode_bc4, decode_bc5, encode_bc4, encode_bc5
from oaktrim.core.codecs.bc7 import codec as bc7
from oaktrim.core.codecs.bc7.codec import decode_bc7, encode_bc7
from oaktrim.core.codecs.bc7.fit import _ask
from oaktrim.core.codecs.bc7.lanes import LANES, fit_lanes, lanes
from oaktrim.core.codecs.effort import Effort, EncodeOptions, ErrorMetric
from oaktrim.core.codecs.etc.codec import decode_eac_rg11, decode_etc2_rgb, encode_eac_rg11, encode_etc2_rgb
from oaktrim.core.codecs.partitions import flat_scratch, moments, rank_partitions, ranking_scratch, subset_masks
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_depth
from tests.kit.pictures import busy, noise, psnr8, smooth

SIDE = 120


def pictures() -> dict[str, np.ndarray]:
    """Blocks of every kindred: colour or grey, opaque or not, gentle or wild."""
    colour, wild = busy(SIDE, SIDE, 4).pixels.copy(), noise(SIDE, SIDE, 4).pixels.copy()
    opaque, noisy = colour.copy(), wild.copy()
    opaque[..., 3] = noisy[..., 3] = 255
    # Alpha that is nowhere 0 leaves every colour in sight, so that all of the error can be counted.
    colour[..., 3] = np.maximum(colour[..., 3], 1)
    wild[..., 3] = np.maximum(wild[..., 3], 1)
    grey = np.repeat(smooth(SIDE, SIDE, 1).pixels, 4, axis=2)
    grey_alpha = grey.copy()
    grey[..., 3], grey_alpha[..., 3] = 255, np.maximum(busy(SIDE, SIDE, 1).pixels[..., 0], 1)
    return {
        "opaque": opaque, "noise": noisy, "alpha": colour, "wild alpha": wild, "grey": grey, "grey, alpha": grey_alpha,
    }  # fmt: skip


def errors(source: np.ndarray, shown: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """Return the squared error of each block over the channels that are shown."""
    channels = shown.shape[2]
    square = ((source[..., :channels].astype(np.int64) - shown) ** 2).sum(axis=-1)
    return square.reshape(SIDE // size[1], size[1], SIDE // size[0], size[0]).sum(axis=(1, 3))


@pytest.mark.parametrize("kind", pictures())
@pytest.mark.parametrize("effort", list(Effort))
@pytest.mark.parametrize("size", [(4, 4), (6, 5), (8, 8), (12, 12)])
def test_astc_expects_what_comes_out(size, effort, kind):
    source = pictures()[kind]
    told = np.full((SIDE // size[1], SIDE // size[0]), np.nan, np.float32)
    data = encode_astc(Image.of(source), EncodeOptions(effort, error_metric=ErrorMetric.DATA), size, told)
    np.testing.assert_allclose(told, errors(source, decode_astc(data, SIDE, SIDE, size), size), rtol=1e-4, atol=1.5)


CODERS = [
    (encode_bc1, decode_bc1), (encode_bc7, decode_bc7), (encode_etc2_rgb, decode_etc2_rgb),
    (encode_bc4, decode_bc4), (encode_bc5, decode_bc5),
]  # fmt: skip


@pytest.mark.parametrize("effort", list(Effort))
@pytest.mark.parametrize(("encode", "decode"), CODERS)
def test_other_searches_expect_what_comes_out(encode, decode, effort):
    for kind, source in pictures().items():
        if encode is encode_bc7 and kind == "wild alpha":
            continue  # Alpha that cannot be kept exact counts for more than its square.
        told = np.full((SIDE // 4, SIDE // 4), np.nan, np.float32)
        data = encode(Image.of(source), EncodeOptions(effort, error_metric=ErrorMetric.DATA), told)
        shown = decode(data, SIDE, SIDE)
        if encode in (encode_bc4, encode_bc5):
            # What they expect is not rounded to codes, as a decoder of 8 bits does: by half a code at most.
            miss = np.sqrt(16.0 * shown.shape[2]) * 0.5
            assert (np.abs(np.sqrt(told) - np.sqrt(errors(source, shown, (4, 4)))) <= miss + 1e-3).all(), kind
            continue
        np.testing.assert_allclose(told, errors(source, shown, (4, 4)), rtol=1e-4, atol=1.5, err_msg=kind)


@pytest.mark.parametrize("effort", list(Effort))
def test_eac_expects_what_comes_out(effort):
    source = np.random.default_rng(2).integers(0, 65536, (SIDE, SIDE, 2)).astype(np.uint16)
    source[: SIDE // 2] = to_depth(busy(SIDE, SIDE // 2, 2).pixels, np.uint16)
    told = np.full((SIDE // 4, SIDE // 4), np.nan, np.float32)
    data = encode_eac_rg11(Image(source, ("R", "G"), Transfer.LINEAR), EncodeOptions(effort), told)
    # In steps of 11 bits, of which a decoder repeats the highest in the five below.
    shown = decode_eac_rg11(data, SIDE, SIDE) >> 5
    square = ((source * (2047 / 65535) - shown) ** 2).sum(axis=-1)
    actual = square.reshape(SIDE // 4, 4, SIDE // 4, 4).sum(axis=(1, 3))
    np.testing.assert_allclose(told, actual, rtol=1e-3, atol=0.5)


def test_ends_of_astc_are_rounded_to_what_the_decoder_reads():
    """The codes mean what the search takes them for, contracted or not; and where nothing forces a contraction, they decode
    to something as near as their levels allow."""
    rng = np.random.default_rng(4)
    *_, nearest, values = astc_encode._nearest()
    contracted = kept = near = 0
    for level in (4, 10, 20):
        spacing = float(np.diff(np.unique(values[level][values[level] > 0])).max())
        for _ in range(400):
            middle = rng.uniform(30, 225, 3)
            line = np.zeros((2, 4), np.float32)
            line[:, :3] = middle + rng.normal(0, 12, (2, 3))
            codes, decoded = np.zeros(8, np.int64), np.zeros((4, 4), np.float32)
            if not round_endpoints(line, 3, CONTRACTED, nearest[level], values[level], codes, decoded):
                # Only where the second end is the darker one, which the standard reads as contracted.
                assert line[1, :3].sum() < line[0, :3].sum() + 3 * spacing
                continue
            kept += 1
            again = np.zeros((4, 4), np.float32)
            contracted += bool(decode_endpoints(codes, 3, CONTRACTED, values[level], again))
            np.testing.assert_array_equal(again[:2, :3], decoded[:2, :3])
            wanted = np.clip((line[:, :3] + 0.5) / WIDE, 0, 255)
            if wanted[1].sum() < wanted[0].sum() + 3 * spacing:
                continue  # Only contracted can such ends keep their order, and not every colour can be told so.
            near += 1
            assert np.abs(decoded[:2, :3] - wanted).max() <= 0.75 * spacing + 1
    assert contracted > 100 and kept - contracted > 100, "both ways are taken"
    assert near > 100


def test_bettering_a_block_makes_it_better(monkeypatch):
    source = pictures()["opaque"]

    def quality(rounds: int) -> float:
        plans = astc_choices.PLANS.copy()
        plans[:, 4, 3] = rounds
        monkeypatch.setattr(astc_choices, "PLANS", plans)
        data = encode_astc(Image.of(source), EncodeOptions(Effort.STANDARD), (8, 8))
        return psnr8(decode_astc(data, SIDE, SIDE, (8, 8)), source)

    without, once, often = (quality(rounds) for rounds in (0, 1, 4))
    assert without < once <= often


@pytest.mark.parametrize("size", [(4, 4), (6, 6), (8, 8)])
def test_two_colours_that_no_line_joins_take_two_partitions(size):
    """A diagonal edge between a ramp of red and a ramp of blue: with one line only, half of it would be lost."""
    y, x = np.mgrid[0:SIDE, 0:SIDE]
    red = np.stack([120 + x % 60 * 2, 20 + x % 30, 30 + 0 * x], axis=-1)
    blue = np.stack([30 + y % 20, 40 + y % 30, 230 - y % 60 * 2], axis=-1)
    source = np.full((SIDE, SIDE, 4), 255, np.uint8)
    source[..., :3] = np.where((x + y)[..., None] % 48 < 24, red, blue)
    shown = decode_astc(encode_astc(Image.of(source), EncodeOptions(), size), SIDE, SIDE, size)
    assert psnr8(shown[..., :3], source[..., :3]) > {(4, 4): 40, (6, 6): 33, (8, 8): 28}[size]


def shaded_parts(side: int, size: tuple[int, int]) -> np.ndarray:
    """Blocks that fall in four parts as the standard has them, each of one colour that is lit unevenly."""
    rng = np.random.default_rng(9)
    y, x = np.mgrid[0 : size[1], 0 : size[0]]
    source = np.full((side, side, 4), 255, np.uint8)
    for top in range(0, side, size[1]):
        for left in range(0, side, size[0]):
            seed, small = int(rng.integers(1024)), size[0] * size[1] < 31
            place = np.array([[partition_of(seed, int(u), int(v), 4, small) for u in x[0]] for v in y[:, 0]])
            lit = 0.6 + 0.4 * ((x + y) / sum(size))
            source[top : top + size[1], left : left + size[0], :3] = (
                rng.integers(30, 256, (4, 3))[place] * lit[..., None]
            )
    return source


def test_up_to_four_partitions_and_shaded_ends_serve_what_no_line_joins(monkeypatch):
    size = (8, 8)
    source = shaded_parts(96, size)

    def encoded() -> bytes:
        return encode_astc(Image.of(source), EncodeOptions(Effort.FINE), size)

    data = encoded()
    low = np.frombuffer(data, "<u4").reshape(-1, 4)[:, 0]
    parts = 1 + (low >> 11 & 3)
    modes = np.where(parts == 1, low >> 13 & 15, low >> 25 & 15)
    assert {2, 3, 4} <= set(parts.tolist())
    assert {6, 8} <= set(modes.tolist()), "ends of their own, and an end that is a share of the other"
    plans = astc_choices.PLANS.copy()
    plans[:, :4, 3:5] = 0
    monkeypatch.setattr(astc_choices, "PLANS", plans)
    full, fewer = (psnr8(decode_astc(d, 96, 96, size)[..., :3], source[..., :3]) for d in (data, encoded()))
    assert full > fewer + 0.1


def test_partitions_are_ranked_as_the_eigenvalues_of_their_subsets_rank_them():
    """On the plane of the two principal axes: next to nothing is lost against all channels and exact eigenvalues."""
    rng = np.random.default_rng(23)
    parts = bc7.PARTITIONS[2]
    masks, (flattened, work, order) = (
        subset_masks(parts, 2),
        (flat_scratch(16), ranking_scratch(64), np.zeros(64, np.int64)),
    )

    def residual(px, part):
        return sum(
            np.linalg.eigvalsh(np.cov(px[:, part == s], bias=True) * (part == s).sum())[:-1].sum() for s in (0, 1)
        )

    found, least, anyhow = [], [], []
    for _ in range(200):
        part = parts[rng.integers(64)]
        ends = rng.integers(0, 256, (2, 2, 4))
        share = rng.random((1, 16))
        px = np.where(part == 0, *(a[:, None] * (1 - share) + b[:, None] * share for a, b in ends)) + rng.normal(
            0, 6, (4, 16)
        )
        count = rank_partitions(px.astype(np.float32), 4, np.ones(4, np.float32), masks, 4, flattened, work, order)
        assert count == 4
        exact = np.array([residual(px, each) for each in parts])
        found.append(exact[order[:4]].min())
        least.append(exact.min())
        anyhow.append(np.median(exact))
    assert sum(found) < 1.03 * sum(least), (sum(found), sum(least))
    assert sum(anyhow) > 2 * sum(least), "which partition is taken matters here"


def test_a_lane_of_bc7_does_not_look_at_the_others():
    """What is fitted beside fifteen others is what is fitted alone, to the bit."""
    rng = np.random.default_rng(11)
    modes, _, members, *_ = bc7._tables()
    px = rng.integers(0, 256, (4, 16)).astype(np.float32)
    means, feature, _ = flat_scratch(16)
    moments(px, 4, means, feature)
    weight, strict, roots = np.ones(16, np.float32), np.zeros(16, np.float32), np.ones(4, np.float32)
    requests = [(1, 5, 0, 0, 1), (6, 0, 0, 0, 0), (7, 21, 0, 0, 0), (2, 40, 0, 0, 2), (4, 0, 2, 1, 0), (5, 0, 3, 0, 1)]

    def fitted(requests):
        arrays, kinds, places = lanes(), np.full(LANES, -1), np.zeros(LANES, np.int64)
        for lane, (mode, partition, rotation, selector, fit) in enumerate(requests):
            _ask(mode, partition, rotation, selector, fit, modes, roots, False, lane, kinds, places, arrays[0])
        fit_lanes(px, means, feature, weight, strict, True, 3, members, places, *arrays)
        _, steps, codes, parities, errors, turned, *_ = arrays
        return [
            (
                errors[lane],
                turned[lane],
                *(rows.reshape(-1, LANES)[:, lane].tobytes() for rows in (steps, codes, parities)),
            )
            for lane in range(len(requests))
        ]

    beside = fitted(requests)
    assert beside == [fitted([request])[0] for request in requests]
    assert len({error for error, *_ in beside}) > 4


def test_choices_of_astc_are_sought_with_the_encoder_as_it_is(tmp_path):
    """The tool that found the lists of choices still does: each name is legal, and what it lists helps."""
    PillowImage.fromarray(busy(144, 144, 4).pixels[..., :3].copy()).save(tmp_path / "opaque.png")
    found = CliRunner().invoke(
        choices_tool.main, [str(tmp_path / "opaque.png"), "--size", "6x6"], catch_exceptions=False
    )
    blocks, one, two = found.output.splitlines()
    assert int(blocks.split()[1]) > 10
    for family, line in ((0, one), (2, two)):
        legal = {
            f"{a}.{d}.{v}{'s' if s else ''}" for a, d, v, s in choices_tool.legal((6, 6), choices_tool.OPAQUE, family)
        }
        assert set(line.split()) <= legal
    assert len(one.split()) >= 4 and len(two.split()) >= 2
