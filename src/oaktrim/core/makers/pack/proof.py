"""The proof of a pack: taken apart again, lane by lane, as it is and as it comes back from each format."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oaktrim.core.codecs.effort import EncodeOptions, ErrorMetric
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.formats.format import TextureFormat
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.pack.pack import Channel, Pack, Unpacked, apart, channel_of, lane_picture
from oaktrim.core.pixels.image import Image, to_depth, to_rgba
from oaktrim.core.pixels.statistics import pixel_facts
from oaktrim.core.progress import Progress, Task
from oaktrim.core.survey.derived import Sources

# Formats are judged on so many squares of so many pixels, evenly spread.
_TILE, _ACROSS = 128, 4


@dataclass(frozen=True)
class Damage:
    """What a format does to each channel of a pack.

    Parameters
    ----------
    rms : difference in steps of 8 bits, by channel
    alone : the same where the other channels are constant; what is over it has bled in from them
    """

    format: TextureFormat
    rms: tuple[float, ...]
    alone: tuple[float, ...]

    @property
    def bled(self) -> float:
        """The largest share of a channel's error that comes from the others, in steps of 8 bits."""
        return max(0.0, *(both - one for both, one in zip(self.rms, self.alone, strict=True)))

    @property
    def exact(self) -> bool:
        return max(self.rms) < 0.005


def lane_losses(pack: Pack, layout: Layout, image: Image, sources: Sources) -> Task[dict[int, Unpacked]]:
    """Take a pack apart and compare each lane with its sources at their own size; return what differs by channel."""
    found = {}
    named = [place for place, slot in enumerate(layout.slots) if slot.name and pack.lanes[place].feeds]
    for done, place in enumerate(named):
        yield Progress(done, len(named), f"taking {pack.name} apart")
        before = lane_picture(pack.lanes[place], sources, pack.bits, layout.slots[place])
        after = Image.of(channel_of(image, Channel("RGBA"[place])), image.transfer)
        found[place] = apart(before, after)
    return found


def damages(image: Image, formats: Sequence[TextureFormat]) -> Task[list[Damage]]:
    """Send a picture of separate channels through formats and measure each channel, together and on its own.

    Parameters
    ----------
    image : of the channels that are read, 3 or 4, 8 or 16 bits
    """
    sample = _sampled(image)
    count = len(image.channels)
    live = [place for place in range(count) if pixel_facts(sample).low[place] != pixel_facts(sample).high[place]]
    found = []
    for done, row in enumerate(formats):
        yield Progress(done, len(formats), f"trying {row.label}")
        together = _errors(sample, through_format(sample, row, ErrorMetric.DATA), count)
        alone = list(together)
        for place in live if len(live) > 1 else []:
            pixels = np.zeros_like(sample.pixels)
            if count == 4:
                pixels[..., 3] = np.iinfo(pixels.dtype).max
            pixels[..., place] = sample.pixels[..., place]
            single = sample.with_pixels(pixels)
            alone[place] = _errors(single, through_format(single, row, ErrorMetric.DATA), count)[place]
            yield Progress(done, len(formats), f"trying {row.label}")
        found.append(Damage(row, tuple(together), tuple(alone)))
    return found


def _sampled(image: Image) -> Image:
    if max(image.size) <= _TILE * _ACROSS:
        return image
    tops = np.linspace(0, max(0, image.height - _TILE), _ACROSS).astype(int) // 12 * 12
    lefts = np.linspace(0, max(0, image.width - _TILE), _ACROSS).astype(int) // 12 * 12
    rows = [np.concatenate([image.pixels[y : y + _TILE, x : x + _TILE] for x in lefts], axis=1) for y in tops]
    return image.with_pixels(np.ascontiguousarray(np.concatenate(rows, axis=0)))


def through_format(image: Image, row: TextureFormat, counted: ErrorMetric = ErrorMetric.COLOUR) -> Image:
    """Return a picture as it comes back from a format, with its own channels and depth."""
    data = encode_level(image, row, EncodeOptions(error_metric=counted))
    back = to_rgba(
        decode_level(EncodedTexture(row, image.width, image.height, image.transfer, (data,))), image.pixels.dtype.type
    )
    places = [0 if name == "L" else "RGBA".index(name) for name in image.channels]
    return image.with_pixels(np.ascontiguousarray(back[..., places]))


def _errors(before: Image, after: Image, count: int) -> list[float]:
    a, b = (to_rgba(picture, np.float32)[..., :count] for picture in (before, after))
    gaps = np.square((to_depth(a, np.float32) - b).astype(np.float64)).mean(axis=(0, 1))
    return [float(np.sqrt(gap)) * 255 for gap in gaps]
