"""Speed and quality of resampling and block encoding, against what Pillow takes for the same pixels in the same run."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as PillowImage

from benchmarks.conftest import report, seconds, turns
from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.files.pictures import read_picture
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.image import Image, Transfer, to_rgba
from oaktrim.core.pixels.resample import resample

YARDSTICK = Path("/usr/share/games/neverball")
COLOUR = (
    "kiosk/clapboard_base",
    "kiosk/roof_base",
    "boat/boat_base",
    "warden/skin_base",
    "posts/post_base",
    "lantern/lantern_base",
)


def large(demo: Path) -> np.ndarray:
    """A picture of 4096x4096 pixels out of the demonstration's colour textures."""
    art = demo.parent / "art"
    four = [to_rgba(read_picture(art / f"{name}.png")) for name in COLOUR[:4]]
    return np.ascontiguousarray(np.vstack([np.hstack(four[:2]), np.hstack(four[2:])]))


def psnr(a: np.ndarray, b: np.ndarray) -> float:
    return float(10 * np.log10(255**2 / max(1e-9, np.mean((a.astype(np.float32) - b.astype(np.float32)) ** 2))))


def dds(picture: PillowImage.Image, layout: str) -> bytes:
    buffer = io.BytesIO()
    picture.save(buffer, "DDS", pixel_format=layout)
    return buffer.getvalue()


def test_reduce(demo, benchmark):
    pixels = large(demo)
    ours, theirs = Image.of(pixels), PillowImage.fromarray(pixels)
    a, b = turns(
        lambda: resample(ours, 1024, 1024), lambda: theirs.resize((1024, 1024), PillowImage.Resampling.LANCZOS)
    )
    # The source must be read once: what copying it takes is the floor that memory sets.
    floor, _ = turns(pixels.copy, lambda: None)
    report("reduce 4096² to 1024², Lanczos-3, 2 threads", "Pillow resize", f"{a / b:.2f}x time", "1.0x")
    report("  the same", "copying the source", f"{a / floor:.0f}x time", "")
    benchmark.pedantic(lambda: resample(ours, 1024, 1024), rounds=1)


def test_bc1_draft(demo, benchmark):
    pixels = large(demo)
    ours, theirs = Image.of(pixels), PillowImage.fromarray(pixels)
    draft = EncodeOptions(Effort.DRAFT)
    a, b = turns(lambda: encode_level(ours, FORMATS["bc1"], draft), lambda: dds(theirs, "DXT1"))
    gains = []
    for name in COLOUR:
        picture = read_picture(demo.parent / "art" / f"{name}.png")
        source = to_rgba(picture)
        got = decode_level(texture("bc1", encode_level(picture, FORMATS["bc1"], draft), *picture.size)).pixels
        other = np.asarray(PillowImage.open(io.BytesIO(dds(PillowImage.fromarray(source), "DXT1"))))
        gains.append(psnr(got, source[..., :3]) - psnr(other[..., :3], source[..., :3]))
    report("BC1 draft, 4096², 2 threads", "Pillow saving DXT1", f"{a / b:.2f}x time", "1.0x")
    report("  PSNR over the demo's colour", "Pillow's, higher by", f"{np.mean(gains):+.2f} dB", "+2.5 dB")
    benchmark.pedantic(lambda: encode_level(ours, FORMATS["bc1"], draft), rounds=1)


def texture(name: str, data: bytes, width: int, height: int) -> EncodedTexture:
    return EncodedTexture(FORMATS[name], width, height, Transfer.SRGB, (data,))


@pytest.mark.parametrize(("name", "layout"), [("bc1", "DXT1"), ("bc3", "DXT5")])
def test_decode(demo, benchmark, name, layout):
    data = dds(PillowImage.fromarray(large(demo)), layout)
    ours = texture(name, data[128:], 4096, 4096)
    a, b = turns(lambda: decode_level(ours), lambda: PillowImage.open(io.BytesIO(data)).load())
    report(f"{name.upper()} decode, 4096²", "Pillow loading the DDS", f"{a / b:.2f}x time", "1.0x")
    benchmark.pedantic(lambda: decode_level(ours), rounds=1)


@pytest.mark.skipif(not YARDSTICK.is_dir(), reason="Debian's neverball-data is not installed")
@pytest.mark.parametrize(
    ("name", "effort", "wanted"),
    [
        ("bc1", Effort.DRAFT, "34.9 dB at 10x"),
        ("bc1", Effort.STANDARD, "35.1 dB at 2.5x"),
        ("bc1", Effort.FINE, "35.2 dB at 0.6x"),
        ("bc4", Effort.DRAFT, "45.0 dB at 20x"),
        ("bc4", Effort.STANDARD, "45.3 dB at 4x"),
        ("bc4", Effort.FINE, "1x"),
        ("bc7", Effort.DRAFT, "42.5 dB at 1x"),
        ("bc7", Effort.STANDARD, "43.0 dB at 0.5x"),
        ("bc7", Effort.FINE, "43.7 dB at 0.08x"),
        ("astc-4x4", Effort.DRAFT, "38.0 dB at 1.4x"),
        ("astc-4x4", Effort.STANDARD, "41.9 dB at 0.4x"),
        ("astc-4x4", Effort.FINE, "42.8 dB at 0.1x"),
        ("astc-6x6", Effort.DRAFT, "33.9 dB at 1.9x"),
        ("astc-6x6", Effort.STANDARD, "35.9 dB at 0.4x"),
        ("astc-6x6", Effort.FINE, "36.6 dB at 0.1x"),
        ("astc-8x8", Effort.DRAFT, "31.2 dB at 2x"),
        ("astc-8x8", Effort.STANDARD, "32.5 dB at 0.4x"),
        ("astc-8x8", Effort.FINE, "33.3 dB at 0.1x"),
        ("etc2-rgb", Effort.DRAFT, "34.8 dB at 0.4x"),
        ("etc2-rgb", Effort.STANDARD, "35.3 dB at 0.2x"),
        ("etc2-rgb", Effort.FINE, "35.5 dB at 0.1x"),
        ("eac-r11", Effort.DRAFT, "45.2 dB at 4x"),
        ("eac-r11", Effort.STANDARD, "46.0 dB at 0.9x"),
        ("eac-r11", Effort.FINE, ""),
    ],
)
def test_yardstick(benchmark, name, effort, wanted):
    pictures = []
    for path in sorted(YARDSTICK.rglob("*.jpg")):
        with PillowImage.open(path) as picture:
            if min(picture.size) >= 256:
                width, height = (side - side % 12 for side in picture.size)
                pictures.append(np.asarray(picture.convert("RGBA").crop((0, 0, width, height))))
        if len(pictures) == 40:
            break
    # Colour is measured on its three channels; these pictures have no alpha.
    options, kept = EncodeOptions(effort, threads=1), min(3, len(FORMATS[name].channels))

    def png() -> None:
        for pixels in pictures:
            PillowImage.fromarray(pixels).save(io.BytesIO(), "PNG")

    encoded: list[bytes] = []

    def encode() -> None:
        encoded[:] = [encode_level(Image.of(pixels), FORMATS[name], options) for pixels in pictures]

    ours, theirs = turns(encode, png, 2 if effort is Effort.DRAFT else 1)
    quality = [
        psnr(to_rgba(decode_level(texture(name, data, p.shape[1], p.shape[0])))[..., :kept], p[..., :kept])
        for data, p in zip(encoded, pictures, strict=True)
    ]
    said = f"{np.mean(quality):.2f} dB at {theirs / ours:.1f}x"
    report(f"{name.upper()} {effort.value}, yardstick set, 1 thread", "Pillow PNG save", said, wanted)
    benchmark.pedantic(lambda: None, rounds=1)


@pytest.mark.parametrize("name", ["bc6h", "bc7", "etc2-rgba", "eac-rg11", "astc-4x4", "astc-6x6", "astc-12x12"])
def test_a_level_for_the_viewer(demo, benchmark, name):
    pixels = np.ascontiguousarray(large(demo)[:2048, :2048])
    data = encode_level(Image.of(pixels), FORMATS[name], EncodeOptions(Effort.DRAFT))
    ours = texture(name, data, 2048, 2048)
    taken = seconds(lambda: decode_level(ours))
    report(f"{FORMATS[name].label} decode, 2048², 2 threads", "", f"{taken * 1000:.0f} ms", "100 ms")
    benchmark.pedantic(lambda: decode_level(ours), rounds=1)
