"""The Model: what a glTF or OBJ file holds, with plain arrays for geometry and names for the rest."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.scene.slots import Slot

Points = NDArray[np.float32]


# Those of core glTF 2.0 (clause 3.9), by whose names a file can be given one.
GLTF_SLOTS = (Slot.BASE_COLOUR, Slot.METALLIC_ROUGHNESS, Slot.NORMAL, Slot.OCCLUSION, Slot.EMISSIVE)


class Wrap(Enum):
    """What lies beyond the border of a texture."""

    REPEAT = "repeat"
    CLAMP = "clamp"
    MIRROR = "mirror"


class AlphaMode(Enum):
    """What the alpha of a material's base colour does (glTF 2.0, clause 3.9.4)."""

    OPAQUE = "OPAQUE"
    MASK = "MASK"
    BLEND = "BLEND"


@dataclass(frozen=True)
class TextureUse:
    """A material's use of an image.

    Parameters
    ----------
    name : of the slot as the file writes it; `slot` is what it means
    image : place in the model's images; None where the file names none that can be read
    uv_set : which UVs; after a texture transform (KHR_texture_transform, or MTL's -o and -s)
    offset, scale, rotation : of the UVs; rotation counter-clockwise in radians
    wrap : across and down
    """

    slot: Slot
    name: str
    image: int | None
    uv_set: int = 0
    offset: tuple[float, float] = (0.0, 0.0)
    scale: tuple[float, float] = (1.0, 1.0)
    rotation: float = 0.0
    wrap: tuple[Wrap, Wrap] = (Wrap.REPEAT, Wrap.REPEAT)

    @property
    def plain(self) -> bool:
        """The UVs are taken as they are."""
        return self.offset == (0, 0) and self.scale == (1, 1) and self.rotation == 0


@dataclass(frozen=True)
class Surface:
    """What a material says without textures: factors that multiply them (glTF 2.0, clause 3.9), linear light.

    Parameters
    ----------
    emissive : with KHR_materials_emissive_strength multiplied in
    cutoff : alpha from which a masked material is there
    unlit : KHR_materials_unlit, the base colour as it is
    """

    base_colour: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    metallic: float = 1.0
    roughness: float = 1.0
    emissive: tuple[float, float, float] = (0.0, 0.0, 0.0)
    normal_scale: float = 1.0
    occlusion_strength: float = 1.0
    alpha: AlphaMode = AlphaMode.OPAQUE
    cutoff: float = 0.5
    two_sided: bool = False
    unlit: bool = False


@dataclass(frozen=True)
class Material:
    """A material; `content` is all that it holds except its name, as text, images by what they are.

    `opaque` says that the alpha of its base colour is not looked at.
    """

    name: str
    uses: tuple[TextureUse, ...]
    content: str
    opaque: bool = False
    surface: Surface = Surface()

    def use_of(self, slot: Slot) -> TextureUse | None:
        """Return the first use of a slot whose image can be read."""
        return next((use for use in self.uses if use.slot is slot and use.image is not None), None)


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
    normals, tangents, colours : (N, 3), (N, 4) with the sign of the bitangent, and (N, 4) linear, float32; None where the
        file has none, or was not read whole
    joints, weights : (N, J) int64 places in the skin's joints, and (N, J) float32
    """

    positions: Points
    uvs: tuple[Points, ...]
    triangles: NDArray[np.int64]
    material: int | None
    count: int
    normals: Points | None = None
    tangents: Points | None = None
    colours: Points | None = None
    joints: NDArray[np.int64] | None = None
    weights: Points | None = None


@dataclass(frozen=True)
class Mesh:
    """Primitives that go together; `data_bytes` is what their accessors take in the file."""

    name: str
    primitives: tuple[Primitive, ...]
    data_bytes: int


@dataclass(frozen=True)
class Lens:
    """A camera of a file; it looks along -Z of its node (glTF 2.0, clause 3.10).

    Parameters
    ----------
    yfov : vertical angle of view in radians; 0 for an orthographic camera
    size : half the width and height that an orthographic camera sees
    near, far : distances; far is None where nothing is too far
    aspect : width over height, where the file says it
    """

    yfov: float = 0.0
    size: tuple[float, float] = (1.0, 1.0)
    near: float = 0.01
    far: float | None = None
    aspect: float | None = None


class LightKind(Enum):
    """KHR_lights_punctual."""

    DIRECTIONAL = "directional"
    POINT = "point"
    SPOT = "spot"


@dataclass(frozen=True)
class Light:
    """A light of a file; it shines along -Z of its node.

    Parameters
    ----------
    intensity : lux of a directional light, candela of the others
    cone : inner and outer angle of a spot, radians
    reach : distance at which it ends, None where nothing is too far
    """

    kind: LightKind
    colour: tuple[float, float, float] = (1.0, 1.0, 1.0)
    intensity: float = 1.0
    cone: tuple[float, float] = (0.0, 0.7853981633974483)
    reach: float | None = None


@dataclass(frozen=True)
class Node:
    """A place in the scene.

    Parameters
    ----------
    matrix : 4x4 float64, to its parent
    copies : how often its mesh is drawn there; instances : (K, 4, 4) where, of what was read whole
    levels : nodes that stand in for it farther away (MSFT_lod); coverage : the share of the screen's height from which each of
        itself and them is drawn, where the file says it
    """

    name: str
    mesh: int | None
    children: tuple[int, ...]
    matrix: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))
    skin: int | None = None
    copies: int = 1
    camera: Lens | None = None
    light: Light | None = None
    instances: NDArray[np.float64] | None = None
    levels: tuple[int, ...] = ()
    coverage: tuple[float, ...] = ()

    @property
    def yfov(self) -> float | None:
        """The vertical angle of view of a perspective camera that stands here, in radians."""
        return self.camera.yfov or None if self.camera is not None else None


@dataclass(frozen=True)
class Skin:
    """Joints that a mesh hangs on: nodes, and the matrix of each from the mesh to itself at rest, (J, 4, 4)."""

    name: str
    nodes: tuple[int, ...]
    inverse_bind: NDArray[np.float64] | None = None

    @property
    def joints(self) -> int:
        return len(self.nodes)


@dataclass(frozen=True)
class Track:
    """How one property of a node moves.

    Parameters
    ----------
    path : translation, rotation or scale
    times : (K,) seconds; values : (K, 3 or 4), or (K, 3, 3 or 4) with tangents where the interpolation is CUBICSPLINE
    """

    node: int
    path: str
    times: NDArray[np.float32]
    values: NDArray[np.float32]
    interpolation: str


@dataclass(frozen=True)
class Animation:
    """A clip.

    Parameters
    ----------
    seconds : up to the last key; channels, keys : counts over all samplers
    data_bytes : of its accessors, shared ones once
    tracks : what moves, of a model that was read whole
    """

    name: str
    seconds: float
    channels: int
    keys: int
    data_bytes: int
    tracks: tuple[Track, ...] = ()


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
