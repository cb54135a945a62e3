"""KTX 2.0 files, read back field by field as the specification lays them out."""

import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from backports import zstd

from oaktrim.core.codecs.texture import EncodedTexture, encode_texture, stack_textures
from oaktrim.core.errors import FileError
from oaktrim.core.files import dds, ktx2
from oaktrim.core.files.descriptor import pack_descriptor
from oaktrim.core.files.pictures import bytes_beside, pack_texture
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.progress import finish
from tests.kit.pictures import busy

PATH = Path("made.ktx2")


def chain(name, width=37, height=21, transfer=Transfer.SRGB):
    levels = build_mip_chain(busy(width, height).read_as(transfer))
    return finish(encode_texture(levels, FORMATS[name]))


@pytest.mark.parametrize("level", [None, 3])
@pytest.mark.parametrize("name", ORDER)
def test_what_is_written_is_read(name, level):
    texture = chain(name)
    back = ktx2.parse(ktx2.pack(texture, level), PATH, 1 << 20)
    assert back.levels == texture.levels
    assert (back.format, back.width, back.height) == (texture.format, 37, 21)
    # Formats without an sRGB number of their own keep the transfer in the descriptor; floats are light.
    assert back.transfer is (Transfer.LINEAR if FORMATS[name].floating else Transfer.SRGB)


@pytest.mark.parametrize("name", ORDER)
def test_the_layout_of_the_file(name):
    texture = chain(name)
    data = ktx2.pack(texture)
    assert data[:12] == bytes([0xAB, 0x4B, 0x54, 0x58, 0x20, 0x32, 0x30, 0xBB, 0x0D, 0x0A, 0x1A, 0x0A])
    vk, type_size, width, height, depth, layers, faces, count, scheme = struct.unpack_from("<9I", data, 12)
    row = FORMATS[name]
    assert vk == (row.vk_srgb or row.vk)
    assert (width, height, depth, layers, faces, count, scheme) == (37, 21, 0, 0, 1, 6, 0)
    assert type_size == {"r16": 2, "rgba16f": 2, "rgb565": 2, "rgba5551": 2, "rgba4444": 2}.get(
        name, 4 if name in ("r11g11b10f", "rgb9e5") else 1
    )
    dfd, dfd_length, kvd, kvd_length, sgd, sgd_length = struct.unpack_from("<4I2Q", data, 48)
    assert dfd == 80 + 24 * count
    assert struct.unpack_from("<I", data, dfd)[0] == dfd_length
    assert dfd_length % 4 == 0
    assert (kvd, sgd, sgd_length) == (dfd + dfd_length, 0, 0)
    assert _keys(data[kvd : kvd + kvd_length]) == {"KTXorientation": b"rd\0", "KTXwriter": b"Oak Trim 0.1.0\0"}
    end = kvd + kvd_length
    align = row.block_bytes * 4 // {1: 1, 2: 2, 3: 1, 4: 4, 8: 4, 16: 4}[row.block_bytes]
    for level in reversed(range(count)):  # the smallest stands first
        offset, length, plain = struct.unpack_from("<3Q", data, 80 + 24 * level)
        assert offset % align == 0
        assert end <= offset < end + align
        assert length == plain == len(texture.levels[level])
        end = offset + length
    assert end == len(data)


def _keys(data):
    found, at = {}, 0
    while at < len(data):
        length = struct.unpack_from("<I", data, at)[0]
        key, _, value = data[at + 4 : at + 4 + length].partition(b"\0")
        found[key.decode()] = value
        at += 4 + length + -length % 4
    assert at == len(data)
    assert list(found) == sorted(found)
    return found


@pytest.mark.parametrize("name", FORMATS)
@pytest.mark.parametrize("transfer", Transfer)
def test_descriptors(name, transfer):
    """Khronos Data Format Specification 1.3: block layout, colour model, and bits that add up to the block."""
    row = FORMATS[name]
    data = pack_descriptor(row, transfer)
    total, vendor, version_size, model, primaries, code, flags, *rest = struct.unpack_from("<III4B4B8B", data)
    samples = (version_size >> 16) // 16 - 1
    assert total == len(data) == 4 + 24 + 16 * samples
    assert (vendor, version_size & 0xFFFF, primaries, flags) == (0, 2, 1, 0)
    assert code == (1 if row.floating else {Transfer.LINEAR: 1, Transfer.SRGB: 2}[transfer])
    assert tuple(rest[:4]) == (row.block[0] - 1, row.block[1] - 1, 0, 0)
    assert rest[4:] == [row.block_bytes, 0, 0, 0, 0, 0, 0, 0]
    stems = {
        "bc1": 128,
        "bc3": 130,
        "bc4": 131,
        "bc5": 132,
        "bc6": 133,
        "bc7": 134,
        "etc": 161,
        "eac": 161,
        "ast": 162,
        "uas": 166,
    }
    assert model == stems.get(name[:3], 1)
    bits = 0
    for sample in range(samples):
        offset, length, channel = struct.unpack_from("<HBB", data, 28 + 16 * sample)
        assert offset + length + 1 <= row.block_bytes * 8
        bits |= ((1 << (length + 1)) - 1) << offset
        if channel & 15 == 15:
            assert bool(channel & 0x10) == (transfer is Transfer.SRGB and not row.floating), "alpha is always linear"
    assert bits == (1 << row.block_bytes * 8) - 1


def test_supercompressed_levels_are_zstandard():
    texture = chain("rgba8")
    data = ktx2.pack(texture, 5)
    assert struct.unpack_from("<I", data, 44)[0] == 2
    for level, plain in enumerate(texture.levels):
        offset, length, size = struct.unpack_from("<3Q", data, 80 + 24 * level)
        assert zstd.decompress(data[offset : offset + length]) == plain
        assert size == len(plain)


def test_linear_and_srgb_are_kept_apart():
    for transfer in Transfer:
        texture = chain("bc3", transfer=transfer)
        assert ktx2.parse(ktx2.pack(texture), PATH, 1 << 20).transfer is transfer


def test_a_file_without_a_level_count_holds_one():
    texture = chain("bc1", 8, 8)
    one = EncodedTexture(texture.format, 8, 8, texture.transfer, texture.levels[:1])
    data = bytearray(ktx2.pack(one))
    struct.pack_into("<I", data, 40, 0)
    assert ktx2.parse(bytes(data), PATH, 1 << 20).levels == texture.levels[:1]


@pytest.mark.parametrize("container", ["ktx2", "dds"])
def test_the_size_of_a_file_is_known_before_it_is_made(container):
    """Of every format, with sides that end anywhere in a block, few levels or one, and of stacks of pictures."""
    for name in ORDER:
        # What is packed in its file takes what packing leaves.
        if FORMATS[name].supercompressed or (container == "dds" and FORMATS[name].dxgi is None):
            continue
        made = [chain(name), chain(name, 64, 8), chain(name, 3, 3), stack(name, 3, 1), stack(name, 2, 6)]
        made.append(replace(made[0], levels=made[0].levels[:1]))
        sizes = np.array([(t.width, t.height, len(t.levels), t.slices) for t in made]).T
        more = np.zeros(len(made), np.int64) + bytes_beside(container, FORMATS[name], *sizes)
        assert more.tolist() == [
            len(pack_texture(t, container)) - sum(len(level) for level in t.levels) for t in made
        ], name


def stack(name, layers, faces, side=16):
    parts = [
        finish(encode_texture(build_mip_chain(busy(side, side, seed=s)), FORMATS[name])) for s in range(layers * faces)
    ]
    return stack_textures(parts, faces)


@pytest.mark.parametrize("name", ["rgba8", "bc1", "bc7", "bc6h"])
@pytest.mark.parametrize(("layers", "faces"), [(5, 1), (1, 6), (2, 6)])
def test_arrays_and_cubes(name, layers, faces):
    texture = stack(name, layers, faces)
    assert ktx2.parse(ktx2.pack(texture, 3), PATH, 1 << 20) == ktx2.parse(ktx2.pack(texture), PATH, 1 << 20)
    for data, parse in ((ktx2.pack(texture), ktx2.parse), (dds.pack(texture), dds.parse)):
        back = parse(data, PATH, 1 << 20)
        assert (back.levels, back.layers, back.faces) == (texture.levels, layers, faces)
        with pytest.raises(FileError, match="over the limit"):
            parse(data, PATH, 16 * 16 * layers * faces - 1)
    # KTX File Format 2.0, section 3.5: no array is said as 0 layers. DDS: all levels of one picture come first.
    assert struct.unpack_from("<2I", ktx2.pack(texture), 32) == (layers if layers > 1 else 0, faces)
    data, size = dds.pack(texture), FORMATS[name].level_bytes(16, 16)
    assert data[148 : 148 + size] == texture.levels[0][:size]
    assert (
        data[148 + size : 148 + size + FORMATS[name].level_bytes(8, 8)]
        == texture.levels[1][: FORMATS[name].level_bytes(8, 8)]
    )
    misc, count = struct.unpack_from("<2I", data, 136)
    assert (misc, count) == (4 if faces == 6 else 0, layers)
    assert struct.unpack_from("<I", data, 112)[0] == (0xFE00 if faces == 6 else 0)
