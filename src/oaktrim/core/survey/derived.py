"""What an inventory knows of textures and models that makers derive from others instead of reading them from files."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.files.pictures import decode_picture
from oaktrim.core.files.uvtransform import SAME_UV, UvTransform
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import Task, finish
from oaktrim.core.scene.read import SUFFIXES as MODELS
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.facts import IMAGE_MARK
from oaktrim.core.survey.places import file_of, source_bytes
from oaktrim.core.survey.products import Products, ProductStore
from oaktrim.core.survey.read import other_bytes
from oaktrim.core.survey.roles import Role

MATERIAL_MARK = "#materials/"


def material_path(model: str, material: str) -> str:
    """Return what a material is called by makers."""
    return f"{model}{MATERIAL_MARK}{material}"


@dataclass(frozen=True)
class Output:
    """A texture that a maker makes.

    Parameters
    ----------
    path : in the inventory, below the root, without ending
    role, reason : what it is used as, and why that is known
    size : width and height, where the settings tell them before it is made
    channels, bits : likewise
    """

    path: str
    role: Role
    reason: str
    size: tuple[int, int] | None = None
    channels: int = 4
    bits: int = 8


@dataclass(frozen=True)
class SlotUse:
    """A slot of a material that is to read an output, and where in it."""

    slot: Slot
    name: str
    output: str
    where: UvTransform = SAME_UV


class Derivation(ABC):
    """How one maker of a job comes by what it makes."""

    @property
    @abstractmethod
    def name(self) -> str:
        """The maker's name."""

    @property
    @abstractmethod
    def kind(self) -> str:
        """What makes it, in words."""

    @property
    @abstractmethod
    def outputs(self) -> tuple[Output, ...]:
        """Its textures."""

    @property
    def inputs(self) -> tuple[str, ...]:
        """Paths of the textures that it is made of."""
        return ()

    @property
    def models(self) -> tuple[str, ...]:
        """Paths of the models that it is made of."""
        return ()

    @property
    def keeps(self) -> bool:
        """The textures that it is made of ship beside it all the same."""
        return False

    @property
    def replaces(self) -> Mapping[str, str]:
        """The path of the model that stands in the place of each model that it is made of."""
        return {}

    @property
    def adds(self) -> tuple[str, ...]:
        """The paths of models that it makes beside those that there are."""
        return ()

    @property
    def new_models(self) -> tuple[str, ...]:
        """The paths of all models that it makes."""
        return (*self.replaces.values(), *self.adds)

    def stands_for(self, model: str, thing: str) -> bool:
        """Say whether something that it makes is drawn instead of an object of a model where that is far away."""
        return False

    @property
    def materials(self) -> tuple[str, ...]:
        """Materials that it serves whatever they read now, as `model.gltf#materials/name`."""
        return ()

    @property
    def costly(self) -> bool:
        """Making takes long, so that what is made is kept by content."""
        return False

    @abstractmethod
    def settings_key(self) -> bytes:
        """Return all of its settings that decide what is made."""

    @abstractmethod
    def make(self, sources: Sources) -> Task[Products]:
        """Make everything, textures at their full size.

        Raises
        ------
        OakTrimError : an input cannot be read
        """

    def side_files(self, sources: Sources) -> Mapping[str, bytes]:
        """Return what goes beside its textures, by path below the output folder."""
        return sources.products(self).files

    def uses(self, material: str, slots: Mapping[str, tuple[Slot, str]]) -> list[SlotUse]:
        """Return the slots of a material that read its outputs.

        Parameters
        ----------
        material : as `model.gltf#materials/name`
        slots : what each slot is, and the path of the texture that it reads, by the slot's name
        """
        return []

    def content(self, hash_of: Callable[[str], str]) -> str:
        """Return a hash of the settings and of the inputs, whose own hashes are asked for by path.

        Raises
        ------
        OakTrimError : an input is not there
        """
        return content_hash(self.settings_key(), *(hash_of(path).encode() for path in (*self.models, *self.inputs)))

    def contents(self, whole: str) -> dict[str, str]:
        """Return the hash that each output is known by, of the hash of the whole."""
        if len(self.outputs) == 1:
            return {self.outputs[0].path: whole}
        return {output.path: content_hash(f"{whole} {place}".encode()) for place, output in enumerate(self.outputs)}


@dataclass(frozen=True)
class Sources:
    """Where pictures and models come from: files below a root, images that models hold, and what was derived from them.

    Parameters
    ----------
    made : the derivation of each output, textures and models, by path; a maker sees only those before it
    max_pixels : pictures that claim more are not decoded
    store : where what took long to make is kept
    """

    root: Path
    made: Mapping[str, Derivation]
    max_pixels: int
    store: ProductStore = field(default_factory=ProductStore, compare=False, repr=False)

    def picture(self, path: str) -> Image:
        """Return the picture at a path, integers as sRGB code values.

        Raises
        ------
        OakTrimError : it cannot be read; names the file
        """
        derivation = self.made.get(path)
        if derivation is not None:
            return self.products(derivation).textures[path]
        file = self.root / path if IMAGE_MARK in path else file_of(self.root, path)
        return decode_picture(source_bytes(self.root, path), file, self.max_pixels)

    def products(self, derivation: Derivation) -> Products:
        """Return what a derivation makes, from the store where that took long."""
        return finish(self.products_in_steps(derivation))

    def products_in_steps(self, derivation: Derivation) -> Task[Products]:
        """As `products`, with progress."""
        if not derivation.costly:
            return (yield from derivation.make(self))
        content = derivation.content(self.content)
        kept = self.store.get(content)
        if kept is None:
            kept = yield from derivation.make(self)
            self.store.keep(content, kept)
        return kept

    def content(self, path: str) -> str:
        """Return the hash of what is at a path now: of a model, of all but its images.

        Raises
        ------
        OakTrimError : it cannot be read; names the file
        """
        derivation = self.made.get(path)
        if derivation is not None:
            whole = derivation.content(self.content)
            return derivation.contents(whole).get(path, whole)
        return content_hash(self.other(path) if Path(path).suffix.lower() in MODELS else source_bytes(self.root, path))

    def other(self, path: str) -> bytes:
        """Return what of a sound or a model ships beside the textures.

        Raises
        ------
        OakTrimError : it cannot be read; names the file
        """
        return self.model(path) if path in self.made else other_bytes(self.root, path)

    def model(self, path: str) -> bytes:
        """Return the bytes of a model that a maker made.

        Raises
        ------
        FileError : no maker makes it
        """
        derivation = self.made.get(path)
        models = {} if derivation is None else self.products(derivation).models
        if path not in models:
            raise FileError(self.root / path, "is made by no maker")
        return models[path]
