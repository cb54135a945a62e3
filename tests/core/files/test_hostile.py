"""Files that are torn, lie or overreach: each answer is one error that names the file, whatever the bytes."""

import io
import struct
import warnings
import zlib

import numpy as np
import OpenEXR
import pytest
from backports import zstd
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image as PillowImage

from oaktrim.core.errors import FileError
from oaktrim.core.files import dds, ktx2
from oaktrim.core.files.pictures import decode_picture, write_png
from tests.core.files.test_ktx2 import chain
from tests.kit.pictures import busy

KINDS = ("png", "png16", "jpg", "tga", "bmp", "tif", "webp", "exr", "hdr", "dds", "ktx2", "zst.ktx2")


@pytest.fixture(scope="module")
def wholes(tmp_path_factory):
    """One good file of each kind, as bytes."""
    folder, picture = tmp_path_factory.mktemp("wholes"), busy(40, 30, 4)
    out = {}
    for kind, name in (
        ("jpg", "JPEG"),
        ("tga", "TGA"),
        ("bmp", "BMP"),
        ("tif", "TIFF"),
        ("webp", "WEBP"),
        ("png", "PNG"),
    ):
        buffer = io.BytesIO()
        PillowImage.fromarray(picture.pixels).convert("RGB").save(buffer, name)
        out[kind] = buffer.getvalue()
    write_png(folder / "a.png", busy(40, 30, 3, dtype=np.uint16))
    out["png16"] = (folder / "a.png").read_bytes()
    OpenEXR.File({}, {"RGB": busy(40, 30, 3, dtype=np.float32).pixels}).write(str(folder / "a.exr"))
    out["exr"] = (folder / "a.exr").read_bytes()
    out["hdr"] = b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 30 +X 40\n" + bytes([9, 99, 7, 129]) * 1200
    out["dds"] = dds.pack(chain("bc3", 40, 30))
    out["ktx2"] = ktx2.pack(chain("bc1", 40, 30))
    out["zst.ktx2"] = ktx2.pack(chain("bc1", 40, 30), 3)
    return out


def attempt(folder, kind, data, max_pixels=1 << 22):
    """Read bytes as a file; return the error, or None where they could be read."""
    suffix = "png" if kind == "png16" else kind
    path = folder / f"bad.{suffix}"
    path.write_bytes(data)
    try:
        decode_picture(data, path, max_pixels)
    except FileError as error:
        assert str(error).startswith(str(path)), "the error names the file"
        assert len(str(error)) > len(str(path)) + 8, "the error names the fault"
        return error
    return None


@pytest.mark.parametrize("kind", KINDS)
def test_whole_files_are_read(tmp_path, wholes, kind):
    assert attempt(tmp_path, kind, wholes[kind]) is None


@pytest.mark.parametrize("kind", KINDS)
def test_torn_at_every_tenth_byte(tmp_path, wholes, kind, capfd):
    data = wholes[kind]
    unnoticed = [
        cut
        for cut in range(0, len(data) - 1, max(10, len(data) // 400 // 10 * 10))
        if attempt(tmp_path, kind, data[:cut]) is None
    ]
    # These kinds do not say how long they are: a tail that is missing can only be noticed while pixels are.
    allowed = {"jpg": 64, "webp": 64, "tif": 220, "exr": 0, "tga": 64, "bmp": 64}.get(kind, 0)
    assert all(cut > len(data) - allowed for cut in unnoticed)
    assert capfd.readouterr().err == "", "a reader printed on its own"


@pytest.mark.parametrize("kind", KINDS)
def test_empty_and_of_another_kind(tmp_path, kind):
    assert attempt(tmp_path, kind, b"") is not None
    assert attempt(tmp_path, kind, b"\0" * 64) is not None
    assert attempt(tmp_path, kind, b"just some text, not a picture at all" * 4) is not None


@pytest.mark.parametrize("kind", KINDS)
@given(changes=st.lists(st.tuples(st.booleans(), st.integers(0, 1 << 16), st.integers(0, 255)), min_size=1, max_size=8))
@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_flipped_bytes_never_break_a_reader(tmp_path, wholes, kind, changes):
    broken = bytearray(wholes[kind])
    for in_head, place, value in changes:
        broken[place % min(len(broken), 128 if in_head else 1 << 16)] = value
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        attempt(tmp_path, kind, bytes(broken))


@pytest.mark.parametrize("field", range(13))
def test_every_field_of_a_ktx2_header_lied_about(tmp_path, wholes, field):
    for lie in (0, 1, 7, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF):
        for kind in ("ktx2", "zst.ktx2"):
            data = bytearray(wholes[kind])
            struct.pack_into("<I", data, 12 + 4 * field, lie)
            attempt(tmp_path, kind, bytes(data))


@pytest.mark.parametrize("field", range(37))
def test_every_field_of_a_dds_header_lied_about(tmp_path, wholes, field):
    for lie in (0, 1, 7, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF):
        data = bytearray(wholes["dds"])
        struct.pack_into("<I", data, 4 * field, lie)
        attempt(tmp_path, "dds", bytes(data))


def test_level_index_that_points_away(tmp_path, wholes):
    for field, lie in ((0, 1 << 40), (1, 1 << 40), (1, 3), (2, 5), (0, 0)):
        data = bytearray(wholes["ktx2"])
        struct.pack_into("<Q", data, 80 + 8 * field, lie)
        error = attempt(tmp_path, "ktx2", bytes(data))
        assert (error is None) == (field == 0 and lie == 0)


def test_a_level_that_unpacks_to_far_more_is_stopped(tmp_path, wholes):
    bomb = zstd.compress(bytes(1 << 26), 3)
    data = bytearray(wholes["zst.ktx2"]) + bomb
    struct.pack_into("<3Q", data, 80, len(wholes["zst.ktx2"]), len(bomb), 1 << 26)
    assert "level 0 holds" in str(attempt(tmp_path, "zst.ktx2", bytes(data)))


def chunk(name, data):
    return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))


@pytest.mark.parametrize("depth", [8, 16])
def test_bombs_are_refused_before_they_are_decoded(tmp_path, depth):
    head = struct.pack(">IIBBBBB", 60000, 60000, depth, 6, 0, 0, 0)
    data = (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(bytes(1000))) + chunk(b"IEND", b"")
    )
    assert "over the limit of 4194304" in str(attempt(tmp_path, "png", data))
    tga = struct.pack("<BBBHHBHHHHBB", 0, 0, 10, 0, 0, 0, 0, 0, 65535, 65535, 32, 8) + bytes(100)
    assert "over the limit" in str(attempt(tmp_path, "tga", tga))
    for kind, offset in (("ktx2", 20), ("dds", 12)):
        packed = bytearray(ktx2.pack(chain("bc1", 8, 8)) if kind == "ktx2" else dds.pack(chain("bc1", 8, 8)))
        struct.pack_into("<II", packed, offset, 60000, 60000)
        assert "over the limit" in str(attempt(tmp_path, kind, bytes(packed)))


def test_a_broken_checksum_names_the_chunk(tmp_path, wholes):
    for kind in ("png", "png16"):
        data = bytearray(wholes[kind])
        data[len(data) // 2] ^= 1
        assert "PNG chunk IDAT fails its checksum (at byte" in str(attempt(tmp_path, kind, bytes(data)))
