"""Makes the picture of docs/formats.md: pieces of the demonstration's textures through several formats, enlarged."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image as PillowImage
from PIL import ImageDraw, ImageFont

from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.files.pictures import read_picture
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.progress import finish
from oaktrim.demo.heronmere import make_demo

SIDE, ZOOM, GAP, HEAD = 48, 4, 10, 20
# A texture, and the formats that its liveliest piece is shown in.
ROWS = (
    ("kiosk/kiosk_sign.png", ("rgba8", "bc1", "bc7", "etc2-rgb", "astc-4x4", "astc-6x6", "astc-8x8")),
    ("posts/rope_n.png", ("rgba8", "bc1", "bc5", "etc2-rgb", "eac-rg11", "astc-4x4", "astc-6x6")),
    ("boat/boat_orm.png", ("rgba8", "bc1", "bc7", "etc2-rgb", "astc-4x4", "astc-6x6", "astc-12x12")),
)


def piece(image: Image, at: tuple[int, int], name: str) -> np.ndarray:
    """Return a piece of a picture as it looks in a format, RGB."""
    left, top = at
    pixels = np.ascontiguousarray(image.pixels[top : top + SIDE, left : left + SIDE])
    part = image.with_pixels(pixels)
    data = encode_level(part, FORMATS[name], EncodeOptions(Effort.FINE))
    got = decode_level(EncodedTexture(FORMATS[name], SIDE, SIDE, image.transfer, (data,)))
    codes = to_rgba(got)[..., :3].copy()
    if got.channels == ("R", "G"):
        # Two-channel forms rebuild z from unit length.
        x, y = codes[..., 0] / 127.5 - 1, codes[..., 1] / 127.5 - 1
        codes[..., 2] = np.clip((np.sqrt(np.clip(1 - x * x - y * y, 0, 1)) + 1) * 127.5, 0, 255)
    return codes


def liveliest(image: Image) -> tuple[int, int]:
    """Return left and top of the opaque piece whose colours are furthest apart."""
    codes = to_rgba(image).astype(np.float32)
    places = [(x, y) for y in range(0, image.height - SIDE, SIDE) for x in range(0, image.width - SIDE, SIDE)]

    def spread(place: tuple[int, int]) -> float:
        part = codes[place[1] : place[1] + SIDE, place[0] : place[0] + SIDE]
        return float(part[..., :3].std(axis=(0, 1)).sum()) if part[..., 3].min() == 255 else -1.0

    return max(places, key=spread)


def main() -> None:
    """Write docs/formats.png."""
    art = finish(make_demo()).parent / "art"
    cell = SIDE * ZOOM
    width, height = 7 * (cell + GAP) + GAP, len(ROWS) * (cell + HEAD + GAP) + GAP
    sheet = PillowImage.new("RGB", (width, height), (244, 241, 234))
    draw, font = ImageDraw.Draw(sheet), ImageFont.load_default(13)
    for row, (file, names) in enumerate(ROWS):
        image = read_picture(art / file)
        at = liveliest(image)
        for column, name in enumerate(names):
            x, y = GAP + column * (cell + GAP), GAP + row * (cell + HEAD + GAP)
            bits = f"{FORMATS[name].bits_per_pixel:.3g} bits"
            label = "as it is, 32 bits" if name == "rgba8" else f"{FORMATS[name].label.replace('×', 'x')}, {bits}"
            draw.text((x, y), label, fill=(60, 52, 40), font=font)
            shown = PillowImage.fromarray(piece(image, at, name))
            sheet.paste(shown.resize((cell, cell), PillowImage.Resampling.NEAREST), (x, y + HEAD))
    sheet.save(Path(__file__).parents[1] / "docs/formats.png", optimize=True)


if __name__ == "__main__":
    main()
