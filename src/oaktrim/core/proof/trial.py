"""Trials: one texture really made as a recipe says, and what that costs in bytes, in time and to the eye."""

from __future__ import annotations

from dataclasses import dataclass, replace

from msgspec import structs

from oaktrim.core.codecs.transcode import loaded_as
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.pictures import pack_texture
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Hardware, Prominence
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.normals import reconstruct_z
from oaktrim.core.plan.advice import FormatOption, format_options
from oaktrim.core.plan.resolve import Plan, Recipe
from oaktrim.core.progress import Progress, Task
from oaktrim.core.proof.measures import Quality, Reference
from oaktrim.core.ship.make import Made, make_texture, memory_on, read_source
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.survey.packed import pack_bytes
from oaktrim.core.survey.roles import Role

_HALVINGS, _LEAST_SIDE = 2, 32
_SCREEN_HEIGHT = 1080


@dataclass(frozen=True, eq=False)
class Trial:
    """A recipe tried.

    Parameters
    ----------
    made : what would ship, of a universal texture what a loader makes of it; source : the picture it was made of
    memory, package : bytes on the target
    seconds : that encoding took
    """

    recipe: Recipe
    made: Made
    source: Image
    quality: Quality
    memory: int
    package: int
    seconds: float

    def shipped(self, level: int = 0) -> Image:
        """Return a level as a shader sees it: of normals in two channels, the third is rebuilt."""
        image = self.made.shipped(level)
        return reconstruct_z(image) if self.quality.role is Role.NORMAL and image.channels == ("R", "G") else image


@dataclass(frozen=True)
class Candidate:
    """A recipe that a texture could ship by; `against` says why its format does not fit, and `memory` what it costs then."""

    recipe: Recipe
    memory: int
    against: str


def screen_scale(plan: Plan, row: int) -> float:
    """Return how many pixels of the screen show one of a texture, at the nearest that it is ever seen, at most 1.

    Where sightlines were not asked yet, an object's height in a scene's cameras, on a screen 1080 high, stands for the whole
    of each texture that it uses. 1 where no scene has a camera.
    """
    inventory, largest = plan.inventory, -1.0
    known = None if plan.demand is None else plan.demand.scale(row)
    if known is not None:
        return max(known, 1 / max(inventory.textures[row].width, inventory.textures[row].height))
    for owner in inventory.ownership.owners.get(row, ()):
        objects = inventory.models[owner.model].objects
        largest = max([largest, *(o.largest for o in objects if owner.material in o.materials)])
    if largest < 0:
        return 1.0
    texture = inventory.textures[row]
    return min(1.0, max(largest, 1 / _SCREEN_HEIGHT) * _SCREEN_HEIGHT / max(texture.width, texture.height))


def candidates(plan: Plan, row: int) -> list[Candidate]:
    """Return what a texture could ship as on a plan's target, the quickest to try first; what does not fit stands last.

    Sizes are the one that ships now and two halvings of it.
    """
    inventory, target, recipe = plan.inventory, plan.target, plan.recipe(row)
    now = recipe.settings
    texture, role = inventory.textures[row], inventory.roles[row].role
    alpha = texture.channels in (2, 4) and not texture.opaque
    found = []
    for option in format_options(target, role, alpha, texture.floating):
        if not _is_shown(option, now.format):
            continue
        for halving in range(_HALVINGS + 1 if not option.against else 1):
            width, height = max(1, now.width >> halving), max(1, now.height >> halving)
            if halving and max(width, height) < _LEAST_SIDE:
                break
            levels = 1 if now.levels == 1 else max(width, height).bit_length()
            held = option.format if target.decodes(option.format) else FORMATS[option.format.expands_to]
            memory = held.mip_chain_bytes(width, height, levels, layers=texture.slices)
            size = {"width": width, "height": height, "levels": levels}
            tried = replace(recipe, settings=structs.replace(now, **size, format=option.format.name))
            found.append(Candidate(tried, memory, option.against))

    def slowness(candidate: Candidate) -> tuple[bool, int]:
        tried = candidate.recipe.settings
        pixels = tried.width * tried.height
        return candidate.against != "", pixels * FORMATS[tried.format].family.encode_cost

    return sorted(found, key=slowness)


def _is_shown(option: FormatOption, present: str) -> bool:
    row = option.format
    if row.name == present:
        return True
    if row.prominence is Prominence.BY_NAME:
        return False
    # Of hardware that a target lacks, typical formats are shown with what they would cost.
    return not option.against or (
        row.compressed and "hardware" in option.against and row.prominence is Prominence.TYPICAL
    )


def reference_for(plan: Plan, row: int, sampled: bool = False, max_pixels: int = MAX_PIXELS) -> Reference:
    """Read a texture's picture and make it ready to judge trials against, whole or sampled.

    Raises
    ------
    OakTrimError : it cannot be read; names the file
    """
    make = Reference.sampled if sampled else Reference.whole
    source, role = read_source(plan.inventory, row, max_pixels), plan.inventory.roles[row].role
    return make(source, role, screen_scale(plan, row))


def try_recipe(
    plan: Plan,
    row: int,
    recipe: Recipe,
    reference: Reference,
    max_pixels: int = MAX_PIXELS,
    store: MadeStore | None = None,
    seen_on: Hardware = Hardware.ASTC,
) -> Task[Trial]:
    """Make a texture by a recipe and measure it against its source.

    Parameters
    ----------
    reference : of the texture's picture, see `reference_for`
    store : as in `make_texture`
    seen_on : hardware that a loader makes blocks for of a universal texture

    Raises
    ------
    OakTrimError : the source cannot be read or the format not be encoded; names the file
    """
    inventory, target = plan.inventory, plan.target
    made = yield from make_texture(inventory, row, recipe.settings, max_pixels, source=reference.source, store=store)
    data = pack_texture(made.encoded, target.container)
    yield Progress(1, 2, f"comparing {recipe.path}")
    memory = memory_on(target, made.encoded)
    if made.encoded.format.hardware is Hardware.UNIVERSAL:
        made = replace(made, encoded=loaded_as(made.encoded, seen_on))
    quality = reference.judge(made.shipped())
    package = min(len(data), pack_bytes(data, target.packing))
    return Trial(recipe, made, reference.source, quality, memory, package, made.seconds)


def pareto_front(costs: list[int], jnd: list[float]) -> list[int]:
    """Return the places of those that nothing else beats in bytes and in loss together, by bytes."""
    kept: list[int] = []
    for place in sorted(range(len(costs)), key=lambda i: (costs[i], jnd[i])):
        if not kept or jnd[place] < jnd[kept[-1]]:
            kept.append(place)
    return kept
