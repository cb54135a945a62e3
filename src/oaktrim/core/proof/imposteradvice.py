"""Which family of imposter suits a thing: small ones of each are really baked; and what each way to draw frames costs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from math import inf
from pathlib import Path
from typing import Any

import msgspec

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.pictures import png_of
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.imposter.frames.lookup import draw_frames
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.made import AnyMade, imposter_glb, imposter_of
from oaktrim.core.makers.imposter.settings import Family, Imposter, SheetMap, Steps
from oaktrim.core.makers.imposter.subject import Subject
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import level_count
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.imposterlikeness import LikenessAt, StandIn, likeness, stand_in
from oaktrim.core.scene.read import parse_model

_AT = 64
_TRIALS: tuple[dict[str, Any], ...] = (
    {"family": Family.CARDS, "axes": "xz", "size": 256},
    {"family": Family.CLOUD, "cards": 24, "size": 256},
    {"family": Family.DOME, "frames": 8, "frame_size": 64},
)
# Of overlap lost, that weighs as much as one step just noticed.
_LOST = 0.08
# How much less like a family may be that is drawn without a shader of its own, in JND.
_PLAIN = 0.5


@dataclass(frozen=True)
class Trial:
    """A small imposter that was baked to be judged: how like the thing it is at 64 pixels, and its bytes in BC7."""

    settings: Imposter
    likeness: LikenessAt
    bytes: int

    @property
    def loss(self) -> float:
        """What is lost, in JND; a family that needs a shader of its own has to be better by a little."""
        silhouette = max(0.0, self.likeness.ceiling - self.likeness.overlap) / _LOST
        return self.likeness.jnd + silhouette + (_PLAIN if self.settings.family.of_frames else 0.0)

    @property
    def words(self) -> str:
        """The trial in a few words."""
        return f"{self.settings.family.value} {self.likeness.overlap:.2f} and {self.likeness.jnd:.1f} JND"


def bare_model(made: AnyMade, place: ReferenceFolder) -> bytes:
    """Return an imposter's model with pictures that nobody reads."""
    dot = png_of(Image.of(made.sheet.maps[SheetMap.BASE].pixels[:1, :1]), Path(place.path))
    return imposter_glb(made, lambda kind: {"data": dot, "uri": kind.value}, "imposter")


def trials(subject: Subject, settings: Imposter) -> Task[list[Trial]]:
    """Bake small imposters of each family and return those that can be made, the one that loses least first."""
    found = []
    place = ReferenceFolder(Path("/"), "trial.glb")
    for done, changes in enumerate(_TRIALS):
        yield Progress(done, len(_TRIALS), f"trying {changes['family'].value}")
        tried = msgspec.structs.replace(settings, outlines=(), chain=None, **changes)
        try:
            made = yield from imposter_of(subject, tried)
        except OakTrimError:
            continue
        model = parse_model(bare_model(made, place), place, whole=True)
        (row,) = (yield from likeness(subject, stand_in(made, model), (_AT,))).rows
        size = sum(
            FORMATS["bc7"].mip_chain_bytes(image.width, image.height, level_count(image.width, image.height))
            for image in made.sheet.maps.values()
        )
        found.append(Trial(tried, row, size))
    return sorted(found, key=lambda trial: trial.loss)


@dataclass(frozen=True)
class Variant:
    """A way to draw frames: how many, how they are corrected, how many reads of textures that takes, and how like it is."""

    frames: int
    steps: Steps
    reads: int
    likeness: LikenessAt

    def as_json(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        row = self.likeness
        psnr = None if row.psnr == inf else round(row.psnr, 2)
        return {
            "frames": self.frames, "steps": self.steps.value, "reads": self.reads, "overlap": round(row.overlap, 4),
            "psnr": psnr, "jnd": round(row.jnd, 3),
        }  # fmt: skip


# Frames, steps, and reads of base colour and depth: a march reads at most so many.
_VARIANTS = ((1, Steps.NONE, 1), (3, Steps.NONE, 3), (3, Steps.ONE, 9), (3, Steps.TWO, 12), (3, Steps.MARCH, 96))


def variants(made: FramesMade, instead: StandIn, pixels: int = 128) -> Task[list[Variant]]:
    """Measure the ways to draw an imposter of frames at a height on the screen."""
    texels, found = made.texels(), []
    for frames, steps, reads in _VARIANTS:
        drawn: Callable[..., Any] = partial(draw_frames, texels, steps=steps, nearest=frames == 1)
        way = StandIn(instead.scene, drawn, instead.turned)
        (row,) = (yield from likeness(made.subject, way, (pixels,))).rows
        found.append(Variant(frames, steps, reads, row))
    return found
