"""Every kind of file in, at its own depth; PNG out; and what comes back is what went in."""

import os
import struct
import zlib
from pathlib import Path

import numpy as np
import OpenEXR
import OpenImageIO as oiio
import pytest
from PIL import Image as PillowImage
from PIL import ImageCms

from oaktrim.core.codecs.texture import EncodedTexture
from oaktrim.core.errors import FileError
from oaktrim.core.files import dds, png
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.files.pictures import (
    SUFFIXES,
    decode_picture,
    pack_texture,
    parse_texture,
    picture_with_facts,
    read_picture,
    write_png,
)
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.statistics import pixel_facts
from tests.core.files.test_ktx2 import chain
from tests.kit.pictures import busy


def facts(path: Path):
    return picture_with_facts(path.read_bytes(), path)[0]


@pytest.mark.parametrize("channels", [1, 2, 3, 4])
@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
def test_png_goes_out_and_in_without_loss(tmp_path, channels, dtype):
    picture = busy(33, 21, channels, dtype=dtype)
    if channels in (2, 4):
        picture.pixels[0, 0] = 0
        picture.pixels[0, 0, 0] = 77  # colour under a clear pixel
    write_png(tmp_path / "a.png", picture)
    back = read_picture(tmp_path / "a.png")
    assert back.pixels.dtype == dtype
    assert (back.pixels == picture.pixels).all()
    assert back.channels == picture.channels
    found = facts(tmp_path / "a.png")
    assert (found.kind, found.width, found.height, found.channels) == ("png", 33, 21, channels)
    assert found.bit_depth == np.iinfo(dtype).bits


@pytest.mark.parametrize(
    ("mode", "channels"),
    [("1", 1), ("L", 1), ("LA", 2), ("P", 3), ("RGB", 3), ("RGBA", 4)],
)
@pytest.mark.parametrize("suffix", [".png", ".tga", ".bmp", ".tif", ".webp"])
def test_modes_of_pictures(tmp_path, mode, channels, suffix):
    path = tmp_path / f"a{suffix}"
    source = PillowImage.fromarray(busy(40, 30, 4).pixels).convert(mode)
    try:
        source.save(path, **({"lossless": True, "exact": True} if suffix == ".webp" else {}))
    except OSError:
        pytest.skip(f"Pillow writes no {mode} as {suffix}")
    with PillowImage.open(path) as theirs:
        expected = np.asarray(theirs.convert("RGBA")).astype(int)
    got = read_picture(path).pixels
    assert facts(path).channels == got.shape[2]
    if got.shape[2] < 3:
        got = np.dstack([got[..., :1]] * 3 + [got[..., 1:]] * (got.shape[2] - 1))
    # A TIFF palette has 16 bits, which readers round by a code.
    assert np.abs(got - expected[..., : got.shape[2]]).max() <= (1 if (mode, suffix) == ("P", ".tif") else 0)
    assert mode in ("1", "P") or suffix in (".bmp", ".webp") or read_picture(path).pixels.shape[2] == channels


def _as_png(width, height, colour, rows, extra=b"", interlaced=0):
    """Return a PNG file of 8 bits a channel made of its chunks, checksums and all."""

    def chunk(name, data):
        return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, colour, 0, 0, interlaced))
    return b"\x89PNG\r\n\x1a\n" + head + extra + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


@pytest.mark.parametrize(("colour", "channels"), [(0, 1), (2, 3), (6, 4)])
def test_plain_png_files_are_read_alike_by_both_readers(tmp_path, monkeypatch, colour, channels):
    """All five filters of a row (ISO/IEC 15948, clause 9), with a profile beside; whole, cut short and garbled."""
    rng = np.random.default_rng(colour)
    rows = rng.integers(0, 256, (25, 1 + 31 * channels), np.uint8)
    rows[:, 0] = np.arange(25) % 5
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    name = b"ours\0\0" + zlib.compress(profile)
    extra = struct.pack(">I", len(name)) + b"iCCP" + name + struct.pack(">I", zlib.crc32(b"iCCP" + name))
    packed = zlib.compress(rows.tobytes())
    data = _as_png(31, 25, colour, packed, extra if colour else b"")
    got, found, used = {}, {}, []
    quick = png.kornia_rs.io.decode_image_png_u8
    monkeypatch.setattr(png.kornia_rs.io, "decode_image_png_u8", lambda *given: used.append(1) or quick(*given))
    for most in (0, 1 << 20):
        monkeypatch.setattr(png, "_KORNIA_MOST", most)
        found[most], picture = picture_with_facts(data, tmp_path / "a.png")
        got[most] = picture.pixels.tobytes()
        assert len(used) == (most > 0)
        with pytest.raises(FileError):
            picture_with_facts(_as_png(31, 25, colour, packed[:-300]), tmp_path / "a.png")
    assert got[0] == got[1 << 20] and found[0] == found[1 << 20]
    assert bool(found[0].profile) == (colour > 0)
    for _ in range(200):
        garbled = bytearray(packed)
        garbled[rng.integers(len(garbled))] ^= int(rng.integers(1, 256))
        try:
            read = picture_with_facts(_as_png(31, 25, colour, bytes(garbled)), tmp_path / "a.png")[1]
            assert read.pixels.shape == (25, 31, channels)
        except FileError as error:
            assert "a.png" in str(error)


def test_clear_palette_and_profile(tmp_path):
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    palette = PillowImage.fromarray(busy(20, 20, 3).pixels).convert("P", palette=PillowImage.Palette.ADAPTIVE)
    palette.save(tmp_path / "p.png", transparency=0, icc_profile=profile)
    found = facts(tmp_path / "p.png")
    assert (found.channels, "sRGB" in found.profile) == (4, True)
    alpha = read_picture(tmp_path / "p.png").pixels[..., 3]
    assert ((alpha == 0) == (np.asarray(palette) == 0)).all()


def test_jpeg(tmp_path):
    picture = busy(64, 64, 3)
    PillowImage.fromarray(picture.pixels).save(tmp_path / "a.jpg", quality=95)
    back = read_picture(tmp_path / "a.jpg")
    other = oiio.ImageInput.open(str(tmp_path / "a.jpg")).read_image(0, 0, 0, 3, "uint8")
    assert np.abs(back.pixels.astype(int) - other).mean() < 1
    assert np.abs(back.pixels.astype(int) - picture.pixels).mean() < 12
    assert facts(tmp_path / "a.jpg").kind == "jpeg"


def test_light_beyond_one_is_kept(tmp_path):
    light = (busy(24, 16, 3, dtype=np.float32).pixels * 30).astype(np.float32)
    OpenEXR.File({}, {"RGB": light.astype(np.float16)}).write(str(tmp_path / "half.exr"))
    OpenEXR.File({}, {"RGBA": np.dstack([light, light[..., :1]])}).write(str(tmp_path / "full.exr"))
    out = oiio.ImageOutput.create("a.hdr")
    out.open(str(tmp_path / "a.hdr"), oiio.ImageSpec(24, 16, 3, "float"))
    out.write_image(light)
    out.close()
    half, full, radiance = (read_picture(tmp_path / name) for name in ("half.exr", "full.exr", "a.hdr"))
    assert half.pixels.dtype == np.float16
    assert full.pixels.dtype == np.float32
    assert (half.pixels == light.astype(np.float16)).all()
    assert (full.pixels[..., :3] == light).all()
    assert np.abs(radiance.pixels / light.max() - light / light.max()).max() < 0.01
    assert all(image.transfer is Transfer.LINEAR for image in (half, full, radiance))
    assert pixel_facts(half).high == tuple(half.pixels.reshape(-1, 3).max(0).tolist())


def test_names_that_are_not_utf8(tmp_path):
    for suffix, dtype in ((b".png", np.uint16), (b".tif", np.uint8)):
        plain = tmp_path / f"a{suffix.decode()}"
        if suffix == b".tif":
            PillowImage.fromarray(busy(8, 8, 3).pixels).save(plain)
        else:
            write_png(plain, busy(8, 8, 3, dtype=dtype))
        odd = Path(os.fsdecode(os.fsencode(tmp_path) + b"/b\xff" + suffix))
        plain.rename(odd)
        assert read_picture(odd).size == (8, 8)


def test_dds_of_others_and_of_ours(tmp_path):
    picture = PillowImage.fromarray(busy(40, 24, 4).pixels)
    for layout, name in (("DXT1", "bc1-a1"), ("DXT5", "bc3"), ("BC5", "bc5")):
        path = tmp_path / f"{layout}.dds"
        picture.convert("RGB" if layout == "BC5" else "RGBA").save(path, pixel_format=layout)
        assert facts(path).format == name
        theirs = np.asarray(PillowImage.open(path).convert("RGBA")).astype(int)
        kept = 2 if name == "bc5" else 4
        assert np.abs(read_picture(path).pixels[..., :kept].astype(int) - theirs[..., :kept]).max() <= 1
    picture.save(tmp_path / "plain.dds")
    assert (read_picture(tmp_path / "plain.dds").pixels == np.asarray(picture)).all()
    for name in ("bc1", "bc1-a1", "bc3", "bc5", "rgba8", "rgb565", "rgb9e5", "rgba16f"):
        texture = chain(name)
        back = dds.parse(dds.pack(texture), tmp_path / "x.dds", 1 << 20)
        assert (back.format, back.levels) == (texture.format, texture.levels)


def test_a_container_of_reserved_blocks_is_read(tmp_path):
    texture = EncodedTexture(FORMATS["astc-6x6"], 12, 12, Transfer.SRGB, (bytes(64),))
    data = pack_texture(texture, "ktx2")
    assert picture_with_facts(data, tmp_path / "a.ktx2")[0].format == "astc-6x6"
    assert parse_texture(data, tmp_path / "a.ktx2") == texture
    # Blocks of zeros are reserved: the standard's colour for errors says so, and nothing fails.
    assert (decode_picture(data, tmp_path / "a.ktx2").pixels == (255, 0, 255, 255)).all()


def test_a_file_appears_whole_or_not_at_all(tmp_path, monkeypatch):
    target = tmp_path / "deep" / "a.bin"
    write_atomic(target, b"old")
    monkeypatch.setattr(os, "replace", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(FileError, match="no space left"):
        write_atomic(target, b"new")
    assert target.read_bytes() == b"old"
    assert os.listdir(target.parent) == ["a.bin"]


def test_every_suffix_that_is_surveyed_has_been_read_here():
    assert {
        ".png",
        ".jpg",
        ".jpeg",
        ".tga",
        ".bmp",
        ".tif",
        ".tiff",
        ".webp",
        ".dds",
        ".ktx2",
        ".exr",
        ".hdr",
    } == SUFFIXES


# What is seen of rows A B and C D, stored so that they come out upright (TIFF 6.0, section 8, "Orientation").
_STORED = {1: "ABCD", 2: "BADC", 3: "DCBA", 4: "CDAB", 5: "ACBD", 6: "BDAC", 7: "DBCA", 8: "CADB"}


@pytest.mark.parametrize("orientation", range(1, 9))
@pytest.mark.parametrize("kind", ["png", "png16", "tif", "webp", "jpg"])
def test_orientation_is_honoured_and_said(tmp_path, kind, orientation):
    """Four corners of a picture that is wider than high, each of its own grey, in whatever order they are stored."""
    corners = dict(zip("ABCD", (30, 90, 150, 210), strict=True))
    letters = np.array(list(_STORED[orientation])).reshape(2, 2)
    tall = orientation >= 5
    blocks = np.kron(np.vectorize(corners.get)(letters), np.ones((48, 16) if tall else (16, 48), int))
    file, exif = tmp_path / f"a.{kind.removesuffix('16')}", PillowImage.Exif()
    exif[0x0112] = orientation
    if kind == "png16":
        spec = oiio.ImageSpec(blocks.shape[1], blocks.shape[0], 1, "uint16")
        spec.attribute("Orientation", orientation)
        out = oiio.ImageOutput.create(str(file))
        assert (
            out.open(str(file), spec) and out.write_image((blocks * 257).astype(np.uint16)[..., None]) and out.close()
        )
    else:
        lossless = {"lossless": True} if kind == "webp" else {}
        picture = PillowImage.fromarray(np.repeat(blocks[..., None], 3, 2).astype(np.uint8))
        picture.save(file, exif=exif, **lossless)
    got, found = read_picture(file).pixels, facts(file)
    assert got.shape[:2] == (32, 96) and (found.width, found.height, found.orientation) == (96, 32, orientation)
    depth = 257 if kind == "png16" else 1
    seen = [int(got[y, x, 0]) // depth for y, x in ((4, 4), (4, 90), (28, 4), (28, 90))]
    assert np.abs(np.array(seen) - list(corners.values())).max() <= 3


def test_what_is_not_looked_at_is_said(tmp_path):
    frames = [PillowImage.fromarray(busy(16, 16, 3, seed=k).pixels) for k in range(3)]
    frames[0].save(tmp_path / "a.png", save_all=True, append_images=frames[1:], duration=100)
    frames[0].save(tmp_path / "a.webp", save_all=True, append_images=frames[1:], duration=100, lossless=True)
    frames[0].save(tmp_path / "a.tif", save_all=True, append_images=frames[1:])
    assert facts(tmp_path / "a.png").ignored == facts(tmp_path / "a.webp").ignored == ("2 further frames",)
    assert facts(tmp_path / "a.tif").ignored == ("2 further pages",)
    assert (read_picture(tmp_path / "a.webp").pixels == busy(16, 16, 3, seed=0).pixels).all()

    def chunk(name, body):
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    rows = zlib.compress(bytes(2 * 7))
    gamma, points = chunk(b"gAMA", struct.pack(">I", 100_000)), chunk(b"cICP", bytes((9, 16, 0, 1)))
    for extra, said in (
        (gamma + points, ("gAMA (1)", "cICP (9, 16, 0, 1)")),
        (chunk(b"gAMA", struct.pack(">I", 45455)) + chunk(b"cICP", bytes((1, 13, 0, 1))), ()),
        (chunk(b"sRGB", b"\0") + gamma, ()),
    ):
        (tmp_path / "b.png").write_bytes(_as_png(2, 2, 2, rows, extra))
        assert facts(tmp_path / "b.png").ignored == said
