"""Reading pictures of every kind the product takes, and writing PNG: facts first, then pixels, with one kind of error.

Pillow reads what has 8 bits or fewer from memory; OpenImageIO reads 16-bit and floating-point files without loss. Plain PNG
files, which most pictures are, are decoded by Kornia's reader, three times as fast as Pillow.
"""

from __future__ import annotations

import io
import os
import struct
import tempfile
import threading
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import kornia_rs
import numpy as np
import OpenImageIO as oiio
from PIL import Image as PillowImage
from PIL import ImageCms

from oaktrim.core.codecs.texture import EncodedTexture, decode_level
from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files import dds, ktx2
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.formats.catalogue import TextureFormat
from oaktrim.core.pixels.image import CHANNEL_NAMES, Image, Pixels, Transfer, held, to_depth

# We weigh the claimed size ourselves, before any pixel is decoded.
PillowImage.MAX_IMAGE_PIXELS = None
oiio.attribute("limits:imagesize_MB", 1 << 30)
oiio.attribute("limits:resolution", 1 << 30)

MAX_PIXELS = 1 << 28

SUFFIXES = frozenset(
    (".png", ".jpg", ".jpeg", ".tga", ".bmp", ".tif", ".tiff", ".webp", ".dds", ".ktx2", ".exr", ".hdr")
)
_CONTAINERS = ("ktx2", "dds")
_PNG_MAGIC = b"\x89PNG\r\n\x1a\n"
_MAGICS: tuple[tuple[bytes, str], ...] = (
    (_PNG_MAGIC, "png"),
    (b"\xff\xd8\xff", "jpeg"),
    (b"BM", "bmp"),
    (b"II*\0", "tiff"),
    (b"MM\0*", "tiff"),
    (b"II+\0", "tiff"),
    (b"DDS ", "dds"),
    (ktx2.MAGIC, "ktx2"),
    (b"v/1\x01", "exr"),
    (b"#?RADIANCE", "hdr"),
    (b"#?RGBE", "hdr"),
)
# What Kornia calls the types of colour (ISO/IEC 15948, clause 11.2.2) that it decodes.
_KORNIA_MODES = {0: "mono", 2: "rgb", 6: "rgba"}
# It holds the interpreter's lock while it decodes: larger pictures would stop other threads for more than some 10 ms.
_KORNIA_MOST = 1 << 20
_BY_OPENIMAGEIO = ("tiff", "exr", "hdr")
_PILLOW_NAMES = {"png": "PNG", "jpeg": "JPEG", "tga": "TGA", "bmp": "BMP", "webp": "WEBP"}
_TYPES = {"uint8": np.uint8, "uint16": np.uint16, "half": np.float16, "float": np.float32}


@dataclass(frozen=True)
class PictureFacts:
    """What a file's header says.

    Parameters
    ----------
    kind : png, jpeg, tga, bmp, tiff, webp, dds, ktx2, exr or hdr, by the file's own bytes
    channels : 1 to 4
    bit_depth : bits a channel in memory; floating : they are floats
    levels : stored mip levels
    format : of a GPU container; empty otherwise
    profile : name of the embedded colour profile; empty without one
    slices : pictures of one size that it holds: layers of an array, faces of a cube
    """

    kind: str
    width: int
    height: int
    channels: int
    bit_depth: int
    floating: bool = False
    levels: int = 1
    format: str = ""
    profile: str = ""
    slices: int = 1


def kind_of(data: bytes, path: Path) -> str:
    """Return the kind of a picture by its first bytes; only TGA, which has none of its own, by its name.

    Raises
    ------
    FileError : no kind that is read
    """
    for magic, kind in _MAGICS:
        if data.startswith(magic):
            return kind
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "webp"
    if path.suffix.lower() == ".tga":
        return "tga"
    if not data:
        raise FileError(path, "is empty")
    raise FileError(path, f"is not a picture that is read; it begins with {data[:8].hex(' ')}", 0)


def _check_png(data: bytes, path: Path, max_pixels: int) -> set[bytes]:
    """Walk the chunks (ISO/IEC 15948, clause 5.3) and return their names: the reader behind would only print what is wrong."""
    if len(data) >= 24:
        width, height = struct.unpack_from(">II", data, 16)
        _weigh(width, height, max_pixels, path)
    at, ended = len(_PNG_MAGIC), False
    names: set[bytes] = set()
    while at < len(data) and not ended:
        if at + 12 > len(data):
            raise FileError(path, "ends inside a PNG chunk", len(data))
        length, name = struct.unpack_from(">I4s", data, at)
        if at + 12 + length > len(data):
            raise FileError(path, f"ends inside the PNG chunk {name.decode('latin-1')}", len(data))
        stop = at + 8 + length
        if zlib.crc32(memoryview(data)[at + 4 : stop]) != int.from_bytes(data[stop : stop + 4], "big"):
            raise FileError(path, f"the PNG chunk {name.decode('latin-1')} fails its checksum", at)
        names.add(name)
        ended = name == b"IEND"
        at = stop + 4
    if not ended:
        raise FileError(path, "ends before the PNG end chunk", len(data))
    return names


def _plain_png(data: bytes, names: set[bytes]) -> Image | None:
    """Return the picture in a PNG file of 8 bits a channel and no clear colour; None for all others."""
    if data[12:16] != b"IHDR" or not names.isdisjoint((b"tRNS", b"acTL")):
        return None
    width, height, depth, colour, *_, interlaced = struct.unpack_from(">IIBBBBB", data, 16)
    if depth != 8 or colour not in _KORNIA_MODES or interlaced:
        return None
    if width * height > _KORNIA_MOST and threading.active_count() > 1:
        return None
    try:
        return Image.of(kornia_rs.io.decode_image_png_u8(data, (height, width), _KORNIA_MODES[colour]))
    except Exception:  # whatever is wrong with it, Pillow has the words for it
        return None


def _png_is_deep(data: bytes) -> bool:
    return len(data) > 24 and data[24] == 16


def _weigh(width: int, height: int, max_pixels: int, path: Path) -> None:
    if width < 1 or height < 1:
        raise FileError(path, f"claims {width}x{height} pixels")
    if width * height > max_pixels:
        raise FileError(path, f"claims {width}x{height} pixels, over the limit of {max_pixels}")


def _pillow(data: bytes, path: Path, kind: str, max_pixels: int) -> PillowImage.Image:
    try:
        picture = PillowImage.open(io.BytesIO(data), formats=[_PILLOW_NAMES[kind]])
    except Exception as error:  # the plug-ins raise whatever a broken header leads them to
        raise FileError(path, f"is not a valid {kind.upper()} file: {_reason(error, path)}") from error
    _weigh(*picture.size, max_pixels, path)
    return picture


def _reason(error: Exception, path: Path) -> str:
    text = str(error).strip().splitlines()
    if not text or "cannot identify" in text[0]:
        return "its header cannot be understood"
    return text[0].replace(str(path), "").strip(" :")


def _pillow_mode(picture: PillowImage.Image) -> str:
    """Return the mode to bring a picture to: grey, grey and alpha, colour, or colour and alpha."""
    clear = "transparency" in picture.info
    if picture.mode in ("1", "L"):
        return "LA" if clear else "L"
    if picture.mode in ("LA", "RGBA"):
        return picture.mode
    if picture.mode == "P":
        return "RGBA" if clear or (picture.palette is not None and picture.palette.mode == "RGBA") else "RGB"
    return "RGBA" if clear or picture.mode in ("PA", "RGBa") else "RGB"


class _Reading:
    """A file open in OpenImageIO; failures come back from there as None with a text."""

    def __init__(self, data: bytes, path: Path, kind: str, max_pixels: int) -> None:
        self.path = path
        self._aside: tempfile.TemporaryDirectory[str] | None = None
        name = str(path)
        if not _is_utf8(name) or not path.is_file():
            # OpenImageIO takes files with UTF-8 names only: lend one to names that are not, and to bytes held in a model.
            self._aside = tempfile.TemporaryDirectory(prefix="oak-trim-")
            name = os.path.join(self._aside.name, f"picture.{kind}")
            Path(name).write_bytes(data)
        config = oiio.ImageSpec()
        config.attribute("oiio:UnassociatedAlpha", 1)
        opened: Any = self._asked(oiio.ImageInput.open, name, config)
        if opened is None:
            raise FileError(path, f"cannot be read: {_last_line(self._asked(oiio.geterror))}")
        self.input = opened
        self.spec = self._asked(self.input.spec)
        _weigh(self.spec.width, self.spec.height, max_pixels, path)

    def _asked(self, ask: Callable[..., Any], *given: object) -> Any:
        """Return what OpenImageIO answers; texts from a broken file may not even be text."""
        try:
            return ask(*given)
        except Exception as error:
            raise FileError(self.path, "cannot be read: its header is garbled") from error

    def __enter__(self) -> _Reading:
        return self

    def __exit__(self, *_: object) -> None:
        self.input.close()
        if self._aside is not None:
            self._aside.cleanup()

    @property
    def channels(self) -> int:
        return min(4, int(self.spec.nchannels))

    @property
    def type_name(self) -> str:
        name = str(self.spec.format)
        return name if name in _TYPES else {"uint32": "uint16", "int16": "uint16", "int8": "uint8"}.get(name, "float")

    def pixels(self) -> Any:
        got = self._asked(self.input.read_image, 0, 0, 0, self.channels, self.type_name)
        if got is None:
            raise FileError(self.path, f"cannot be read: {_last_line(self._asked(self.input.geterror))}")
        return np.asarray(got, dtype=_TYPES[self.type_name]).reshape(self.spec.height, self.spec.width, self.channels)


def _is_utf8(name: str) -> bool:
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def _last_line(text: str) -> str:
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[-1] if lines else "no reason given"


def picture_with_facts(data: bytes, path: Path, max_pixels: int = MAX_PIXELS) -> tuple[PictureFacts, Image]:
    """Return what a file's bytes say of the picture that they hold, and the picture, at its own depth; of a container, level 0.

    Integers are taken as sRGB code values, floats as linear light; a role may have them read otherwise. `path` is for
    errors and for OpenImageIO.

    Raises
    ------
    FileError : not a picture that is read, not whole, or larger than `max_pixels`
    """
    kind = kind_of(data, path)
    if kind in _CONTAINERS:
        texture = parse_texture(data, path, max_pixels)
        return _container_facts(kind, texture), texture_image(texture, path)
    if kind == "png":
        names = _check_png(data, path, max_pixels)
        plain = _plain_png(data, names)
        if plain is not None:
            icc = _pillow(data, path, kind, max_pixels).info.get("icc_profile") if b"iCCP" in names else None
            return _facts_of_codes(kind, plain, icc), plain
    if kind in _BY_OPENIMAGEIO or (kind == "png" and _png_is_deep(data)):
        return _by_openimageio(data, path, kind, max_pixels)
    picture = _pillow(data, path, kind, max_pixels)
    icc = picture.info.get("icc_profile")
    try:
        mode = _pillow_mode(picture)
        pixels = np.asarray(picture if picture.mode == mode else picture.convert(mode))
    except Exception as error:  # a decoder raises whatever its broken stream leads it to
        raise FileError(path, f"cannot be decoded: {_reason(error, path)}") from error
    image = Image.of(held(pixels))
    return _facts_of_codes(kind, image, icc), image


def _facts_of_codes(kind: str, image: Image, icc: bytes | None) -> PictureFacts:
    return PictureFacts(kind, *image.size, len(image.channels), 8, profile=_profile_name(icc) if icc else "")


def _by_openimageio(data: bytes, path: Path, kind: str, max_pixels: int) -> tuple[PictureFacts, Image]:
    with _Reading(data, path, kind, max_pixels) as reading:
        icc = reading.spec.getattribute("ICCProfile")
        pixels = reading.pixels()
    profile = "" if icc is None else _profile_name(bytes(np.asarray(icc, np.uint8)))
    height, width, channels = pixels.shape
    floating = pixels.dtype.kind == "f"
    names: tuple[str, ...] = ("R", "G") if channels == 2 and floating else CHANNEL_NAMES[channels]
    image = Image(held(pixels), names, Transfer.LINEAR if floating else Transfer.SRGB)
    return PictureFacts(kind, width, height, channels, image.bit_depth, floating, profile=profile), image


def _profile_name(icc: bytes) -> str:
    """Return what an ICC profile calls itself."""
    try:
        name = ImageCms.getProfileDescription(ImageCms.ImageCmsProfile(io.BytesIO(icc)))
    except (ImageCms.PyCMSError, OSError, ValueError):
        name = ""
    return name.strip() or "unnamed"


def _container_facts(kind: str, texture: EncodedTexture) -> PictureFacts:
    row = texture.format
    depth = 16 if row.floating or row.name == "r16" else 8
    return PictureFacts(
        kind,
        *texture.size,
        len(row.channels),
        depth,
        row.floating,
        len(texture.levels),
        row.name,
        slices=texture.slices,
    )


def decode_picture(data: bytes, path: Path, max_pixels: int = MAX_PIXELS) -> Image:
    """Return the picture in a file's bytes; see `picture_with_facts`."""
    return picture_with_facts(data, path, max_pixels)[1]


def texture_image(texture: EncodedTexture, path: Path, level: int = 0, slice_: int = 0) -> Image:
    """Return a level of a texture that was read from `path`, refused in its name."""
    try:
        return decode_level(texture, level, slice_)
    except Unsupported as error:
        raise FileError(path, str(error)) from error


def parse_texture(data: bytes, path: Path, max_pixels: int = MAX_PIXELS) -> EncodedTexture:
    """Return the texture in the bytes of a KTX2 or DDS file."""
    if kind_of(data, path) == "dds":
        return dds.parse(data, path, max_pixels)
    return ktx2.parse(data, path, max_pixels)


def pack_texture(texture: EncodedTexture, container: str) -> bytes:
    """Return a texture as the bytes of a `ktx2` or `dds` file."""
    return dds.pack(texture) if container == "dds" else ktx2.pack(texture)


def bytes_beside(
    container: str, row: TextureFormat, width: ktx2.Ints, height: ktx2.Ints, levels: ktx2.Ints, slices: ktx2.Ints
) -> ktx2.Ints | int:
    """Return what `ktx2` or `dds` files of a format take beside the bytes of their levels; sizes (N,) int64."""
    return dds.bytes_beside() if container == "dds" else ktx2.bytes_beside(row, width, height, levels, slices)


def read_picture(path: Path, max_pixels: int = MAX_PIXELS) -> Image:
    """Return the picture in a file; see `decode_picture`."""
    return decode_picture(read_bytes(path), path, max_pixels)


def png_bytes(pixels: Pixels) -> bytes:
    """Return codes (H, W, 1, 3 or 4) uint8 as a PNG file."""
    buffer = io.BytesIO()
    PillowImage.fromarray(pixels[..., 0] if pixels.shape[2] == 1 else pixels).save(buffer, "PNG")
    return buffer.getvalue()


def write_png(path: Path, image: Image) -> None:
    """Write a picture as PNG, 8 or 16 bits a channel; floats are cut to 0..1 and written with 16.

    Raises
    ------
    FileError : it cannot be written
    """
    pixels = to_depth(image.pixels, np.uint16) if image.is_float else image.pixels
    if image.channels == ("R", "G"):
        pixels = np.concatenate([pixels, np.zeros_like(pixels[..., :1])], axis=2)
    if pixels.dtype == np.uint8:
        write_atomic(path, png_bytes(pixels))
        return
    with tempfile.TemporaryDirectory(prefix="oak-trim-") as folder:
        passing = Path(folder) / "picture.png"
        out: Any = oiio.ImageOutput.create(str(passing))
        spec = oiio.ImageSpec(image.width, image.height, pixels.shape[2], "uint16")
        spec.attribute("oiio:UnassociatedAlpha", 1)
        spec.attribute("oiio:ColorSpace", "sRGB")
        if not (out.open(str(passing), spec) and out.write_image(np.ascontiguousarray(pixels)) and out.close()):
            raise FileError(path, f"cannot be written: {_last_line(out.geterror())}")
        write_atomic(path, passing.read_bytes())
