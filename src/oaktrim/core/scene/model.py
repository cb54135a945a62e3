"""The Model: what a glTF or OBJ file holds, with plain arrays for geometry and names for the rest."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum

import numpy as np
from numpy.typing import NDArray

Points = NDArray[np.float32]


class Slot(Enum):
    """What a material reads a texture as; the names are those of glTF 2.0 and its ratified extensions."""

    BASE_COLOUR = "baseColorTexture"
    METALLIC_ROUGHNESS = "metallicRoughnessTexture"
    NORMAL = "normalTexture"
    OCCLUSION = "occlusionTexture"
    EMISSIVE = "emissiveTexture"
    ROUGHNESS = "roughness"
    METALNESS = "metalness"
    SPECULAR = "specular"
    HEIGHT = "displacement"
    OPACITY = "opacity"
    OTHER = "other"


# Those of core glTF 2.0 (clause 3.9), by whose names a file can be given one.
GLTF_SLOTS = (Slot.BASE_COLOUR, Slot.METALLIC_ROUGHNESS, Slot.NORMAL, Slot.OCCLUSION, Slot.EMISSIVE)


@dataclass(frozen=True)
class TextureUse:
    """A material's use of an image.

    Parameters
    ----------
    name : of the slot as the file writes it; `slot` is what it means
    image : place in the model's images; None where the file names none that can be read
    uv_set : which UVs; after a texture transform (KHR_texture_transform, or MTL's -o and -s)
    offset, scale, rotation : of the UVs; rotation counter-clockwise in radians
    """

    slot: Slot
    name: str
    image: int | None
    uv_set: int = 0
    offset: tuple[float, float] = (0.0, 0.0)
    scale: tuple[float, float] = (1.0, 1.0)
    rotation: float = 0.0


@dataclass(frozen=True)
class Material:
    """A material; `content` is all that it holds except its name, as text, images by what they are.

    `opaque` says that the alpha of its base colour is not looked at.
    """

    name: str
    uses: tuple[TextureUse, ...]
    content: str
    opaque: bool = False


@dataclass(frozen=True)
class ImageSource:
    """An image of a model: a file that it names, or bytes that it holds.

    Parameters
    ----------
    uri : as the file writes it, percent-decoded; empty where the bytes are held
    data : bytes held in the model's own file or a buffer of it
    """

    name: str
    uri: str
    data: bytes | None


@dataclass(frozen=True)
class Primitive:
    """One draw of a mesh.

    Parameters
    ----------
    positions : (N, 3) float32; uvs : (N, 2) float32 each
    triangles : (M, 3) int64 rows of positions; strips and fans are written out
    material : place in the model's materials
    count : triangles as stated; more than `triangles` holds where the data cannot be read
    """

    positions: Points
    uvs: tuple[Points, ...]
    triangles: NDArray[np.int64]
    material: int | None
    count: int


@dataclass(frozen=True)
class Mesh:
    """Primitives that go together; `data_bytes` is what their accessors take in the file."""

    name: str
    primitives: tuple[Primitive, ...]
    data_bytes: int


@dataclass(frozen=True)
class Node:
    """A place in the scene.

    Parameters
    ----------
    matrix : 4x4 float64, to its parent
    copies : how often its mesh is drawn there
    lens : vertical angle of view of a perspective camera that stands here, in radians
    """

    name: str
    mesh: int | None
    children: tuple[int, ...]
    matrix: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))
    skin: int | None = None
    copies: int = 1
    yfov: float | None = None


@dataclass(frozen=True)
class Skin:
    """Joints that a mesh hangs on."""

    name: str
    joints: int


@dataclass(frozen=True)
class Animation:
    """A clip.

    Parameters
    ----------
    seconds : up to the last key; channels, keys : counts over all samplers
    data_bytes : of its accessors, shared ones once
    """

    name: str
    seconds: float
    channels: int
    keys: int
    data_bytes: int


@dataclass(frozen=True)
class Model:
    """All of one model file.

    Parameters
    ----------
    kind : gltf, glb or obj
    scene : name of the default scene; roots : its nodes
    faults : what could not be read, in sentences; the rest stands
    extensions : names used that mean nothing to us; they are kept as they are
    files : paths below the root of further files that were read with it (buffers, material libraries)
    """

    kind: str
    scene: str
    roots: tuple[int, ...]
    nodes: tuple[Node, ...]
    meshes: tuple[Mesh, ...]
    materials: tuple[Material, ...]
    images: tuple[ImageSource, ...]
    animations: tuple[Animation, ...] = ()
    skins: tuple[Skin, ...] = ()
    faults: tuple[str, ...] = ()
    extensions: tuple[str, ...] = ()
    files: tuple[str, ...] = ()

    def world_matrices(self) -> dict[int, NDArray[np.float64]]:
        """Return the matrix to the world of every node of the scene."""
        found: dict[int, NDArray[np.float64]] = {}
        pending = [(root, np.eye(4)) for root in self.roots]
        while pending:
            node, above = pending.pop()
            if node not in found:
                found[node] = above @ self.nodes[node].matrix
                pending.extend((child, found[node]) for child in self.nodes[node].children)
        return found

    def below(self, root: int) -> list[int]:
        """Return the nodes from one down, each once, itself first."""
        found: dict[int, None] = {}
        pending = [root]
        while pending:
            node = pending.pop()
            if node not in found:
                found[node] = None
                pending.extend(reversed(self.nodes[node].children))
        return list(found)
