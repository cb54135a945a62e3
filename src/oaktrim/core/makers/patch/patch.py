"""Patches: overlays that are mostly empty, cut down to what is used, with the place they came from."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

import msgspec
import numpy as np
from msgspec import Meta
from numpy.typing import NDArray
from scipy import ndimage

from oaktrim.core.errors import Unsupported
from oaktrim.core.fields import Code, FilePath, NewPath, Place, Side
from oaktrim.core.pixels.image import Image, Pixels, held

Mask = NDArray[np.bool_]
# What changes by a step in one channel of 8 bits is noise of an encoder more often than paint.
TOLERANCE, SPECK = 2, 4


class Snap(Enum):
    """What the sides of a patch are brought up to."""

    POWER_OF_TWO = "pow2"
    BLOCKS = "blocks"
    NONE = "none"


class Rect(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A rectangle of pixels, from the top left corner; it may reach beyond the picture."""

    x: Place
    y: Place
    width: Side
    height: Side

    def __post_init__(self) -> None:
        if self.width < 1 or self.height < 1:
            raise ValueError(f"a rectangle has at least one pixel, not {self.width}x{self.height}")

    @property
    def right(self) -> int:
        return self.x + self.width

    @property
    def bottom(self) -> int:
        return self.y + self.height

    def holds(self, other: Rect) -> bool:
        """Say whether another rectangle lies inside."""
        return (
            self.x <= other.x and self.y <= other.y and self.right >= other.right and self.bottom >= other.bottom
        )  # fmt: skip


class Patch(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="patch", tag_field="kind"):
    """A rectangle of an overlay, shipped in its place.

    Parameters
    ----------
    name : path of the texture, without ending
    source : path of the overlay
    rect : what is cut out
    background : codes of what counts as empty; none where alpha says it
    tolerance : steps of 8 bits that do not count
    keeps : the overlay stays in the build beside it
    """

    name: NewPath
    source: FilePath
    rect: Rect
    background: Annotated[tuple[Code, ...], Meta(max_length=4)] = ()
    tolerance: Annotated[int, Meta(ge=0, le=255)] = TOLERANCE
    keeps: bool = False

    @property
    def inputs(self) -> tuple[str, ...]:
        return (self.source,)


def background_of(image: Image) -> tuple[float, ...]:
    """Return the codes that most of a picture's border has: the background, where alpha does not tell it."""
    p = image.pixels
    border = np.concatenate([p[0], p[-1], p[:, 0], p[:, -1]])
    values, counts = np.unique(border, axis=0, return_counts=True)
    return tuple(float(code) for code in values[counts.argmax()])


def tells_alpha(image: Image) -> bool:
    """Say whether alpha tells what is used: it is there, and somewhere clear."""
    return image.has_alpha and bool((image.pixels[..., -1] == 0).any())


def used_mask(image: Image, background: tuple[float, ...], tolerance: int = TOLERANCE, speck: int = SPECK) -> Mask:
    """Return which pixels are used, (H, W): not clear, or not of the background's colour.

    Parameters
    ----------
    background : codes of all channels; empty to go by alpha
    tolerance : steps of 8 bits that a code may be off
    speck : islands of fewer pixels do not count
    """
    p = image.pixels
    step = 1 / 255 if image.is_float else np.iinfo(p.dtype).max / 255
    if background:
        far = np.abs(p.astype(np.float32) - _empty(p, background).astype(np.float32)).max(axis=2)
        mask: Mask = far > tolerance * step
    else:
        mask = p[..., -1].astype(np.float32) > tolerance * step
    if speck > 1 and mask.any():
        places, count = ndimage.label(mask, np.ones((3, 3)))
        small = np.bincount(places.ravel(), minlength=count + 1) < speck
        mask &= ~small[places]
    return mask


def _empty(pixels: Pixels, background: tuple[float, ...]) -> Pixels:
    """Return the codes of an empty pixel of a picture (H, W, C) in its own type, (C,); clear without a background.

    Raises
    ------
    Unsupported : the background has another number of channels
    """
    count, dtype = pixels.shape[2], pixels.dtype
    if background and len(background) != count:
        raise Unsupported(f"the background has {len(background)} values, and the overlay {count} channels")
    values = np.array(background or (0,) * count, np.float64)
    return (values if dtype.kind == "f" else np.clip(values, 0, np.iinfo(dtype).max)).astype(dtype)


def islands(mask: Mask, gap: int) -> list[Rect]:
    """Return the rectangles around what is used, the largest first; what lies within `gap` pixels goes together."""
    if not mask.any():
        return []
    near = ndimage.maximum_filter(mask, 2 * (gap // 2) + 1) if gap > 1 else mask
    places, _ = ndimage.label(near, np.ones((3, 3)))
    found = []
    for rows, columns in ndimage.find_objects(np.where(mask, places, 0)):
        found.append(
            Rect(
                int(columns.start), int(rows.start), int(columns.stop - columns.start), int(rows.stop - rows.start)
            )
        )  # fmt: skip
    return sorted(found, key=lambda rect: -rect.width * rect.height)


def within(mask: Mask, rect: Rect) -> Mask:
    """Return a mask with what lies outside a rectangle taken away."""
    inside = np.zeros_like(mask)
    rows, columns = slice(max(0, rect.y), max(0, rect.bottom)), slice(max(0, rect.x), max(0, rect.right))
    inside[rows, columns] = mask[rows, columns]
    return inside


def around(rects: list[Rect]) -> Rect:
    """Return the rectangle around some."""
    left, top = min(r.x for r in rects), min(r.y for r in rects)
    return Rect(left, top, max(r.right for r in rects) - left, max(r.bottom for r in rects) - top)


def snapped(used: Rect, size: tuple[int, int], snap: Snap, gutter: int = 0, block: int = 4) -> Rect:
    """Return the rectangle to cut out: what is used and a gutter around it, its sides brought up.

    It stays inside the picture where it can, and is never larger than that needs.

    Parameters
    ----------
    size : of the picture
    block : of block multiples, pixels
    """

    def side(start: int, length: int, whole: int) -> tuple[int, int]:
        wanted = length + 2 * gutter
        if snap is Snap.POWER_OF_TWO:
            wanted = 1 << (wanted - 1).bit_length()
        elif snap is Snap.BLOCKS:
            wanted = -(-wanted // block) * block
        first = start - gutter - (wanted - length - 2 * gutter) // 2
        if wanted <= whole:
            # A gutter may be given up at the picture's own border: nothing lies beyond it.
            first = max(0, min(first, whole - wanted))
        return first, wanted

    x, width = side(used.x, used.width, size[0])
    y, height = side(used.y, used.height, size[1])
    return Rect(x, y, width, height)


def cut_out(image: Image, rect: Rect, background: tuple[float, ...] = ()) -> Image:
    """Return the patch: pixels of the rectangle, beyond the picture the background, or clear."""
    p = image.pixels
    out = np.empty((rect.height, rect.width, p.shape[2]), p.dtype)
    out[:] = _empty(p, background)
    _overlap(p, out, rect, into_patch=True)
    return image.with_pixels(held(out))


def put_back(patch: Image, rect: Rect, size: tuple[int, int], background: tuple[float, ...] = ()) -> Image:
    """Return a patch laid where it came from, the rest empty."""
    p = patch.pixels
    out = np.empty((size[1], size[0], p.shape[2]), p.dtype)
    out[:] = _empty(p, background)
    _overlap(out, p, rect, into_patch=False)
    return patch.with_pixels(held(out))


def _overlap(picture: Pixels, patch: Pixels, rect: Rect, into_patch: bool) -> None:
    height, width = picture.shape[:2]
    left, top = max(0, rect.x), max(0, rect.y)
    right, bottom = min(width, rect.right), min(height, rect.bottom)
    if right <= left or bottom <= top:
        return
    inside = patch[top - rect.y : bottom - rect.y, left - rect.x : right - rect.x]
    if into_patch:
        inside[:] = picture[top:bottom, left:right]
    else:
        picture[top:bottom, left:right] = inside


@dataclass(frozen=True)
class PutBack:
    """The proof of a patch: it laid back in its place, against the overlay.

    Parameters
    ----------
    used : pixels that are used; lost : how many of them lie outside the patch
    largest : of the used pixels, the largest difference in steps of 8 bits
    """

    used: int
    lost: int
    largest: float

    @property
    def exact(self) -> bool:
        """All that is used is there as it was."""
        return self.lost == 0 and self.largest == 0


def prove_patch(image: Image, patch: Image, rect: Rect, mask: Mask, background: tuple[float, ...] = ()) -> PutBack:
    """Lay a patch back and compare it with the overlay where that is used.

    Parameters
    ----------
    patch : as cut out, or as it comes back from a format, with the overlay's channels
    mask : (H, W), as from `used_mask`
    """
    back = put_back(patch, rect, image.size, background)
    step = 1 / 255 if image.is_float else np.iinfo(image.pixels.dtype).max / 255
    gap = np.abs(image.pixels[mask].astype(np.float64) - back.pixels[mask].astype(np.float64))
    return PutBack(
        int(mask.sum()), int((mask & ~within(mask, rect)).sum()), float(gap.max() / step) if gap.size else 0.0
    )


def placement(rect: Rect, size: tuple[int, int]) -> dict[str, Any]:
    """Return where a patch lies, in every convention.

    `to_patch` brings UVs of the overlay to those of the patch (`uv * scale + offset`), `to_overlay` the other way.
    glTF and Direct3D count V from the top, OpenGL from the bottom.
    """
    w, h = size
    up = h - rect.bottom

    def turned(v: int) -> dict[str, list[float]]:
        return {
            "to_patch_scale": [w / rect.width, h / rect.height],
            "to_patch_offset": [-rect.x / rect.width, -v / rect.height],
            "to_overlay_scale": [rect.width / w, rect.height / h],
            "to_overlay_offset": [rect.x / w, v / h],
        }

    return {
        "overlay": {"width": w, "height": h},
        "from_top_left": {
            "pixels": {"x": rect.x, "y": rect.y, "width": rect.width, "height": rect.height},
            "normalised": {"x": rect.x / w, "y": rect.y / h, "width": rect.width / w, "height": rect.height / h},
            "uv": turned(rect.y),
        },
        "from_bottom_left": {
            "pixels": {"x": rect.x, "y": up, "width": rect.width, "height": rect.height},
            "normalised": {"x": rect.x / w, "y": up / h, "width": rect.width / w, "height": rect.height / h},
            "uv": turned(up),
        },
    }


def sidecar(patch: Patch, size: tuple[int, int]) -> bytes:
    """Return the JSON that goes beside a patch: `oak-trim.patch/1`."""
    document = {"schema": "oak-trim.patch/1", "source": patch.source, **placement(patch.rect, size)}
    return msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n"
