"""From the paths of an atlas's models to what it is made of, with pictures that are decoded once and not kept for long."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.makers.atlas.contents import Gathered, gathered
from oaktrim.core.makers.atlas.reading import SourcePicture, atlas_sources
from oaktrim.core.makers.atlas.settings import Atlas
from oaktrim.core.makers.atlas.split import split_document
from oaktrim.core.makers.sourcemodel import SourceModel, image_path
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import map_unordered
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.scene.model import TextureUse
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.roles import Role

# Bytes of pictures that are kept decoded: one material reads several, and one picture is read for several maps.
_KEPT = 192 << 20


class Pictures:
    """Pictures by path, the last of them kept; safe with several threads."""

    def __init__(self, read: Callable[[str], Image]) -> None:
        self._read = read
        self._turn = threading.Lock()
        self._kept: OrderedDict[str, Image] = OrderedDict()

    def __call__(self, path: str) -> Image:
        """Return a picture.

        Raises
        ------
        OakTrimError : it cannot be read; names the file
        """
        with self._turn:
            found = self._kept.get(path)
        if found is None:
            found = self._read(path)
        with self._turn:
            self._kept[path] = found
            self._kept.move_to_end(path)
            while len(self._kept) > 1 and sum(image.pixels.nbytes for image in self._kept.values()) > _KEPT:
                self._kept.popitem(last=False)
        return found

    def about(self, path: str) -> SourcePicture:
        """Return what is known of a picture, by reading it."""
        image = self(path)
        content = content_hash(f"{image.size} {image.channels} {image.pixels.dtype}".encode(), image.pixels.tobytes())
        return SourcePicture(path, image.size, image.bit_depth, image.is_float, content)


def picture_of_facts(path: str, facts: TextureFacts, role: Role) -> SourcePicture:
    """Return what is known of a picture by its survey."""
    content = facts.pixels or facts.content
    return SourcePicture(path, facts.size, facts.bit_depth, facts.floating, content, role is Role.GLYPHS)


def gathered_of(models: tuple[SourceModel, ...], settings: Atlas, about: Callable[[str], SourcePicture]) -> Gathered:
    """Return what of some models goes into an atlas.

    Parameters
    ----------
    about : returns what is known of a picture by its path, or raises OakTrimError

    Raises
    ------
    FileError : an object is named that no model has
    """

    def known(path: str) -> SourcePicture | OakTrimError:
        try:
            return about(path)
        except OakTrimError as error:
            return error

    paths = list(dict.fromkeys(path for model in models for path in pictures_read_by(model)))
    pictures = {paths[place]: found for place, found in map_unordered(known, paths)}

    def picture_of(model: int, _: int, use: TextureUse) -> SourcePicture:
        source = models[model]
        if use.image is None:
            raise FileError(source.document.place.file, f"its {use.name} has no image that can be read")
        found = pictures[image_path(source, use.image)]
        if isinstance(found, OakTrimError):
            raise found
        return found

    found = gathered(atlas_sources(models, picture_of, settings.objects, settings.project), settings)
    split = split_models(found, settings)
    if split is None:
        return found
    return gathered(atlas_sources(split, picture_of, settings.objects, settings.project), settings)


def split_models(found: Gathered, settings: Atlas) -> tuple[SourceModel, ...] | None:
    """Return models whose triangles are split where that is asked for and a texture repeats; None where there are none.

    Raises
    ------
    Unsupported : a draw would come out in too many triangles
    """
    wanted: dict[int, dict[tuple[int, int], tuple[int, NDArray[np.float64]]]] = {}
    for note, material in zip(found.notes, found.sources.materials, strict=True):
        if not (note.split and note.taken):
            continue
        for part in found.sources.parts:
            if found.sources.materials[part.material].path == material.path and part.uv is not None:
                row = next(iter(material.maps.values()))
                wanted.setdefault(part.model, {})[part.mesh, part.primitive] = (material.uv_set, row.tiles)
    if not wanted:
        return None
    models = list(found.sources.models)
    for number, matrices in wanted.items():
        source = models[number]
        document = split_document(source.document, matrices)
        models[number] = replace(
            source, document=document, model=model_of(document, whole=True), before=source.before or source.document
        )
    return tuple(models)


def pictures_read_by(model: SourceModel) -> list[str]:
    """Return the paths of the pictures that materials of a model read, but for those that lie outside the root."""
    found = []
    for material in model.model.materials:
        for use in material.uses:
            if use.image is not None:
                with suppress(FileError):
                    found.append(image_path(model, use.image))
    return found
