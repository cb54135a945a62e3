"""Packs: up to four single-channel maps in the channels of one texture."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from functools import reduce

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import OakTrimError
from oaktrim.core.fields import FilePath, Name, NewPath, Text
from oaktrim.core.makers.layouts import Layout, LayoutSlot
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, Pixels, held, to_depth
from oaktrim.core.pixels.resample import Resampling, resample
from oaktrim.core.pixels.transfer import linear_to_srgb, srgb_to_linear
from oaktrim.core.survey.derived import Sources

Plane = NDArray[np.float32]
Span = tuple[float, float]

# Of linear light; Rec. ITU-R BT.709-6, item 3.2.
_LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)


class Channel(Enum):
    """What of a source feeds a lane."""

    RED = "R"
    GREEN = "G"
    BLUE = "B"
    ALPHA = "A"
    LUMINANCE = "luminance"
    LARGEST = "largest"
    SMALLEST = "smallest"


class Combine(Enum):
    """What becomes of several sources in one lane."""

    MULTIPLY = "multiply"
    ADD = "add"
    LARGEST = "largest"
    SMALLEST = "smallest"


class ChannelSource(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One source of a lane; it is turned over after the ranges.

    Parameters
    ----------
    source : path of a texture
    decode : its codes stand for light as sRGB writes it, and the lane wants the light
    input, output : low and high, 0..1: what of the source is spread over what of the lane
    """

    source: FilePath
    channel: Channel = Channel.RED
    invert: bool = False
    decode: bool = False
    input: Span = (0.0, 1.0)
    output: Span = (0.0, 1.0)

    def __post_init__(self) -> None:
        for low, high in (self.input, self.output):
            if not (0 <= low <= 1 and 0 <= high <= 1):
                raise ValueError(f"a range lies in 0 to 1, not {low:g} to {high:g}")
        if self.input[0] == self.input[1]:
            raise ValueError("the input range has no width")

    @property
    def is_plain(self) -> bool:
        """The codes of one channel go into the lane as they are, or turned over."""
        whole = (0.0, 1.0)
        return len(self.channel.value) == 1 and not self.decode and self.input == whole and self.output == whole


class Lane(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One output channel: its sources, or a fill (0..1) where there is none."""

    feeds: tuple[ChannelSource, ...] = ()
    combine: Combine = Combine.MULTIPLY
    fill: float = 1.0

    def __post_init__(self) -> None:
        if not 0 <= self.fill <= 1:
            raise ValueError(f"a fill is 0 to 1, not {self.fill}")


class Pack(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="pack", tag_field="kind"):
    """One packed texture.

    Parameters
    ----------
    name : path of the texture, without ending
    layout : id
    lanes : red, green, blue, alpha
    materials : materials that it is assigned to, as `model.gltf#materials/name`
    subject : what it is for, in names made by a pattern
    size : longest side; 0 is that of the largest source
    bits : a channel, 8 or 16
    keeps : its sources stay in the build beside it
    """

    name: NewPath
    layout: Name
    lanes: tuple[Lane, Lane, Lane, Lane]
    materials: tuple[FilePath, ...] = ()
    subject: Text = ""
    size: int = 0
    bits: int = 8
    keeps: bool = False

    def __post_init__(self) -> None:
        if self.bits not in (8, 16):
            raise ValueError(f"a pack has 8 or 16 bits a channel, not {self.bits}")
        if not 0 <= self.size <= 1 << 14:
            raise ValueError(f"the longest side is 1 to {1 << 14}, or 0, not {self.size}")

    @property
    def inputs(self) -> tuple[str, ...]:
        """The textures that it is made of, each once."""
        return tuple(dict.fromkeys(feed.source for lane in self.lanes for feed in lane.feeds))


@dataclass(frozen=True)
class Unpacked:
    """A lane taken out of a pack again, against what went in.

    Parameters
    ----------
    rms, largest : difference in steps of 8 bits
    """

    rms: float
    largest: float


def pack_size(pack: Pack, sizes: list[tuple[int, int]]) -> tuple[int, int]:
    """Return width and height of a pack of sources of some sizes: those of the largest, or in its proportion."""
    if not sizes:
        side = pack.size or 4
        return side, side
    width, height = max(sizes, key=lambda size: size[0] * size[1])
    if not pack.size:
        return width, height
    scale = pack.size / max(width, height)
    return max(1, round(width * scale)), max(1, round(height * scale))


def pack_picture(pack: Pack, layout: Layout, sources: Sources) -> Image:
    """Return a pack's picture: (H, W, 3 or 4) uint8 or uint16, linear.

    Each source is read once, and let go of before the next, where it feeds one lane.

    Raises
    ------
    OakTrimError : a source cannot be read
    """
    needed = [path for lane in pack.lanes[: layout.count] for feed in lane.feeds for path in [feed.source]]
    held_pictures: dict[str, Image] = {}
    left = {path: needed.count(path) for path in needed}

    def read(path: str) -> Image:
        image = held_pictures.get(path) or sources.picture(path)
        left[path] -= 1
        held_pictures[path] = image
        if not left[path]:
            del held_pictures[path]
        return image

    dtype = np.uint8 if pack.bits == 8 else np.uint16
    lanes = pack.lanes[: layout.count]
    fed = [[_fed(feed, read(feed.source), dtype) for feed in lane.feeds] for lane in lanes]
    sizes = [(plane.shape[1], plane.shape[0]) for planes in fed for plane in planes]
    width, height = pack_size(pack, sizes)
    out = np.empty((height, width, layout.count), dtype)
    for place, (lane, planes) in enumerate(zip(pack.lanes, fed, strict=False)):
        out[..., place] = _written(lane, [_sized(plane, width, height) for plane in planes], dtype, layout.slots[place])
    return Image(held(out), ("R", "G", "B", "A")[: layout.count], Transfer.LINEAR)


def lane_picture(lane: Lane, sources: Sources, bits: int = 8, slot: LayoutSlot | None = None) -> Image:
    """Return what one lane holds at the size of its largest source, as grey; with a slot, as that has it written.

    Raises
    ------
    OakTrimError : a source cannot be read
    """
    dtype = np.uint8 if bits == 8 else np.uint16
    planes = [_fed(feed, sources.picture(feed.source), dtype) for feed in lane.feeds]
    width, height = max(((p.shape[1], p.shape[0]) for p in planes), key=lambda s: s[0] * s[1], default=(4, 4))
    codes = _written(lane, [_sized(plane, width, height) for plane in planes], dtype, slot)
    return Image.of(held(np.broadcast_to(codes, (height, width))), Transfer.LINEAR)


def channel_of(image: Image, channel: Channel) -> Pixels:
    """Return one channel's own codes (H, W); grey stands for red, green and blue, missing alpha is full.

    Raises
    ------
    ValueError : the channel is worked out of several
    """
    place = _place(image, channel)
    if place is None:
        full = 1 if image.is_float else np.iinfo(image.pixels.dtype).max
        return np.full((image.height, image.width), full, image.pixels.dtype)
    return image.pixels[..., place]


def has_channel(image: Image, channel: Channel) -> bool:
    """Say whether a picture holds a channel, or what it is worked out of."""
    return len(channel.value) > 1 or _place(image, channel) is not None


def _place(image: Image, channel: Channel) -> int | None:
    letter = channel.value
    if len(letter) != 1:
        raise ValueError(f"{letter} is worked out of several channels")
    if letter in image.channels:
        return image.channels.index(letter)
    return 0 if letter in "RGB" and image.channels[0] == "L" else None


def _fed(feed: ChannelSource, image: Image, dtype: type[np.generic]) -> Pixels:
    """Return what a feed gives a lane, (H, W): codes of the lane's type where they are the source's own, else float32."""
    if feed.is_plain and image.pixels.dtype == dtype:
        codes = channel_of(image, feed.channel)
        full = np.iinfo(np.dtype(dtype)).max
        return np.ascontiguousarray(np.subtract(full, codes, dtype=dtype) if feed.invert else codes)
    value = _values(feed, image)
    (low, high), (bottom, top) = feed.input, feed.output
    if feed.input != (0.0, 1.0):
        value = np.clip((value - np.float32(low)) / np.float32(high - low), 0, 1)
    if feed.output != (0.0, 1.0):
        value = np.float32(bottom) + value * np.float32(top - bottom)
    found: Plane = np.clip(1 - value if feed.invert else value, 0, 1)
    return found


def _values(feed: ChannelSource, image: Image) -> Plane:
    if len(feed.channel.value) == 1:
        value = to_depth(channel_of(image, feed.channel), np.float32)
        return _light(value) if feed.decode and feed.channel is not Channel.ALPHA else value
    colour = image.pixels[..., :3] if len(image.channels) >= 3 else image.pixels[..., :1]
    values = to_depth(np.ascontiguousarray(colour), np.float32)
    if feed.decode:
        values = _light(values)
    if feed.channel is Channel.LARGEST:
        picked: Plane = values.max(axis=2)
    elif feed.channel is Channel.SMALLEST:
        picked = values.min(axis=2)
    else:
        picked = values @ _LUMINANCE if values.shape[2] == 3 else values[..., 0]
    return picked


def _light(values: Plane) -> Plane:
    return srgb_to_linear(np.clip(values, 0, 1)).astype(np.float32)


def _sized(plane: Pixels, width: int, height: int) -> Pixels:
    if plane.shape == (height, width):
        return plane
    return resample(Image.of(plane, Transfer.LINEAR), width, height, Resampling()).pixels[..., 0]


def _written(lane: Lane, planes: list[Pixels], dtype: type[np.generic], slot: LayoutSlot | None) -> Pixels:
    """Return a lane's codes as its slot is read: readers bring sRGB codes to linear values again."""
    if slot is None or slot.transfer is not Transfer.SRGB:
        return _combined(lane, planes, dtype)
    return to_depth(linear_to_srgb(_combined(lane, planes, np.float32)).astype(np.float32), dtype)


def _combined(lane: Lane, planes: list[Pixels], dtype: type[np.generic]) -> Pixels:
    if not planes:
        return to_depth(np.full((1, 1), lane.fill, np.float32), dtype)
    if len(planes) == 1:
        return to_depth(planes[0], dtype)
    values = [to_depth(plane, np.float32) for plane in planes]
    how = {
        Combine.MULTIPLY: np.multiply,
        Combine.ADD: np.add,
        Combine.LARGEST: np.maximum,
        Combine.SMALLEST: np.minimum,
    }[lane.combine]
    return to_depth(np.clip(reduce(how, values), 0, 1), dtype)


def unpacked(image: Image, layout: Layout) -> dict[str, Image]:
    """Return the channels that a layout names, by slot name, as grey pictures with the pack's own codes.

    Raises
    ------
    OakTrimError : the picture lacks a channel that the layout reads
    """
    found = {}
    for place, slot in enumerate(layout.slots):
        if not slot.name:
            continue
        letter = "RGBA"[place]
        if letter not in image.channels and image.channels[0] != "L":
            raise OakTrimError(f"the picture has no {letter}, which {layout.id} reads as {slot.name}")
        found[slot.name] = Image.of(held(channel_of(image, Channel(letter))), Transfer.LINEAR)
    return found


def apart(before: Image, after: Image) -> Unpacked:
    """Return how far a lane of a pack is from what went in; the one of them that is smaller is enlarged.

    Parameters
    ----------
    before, after : grey pictures
    """
    if after.size != before.size:
        after = resample(after, *before.size, Resampling())
    a, b = (to_depth(image.pixels[..., 0], np.float32) for image in (before, after))
    gap = np.abs(a - b)
    return Unpacked(float(np.sqrt(np.mean(gap.astype(np.float64) ** 2))) * 255, float(gap.max()) * 255)


def share_outside(image: Image, place: int, slot: LayoutSlot) -> float:
    """Return how much of a channel of a pack lies outside the values that its slot expects, half a step of 8 bits allowed."""
    values = to_depth(image.pixels[..., place], np.float32)
    if slot.transfer is Transfer.SRGB:
        values = _light(values)
    return float(np.mean((values < slot.low - 0.5 / 255) | (values > slot.high + 0.5 / 255)))


def filled(slot: LayoutSlot) -> Lane:
    """Return a lane without a source."""
    return Lane(fill=slot.fill)
