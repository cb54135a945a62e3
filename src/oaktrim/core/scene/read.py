"""Reading a model file, of whatever kind it is."""

from __future__ import annotations

from oaktrim.core.errors import FileError
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.gltf.model import images_of, model_of
from oaktrim.core.scene.model import ImageSource, Model
from oaktrim.core.scene.obj import model_of_obj

SUFFIXES = frozenset((".gltf", ".glb", ".obj"))


def parse_model(data: bytes, place: ReferenceFolder, whole: bool = False) -> Model:
    """Return the model in a file's bytes.

    Parameters
    ----------
    whole : with all that drawing needs, which a survey does not

    Raises
    ------
    FileError : not a model that is read; what is broken in parts is in `Model.faults`
    """
    if not data:
        raise FileError(place.file, "is empty")
    if place.path.lower().endswith(".obj"):
        return model_of_obj(data, place, whole)
    return model_of(parse_gltf(data, place), whole)


def parse_images(data: bytes, place: ReferenceFolder) -> tuple[ImageSource, ...]:
    """Return the images of the model in a file's bytes, without a look at its geometry.

    Raises
    ------
    FileError : not a model that is read
    """
    if place.path.lower().endswith(".obj"):
        return parse_model(data, place).images
    return images_of(parse_gltf(data, place))
