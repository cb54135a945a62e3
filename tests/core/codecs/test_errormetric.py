"""What an error counts on: the search minds what is asked of it, and says so truly."""

from functools import partial

import numpy as np
import pytest

from oaktrim.core.codecs.astc.decode import decode_astc
from oaktrim.core.codecs.astc.encode import encode_astc
from oaktrim.core.codecs.bc1.codec import decode_bc1, encode_bc1
from oaktrim.core.codecs.bc4.codec import encode_bc5
from oaktrim.core.codecs.bc7.codec import decode_bc7, encode_bc7
from oaktrim.core.codecs.blocks import PERCEPTUAL
from oaktrim.core.codecs.effort import Effort, EncodeOptions, ErrorMetric
from oaktrim.core.codecs.etc.codec import decode_etc2_rgb, encode_eac_rg11, encode_etc2_rgb
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_depth
from oaktrim.core.pixels.perception import oklab
from oaktrim.core.pixels.transfer import srgb_to_linear
from tests.kit.pictures import busy, noise

SIDE = 120
WITH_ALPHA = ["bc3", "bc7", "etc2-rgba", "astc-4x4", "astc-6x6"]
COLOURS = ["bc1", "bc7", "etc2-rgb", "astc-4x4", "astc-6x6"]


def through(
    source: np.ndarray, name: str, error_metric: ErrorMetric, effort: Effort = Effort.STANDARD, loss: float = 0.0
):
    row = format_named(name)
    options = EncodeOptions(effort, error_metric=error_metric, loss=loss)
    data = encode_level(Image.of(np.ascontiguousarray(source)), row, options)
    shown = decode_level(EncodedTexture(row, *source.shape[1::-1], Transfer.LINEAR, (data,)))
    return shown.pixels.astype(np.float64)


def faint() -> np.ndarray:
    """Colours from clear through faint to opaque, wild where they are hardly seen."""
    source = busy(SIDE, SIDE, 4).pixels.copy()
    y, x = np.mgrid[0:SIDE, 0:SIDE]
    source[..., 3] = np.clip(120 + 160 * np.sin(x / 7 + np.sin(y / 11)), 0, 255)
    wild = source[..., 3] < 60
    source[wild, :3] = noise(SIDE, SIDE, 3).pixels[wild]
    return source


def seen_error(source: np.ndarray, shown: np.ndarray) -> float:
    """Return the squared error of alpha, and of colour by how much of it alpha lets be seen."""
    square = (source.astype(np.float64) - shown) ** 2
    return float((square[..., :3].sum(axis=-1) * (source[..., 3] / 255.0) + square[..., 3]).sum())


@pytest.mark.parametrize("name", WITH_ALPHA)
def test_values_under_an_alpha_of_nothing_are_kept_where_alpha_is_a_value(name):
    source = faint()
    hidden = source[..., 3] == 0
    assert 0.05 < hidden.mean() < 0.6
    kept, covered = (
        ((through(source, name, error_metric)[hidden][:, :3] - source[hidden][:, :3]) ** 2).mean()
        for error_metric in (ErrorMetric.DATA, ErrorMetric.COLOUR)
    )
    assert kept < 0.5 * covered
    # Packing does not undo it.
    packed = ((through(source, name, ErrorMetric.DATA, loss=1.0)[hidden][:, :3] - source[hidden][:, :3]) ** 2).mean()
    assert packed < 0.7 * covered


@pytest.mark.parametrize("name", WITH_ALPHA)
def test_colour_counts_by_how_much_of_it_is_seen(name):
    source = faint()
    as_colour, as_data = (
        seen_error(source, through(source, name, error_metric))
        for error_metric in (ErrorMetric.COLOUR, ErrorMetric.DATA)
    )
    assert as_colour < 0.95 * as_data


@pytest.mark.parametrize("effort", list(Effort))
@pytest.mark.parametrize("name", COLOURS)
def test_perceptual_weights_serve_the_eye(name, effort):
    source = busy(SIDE, SIDE, 3).pixels
    plain, weighed = (
        (((through(source, name, error_metric, effort)[..., :3] - source) ** 2) * PERCEPTUAL).sum()
        for error_metric in (ErrorMetric.COLOUR, ErrorMetric.PERCEPTUAL)
    )
    assert weighed < 0.98 * plain


def test_perceptual_weights_are_those_of_oklab_along_the_greys():
    greys = np.repeat(np.arange(16.0, 250.0, 6.0)[:, None], 3, axis=1)[None]
    worth = []
    for channel in range(3):
        step = np.zeros(3)
        step[channel] = 1.0
        up, down = (oklab(srgb_to_linear(((greys + way * step) / 255).astype(np.float32))) for way in (1, -1))
        worth.append(((up.astype(np.float64) - down) ** 2).sum(axis=-1)[0])
    shares = np.array(worth) / np.sum(worth, axis=0)
    np.testing.assert_allclose(3 * shares.mean(axis=1), PERCEPTUAL, atol=0.02)
    assert sum(PERCEPTUAL) == pytest.approx(3.0)


@pytest.mark.parametrize("name", COLOURS)
def test_normals_are_turned_less(name):
    rng = np.random.default_rng(3)
    y, x = np.mgrid[0:SIDE, 0:SIDE]
    across = 0.4 * np.sin(x / 5 + np.sin(y / 9)) + rng.normal(0, 0.1, (SIDE, SIDE))
    down = 0.4 * np.sin(y / 7) + rng.normal(0, 0.1, (SIDE, SIDE))
    vectors = np.stack([-across, -down, np.ones_like(across)], axis=-1)
    vectors /= np.linalg.norm(vectors, axis=-1, keepdims=True)
    source = np.rint(vectors * 127.5 + 127.5).astype(np.uint8)

    def turned(error_metric: ErrorMetric) -> float:
        shown = through(source, name, error_metric)[..., :3] / 127.5 - 1
        shown /= np.linalg.norm(shown, axis=-1, keepdims=True)
        return float(((shown - vectors) ** 2).sum())

    # The ends of BC1 are too coarse for weights to matter.
    assert turned(ErrorMetric.NORMALS) < turned(ErrorMetric.DATA) * (1.005 if name == "bc1" else 1.0)


CODERS = {
    "bc1": (encode_bc1, decode_bc1),
    "bc7": (encode_bc7, decode_bc7),
    "etc2-rgb": (encode_etc2_rgb, decode_etc2_rgb),
    "astc-5x5": (
        lambda image, options, told: encode_astc(image, options, (5, 5), told),
        partial(decode_astc, size=(5, 5)),
    ),
}


@pytest.mark.parametrize("error_metric", list(ErrorMetric))
@pytest.mark.parametrize("effort", list(Effort))
@pytest.mark.parametrize("name", CODERS)
def test_the_search_tells_what_it_counts(name, effort, error_metric):
    """On opaque colours, which count alike, so that only the channels weigh."""
    source = np.concatenate([busy(SIDE, SIDE, 3).pixels, np.full((SIDE, SIDE, 1), 255, np.uint8)], axis=2)
    wide, high = format_named(name).block
    told = np.full((SIDE // high, SIDE // wide), np.nan, np.float32)
    encode, decode = CODERS[name]
    data = encode(Image.of(source), EncodeOptions(effort, error_metric=error_metric), told)
    miss = (source[..., :3] - decode(data, SIDE, SIDE)[..., :3].astype(np.float64)) ** 2
    weights = np.ones((SIDE // high, SIDE // wide, 3))
    if error_metric is ErrorMetric.PERCEPTUAL:
        weights[:] = PERCEPTUAL
    elif error_metric is ErrorMetric.NORMALS:
        squares = in_blocks((source[..., :3] - 127.5) ** 2, wide, high)
        weights = 1.05 - (squares / squares.sum(axis=-1, keepdims=True)) ** 2
        weights *= 3 / weights.sum(axis=-1, keepdims=True)
    actual = (in_blocks(miss, wide, high) * weights).sum(axis=-1)
    grey = in_blocks(np.ptp(source[..., :3], axis=-1, keepdims=True).astype(float), wide, high)[..., 0] == 0
    np.testing.assert_allclose(told[~grey], actual[~grey], rtol=2e-3, atol=2.0)


def in_blocks(values: np.ndarray, wide: int, high: int) -> np.ndarray:
    rows, columns, channels = values.shape
    return values.reshape(rows // high, high, columns // wide, wide, channels).sum(axis=(1, 3))


@pytest.mark.parametrize("effort", list(Effort))
@pytest.mark.parametrize("name", ["bc3", "bc7", "etc2-rgba", "astc-4x4", "astc-5x5", "astc-6x6"])
def test_clear_stays_clear_and_whole_stays_whole(name, effort):
    """Cut-outs exactly, and soft edges too; there, blocks of ASTC let one pixel in a hundred miss, or larger ones five."""
    source = busy(SIDE, SIDE, 4).pixels.copy()
    y, x = np.mgrid[0:SIDE, 0:SIDE]
    far = 17.5 - np.hypot(x % 40 - 20, y % 40 - 20)
    for steepness in (1e6, 60):
        source[..., 3] = np.clip(127.5 + far * steepness, 0, 255)
        miss = np.abs(through(source, name, ErrorMetric.COLOUR, effort)[..., 3] - source[..., 3])
        ends = miss[(source[..., 3] == 0) | (source[..., 3] == 255)]
        if steepness > 1000 or not name.startswith("astc"):
            assert ends.max() == 0
        elif effort is not Effort.DRAFT:
            small = name != "astc-6x6"
            assert (ends > 0).mean() < (0.01 if small else 0.05) and ends.max() <= (10 if small else 32)


@pytest.mark.parametrize("effort", list(Effort))
@pytest.mark.parametrize(
    ("name", "encode", "half"), [("bc5", encode_bc5, 127.5), ("eac-rg11", encode_eac_rg11, 1023.5)]
)
def test_two_channels_turn_the_rebuilt_vector_less(name, encode, half, effort):
    """Of bumps whose flanks are steep: there a code of x or of y turns the vector by more than on the flat."""
    y, x = np.mgrid[0:SIDE, 0:SIDE] % 16 - 7.5
    across, down = x / 8.4 + 0.03 * np.sin(y * 3), y / 8.4 + 0.03 * np.sin(x * 5)
    inside = across**2 + down**2 < 0.95
    across, down = np.where(inside, across, 0), np.where(inside, down, 0)
    source = np.rint(np.stack([across, down], axis=-1) * 127.5 + 127.5).astype(np.uint8)

    def vectors(codes):
        flat = codes / 127.5 - 1
        z = np.sqrt(np.maximum(0, 1 - (flat**2).sum(axis=-1)))
        all_three = np.concatenate([flat, z[..., None]], axis=-1)
        return all_three / np.linalg.norm(all_three, axis=-1, keepdims=True)

    def turned(error_metric: ErrorMetric) -> float:
        row, image = format_named(name), Image(source, ("R", "G"), Transfer.LINEAR)
        told = np.empty((SIDE // 4, SIDE // 4), np.float32)
        data = encode(image, EncodeOptions(effort, error_metric=error_metric), told)
        shown = decode_level(EncodedTexture(row, SIDE, SIDE, Transfer.LINEAR, (data,))).pixels[..., :2]
        found = float(((vectors(to_depth(shown, np.float32) * 255) - vectors(source)) ** 2).sum())
        if error_metric is ErrorMetric.NORMALS:
            # What the search tells are squared codes, of steps that are not rounded to 8 bits.
            assert float(told.sum(dtype=np.float64)) / half**2 == pytest.approx(found, rel=0.02)
        return found

    assert turned(ErrorMetric.NORMALS) < 0.97 * turned(ErrorMetric.DATA)
