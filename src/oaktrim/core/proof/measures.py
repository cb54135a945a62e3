"""How far what ships is from its source, measured as the role wants: colour to the eye, directions by angle, data by value.

The unit that all roles share is the JND, the just noticeable difference. For colour it is 0.02 of OKLab. For normals 2 degrees,
and for data 2 % of the range, are taken as one: what a lit surface changes by about as much with.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, log2

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_depth, to_rgba
from oaktrim.core.pixels.metrics import LUMA, banding, decibels, ssim
from oaktrim.core.pixels.normals import angles_between, reconstruct_z
from oaktrim.core.pixels.perception import Plane, perceptual_error_map, perceptual_mean_square
from oaktrim.core.pixels.transfer import decode_table, linear_to_srgb
from oaktrim.core.progress import each_band
from oaktrim.core.survey.roles import Family, Role
from oaktrim.core.units import decibels_text

NORMAL_STEP, DATA_STEP = 2.0, 0.02
# Whole pictures are compared at no more than this many pixels a side. Where many trials are to be compared, windows of this many
# pixels, so many across and down, stand for a large one at its full size.
_MOST, _WINDOW, _WINDOWS = 4096, 256, 4
# The code value of the grey behind what is clear.
_CANVAS = 0.48
# Worst places lie more than so many squares apart.
_APART = 2


@dataclass(frozen=True)
class Region:
    """A part of the compared frame, and how far it differs, in JND (just noticeable differences) (root of the mean square)."""

    x: int
    y: int
    width: int
    height: int
    jnd: float


@dataclass(frozen=True, eq=False)
class Quality:
    """What a cut costs.

    Parameters
    ----------
    jnd : just noticeable differences: root of the mean square of the map
    map : JND at each pixel, (H, W) float32, of the source's frame or of a halving of it
    scale : pixels of the source to one of the map
    wanted, got : what was compared, as `working_values` returns it
    """

    jnd: float
    map: Plane
    scale: int
    wanted: Plane
    got: Plane
    role: Role

    def worst(self, count: int = 8, side: int = 32) -> list[Region]:
        """Return the parts that differ most, squares of `side` pixels of the map, the worst first; equal ones are none."""
        return worst_regions(self.map, count, side)

    def pictures(self, region: Region) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
        """Return a part of what was wanted and of what ships, as codes (h, w, 3) to look at."""
        return tuple(
            _codes(part[region.y : region.y + region.height, region.x : region.x + region.width], self.role)
            for part in (self.wanted, self.got)
        )  # type: ignore[return-value]

    def figures(self) -> tuple[tuple[str, str], ...]:
        """Return names and values in words, those that suit the role."""
        return _figures(self.wanted, self.got, self.role, self.map)


def worst_regions(jnd: Plane, count: int, side: int) -> list[Region]:
    """Return the squares of a map (H, W) with the greatest mean square, the worst first; neighbours of one are passed over."""
    height, width = jnd.shape
    down, across = -(-height // side), -(-width // side)
    rows, columns = np.arange(0, height, side), np.arange(0, width, side)
    sums = np.add.reduceat(np.add.reduceat(np.square(jnd, dtype=np.float64), rows, axis=0), columns, axis=1)
    counts = np.outer(np.diff(np.append(rows, height)), np.diff(np.append(columns, width)))
    means = np.sqrt(sums / counts).reshape(down * across)
    found: list[Region] = []
    taken = np.zeros((down, across), np.bool_)
    for place in np.argsort(-means, kind="stable"):
        y, x = divmod(int(place), across)
        if len(found) == count or means[place] <= 1e-4:
            break
        if not taken[y, x]:
            # What lies beside one is the same fault.
            taken[max(0, y - _APART) : y + _APART + 1, max(0, x - _APART) : x + _APART + 1] = True
            wide, high = min(side, width - x * side), min(side, height - y * side)
            found.append(Region(x * side, y * side, wide, high, float(means[place])))
    return found


def reduced(pixels: NDArray[np.floating], times: int) -> Plane:
    """Return means of squares of `times` pixels of (H, W, C); squares cut by the border repeat its pixels."""
    if times == 1:
        return pixels.astype(np.float32, copy=False)
    height, width, channels = pixels.shape
    room = ((0, -height % times), (0, -width % times), (0, 0))
    whole = np.pad(pixels, room, mode="edge") if any(after for _, after in room) else pixels
    cut = whole.reshape(whole.shape[0] // times, times, whole.shape[1] // times, times, channels)
    small: Plane = cut.mean(axis=(1, 3), dtype=np.float32)
    return small


Window = tuple[int, int, int, int]


def magnified(pixels: Plane, width: int, height: int, window: Window | None = None) -> Plane:
    """Return pixels (h, w, C) at a larger size as a GPU magnifies: linear between the centres of texels.

    Parameters
    ----------
    window : the part of the larger picture that is wanted, x, y, width and height; all by default
    """
    x, y, wide, high = window or (0, 0, width, height)
    for axis, size, start, length in ((0, height, y, high), (1, width, x, wide)):
        have = pixels.shape[axis]
        if have == size:
            pixels = np.take(pixels, np.arange(start, start + length), axis=axis) if length < size else pixels
            continue
        at = (np.arange(start, start + length, dtype=np.float32) + np.float32(0.5)) * np.float32(have / size)
        at -= np.float32(0.5)
        low = np.floor(at).astype(np.int64)
        part = (at - low).astype(np.float32)
        shape = (-1, 1, 1) if axis == 0 else (1, -1, 1)
        first, second = (np.take(pixels, np.clip(low + k, 0, have - 1), axis=axis) for k in (0, 1))
        pixels = first + (second - first) * part.reshape(shape)
    return pixels


def working_values(image: Image, role: Role) -> Plane:
    """Return what a role's pixels say, (H, W, 4) float32: linear light and alpha of colour, the values of all else."""
    if role is Role.NORMAL and image.channels == ("R", "G"):
        image = reconstruct_z(image)
    if role.transfer is Transfer.LINEAR or image.is_float:
        return to_rgba(image, np.float32)
    codes = to_rgba(image, image.pixels.dtype.type)
    # Taking lets go of the interpreter's lock, which indexing does not.
    values = np.take(decode_table(Transfer.SRGB, image.bit_depth), codes)
    values[..., 3] = to_depth(codes[..., 3], np.float32)
    return values


def map_between(a: Plane, b: Plane, role: Role) -> Plane:
    """Return how far two pictures differ at each pixel, in JND (just noticeable differences).

    Parameters
    ----------
    a, b : as `working_values` returns them, of one size
    """
    alpha = np.abs(a[..., 3] - b[..., 3]) / np.float32(DATA_STEP)
    if role.family in (Family.SURFACE, Family.MASK):
        jnd: Plane = np.abs(a - b).max(axis=2) / np.float32(DATA_STEP)
        return jnd
    if role is Role.NORMAL:
        apart = angles_between(a[..., :3], b[..., :3]) / np.float32(NORMAL_STEP)
    else:
        # Colour counts as far as something of it covers what is behind.
        apart = perceptual_error_map(a[..., :3], b[..., :3]) * np.maximum(a[..., 3], b[..., 3])
    jnd = np.hypot(apart, alpha)
    return jnd


def mean_square_between(a: Plane, b: Plane, role: Role) -> float:
    """Return the mean square of `map_between`, of colour in a fifth of the time."""
    if role.family in (Family.SURFACE, Family.MASK) or role is Role.NORMAL:
        return float(np.mean(np.square(map_between(a, b, role), dtype=np.float64)))
    alpha = np.square((a[..., 3] - b[..., 3]) / np.float32(DATA_STEP), dtype=np.float64)
    covered = np.maximum(a[..., 3], b[..., 3])
    weight = None if (covered == 1).all() else covered
    return perceptual_mean_square(a[..., :3], b[..., :3], weight) + float(np.mean(alpha))


def frame_scale(width: int, height: int, seen: float = 1.0, most: int | None = None) -> int:
    """Return by how much pictures of a size are brought down to be compared: to what is seen, and to a bounded size.

    Parameters
    ----------
    seen : pixels of the screen to one of the source, at the nearest that it is ever seen; more than 1 counts as 1
    most : pixels a side, if there is a bound
    """
    times = max(1.0, 1 / seen if seen > 0 else 1.0, max(width, height) / (most or max(width, height)))
    return 1 << ceil(log2(times) - 1e-9) if times > 1 else 1


@dataclass(frozen=True, eq=False)
class Reference:
    """A source made ready to judge what ships against it, once for all that is to be judged.

    Parameters
    ----------
    size : of the frame in which both are compared; scale : pixels of the source to one of it
    windows : the parts of the frame that are compared, one below the other
    wanted : what the source says there, as `working_values` returns it
    """

    source: Image
    role: Role
    scale: int
    size: tuple[int, int]
    windows: tuple[Window, ...]
    wanted: Plane

    @classmethod
    def whole(cls, source: Image, role: Role, seen: float = 1.0) -> Reference:
        """Return the whole source at a bounded size; `seen` as in `frame_scale`."""
        scale = frame_scale(*source.size, seen, _MOST)
        wanted = reduced(working_values(source, role), scale)
        height, width = wanted.shape[:2]
        return cls(source, role, scale, (width, height), ((0, 0, width, height),), wanted)

    @classmethod
    def sampled(cls, source: Image, role: Role, seen: float = 1.0) -> Reference:
        """Return windows of the source at the size at which it is seen, spread evenly; a small one whole."""
        scale = frame_scale(*source.size, seen)
        width, height = (-(-side // scale) for side in source.size)
        if width * height <= (_WINDOW * _WINDOWS) ** 2:
            return cls.whole(source, role, seen)
        wide, high = min(_WINDOW, width), min(_WINDOW, height)
        windows = tuple((x, y, wide, high) for y in _spread(height, high) for x in _spread(width, wide))
        parts = [
            reduced(working_values(_cropped(source, tuple(v * scale for v in window)), role), scale)[:high, :wide]
            for window in windows
        ]
        return cls(source, role, scale, (width, height), windows, np.concatenate(parts))

    def judge(self, shipped: Image) -> Quality:
        """Measure what ships, level 0 of it, against the source, which may be larger."""
        wanted, role = self.wanted, self.role
        values = working_values(shipped, role)
        over = max(1, min(values.shape[1] // self.size[0], values.shape[0] // self.size[1]))
        values = reduced(values, over)
        got = np.concatenate([magnified(values, *self.size, window) for window in self.windows])
        if "A" not in shipped.channels:
            got[..., 3] = 1.0
        if len(shipped.channels) == 1 and role.family is not Family.COLOUR:
            wanted, got = wanted[..., [0, 0, 0, 3]], got[..., [0, 0, 0, 3]]
        jnd = map_between(wanted, got, role)
        total = float(np.sqrt(np.mean(np.square(jnd, dtype=np.float64))))
        return Quality(total, jnd, self.scale, wanted, got, role)


def _spread(length: int, side: int) -> list[int]:
    """Return where up to `_WINDOWS` windows start along a side, evenly, none over another."""
    count = min(_WINDOWS, length // side)
    return [(length - side * count) * (2 * i + 1) // (2 * count) + side * i for i in range(count)]


def _cropped(image: Image, window: tuple[int, ...]) -> Image:
    x, y, wide, high = window
    return image.with_pixels(image.pixels[y : y + high, x : x + wide])


def judge(source: Image, shipped: Image, role: Role, seen: float = 1.0) -> Quality:
    """Measure what ships against the whole of its source; `seen` as in `frame_scale`."""
    return Reference.whole(source, role, seen).judge(shipped)


def _codes(values: Plane, role: Role) -> NDArray[np.uint8]:
    shown = _over_grey(values) if role.transfer is Transfer.SRGB else np.clip(values[..., :3], 0, 1)
    return (shown * 255 + 0.5).astype(np.uint8)


def _over_grey(values: Plane) -> Plane:
    """Return light as code values (H, W, 3); what is clear shows the grey of the canvas."""
    alpha = values[..., 3:]
    codes: Plane = linear_to_srgb(np.clip(np.nan_to_num(values[..., :3]), 0, 1)).astype(np.float32)
    return codes * alpha + np.float32(_CANVAS) * (1 - alpha)


def _figures(a: Plane, b: Plane, role: Role, jnd: Plane) -> tuple[tuple[str, str], ...]:
    if role is Role.NORMAL:
        angles = angles_between(a[..., :3], b[..., :3])
        return (("mean angle", f"{angles.mean():.2f}°"), ("99 % under", f"{np.percentile(angles, 99):.2f}°"))
    if role.family in (Family.SURFACE, Family.MASK):
        apart = np.abs(a - b) * 255
        if not apart.any():
            return (("largest error", "exact"),)
        return (
            ("largest error", f"{apart.max():.1f} of 255"),
            ("root mean square", f"{np.sqrt(np.mean(np.square(apart))):.2f} of 255"),
        )
    luma_a, luma_b = (np.empty(jnd.shape, np.float32) for _ in range(2))
    squares: dict[int, float] = {}

    def work(rows: slice, _: slice) -> None:
        codes_a, codes_b = (_over_grey(v[rows]) for v in (a, b))
        luma_a[rows], luma_b[rows] = codes_a @ LUMA, codes_b @ LUMA
        squares[rows.start] = float(np.sum(np.square(codes_a - codes_b), dtype=np.float64))

    each_band(work, len(jnd), (0, 0))
    mean_square = sum(squares[start] for start in sorted(squares)) / (3 * jnd.size)
    found = [
        ("seen, 99 % under", f"{np.percentile(jnd, 99):.2f} JND"),
        ("PSNR", decibels_text(decibels(mean_square))),
        ("SSIM", f"{ssim(luma_a, luma_b):.4f}"),
        ("gradients lost", f"{banding(luma_a * 255, luma_b * 255) * 100:.1f} %"),
    ]
    return tuple(found)
