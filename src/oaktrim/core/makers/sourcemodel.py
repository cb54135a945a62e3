"""Models as makers read them: documents that can be written again."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path, PurePosixPath
from urllib.parse import unquote

from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.gltf import Document, parse_gltf
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.gltf.fromobj import document_of_obj
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.scene.model import Model
from oaktrim.core.survey.facts import IMAGE_MARK
from oaktrim.core.survey.places import file_of, file_stamp


@dataclass(frozen=True, eq=False)
class SourceModel:
    """A model as it is read.

    Parameters
    ----------
    document : which is written again; model : what it means; lost : what the document could not take up, in sentences
    before : the document before triangles were split; None where none were
    """

    path: str
    document: Document
    model: Model
    lost: tuple[str, ...] = ()
    before: Document | None = None


def open_model(path: str, data: bytes, place: ReferenceFolder) -> SourceModel:
    """Return a model that can be written again.

    Raises
    ------
    FileError : it is no glTF, or cannot be read
    """
    if PurePosixPath(path).suffix.lower() == ".obj":
        document, lost = document_of_obj(data, place)
    else:
        document, lost = parse_gltf(data, place), ()
    return SourceModel(path, document, model_of(document, whole=True), lost)


def image_path(model: SourceModel, image: int) -> str:
    """Return what an image of a model is called below the root.

    Raises
    ------
    FileError : it names a file outside
    """
    source = model.model.images[image]
    if source.uri:
        return model.document.place.target_of(unquote(source.uri))
    return f"{model.path}{IMAGE_MARK}{image}"


def model_at(root: Path, path: str) -> SourceModel:
    """Return a model below a root.

    Raises
    ------
    FileError : it cannot be read, or is no model that can be written again
    """
    return open_model(path, read_bytes(file_of(root, path)), ReferenceFolder(root, path))


def model_in(root: Path, path: str) -> SourceModel:
    """As `model_at`; the last are kept, as they are asked for with every change of a job."""
    return _kept(root, path, file_stamp(file_of(root, path)))


@lru_cache(maxsize=8)
def _kept(root: Path, path: str, _stamp: tuple[int, int]) -> SourceModel:
    return model_at(root, path)
