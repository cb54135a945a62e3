"""Reading pictures of every kind the product takes, and writing PNG and OpenEXR: facts first, then pixels, with one kind of error.

Pillow reads what has 8 bits or fewer from memory; OpenImageIO reads 16-bit and floating-point files without loss. Pictures
are turned as the orientation in their files says (TIFF 6.0, section 8, "Orientation"; Exif has the same).
"""

from __future__ import annotations

import io
import os
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
from PIL import Image as PillowImage
from PIL import ImageCms

from oaktrim.core.codecs.texture import EncodedTexture, decode_level
from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files import dds, ktx2, png
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.formats.format import TextureFormat
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import CHANNEL_NAMES, Image, Pixels, held, to_depth
from oaktrim.core.pixels.transfer import srgb_to_linear

# A third of the time of the default, for a tenth more bytes.
_PNG_LEVEL = 4

SUFFIXES = frozenset(
    (".png", ".jpg", ".jpeg", ".tga", ".bmp", ".tif", ".tiff", ".webp", ".dds", ".ktx2", ".exr", ".hdr")
)
_CONTAINERS = ("ktx2", "dds")
_MAGICS: tuple[tuple[bytes, str], ...] = (
    (png.MAGIC, "png"),
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
_BY_OPENIMAGEIO = ("tiff", "exr", "hdr")
_PILLOW_NAMES = {"png": "PNG", "jpeg": "JPEG", "tga": "TGA", "bmp": "BMP", "webp": "WEBP"}
_UPRIGHT, _MOST_PICTURES = 1, 1000
_EXIF_ORIENTATION = 0x0112
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
    orientation : as stated in the file, 1 to 8; sizes are those of the picture once turned
    ignored : what else the file holds and is not looked at, in words
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
    orientation: int = _UPRIGHT
    ignored: tuple[str, ...] = ()


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

    def pictures(self) -> int:
        """Return how many pictures the file holds; those after the first are not read."""
        count = 1
        while count < _MOST_PICTURES and self._asked(self.input.seek_subimage, count, 0):
            count += 1
        self._asked(oiio.geterror)
        return count


def _is_utf8(name: str) -> bool:
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def _last_line(text: str) -> str:
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[-1] if lines else "no reason given"


def picture_with_facts(
    data: bytes, path: Path, max_pixels: int = MAX_PIXELS, alone: bool = False
) -> tuple[PictureFacts, Image]:
    """Return what a file's bytes say of the picture that they hold, and the picture, at its own depth; of a container, level 0.

    Integers are taken as sRGB code values, floats as linear light; a role may have them read otherwise. `path` is for
    errors and for OpenImageIO.

    Parameters
    ----------
    alone : no other thread of this process is kept waiting, so that the quickest reader may be used

    Raises
    ------
    FileError : not a picture that is read, not whole, or larger than `max_pixels`
    """
    kind = kind_of(data, path)
    if kind in _CONTAINERS:
        texture = parse_texture(data, path, max_pixels)
        return _container_facts(kind, texture), texture_image(texture, path)
    chunks: dict[bytes, bytes] = {}
    if kind == "png":
        if len(data) >= 24:
            _weigh(int.from_bytes(data[16:20], "big"), int.from_bytes(data[20:24], "big"), max_pixels, path)
        chunks = png.read_chunks(data, path)
        plain = png.decode_plain(data, chunks, alone)
        if plain is not None:
            icc = _pillow(data, path, kind, max_pixels).info.get("icc_profile") if b"iCCP" in chunks else None
            return _facts_of_codes(kind, plain, icc, ignored=png.ignored_parts(chunks)), plain
    if kind in _BY_OPENIMAGEIO or (kind == "png" and png.is_deep(data)):
        return _by_openimageio(data, path, kind, max_pixels, png.ignored_parts(chunks))
    picture = _pillow(data, path, kind, max_pixels)
    icc = picture.info.get("icc_profile")
    try:
        frames = int(getattr(picture, "n_frames", 1))
        # Of PNG files the chunks were looked at: most have no such part.
        exif = picture.getexif() if kind != "png" or b"eXIf" in chunks else {}
        orientation = _stated(exif.get(_EXIF_ORIENTATION, _UPRIGHT))
        mode = _pillow_mode(picture)
        pixels = np.asarray(picture if picture.mode == mode else picture.convert(mode))
    except Exception as error:  # a decoder raises whatever its broken stream leads it to
        raise FileError(path, f"cannot be decoded: {_reason(error, path)}") from error
    image = Image.of(held(turned(pixels, orientation)))
    ignored = (*_further(frames, "frame"), *png.ignored_parts(chunks))
    return _facts_of_codes(kind, image, icc, orientation, ignored), image


def _stated(orientation: object) -> int:
    """Return an orientation as a file states it; what is none is upright, as all readers take it."""
    return orientation if isinstance(orientation, int) and 1 <= orientation <= 8 else _UPRIGHT


def turned(pixels: Pixels, orientation: int) -> Pixels:
    """Return stored pixels (H, W) or (H, W, C) as they are to be seen.

    Parameters
    ----------
    orientation : where the stored first row and first column lie, 1 to 8 (TIFF 6.0, section 8)
    """
    if orientation >= 5:
        pixels = np.swapaxes(pixels, 0, 1)
    # After that: 1 as it is, 2 mirrored, 3 turned by half, 4 upside down; 5 to 8 likewise, in the order of the standard.
    mirrored, upside_down = orientation in (2, 3, 6, 7), orientation in (3, 4, 7, 8)
    return pixels[:: -1 if upside_down else 1, :: -1 if mirrored else 1]


def _further(count: int, what: str) -> tuple[str, ...]:
    return (f"{count - 1} further {what}{'s' if count > 2 else ''}",) if count > 1 else ()


def _facts_of_codes(
    kind: str, image: Image, icc: bytes | None, orientation: int = _UPRIGHT, ignored: tuple[str, ...] = ()
) -> PictureFacts:
    return PictureFacts(
        kind, *image.size, len(image.channels), 8, profile=_profile_name(icc) if icc else "",
        orientation=orientation, ignored=ignored,
    )  # fmt: skip


def _by_openimageio(
    data: bytes, path: Path, kind: str, max_pixels: int, ignored: tuple[str, ...]
) -> tuple[PictureFacts, Image]:
    with _Reading(data, path, kind, max_pixels) as reading:
        icc = reading.spec.getattribute("ICCProfile")
        orientation = _stated(reading.spec.getattribute("Orientation"))
        pixels = turned(reading.pixels(), orientation)
        ignored = (*_further(reading.pictures(), "picture" if kind == "exr" else "page"), *ignored)
    profile = "" if icc is None else _profile_name(bytes(np.asarray(icc, np.uint8)))
    height, width, channels = pixels.shape
    floating = pixels.dtype.kind == "f"
    names: tuple[str, ...] = ("R", "G") if channels == 2 and floating else CHANNEL_NAMES[channels]
    image = Image(held(pixels), names, Transfer.LINEAR if floating else Transfer.SRGB)
    facts = PictureFacts(
        kind, width, height, channels, image.bit_depth, floating, profile=profile, orientation=orientation,
        ignored=ignored,
    )  # fmt: skip
    return facts, image


def _profile_name(icc: bytes) -> str:
    """Return what an ICC profile calls itself."""
    try:
        name = ImageCms.getProfileDescription(ImageCms.ImageCmsProfile(io.BytesIO(icc)))
    except (ImageCms.PyCMSError, OSError, ValueError):
        name = ""
    return name.strip() or "unnamed"


def _container_facts(kind: str, texture: EncodedTexture) -> PictureFacts:
    row = texture.format
    return PictureFacts(
        kind,
        *texture.size,
        len(row.channels),
        row.bit_depth,
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


# More packs the blocks of pictures by half a percent, in three times the time.
_ZSTD_LEVEL = 12


def parse_texture(data: bytes, path: Path, max_pixels: int = MAX_PIXELS) -> EncodedTexture:
    """Return the texture in the bytes of a KTX2 or DDS file."""
    if kind_of(data, path) == "dds":
        return dds.parse(data, path, max_pixels)
    return ktx2.parse(data, path, max_pixels)


def pack_texture(texture: EncodedTexture, container: str) -> bytes:
    """Return a texture as the bytes of a `ktx2` or `dds` file; supercompressed where its format is."""
    if container == "dds":
        return dds.pack(texture)
    return ktx2.pack(texture, _ZSTD_LEVEL if texture.format.supercompressed else None)


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
    PillowImage.fromarray(pixels[..., 0] if pixels.shape[2] == 1 else pixels).save(
        buffer, "PNG", compress_level=_PNG_LEVEL
    )
    return buffer.getvalue()


def write_png(path: Path, image: Image) -> None:
    """Write a picture as PNG, 8 or 16 bits a channel; floats are cut to 0..1 and written with 16.

    Raises
    ------
    FileError : it cannot be written
    """
    write_atomic(path, png_of(image, path))


def write_exr(path: Path, image: Image) -> None:
    """Write a picture of floats as OpenEXR, linear, in halves or floats as it has them.

    Raises
    ------
    FileError : it cannot be written
    """
    light = image.pixels
    if image.transfer is Transfer.SRGB:
        count = len(image.channels) - int(image.has_alpha)
        light = light.astype(np.float32)
        light[..., :count] = srgb_to_linear(light[..., :count])
    spec = oiio.ImageSpec(image.width, image.height, len(image.channels), "half" if image.bit_depth == 16 else "float")
    spec.channelnames = tuple("Y" if name == "L" else name for name in image.channels)
    spec.attribute("compression", "zip")
    with tempfile.TemporaryDirectory() as scratch:
        passing = Path(scratch) / "picture.exr"
        out = oiio.ImageOutput.create(str(passing))
        if not (out and out.open(str(passing), spec) and out.write_image(np.ascontiguousarray(light)) and out.close()):
            raise FileError(path, f"cannot be written: {out.geterror() if out else oiio.geterror()}")
        write_atomic(path, passing.read_bytes())


def png_of(image: Image, path: Path) -> bytes:
    """Return a picture as `write_png` writes it; `path` is for errors."""
    pixels = to_depth(image.pixels, np.uint16) if image.is_float else image.pixels
    if image.channels == ("R", "G"):
        pixels = np.concatenate([pixels, np.zeros_like(pixels[..., :1])], axis=2)
    if pixels.dtype == np.uint8:
        return png_bytes(pixels)
    with tempfile.TemporaryDirectory(prefix="oak-trim-") as folder:
        passing = Path(folder) / "picture.png"
        out: Any = oiio.ImageOutput.create(str(passing))
        spec = oiio.ImageSpec(image.width, image.height, pixels.shape[2], "uint16")
        spec.attribute("oiio:UnassociatedAlpha", 1)
        spec.attribute("oiio:ColorSpace", "sRGB")
        if not (out.open(str(passing), spec) and out.write_image(np.ascontiguousarray(pixels)) and out.close()):
            raise FileError(path, f"cannot be written: {_last_line(out.geterror())}")
        return passing.read_bytes()
