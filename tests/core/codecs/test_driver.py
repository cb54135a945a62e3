"""A real driver and Pillow say what our blocks mean."""

import io

import numpy as np
import pytest
from PIL import Image as PillowImage

from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.files import dds
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_rgba
from tests.kit.driver import COMPRESSED, PACKED
from tests.kit.pictures import busy

# Mesa's software driver interpolates BC1 in 8 bits and BC4 and BC5 coarsely; the standard leaves it that room.
ALLOWED = {"bc1": 1, "bc1-a1": 1, "bc3": 2, "bc4": 2, "bc5": 2}


def texture(name, data, width, height):
    return EncodedTexture(FORMATS[name], width, height, Transfer.LINEAR, (data,))


def size_of(name):
    """Sixteen blocks by twelve."""
    wide, high = FORMATS[name].block
    return 16 * wide, 12 * high


def blocks(name, source):
    """Random blocks, or those of an encoded picture."""
    if source == "encoded":
        return encode_level(busy(*size_of(name), 4), FORMATS[name])
    rng = np.random.default_rng(5)
    data = rng.integers(0, 256, (16 * 12, FORMATS[name].block_bytes), dtype=np.uint8)
    if name.startswith(("bc1", "bc3", "bc4", "bc5")):
        data[::7, 0:2] = data[::7, 2:4] if name.startswith("bc1") else data[::7, 1:2]  # equal ends
    if name == "bc7":
        # Every mode as often as any other: its lowest set bit names it.
        for mode in range(8):
            data[mode::8, 0] = data[mode::8, 0] & (0xFF << mode & 0xFF) | 1 << mode
    if name.startswith("astc"):
        # One partition with the ends of each mode of a low dynamic range, and blocks of one colour, beside wholly random ones.
        for place, kind in enumerate((0, 1, 4, 5, 6, 8, 9, 10, 12, 13)):
            data[place::20, 1] = data[place::20, 1] & 0x07 | (kind & 7) << 5
            data[place::20, 2] = data[place::20, 2] & 0xFE | kind >> 3
        data[19::20, :8] = (0xFC, 0xFD, *[0xFF] * 6)
    return data.tobytes()


@pytest.mark.parametrize("source", ["random", "encoded"])
@pytest.mark.parametrize("name", COMPRESSED)
def test_the_driver_reads_blocks_as_we_do(driver, name, source):
    data, size = blocks(name, source), size_of(name)
    theirs = driver.decode(name, data, *size).astype(int)
    ours = to_rgba(decode_level(texture(name, data, *size))).astype(int)
    kept = ["RGBA".index(letter) for letter in FORMATS[name].channels]
    if name.startswith("astc") and source == "random":
        # This driver takes blocks of one colour whose reserved bits are wrong; the standard does not.
        solid = [block[0] == 0xFC and block[1] & 1 and block[1] & 0x0C != 0x0C for block in np.frombuffer(data, "16B")]
        kept_blocks = np.kron(~np.array(solid).reshape(12, 16), np.ones(FORMATS[name].block[::-1], np.bool_))
        theirs, ours = theirs * kept_blocks[..., None], ours * kept_blocks[..., None]
    assert np.abs(theirs - ours)[..., kept].max() <= ALLOWED.get(name, 0)
    assert theirs[..., kept].std() > 10, "the driver gave nothing back"


@pytest.mark.parametrize("name", [name for name in COMPRESSED if name.startswith("bc")])
def test_pillow_reads_our_dds_as_we_do(name):
    data = blocks(name, "encoded")
    written = dds.pack(texture(name, data, 64, 48))
    theirs = np.asarray(PillowImage.open(io.BytesIO(written)))
    ours = decode_level(texture(name, data, 64, 48)).pixels
    kept = min(ours.shape[2], theirs.shape[2] if theirs.ndim == 3 else 1)
    theirs = theirs.reshape(48, 64, -1)
    assert np.abs(theirs[..., :kept].astype(int) - ours[..., :kept].astype(int)).max() <= 1


@pytest.mark.parametrize("name", PACKED)
def test_the_driver_reads_packed_words_as_we_do(driver, name):
    rng = np.random.default_rng(6)
    count = 32 * 16
    if FORMATS[name].block_bytes == 2:
        words = rng.integers(0, 1 << 16, count, dtype=np.uint16).astype("<u2")
    else:
        words = rng.integers(0, 1 << 32, count, dtype=np.uint64).astype("<u4")
        if name == "r11g11b10f":  # infinities and what is not a number left out
            for shift, mask in ((6, 31), (17, 31), (27, 31)):
                top = (words >> shift & mask) == 31
                words[top] &= ~np.uint32(1 << shift)
    theirs = driver.unpack(name, words.tobytes(), 32, 16)
    image = decode_level(texture(name, words.tobytes(), 32, 16))
    ours = to_rgba(image, np.float32)
    kept = image.pixels.shape[2]
    # The driver may widen or narrow the word inside; one code of 8 bits is the room it has.
    np.testing.assert_allclose(ours[..., :kept], theirs[..., :kept], rtol=1e-5, atol=1.01 / 255)


@pytest.mark.parametrize("effort", Effort)
@pytest.mark.parametrize("name", ["bc1", "bc3"])
def test_our_pictures_beat_pillows(driver, name, effort):
    """Through the driver's eyes, not ours."""
    picture = busy(128, 128, 4, seed=3)
    buffer = io.BytesIO()
    PillowImage.fromarray(picture.pixels).save(buffer, "DDS", pixel_format={"bc1": "DXT1", "bc3": "DXT5"}[name])
    theirs = np.asarray(PillowImage.open(buffer))[..., :3].astype(float)
    ours = driver.decode(name, encode_level(picture, FORMATS[name], EncodeOptions(effort)), 128, 128)[..., :3]
    source = picture.pixels[..., :3].astype(float)
    gain = 10 * np.log10(np.mean((theirs - source) ** 2) / np.mean((ours - source) ** 2))
    assert gain > 0.5


@pytest.mark.parametrize("name", ["bc6h", "bc6h-signed"])
@pytest.mark.parametrize("source", ["random", "encoded"])
def test_the_driver_reads_floating_blocks_as_we_do(driver, name, source):
    rng = np.random.default_rng(7)
    data = rng.integers(0, 256, (16 * 12, 16), dtype=np.uint8).tobytes()
    if source == "encoded":
        light = np.exp2(busy(64, 48, 3).pixels.astype(np.float32) / 32 - 4)
        data = encode_level(Image.of(light * (-1 if name == "bc6h-signed" else 1), Transfer.LINEAR), FORMATS[name])
    ours = decode_level(texture(name, data, 64, 48)).pixels.astype(np.float32)
    np.testing.assert_array_equal(ours, driver.decode_floats(name, data, 64, 48)[..., :3])
    if source == "encoded":
        assert np.median(np.abs(ours / (light * np.sign(ours)) - 1)) < 0.05


@pytest.mark.parametrize("name", ["eac-r11-signed", "eac-rg11-signed"])
@pytest.mark.parametrize("source", ["random", "encoded"])
def test_the_driver_reads_signed_channels_as_we_do(driver, name, source):
    count = len(FORMATS[name].channels)
    rng = np.random.default_rng(8)
    data = rng.integers(0, 256, (16 * 12, 8 * count), dtype=np.uint8).tobytes()
    if source == "encoded":
        wanted = Image(busy(64, 48, 2).pixels[..., :count].astype(np.float32) / 127.5 - 1, ("R", "G")[:count])
        data = encode_level(wanted, FORMATS[name])
    ours = decode_level(texture(name, data, 64, 48)).pixels
    theirs = driver.decode_floats(name, data, 64, 48)[..., :count]
    # The driver spreads 11 bits over 16 before it divides.
    np.testing.assert_allclose(ours, theirs, atol=2e-3 if source == "random" else 1e-3)
    assert ours.min() < -0.5
    if source == "encoded":
        assert np.sqrt(np.mean((ours - wanted.pixels) ** 2)) < 0.03
