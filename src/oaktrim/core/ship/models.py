"""Shipping models beside their textures: glTF files whose images are the shipped ones, and the buffers they need."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from pathlib import Path, PurePosixPath
from urllib.parse import quote, unquote

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import content_hash, read_bytes, write_atomic
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.gltfimages import Assignment, assign, point_images
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.scene.model import GLTF_SLOTS
from oaktrim.core.ship.manifest import Companion, Failure
from oaktrim.core.survey.derived import Sources, material_path
from oaktrim.core.survey.facts import ModelFacts
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.places import file_of
from oaktrim.core.trim.model import trim

_LOG = logging.getLogger(__name__)
_KINDS = ("gltf", "glb")


def shippable(inventory: Inventory) -> list[ModelFacts]:
    """Return the models that can be shipped with other images: glTF ones."""
    return [model for model in inventory.models if model.kind in _KINDS]


def model_files(
    plan: Plan, outputs: Mapping[str, str], max_pixels: int = MAX_PIXELS
) -> tuple[dict[str, bytes], list[Failure]]:
    """Return the bytes of every model and buffer to ship, by path below the output folder, and what could not be read.

    Parameters
    ----------
    outputs : path of each shipped texture below the output folder, by its source
    """
    found: dict[str, bytes] = {}
    failed = []
    inventory, settings = plan.inventory, plan.others.models.settings
    sources = inventory.sources(max_pixels)
    for model in shippable(inventory):
        try:
            made = _one(inventory, sources, model, plan.target.container, outputs)
            found |= made if model.path not in settings else _trimmed(plan, model, made)
        except OakTrimError as error:
            failed.append(Failure.of(model.path, error))
        except (
            Exception
        ) as error:  # a damaged document fails wherever it is looked at; it must not take the others with it
            _LOG.exception("%s cannot be written", model.path)
            failed.append(Failure(model.path, f"{model.path}: is damaged and cannot be written again: {error!r}"[:300]))
    return found, failed


def _one(
    inventory: Inventory, sources: Sources, model: ModelFacts, container: str, outputs: Mapping[str, str]
) -> dict[str, bytes]:
    place = ReferenceFolder(inventory.root, model.path)
    made = model.path in inventory.made
    data = sources.model(model.path) if made else read_bytes(file_of(inventory.root, model.path))
    document = parse_gltf(data, place)
    paths = {}
    for number in range(len(model.images)):
        source = _source(inventory, model, place, number)
        if source in outputs and number < len(document.root.images):
            paths[number] = _relative(model.path, outputs[source])
    found = {}
    for buffer in document.root.buffers:
        if buffer.uri is not None and buffer.uri[:5].lower() != "data:":
            path = place.target_of(unquote(buffer.uri))
            found[path] = place.read_file(path)
    point_images(document, paths, container)
    assign(document, _assigned(inventory, model, place, outputs), container)
    found[model.path] = document.pack()
    return found


def _trimmed(plan: Plan, model: ModelFacts, made: Mapping[str, bytes]) -> dict[str, bytes]:
    """Return a model's files trimmed: one buffer in the place of all of its own, where it does not hold that itself."""
    place = ReferenceFolder(plan.inventory.root, model.path)
    taken = {path for other in plan.inventory.models if other is not model for path, _, _ in other.files}
    stem = PurePosixPath(model.path).with_suffix("")
    name = next(f"{stem}{ending}" for ending in (".bin", ".trimmed.bin") if f"{stem}{ending}" not in taken)
    uri = quote(PurePosixPath(name).name)
    packed = trim(parse_gltf(made[model.path], place), plan.others.models.settings[model.path], uri).file
    return {model.path: packed.data, **({} if packed.buffer is None else {name: packed.buffer})}


def _assigned(
    inventory: Inventory, model: ModelFacts, place: ReferenceFolder, outputs: Mapping[str, str]
) -> list[Assignment]:
    """Return the slots of a model that what makers made is to serve."""
    rows = []
    derivations = {id(d): d for path, d in inventory.made.items() if path in outputs}.values()
    for number, material in enumerate(model.materials):
        name = material_path(model.path, material.name)
        slots = {slot.name: (slot.slot, _source(inventory, model, place, slot.image)) for slot in material.slots}
        # What is no slot of glTF, as in a layout of one's own, no material can read.
        known = {slot.value for slot in GLTF_SLOTS} | set(slots)
        for use in (use for derivation in derivations for use in derivation.uses(name, slots)):
            if use.name in known and use.output in outputs:
                relative = _relative(model.path, outputs[use.output])
                rows.append(Assignment(number, use.name, relative, use.where))
    return rows


def _source(inventory: Inventory, model: ModelFacts, place: ReferenceFolder, image: int) -> str:
    """Return the path of the texture that an image of a model is, replaced ones too; empty where there is none."""
    if not 0 <= image < len(model.images):
        return ""
    row = model.images[image]
    return row.held if row.held else _target(inventory, place, row.uri)


def _target(inventory: Inventory, place: ReferenceFolder, uri: str) -> str:
    """Return the path of the texture that a reference means, letter case as on the disk; empty where there is none."""
    if not uri or uri[:5].lower() == "data:":
        return ""
    try:
        path = place.target_of(unquote(uri))
    except FileError:
        return ""
    if path in inventory.row_of or path in inventory.replaced:
        return path
    return inventory.path_by_lower.get(path.lower(), "")


def _relative(model: str, output: str) -> str:
    """Return the way from a model's folder to a file, both below one root."""
    here, there = PurePosixPath(model).parent.parts, PurePosixPath(output).parts
    shared = 0
    while shared < len(here) and shared < len(there) - 1 and here[shared] == there[shared]:
        shared += 1
    return "/".join([".."] * (len(here) - shared) + list(there[shared:]))


def write_beside(
    files: Mapping[str, bytes], out: Path, earlier: Mapping[str, Companion]
) -> tuple[list[Companion], int]:
    """Write what is not there already as it should be; return what stands there now, and how many were written."""
    entries, written = [], 0
    for path, data in sorted(files.items()):
        digest = content_hash(data)
        old = earlier.get(path)
        try:
            same = old is not None and old.output_hash == digest and (out / path).read_bytes() == data
        except OSError:
            same = False
        if not same:
            write_atomic(out / path, data)
            written += 1
        entries.append(Companion(path, digest, len(data)))
    return entries, written
