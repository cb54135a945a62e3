"""Properties of the block encoders: bounds against exhaustive search, exactness, alpha, and sameness."""

import numpy as np
import pytest
from backports import zstd
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from oaktrim.core.codecs.bc1.codec import encode_bc1
from oaktrim.core.codecs.bc4.codec import encode_bc4
from oaktrim.core.codecs.bc7 import codec as bc7
from oaktrim.core.codecs.effort import Dither, Effort, EncodeOptions, ErrorMetric
from oaktrim.core.codecs.etc.tables import STEPS
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level, encode_texture, stack_textures
from oaktrim.core.errors import Unsupported
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.formats.format import Alpha
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.progress import finish
from tests.kit.pictures import busy, flat, noise, psnr8, smooth

BLOCKS = [name for name in ORDER if FORMATS[name].compressed and not FORMATS[name].floating]


def through(image, name, options=EncodeOptions()):
    """Encode and decode."""
    data = encode_level(image, FORMATS[name], options)
    return decode_level(EncodedTexture(FORMATS[name], *image.size, image.transfer, (data,)))


@njit
def _least_bc4(values):
    """The least squared error of sixteen values over all pairs of ends and both modes, on the ideal palette."""
    best = 1e12
    for low in range(256):
        for high in range(low, 256):
            eight = six = 0.0
            for v in values:
                near8 = near6 = min(v * v, (255 - v) * (255 - v))
                for k in range(6):
                    d = v - (low + (high - low) * k / 5)
                    near6 = min(near6, d * d)
                near8 = 1e12
                for k in range(8):
                    d = v - (low + (high - low) * k / 7)
                    near8 = min(near8, d * d)
                eight += near8
                six += near6
            best = min(best, eight, six)
    return best


def test_fine_bc4_is_near_the_best_there_is():
    picture = to_rgba(busy(64, 64, 1, seed=4))[..., 0]
    data = np.frombuffer(encode_bc4(Image.of(picture), EncodeOptions(Effort.FINE)), np.uint8).reshape(-1, 8)
    rng = np.random.default_rng(0)
    ours = least = 0.0
    for which in rng.choice(256, 40, replace=False):
        y, x = divmod(int(which), 16)
        values = picture[y * 4 : y * 4 + 4, x * 4 : x * 4 + 4].ravel().astype(float)
        ours += _ideal_error(data[which], values)
        least += _least_bc4(values)
    assert ours >= least - 1e-6
    assert 10 * np.log10(ours / least) < 0.25


def _ideal_error(block, values):
    """The squared error of a block on the palette of the standard, before it is rounded to 8 bits."""
    first, second = float(block[0]), float(block[1])
    steps = 7 if first > second else 5
    palette = [first, second] + [((steps - k) * first + k * second) / steps for k in range(1, steps)]
    palette += [0.0, 255.0] if steps == 5 else []
    bits = int.from_bytes(block[2:].tobytes(), "little")
    return sum((palette[bits >> 3 * i & 7] - v) ** 2 for i, v in enumerate(values))


@njit
def _least_eac(values, steps):
    """The least squared error of sixteen values in 0..2047 over all bases, factors and rows of steps."""
    best = 1e12
    for row in range(16):
        for factor in range(16):
            for base in range(256):
                total = 0.0
                for v in values:
                    nearest = 1e12
                    for step in steps[row]:
                        at = base * 8 + 4 + (step * factor * 8 if factor > 0 else step)
                        d = v - min(max(at, 0), 2047)
                        nearest = min(nearest, d * d)
                    total += nearest
                    if total >= best:
                        break
                best = min(best, total)
    return best


def test_fine_eac_is_near_the_best_there_is():
    picture = busy(64, 64, 1, seed=4)
    ours = through(picture, "eac-r11", EncodeOptions(Effort.FINE)).pixels[..., 0].astype(float) * 2047 / 65535
    source = picture.pixels[..., 0].astype(float) * 2047 / 255
    found = least = 0.0
    for which in np.random.default_rng(0).choice(256, 60, replace=False):
        y, x = (4 * int(side) for side in divmod(int(which), 16))
        block = source[y : y + 4, x : x + 4].ravel()
        found += ((ours[y : y + 4, x : x + 4].ravel() - block) ** 2).sum()
        least += _least_eac(block, STEPS.astype(np.float64))
    assert found >= least * 0.999
    assert 10 * np.log10(found / least) < 0.2


def test_fine_bc1_is_near_the_best_of_a_wide_search():
    """No random restart of the ends, refined greedily by the same measure, finds blocks much better."""
    rng = np.random.default_rng(1)
    picture = busy(32, 32, 3, seed=8)
    ours = through(picture, "bc1", EncodeOptions(Effort.FINE)).pixels.astype(float)
    source = picture.pixels.astype(float)
    total, best = 0.0, 0.0
    for y in range(0, 32, 4):
        for x in range(0, 32, 4):
            block = source[y : y + 4, x : x + 4].reshape(16, 3)
            found = ((ours[y : y + 4, x : x + 4].reshape(16, 3) - block) ** 2).sum()
            total += found
            best += min(found, _restart_bc1(block, rng))
    assert 10 * np.log10(total / best) < 0.05


def _wide(ends):
    return np.stack([ends[..., 0] << 3 | ends[..., 0] >> 2, ends[..., 1] << 2 | ends[..., 1] >> 4,
                     ends[..., 2] << 3 | ends[..., 2] >> 2], axis=-1)  # fmt: skip


def _cost_bc1(ends, block):
    """Least error of a block for many pairs of ends (N, 2, 3) at once, four steps and three."""
    wide = _wide(ends).astype(float)
    a, b = wide[:, 0], wide[:, 1]
    four = np.stack([a, b, np.floor((2 * a + b + 1) / 3), np.floor((a + 2 * b + 1) / 3)], axis=1)
    three = np.stack([a, b, np.floor((a + b + 1) / 2)], axis=1)
    costs = [((block[None, :, None] - p[:, None]) ** 2).sum(-1).min(-1).sum(-1) for p in (four, three)]
    return np.minimum(*costs)


def _restart_bc1(block, rng):
    tops = np.array([31, 63, 31])
    near = (block[rng.integers(0, 16, (24, 2))] / 255 * tops).round().astype(int)
    moves = np.stack([s * np.eye(6, dtype=int)[k] for k in range(6) for s in (1, -1)]).reshape(12, 2, 3)
    best = np.inf
    for begin in near:
        start, cost = begin, _cost_bc1(begin[None], block)[0]
        while True:
            tries = np.clip(start + moves, 0, tops)
            costs = _cost_bc1(tries, block)
            if costs.min() >= cost:
                break
            cost, start = costs.min(), tries[costs.argmin()]
        best = min(best, cost)
    return best


@pytest.mark.parametrize("name", BLOCKS)
def test_more_effort_is_never_worse(name):
    for seed in range(3):
        picture = busy(64, 64, 4, seed=seed)
        kept = ["RGBA".index(letter) for letter in FORMATS[name].channels]
        # With one bit of alpha, what is under its threshold is clear and has no colour.
        seen = picture.pixels[..., 3] >= (128 if FORMATS[name].alpha is Alpha.ONE_BIT else 0)
        got = [
            psnr8(
                to_rgba(through(picture, name, EncodeOptions(effort)))[seen][:, kept], to_rgba(picture)[seen][:, kept]
            )
            for effort in Effort
        ]
        assert got[0] <= got[1] + 0.01
        assert got[1] <= got[2] + 0.01


@pytest.mark.parametrize("name", ORDER)
def test_any_number_of_threads_gives_the_same_bytes(name):
    picture = busy(150, 90, 4)
    one, three = (encode_level(picture, FORMATS[name], EncodeOptions(threads=n)) for n in (1, 3))
    assert one == three
    assert len(one) == FORMATS[name].level_bytes(150, 90)


@pytest.mark.parametrize("name", ["bc1", "bc3", "bc5", "bc6h", "bc7", "etc2-rgba", "eac-rg11", "astc-4x4", "astc-8x8"])
def test_blocks_do_not_depend_on_where_memory_is_free(name):
    """What is compiled takes numbers several at once only where what it writes is far from what it reads, and rounds otherwise."""
    rng = np.random.default_rng(4)
    flat = smooth(192, 192, 3).pixels.astype(int) // 32 * 32 + 16
    picture = Image.of(np.clip(flat + rng.integers(-3, 4, flat.shape), 0, 255).astype(np.uint8))
    found = set()
    for turn in range(8):
        held = [np.empty(int(size), np.uint8) for size in rng.choice([16, 32, 64, 128, 240, 256, 1024], 400)]
        for place in rng.permutation(400)[:300]:
            held[place] = None
        found.add(encode_level(picture, FORMATS[name], EncodeOptions(Effort.DRAFT, threads=1 + turn % 3)))
    assert len(found) == 1


@given(st.integers(0, 255))
@settings(max_examples=40, deadline=None)
def test_a_constant_channel_is_exact_in_bc4(value):
    assert (through(flat((value,)), "bc4").pixels == value).all()


@given(st.tuples(*[st.integers(0, 255)] * 3))
@settings(max_examples=60, deadline=None)
def test_a_solid_colour_is_as_near_as_bc1_can(colour):
    got = through(flat(colour), "bc1").pixels[0, 0].astype(int)
    for channel, bits in enumerate((5, 6, 5)):
        codes = np.arange(1 << bits)
        wide = codes << (8 - bits) | codes >> (2 * bits - 8)
        steps = (2 * wide[:, None] + wide[None] + 1) // 3
        assert abs(got[channel] - colour[channel]) == np.abs(steps - colour[channel]).min()


@given(hnp.arrays(np.uint8, (12, 12, 4)))
@settings(max_examples=60, deadline=None)
def test_full_and_clear_alpha_stay_so(pixels):
    """With soft alpha between them as well, where a format has bits for it."""
    soft = pixels.copy()
    soft[..., 3] = np.where(pixels[..., 3] > 170, 255, np.where(pixels[..., 3] < 85, 0, pixels[..., 3]))
    ends = (soft[..., 3] == 0) | (soft[..., 3] == 255)
    for name in ("bc7", "etc2-rgba"):
        for effort in Effort:
            got = through(Image.of(soft), name, EncodeOptions(effort)).pixels[..., 3]
            assert (got[ends] == soft[..., 3][ends]).all()
    pixels[..., 3] = np.where(pixels[..., 3] > 127, 255, 0)
    for name in ("bc3", "bc1-a1", "bc7", "etc2-rgba", "etc2-rgb-a1", "rgba4444", "rgba5551"):
        assert (through(Image.of(pixels), name).pixels[..., 3] == pixels[..., 3]).all()


def test_one_bit_of_alpha_follows_the_threshold():
    picture = Image.of(np.dstack([np.full((8, 8, 3), 90, np.uint8), np.arange(64, dtype=np.uint8).reshape(8, 8) * 4]))
    for threshold in (1, 40, 200, 255):
        for name in ("bc1-a1", "rgba5551"):
            got = through(picture, name, EncodeOptions(alpha_threshold=threshold)).pixels[..., 3]
            assert (got == np.where(picture.pixels[..., 3] >= threshold, 255, 0)).all()


@pytest.mark.parametrize("name", ["bc3", "bc1-a1", "bc7", "etc2-rgba", "etc2-rgb-a1", "astc-6x6"])
def test_colour_under_clear_pixels_does_not_count(name):
    seen = busy(32, 32, 4, seed=2).pixels.copy()
    seen[..., 3] = np.where(np.add.outer(range(32), range(32)) % 3 == 0, 0, 255)
    wild = seen.copy()
    wild[seen[..., 3] == 0, :3] = noise(32, 32, 3).pixels[seen[..., 3] == 0]
    opaque = seen[..., 3] > 0
    a, b = (through(Image.of(p), name).pixels[opaque] for p in (seen, wild))
    assert (a == b).all()


@pytest.mark.parametrize("size", [(1, 1), (3, 5), (4, 4), (17, 2), (130, 67)])
@pytest.mark.parametrize("name", BLOCKS)
def test_sizes_that_are_no_multiple_of_the_block_cost_no_quality(name, size):
    picture = busy(*size, channels=4)
    whole = through(picture, name).pixels
    assert whole.shape[:2] == size[::-1]
    kept = ["RGBA".index(letter) for letter in FORMATS[name].channels]
    assert psnr8(to_rgba(through(picture, name))[..., kept], to_rgba(picture)[..., kept]) > (
        5 if "a1" in name else 28 if FORMATS[name].bits_per_pixel > 1.5 else 24
    )


@pytest.mark.parametrize("name", ORDER)
def test_every_depth_goes_in_and_no_nan_comes_out(name):
    for dtype in (np.uint8, np.uint16, np.float16, np.float32):
        for channels in (1, 2, 3, 4):
            picture = busy(20, 12, channels, dtype=dtype)
            got = through(picture, name)
            assert np.isfinite(to_rgba(got, np.float32)).all()
    wild = np.full((8, 8, 3), np.nan, np.float32)
    wild[0, 0], wild[0, 1] = np.inf, -1e30
    assert np.isfinite(to_rgba(through(Image.of(wild, Transfer.LINEAR), name), np.float32)).all()


@pytest.mark.parametrize(
    ("name", "limit"), [("rgba8", 0), ("rgb8", 0), ("rgb565", 8.3), ("rgba4444", 17), ("rgba5551", 8.3)]
)
def test_plain_formats_keep_what_they_can(name, limit):
    picture = busy(64, 64, 4)
    channels = 3 if name in ("rgba5551", "rgb565", "rgb8") else 4
    error = np.abs(to_rgba(through(picture, name)).astype(int) - picture.pixels)[..., :channels]
    assert error.max() <= limit
    mean = np.abs(to_rgba(through(picture, name)).astype(float).mean((0, 1)) - picture.pixels.mean((0, 1)))
    assert mean[:channels].max() < 0.6, "dither moves no average"


def test_half_floats_and_shared_exponents_are_near():
    picture = Image.of((busy(32, 32, 3).pixels / 8).astype(np.float32) ** 2, Transfer.LINEAR)
    for name, relative in (("rgba16f", 2**-11), ("r11g11b10f", 2**-6), ("rgb9e5", 2**-9)):
        got = through(picture, name).pixels[..., :3].astype(np.float32)
        room = relative * (picture.pixels if name != "rgb9e5" else picture.pixels.max(-1, keepdims=True))
        assert (np.abs(got - picture.pixels) <= room * 1.01 + 1e-7).all()


def test_a_chain_is_encoded_level_by_level():
    encoded = finish(encode_texture(build_mip_chain(busy(20, 12)), FORMATS["bc1"]))
    assert [len(level) for level in encoded.levels] == [5 * 3 * 8, 3 * 2 * 8, 2 * 8, 8, 8]
    with pytest.raises(Unsupported, match="levels 0 to 4"):
        decode_level(encoded, 5)
    assert len(encode_bc1(busy(4, 4), EncodeOptions())) == 8


@pytest.mark.parametrize("name", BLOCKS)
def test_a_constant_picture_is_exact_where_the_format_can(name):
    """Blocks of 16 bytes and single channels hold any colour exactly; the others are as near as their ends."""
    exact = (FORMATS[name].block_bytes == 16 and not name.startswith(("bc3", "etc2"))) or name in ("bc4", "eac-r11")
    kept = ["RGBA".index(letter) for letter in FORMATS[name].channels]
    rng = np.random.default_rng(2)
    for colour in rng.integers(0, 256, (40, 4)).tolist():
        alpha = 255 if FORMATS[name].alpha is Alpha.ONE_BIT else colour[3]
        got = to_rgba(through(flat((*colour[:3], alpha)), name))[..., kept].astype(int)
        assert np.abs(got - np.array((*colour[:3], alpha))[kept]).max() <= (0 if exact else 9)


@pytest.mark.parametrize("name", [name for name in ORDER if FORMATS[name].compressed])
def test_any_bytes_decode(name):
    """Random blocks never fail, and every pixel of what is asked for is written."""
    rng = np.random.default_rng(3)
    for width, height in ((1, 1), (37, 23)):
        data = rng.integers(0, 256, FORMATS[name].level_bytes(width, height), dtype=np.uint8).tobytes()
        got = decode_level(EncodedTexture(FORMATS[name], width, height, Transfer.LINEAR, (data,)))
        again = decode_level(EncodedTexture(FORMATS[name], width, height, Transfer.LINEAR, (data,)))
        assert got.pixels.shape[:2] == (height, width)
        assert got.pixels.tobytes() == again.pixels.tobytes()


@pytest.mark.parametrize("name", ["bc1", "bc7", "astc-6x6", "etc2-rgb"])
def test_blocks_that_repeat_pack_tighter_within_the_loss_allowed(name):
    """Of a painted picture: flat areas with a little grain."""
    grain = np.random.default_rng(4).integers(-3, 4, (192, 192, 3))
    opaque = Image.of(np.clip(smooth(192, 192, 3).pixels // 32 * 32 + 16 + grain, 0, 255).astype(np.uint8))
    kept = ["RGB".index(letter) for letter in FORMATS[name].channels if letter != "A"]

    def measured(options):
        data = encode_level(opaque, FORMATS[name], options)
        got = to_rgba(decode_level(EncodedTexture(FORMATS[name], 192, 192, Transfer.SRGB, (data,))))
        return len(zstd.compress(data, 19)), psnr8(got[..., kept], opaque.pixels[..., kept]), data

    size, quality, _ = measured(EncodeOptions(Effort.DRAFT))
    packed, lower, data = measured(EncodeOptions(Effort.DRAFT, loss=1.0, threads=1))
    assert packed < 0.9 * size
    assert quality - lower <= 1.0 + 1e-6
    assert measured(EncodeOptions(Effort.DRAFT, loss=1.0, threads=3))[2] == data


@pytest.mark.parametrize("name", ["bc7", "astc-6x6"])
def test_a_flat_part_does_not_follow_a_neighbour_to_the_worse(name):
    """Half grain, half one colour amid the grain's: its own block is worth its bits to all that repeat it."""
    rng = np.random.default_rng(7)
    pixels = np.full((240, 240, 3), 122, np.uint8)
    pixels[:, :120] = 122 + rng.integers(-3, 4, (240, 120, 1)) + rng.integers(-3, 4, (240, 120, 3))
    got = {loss: to_rgba(through(Image.of(pixels), name, EncodeOptions(loss=loss)))[..., :3] for loss in (0.0, 1.0)}
    flat = np.s_[:, 132:]
    assert (got[1.0][flat] == got[0.0][flat]).all()
    assert 0.7 < psnr8(got[0.0], pixels) - psnr8(got[1.0], pixels) <= 1.0 + 1e-6


def test_bc7_gains_by_its_other_modes_where_alpha_goes_its_own_way(monkeypatch):
    """Over mode 6 alone, which has one line for all four channels."""
    rng = np.random.default_rng(5)
    picture = smooth(96, 96, 4).pixels.copy()
    picture[..., 3] = np.clip(128 + 90 * np.sin(np.add.outer(np.arange(96) * 0.9, -np.arange(96) * 1.3)), 1, 254)
    picture[..., :3] = np.clip(picture[..., :3] + rng.integers(-3, 4, (96, 96, 1)), 0, 255)
    options = EncodeOptions(error_metric=ErrorMetric.DATA)
    whole = psnr8(through(Image.of(picture), "bc7", options).pixels, picture)
    tables = list(bc7._tables())
    place = next(k for k, table in enumerate(tables) if table is bc7.PLANS)
    tables[place] = np.zeros_like(bc7.PLANS)
    tables[place][..., 6] = 1
    monkeypatch.setattr(bc7, "_tables", lambda: tuple(tables))
    alone = psnr8(through(Image.of(picture), "bc7", options).pixels, picture)
    assert whole > alone + 2.5


def test_repeated_blocks_keep_full_and_clear_alpha():
    picture = smooth(64, 64, 4).pixels.copy()
    picture[..., 3] = np.where(np.add.outer(range(64), range(64)) % 24 < 12, 0, 255)
    for name in ("bc7", "bc3", "etc2-rgba", "bc1-a1"):
        got = through(Image.of(picture), name, EncodeOptions(loss=3.0)).pixels[..., 3]
        assert (got == picture[..., 3]).all()


def test_diffused_rounding_keeps_gradients_where_plain_rounding_bands():
    """Seen from afar: means of 8x8 pixels stay near the source, those of plain rounding lie on steps."""
    ramp = np.broadcast_to(np.linspace(60, 90, 256)[None, :, None], (64, 256, 3)).astype(np.uint8)

    def far(dither):
        got = to_rgba(through(Image.of(ramp), "rgb565", EncodeOptions(dither=dither)))[..., :3].astype(float)
        return np.abs((got - ramp).reshape(8, 8, 32, 8, 3).mean((1, 3))).mean()

    assert far(Dither.DIFFUSED) < far(Dither.ORDERED) < far(Dither.NONE) / 2


@pytest.mark.parametrize("name", ["bc1", "astc-5x4", "astc-12x10", "rgb565", "bc6h", "r8"])
def test_bands_leave_no_trace(name, monkeypatch):
    """A tall picture is encoded in bands, to hear a cancel; the bytes are those of one piece."""
    picture = busy(36, 500, 4)
    whole = encode_level(picture, FORMATS[name])
    monkeypatch.setattr("oaktrim.core.codecs.texture._BAND_PIXELS", 1)
    steps = []
    assert finish(encode_texture([picture], FORMATS[name]), steps.append).levels[0] == whole
    assert [step.done for step in steps] == [0, 36 * 120, 36 * 240, 36 * 360, 36 * 480]


def test_stacks_hold_pictures_of_one_kind():
    one, other = (finish(encode_texture(build_mip_chain(busy(16, 16, seed=s)), FORMATS["bc7"])) for s in (1, 2))
    cubes = stack_textures([one, other] * 6, 6)
    assert (cubes.layers, cubes.faces, cubes.slices, cubes.bytes) == (2, 6, 12, 6 * (one.bytes + other.bytes))
    for place in range(12):
        assert np.array_equal(decode_level(cubes, 2, place).pixels, decode_level((one, other)[place % 2], 2).pixels)
    with pytest.raises(Unsupported, match="slice 12"):
        decode_level(cubes, 0, 12)
    flat_one = finish(encode_texture(build_mip_chain(busy(16, 8)), FORMATS["bc7"]))
    for parts, faces, why in (
        ([one, flat_one], 1, "one size"),
        ([one] * 5, 6, "whole cubes"),
        ([flat_one] * 6, 6, "square"),
    ):
        with pytest.raises(Unsupported, match=why):
            stack_textures(parts, faces)
