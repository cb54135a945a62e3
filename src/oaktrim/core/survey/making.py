"""What an inventory knows of a texture that is made out of others instead of being read from one file."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from oaktrim.core.files.atomic import content_hash
from oaktrim.core.files.pictures import decode_picture
from oaktrim.core.pixels.image import Image
from oaktrim.core.scene.model import Slot
from oaktrim.core.survey.facts import IMAGE_MARK
from oaktrim.core.survey.places import file_of, source_bytes
from oaktrim.core.survey.roles import Role


class DerivedTexture(Protocol):
    """How a texture is made.

    Attributes
    ----------
    kind : what made it, in words
    role, reason : what the texture is used as, and why that is known
    inputs : paths of the textures that it is made of
    keeps : these ship beside it all the same
    wears : materials that it is assigned to, as `model.gltf#materials/name`
    """

    @property
    def kind(self) -> str: ...

    @property
    def inputs(self) -> tuple[str, ...]: ...

    @property
    def keeps(self) -> bool: ...

    @property
    def materials(self) -> tuple[str, ...]: ...

    @property
    def role(self) -> Role: ...

    @property
    def reason(self) -> str: ...

    def picture(self, sources: Sources) -> Image:
        """Return the texture at its full size.

        Raises
        ------
        OakTrimError : an input cannot be read
        """

    def content(self, hash_of: Callable[[str], str]) -> str:
        """Return a hash of the settings and of the inputs, whose own hashes are asked for by path.

        Raises
        ------
        OakTrimError : an input is not there
        """

    def beside(self, sources: Sources) -> dict[str, bytes]:
        """Return what goes beside the texture, by what its name ends in."""

    def takes(self, material: str, slot: Slot, source: str) -> bool:
        """Say whether it takes the place of a source in a slot of a material (`model.gltf#materials/name`)."""


@dataclass(frozen=True)
class Sources:
    """Where pictures come from: files below a root, images that models hold, and what was made out of them before.

    Parameters
    ----------
    made : by path; a maker sees only those before it
    max_pixels : pictures that claim more are not decoded
    """

    root: Path
    made: Mapping[str, DerivedTexture]
    max_pixels: int

    def picture(self, path: str) -> Image:
        """Return the picture at a path, integers as sRGB code values.

        Raises
        ------
        OakTrimError : it cannot be read; names the file
        """
        made = self.made.get(path)
        if made is not None:
            return made.picture(self)
        file = self.root / path if IMAGE_MARK in path else file_of(self.root, path)
        return decode_picture(source_bytes(self.root, path), file, self.max_pixels)

    def content(self, path: str) -> str:
        """Return the hash of what is at a path now.

        Raises
        ------
        OakTrimError : it cannot be read; names the file
        """
        made = self.made.get(path)
        return content_hash(source_bytes(self.root, path)) if made is None else made.content(self.content)
