"""From the paths of an atlas's models to what it is made of, with pictures that are decoded once and not kept for long."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import content_hash, read_bytes
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.makers.atlas.contents import Gathered, gathered
from oaktrim.core.makers.atlas.reading import SourceModel, SourcePicture, atlas_sources, image_path, open_model
from oaktrim.core.makers.atlas.settings import Atlas
from oaktrim.core.pixels.image import Image
from oaktrim.core.scene.model import TextureUse
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.places import file_of
from oaktrim.core.survey.roles import Role

# Bytes of pictures that are kept decoded: one material reads several, and one picture is read for several maps.
_KEPT = 192 << 20


class Pictures:
    """Pictures by path, the last of them kept."""

    def __init__(self, read: Callable[[str], Image]) -> None:
        self._read = read
        self._kept: OrderedDict[str, Image] = OrderedDict()

    def __call__(self, path: str) -> Image:
        """Return a picture.

        Raises
        ------
        OakTrimError : it cannot be read; names the file
        """
        if path not in self._kept:
            self._kept[path] = self._read(path)
        self._kept.move_to_end(path)
        while len(self._kept) > 1 and sum(image.pixels.nbytes for image in self._kept.values()) > _KEPT:
            self._kept.popitem(last=False)
        return self._kept[path]

    def about(self, path: str) -> SourcePicture:
        """Return what is known of a picture, by reading it."""
        image = self(path)
        content = content_hash(f"{image.size} {image.channels} {image.pixels.dtype}".encode(), image.pixels.tobytes())
        return SourcePicture(path, image.size, image.bit_depth, image.is_float, content)


def picture_of_facts(path: str, facts: TextureFacts | None, role: Role) -> SourcePicture:
    """Return what is known of a picture by its survey.

    Raises
    ------
    FileError : it was not found
    """
    if facts is None:
        raise FileError(path, "is not among the textures that were found")
    content = facts.pixels or facts.content
    return SourcePicture(path, facts.size, facts.bit_depth, facts.floating, content, role is Role.GLYPHS)


def model_at(root: Path, path: str) -> SourceModel:
    """Return a model below a root.

    Raises
    ------
    FileError : it cannot be read, or is no model that can be written again
    """
    return open_model(path, read_bytes(file_of(root, path)), ReferenceFolder(root, path))


def gathered_of(models: tuple[SourceModel, ...], settings: Atlas, about: Callable[[str], SourcePicture]) -> Gathered:
    """Return what of some models goes into an atlas.

    Parameters
    ----------
    about : returns what is known of a picture by its path, or raises OakTrimError

    Raises
    ------
    FileError : an object is named that no model has
    """

    def picture_of(model: int, _: int, use: TextureUse) -> SourcePicture:
        source = models[model]
        if use.image is None:
            raise FileError(source.document.place.file, f"its {use.name} has no image that can be read")
        return about(image_path(source, use.image))

    return gathered(atlas_sources(models, picture_of, settings.objects, settings.project), settings)
