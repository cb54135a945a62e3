"""What trimmed models weigh, by really trimming them: they are small, and so is the work."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.plan.others import part_key, trimmed_key
from oaktrim.core.plan.packing import CompressionRatios, Measured, measure_each
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.facts import CLIP_MARK
from oaktrim.core.survey.inventory import Inventory, OtherAsset
from oaktrim.core.survey.packed import pack_bytes
from oaktrim.core.survey.places import file_of
from oaktrim.core.targets.target import Packing
from oaktrim.core.trim.model import Trimmed, trim
from oaktrim.core.trim.settings import ModelSettings


@dataclass(frozen=True)
class Untried:
    """A model that was not trimmed yet by some settings: the rows that are of it, and what it is packed with."""

    rows: tuple[OtherAsset, ...]
    settings: ModelSettings
    packing: Packing


def untried_models(plans: Sequence[Plan], ratios: CompressionRatios) -> list[Untried]:
    """Return the models of plans whose trimmed size is not measured, one for each content, settings and packing."""
    found: dict[str, Untried] = {}
    for plan in plans:
        rows: dict[str, list[OtherAsset]] = {}
        for row in plan.inventory.others:
            rows.setdefault(row.file, []).append(row)
        for path, settings in plan.others.models.settings.items():
            key = trimmed_key(rows[path][0].content, settings, plan.target.packing)
            if ratios.size_of(key) is None:
                found[key] = Untried(tuple(rows[path]), settings, plan.target.packing)
    return list(found.values())


def trimmed_source(sources: Sources, inventory: Inventory, path: str, settings: ModelSettings) -> Trimmed:
    """Return a model trimmed as its source is, images and all.

    Raises
    ------
    OakTrimError : it cannot be read, or has to ship as it is
    """
    place = ReferenceFolder(inventory.root, path)
    data = sources.model(path) if path in inventory.made else read_bytes(file_of(inventory.root, path))
    return trim(parse_gltf(data, place), settings, "trimmed.bin")


def measure_models(inventory: Inventory, rows: Sequence[Untried], cache: SurveyCache) -> Task[Measured]:
    """Trim and pack models, on all cores; return the bytes of each and of its clips, see `measure_each`."""
    sources = inventory.sources(MAX_PIXELS)

    def sizes_of(row: Untried) -> dict[str, int]:
        return _weighed(trimmed_source(sources, inventory, row.rows[0].file, row.settings), row)

    return measure_each(rows, sizes_of, lambda row: row.rows[0].file, cache)


def _weighed(trimmed: Trimmed, row: Untried) -> dict[str, int]:
    geometry = trimmed.file.geometry
    content = row.rows[0].content
    found = {
        trimmed_key(content, row.settings, None): len(geometry),
        trimmed_key(content, row.settings, row.packing): min(len(geometry), pack_bytes(geometry, row.packing)),
    }
    for part in row.rows:
        _, mark, number = part.path.partition(CLIP_MARK)
        size = (
            trimmed.clip_bytes.get(int(number), 0) if mark else max(0, len(geometry) - sum(trimmed.clip_bytes.values()))
        )
        found[part_key(part, row.settings)] = size
    return found
