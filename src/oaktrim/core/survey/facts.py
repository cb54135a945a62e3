"""What the survey keeps of each file: rows that are cached by path, size and time, and never change."""

from __future__ import annotations

from typing import Any

import msgspec

from oaktrim.core.scene.slots import Slot
from oaktrim.core.sounds.traits import SILENT

# Between a model's path and the place of an image or a clip in it, or the name of a part that can be left out.
IMAGE_MARK, CLIP_MARK = "#images/", "#animations/"
NODE_MARK, VARIANT_MARK, SCENE_MARK = "#nodes/", "#variants/", "#scenes/"


class TextureFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Facts of one texture: a file, or an image that a model holds (its path is then the model's and `#images/N`).

    Parameters
    ----------
    path : below the root, with slashes; bytes that are not UTF-8 stand as escapes
    file_bytes, file_time : size, and time of change in nanoseconds
    content : BLAKE2b of the file's bytes, 128 bits in hexadecimal
    kind, width, height, channels, bit_depth, floating, levels, format, profile : as in `PictureFacts`
    pixels : hash of the pixels; empty where they cannot be decoded
    grey, constant : of the pixels; opaque : there is an alpha channel and it is full everywhere
    alpha_constant : there is an alpha channel, the same everywhere and not full
    live : channels that are not constant, as letters
    used, used_share, eight_bit : as in `PixelFacts`
    detail, normal, length_error, green, light, seam : as `pixels.detail` measures them; `seam` the larger of both
    means : codes of 4x4 cells in 0..255, four channels each, to know a picture again at another size
    slices : as in `PictureFacts`; all other facts are of the first
    traits : packed, of `pixels.traits`; empty where the pixels cannot be decoded
    orientation, ignored : as in `PictureFacts`
    """

    path: str
    file_bytes: int
    file_time: int
    content: str
    kind: str
    width: int
    height: int
    channels: int
    bit_depth: int
    floating: bool
    levels: int
    format: str
    profile: str
    pixels: str = ""
    grey: bool = False
    opaque: bool = False
    constant: bool = False
    alpha_constant: bool = False
    live: str = ""
    used: tuple[int, int, int, int] = (0, 0, 0, 0)
    used_share: float = 1.0
    eight_bit: bool = False
    detail: float = 1.0
    normal: bool = False
    length_error: float = 0.0
    green: int = 0
    light: float = 0.0
    seam: float = 1.0
    means: bytes = b""
    slices: int = 1
    orientation: int = 1
    ignored: tuple[str, ...] = ()
    traits: bytes = b""

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.width, self.height

    @property
    def natural_format(self) -> str:
        """The format that holds the file's pixels without loss of size or kind: what it ships as when nothing is cut."""
        return self.format or natural_format(self.channels, self.bit_depth, self.floating)


def natural_format(channels: int, bit_depth: int, floating: bool) -> str:
    """Return the plain format of pixels of this shape."""
    if floating:
        return "rgba16f"
    if bit_depth > 8:
        return "r16" if channels == 1 else "rgba16f"
    return "r8" if channels == 1 else "rgba8"


class AudioFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Facts of one sound.

    Parameters
    ----------
    decoded_bytes : as 16-bit PCM
    packed : over file bytes of a piece, by packing method
    peak, clipped, side, bandwidth, step, envelope : as `sounds.traits` tells them
    """

    path: str
    file_bytes: int
    file_time: int
    kind: str
    rate: int
    channels: int
    seconds: float
    decoded_bytes: int
    content: str
    packed: dict[str, float]
    peak: float = SILENT
    clipped: int = 0
    side: float = SILENT
    bandwidth: float = 0.0
    step: float = 0.05
    envelope: bytes = b""


class SlotFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One use of an image by a material.

    Parameters
    ----------
    image : place in the model's images, -1 where there is none
    tiles : the UVs of what has the material go beyond one tile
    reads_alpha : the material may look at the alpha channel
    """

    slot: Slot
    name: str
    image: int
    tiles: bool
    reads_alpha: bool


class MaterialFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """A material.

    Parameters
    ----------
    content : hash of all but its name, images by their paths
    drawn : how it is drawn, in words; materials that have this in common could be one. Empty where its maps forbid that
    spread : tiles that the UVs of its widest draw reach over; 0 where nothing has it
    """

    name: str
    content: str
    slots: tuple[SlotFacts, ...]
    overlapping: bool
    drawn: str = ""
    spread: float = 0.0


class ObjectFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """What stands below one root node of a scene.

    Parameters
    ----------
    materials : places in the model's materials
    triangles, draws : with all copies counted; copies : nodes and instances that draw something
    largest : its greatest height on screen at any camera of the scene, as a part of the picture's; -1 without cameras
    """

    name: str
    materials: tuple[int, ...]
    triangles: int
    draws: int
    copies: int
    largest: float


class ClipFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """An animation clip of a model.

    Parameters
    ----------
    idle : channels that say what the nodes say without it; moves : nodes that it moves
    needed : keys that keep all within a millimetre and a degree, -1 where that was not looked at
    """

    name: str
    seconds: float
    channels: int
    keys: int
    data_bytes: int
    idle: int = 0
    moves: int = -1
    needed: int = -1


class NodeFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """A node that draws something, itself or below it.

    Parameters
    ----------
    name : empty where it has none; place : in the document
    parent : place of the one above among those that are listed, -1 at the top
    materials : that its own mesh wears, by place; triangles, draws : of its own mesh, with all copies
    data_bytes : of the vertices of its own mesh, where no other node draws that
    joined : of its draws, how many could be one with another; shown : it is in the scene that is shown first
    """

    name: str
    place: int
    parent: int
    materials: tuple[int, ...]
    triangles: int
    draws: int
    data_bytes: int
    joined: int = 0
    shown: bool = True


class VertexFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Vertex data of a model.

    Parameters
    ----------
    attributes, unused : bytes by name, of all and of those that no material needs; indices among them as `indices`
    narrow : bytes that indices in 16 bits would save; twins : meshes that are another's copies
    misses, ordered : vertices that a cache of 16 works on, as they stand and in a better order; triangles : of which
    same : materials that are another's copies but for their names; joined : draws that would be one with another then
    """

    attributes: dict[str, int] = {}
    unused: dict[str, int] = {}
    narrow: int = 0
    twins: int = 0
    misses: int = 0
    ordered: int = 0
    triangles: int = 0
    same: int = 0
    joined: int = 0


class ImageRef(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """An image of a model: `uri` as the file has it, or the path that a held image is surveyed under; both empty if broken."""

    uri: str
    held: str
    name: str = ""


class ModelFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Facts of one model file.

    Parameters
    ----------
    files : path, size and time of the further files that it was read with
    nodes : those that draw something; scenes : of those that are not shown first, their nodes; variants : of materials, what
        each puts in the place of others, by name
    vertices : what is known of its vertex data; held : why it can only ship as it is, empty where it can be trimmed
    mesh_bytes : of the model and its buffers, less what its clips and images take
    content : hash of the geometry, which is all but its images; whole : of all bytes that it was read from
    packed : packed over plain bytes of a piece of the geometry, by packing method
    """

    path: str
    file_bytes: int
    file_time: int
    kind: str
    scene: str
    objects: tuple[ObjectFacts, ...]
    materials: tuple[MaterialFacts, ...]
    images: tuple[ImageRef, ...]
    clips: tuple[ClipFacts, ...]
    joints: int
    mesh_bytes: int
    content: str
    packed: dict[str, float]
    faults: tuple[str, ...]
    extensions: tuple[str, ...]
    files: tuple[tuple[str, int, int], ...]
    nodes: tuple[NodeFacts, ...] = ()
    scenes: dict[str, tuple[int, ...]] = {}
    variants: dict[str, tuple[int, ...]] = {}
    vertices: VertexFacts = VertexFacts()
    held: str = ""
    whole: str = ""


class FileFacts(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """All that reading one file gave; `errors` are of images that a model holds, by their paths."""

    path: str
    file_bytes: int
    file_time: int
    textures: tuple[TextureFacts, ...] = ()
    audio: AudioFacts | None = None
    model: ModelFacts | None = None
    errors: tuple[tuple[str, str], ...] = ()

    @property
    def content(self) -> str:
        """The hash of the file's bytes, where it is a picture or a sound that can be read; else empty."""
        if self.audio is not None:
            return self.audio.content
        alone = self.model is None and len(self.textures) == 1
        return self.textures[0].content if alone else ""

    def at(self, path: str, file_time: int) -> FileFacts:
        """Return the facts of another file that holds the same picture or sound."""
        there: dict[str, Any] = {"path": path, "file_time": file_time}
        textures = tuple(msgspec.structs.replace(texture, **there) for texture in self.textures)
        audio = None if self.audio is None else msgspec.structs.replace(self.audio, **there)
        return msgspec.structs.replace(self, **there, textures=textures, audio=audio)
