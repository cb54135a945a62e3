"""From a glTF document to a Model: what is broken is left out and said, the rest stands."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, TypeVar
from urllib.parse import unquote

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError
from oaktrim.core.files.gltf import Document, MaterialRow, NodeRow, PrimitiveRow, TextureInfo
from oaktrim.core.files.references import data_of
from oaktrim.core.scene.faults import Faults
from oaktrim.core.scene.model import (
    Animation,
    ImageSource,
    Material,
    Mesh,
    Model,
    Node,
    Points,
    Primitive,
    Skin,
    Slot,
    TextureUse,
)

T = TypeVar("T")
_TRIANGLES, _STRIP, _FAN = 4, 5, 6
# Extensions that say what a texture is, or move its UVs; all others are kept unread.
_TRANSFORM, _INSTANCES = "KHR_texture_transform", "EXT_mesh_gpu_instancing"
_COMPRESSED = ("KHR_draco_mesh_compression", "EXT_meshopt_compression", "KHR_meshopt_compression")
_IMAGE_EXTENSIONS = ("KHR_texture_basisu", "EXT_texture_webp", "EXT_texture_avif", "MSFT_texture_dds")
_KNOWN = {_TRANSFORM, _INSTANCES, *_COMPRESSED, *_IMAGE_EXTENSIONS}
_MATERIAL_SLOTS = {
    "diffuseTexture": Slot.BASE_COLOUR,
    "clearcoatNormalTexture": Slot.NORMAL,
    "sheenColorTexture": Slot.BASE_COLOUR,
    "specularColorTexture": Slot.BASE_COLOUR,
    "transmissionTexture": Slot.OPACITY,
}


class _Reader:
    """One document on its way to a model."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.root = document.root
        self.faults = Faults()
        self.note = self.faults.note

    def attempt(self, who: str, make: Any, otherwise: T) -> T:
        """Return what `make` makes, or note its fault."""
        try:
            return make()  # type: ignore[no-any-return]
        except FileError as error:
            self.note(f"{who}: {error.fault}")
        except (OverflowError, MemoryError, ValueError) as error:
            self.note(f"{who}: its numbers are beyond all bounds ({error})")
        return otherwise

    # Geometry

    def floats(self, index: int, width: int, who: str) -> Points:
        values = self.document.accessor(index)
        if values.shape[1] != width:
            raise self.document.fault(f"{who} has {values.shape[1]} components, not {width}")
        values = np.ascontiguousarray(values, np.float32)
        if not np.isfinite(values).all():
            raise self.document.fault(f"{who} holds values that are not finite")
        return values

    def primitive(self, row: PrimitiveRow, who: str) -> Primitive:
        stated = self._stated_triangles(row)
        packed = next((name for name in _COMPRESSED if name in row.extensions), None)
        none: Points = np.zeros((0, 3), np.float32)
        if packed is not None:
            self.note(f"{who} is compressed with {packed}, which is not read: its shape and UVs are unknown")
            return Primitive(none, (), np.zeros((0, 3), np.int64), self._material(row, who), stated)
        if "POSITION" not in row.attributes:
            raise self.document.fault("it has no positions")
        points = self.floats(row.attributes["POSITION"], 3, "POSITION")
        uvs = []
        for channel in range(8):
            name = f"TEXCOORD_{channel}"
            if name not in row.attributes:
                break
            uv = self.floats(row.attributes[name], 2, name)
            if len(uv) != len(points):
                raise self.document.fault(f"{name} has {len(uv)} elements for {len(points)} positions")
            uvs.append(uv)
        if row.indices is None:
            order: NDArray[np.int64] = np.arange(len(points), dtype=np.int64)
        else:
            raw = self.document.accessor(row.indices)
            if raw.dtype.kind != "u" or raw.shape[1] != 1:
                raise self.document.fault("its indices are not unsigned integers")
            order = raw[:, 0].astype(np.int64)
            if order.size and int(order.max()) >= len(points):
                raise self.document.fault(f"an index points to position {int(order.max())} of {len(points)}")
        triangles = _triangles(order, row.mode)
        return Primitive(points, tuple(uvs), triangles, self._material(row, who), len(triangles))

    def _material(self, row: PrimitiveRow, who: str) -> int | None:
        if row.material is None or 0 <= row.material < len(self.root.materials):
            return row.material
        self.note(f"{who} names material {row.material} and there are {len(self.root.materials)}")
        return None

    def _stated_triangles(self, row: PrimitiveRow) -> int:
        index = row.indices if row.indices is not None else row.attributes.get("POSITION", -1)
        if not 0 <= index < len(self.root.accessors) or row.mode not in (_TRIANGLES, _STRIP, _FAN):
            return 0
        count = max(0, self.root.accessors[index].count)
        return count // 3 if row.mode == _TRIANGLES else max(0, count - 2)

    def meshes(self) -> Iterator[Mesh]:
        for place, mesh in enumerate(self.root.meshes):
            primitives: list[Primitive] = []
            accessors = set[int]()
            for number, row in enumerate(mesh.primitives):
                who = f"mesh {place} ({mesh.name[:60]}), primitive {number}"
                made = self.attempt(who, lambda row=row, who=who: self.primitive(row, who), None)
                if made is not None:
                    primitives.append(made)
                accessors.update(row.attributes.values())
                accessors.update(value for target in row.targets for value in target.values())
                accessors.update(() if row.indices is None else (row.indices,))
            yield Mesh(mesh.name, tuple(primitives), self._bytes(accessors))

    def _bytes(self, accessors: set[int]) -> int:
        """Return what accessors state in all, but no more than the file could hold."""
        known = [index for index in accessors if 0 <= index < len(self.root.accessors)]
        room = sum(max(0, row.byte_length) for row in self.root.buffers)
        return min(sum(self.document.accessor_bytes(index) for index in known), room)

    # Nodes

    def nodes(self) -> tuple[Node, ...]:
        rows, found = self.root.nodes, []
        parent, matrices = [-1] * len(rows), self.local_matrices(rows)
        for place, row in enumerate(rows):
            children = []
            for child in row.children:
                if not 0 <= child < len(rows):
                    self.note(f"node {place} has the child {child} and there are {len(rows)} nodes")
                elif parent[child] >= 0 or child == place:
                    self.note(f"node {child} has two parents, or is its own; nodes are to form trees")
                else:
                    parent[child] = place
                    children.append(child)
            mesh = row.mesh
            if mesh is not None and not 0 <= mesh < len(self.root.meshes):
                self.note(f"node {place} names mesh {mesh} and there are {len(self.root.meshes)}")
                mesh = None
            copies = self.attempt(f"node {place}", lambda row=row: self.copies(row), 1) if row.extensions else 1
            found.append(
                Node(row.name, mesh, tuple(children), matrices[place], row.skin, copies, self.yfov(row, place))
            )
        return tuple(self._without_cycles(found, parent))

    def _without_cycles(self, nodes: list[Node], parent: list[int]) -> list[Node]:
        """Cut a ring of nodes open; with one parent each, a ring is a walk upwards that never ends."""
        sound = [False] * len(nodes)
        for start in range(len(nodes)):
            path, at = [], start
            seen = set[int]()
            while at >= 0 and not sound[at] and at not in seen:
                seen.add(at)
                path.append(at)
                at = parent[at]
            if at >= 0 and at in seen:
                self.note(f"node {at} is among its own children")
                above = nodes[parent[at]]
                children = tuple(child for child in above.children if child != at)
                nodes[parent[at]] = replace(above, children=children)
                parent[at] = -1
            for place in path:
                sound[place] = True
        return nodes

    def yfov(self, row: NodeRow, place: int) -> float | None:
        if row.camera is None:
            return None
        if not 0 <= row.camera < len(self.root.cameras):
            self.note(f"node {place} names camera {row.camera} and there are {len(self.root.cameras)}")
            return None
        perspective = self.root.cameras[row.camera].perspective
        return perspective.yfov if perspective is not None and 0 < perspective.yfov < 3.14 else None

    def copies(self, row: NodeRow) -> int:
        """Return how often EXT_mesh_gpu_instancing draws a node's mesh."""
        extension = row.extensions.get(_INSTANCES)
        if not isinstance(extension, dict):
            return 1
        attributes = extension.get("attributes")
        places = [v for v in attributes.values() if isinstance(v, int)] if isinstance(attributes, dict) else []
        return max([len(self.document.accessor(index)) for index in places], default=1)

    def local_matrices(self, rows: list[NodeRow]) -> NDArray[np.float64]:
        """Return the matrix of each node to its parent, (N, 4, 4); the identity where it cannot be read."""
        stated = [place for place, row in enumerate(rows) if row.matrix is not None]
        out = np.tile(np.eye(4), (len(rows), 1, 1))
        move, turn, scale = (
            self._columns(rows, name, default)
            for name, default in (("translation", (0, 0, 0)), ("rotation", (0, 0, 0, 1)), ("scale", (1, 1, 1)))
        )
        x, y, z, w = turn.T
        out[:, :3, :3] = np.array(
            [
                [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
            ]
        ).transpose(2, 0, 1)
        out[:, :3, :3] *= scale[:, None, :]
        out[:, :3, 3] = move
        for place in stated:
            values = self.attempt(
                f"node {place}", lambda p=place: self._numbers(rows[p].matrix or [], 16, "matrix"), None
            )
            out[place] = np.eye(4) if values is None else values.reshape(4, 4).T
        return out

    def _columns(self, rows: list[NodeRow], name: str, default: tuple[float, ...]) -> NDArray[np.float64]:
        """Return a field of all nodes, (N, width); the default where a node has none, or one that cannot be read."""
        found = np.tile(np.array(default, np.float64), (len(rows), 1))
        for place, row in enumerate(rows):
            values = getattr(row, name)
            if values is not None:
                if len(values) == len(default) and all(-1e30 < v < 1e30 for v in values):
                    found[place] = values
                else:
                    self.note(f"node {place}: its {name} is not {len(default)} finite numbers")
        return found

    def _numbers(self, values: list[float], count: int, what: str) -> NDArray[np.float64]:
        array = np.array(values, np.float64)
        if len(values) != count or not (np.abs(array) < 1e30).all():
            raise self.document.fault(f"its {what} is not {count} finite numbers")
        return array

    # Materials

    def materials(self) -> Iterator[Material]:
        raws = self.document.raw.get("materials", [])
        for place, row in enumerate(self.root.materials):
            uses = [self.use(slot, name, info, place) for slot, name, info in self._infos(row, place)]
            raw = {key: value for key, value in raws[place].items() if key not in ("name", "extras")}
            yield Material(row.name or f"material {place}", tuple(uses), self._content(raw), row.alpha_mode == "OPAQUE")

    def _infos(self, row: MaterialRow, place: int) -> Iterator[tuple[Slot, str, TextureInfo]]:
        pbr = row.pbr_metallic_roughness
        named = (
            (Slot.BASE_COLOUR, pbr.base_color_texture if pbr else None),
            (Slot.METALLIC_ROUGHNESS, pbr.metallic_roughness_texture if pbr else None),
            (Slot.NORMAL, row.normal_texture),
            (Slot.OCCLUSION, row.occlusion_texture),
            (Slot.EMISSIVE, row.emissive_texture),
        )
        for slot, info in named:
            if info is not None:
                yield slot, slot.value, info
        for extension in row.extensions.values():
            for name, value in extension.items() if isinstance(extension, dict) else ():
                if name.endswith("Texture") and isinstance(value, dict):
                    try:
                        info = msgspec.convert(value, TextureInfo)
                    except msgspec.ValidationError as error:
                        self.note(f"material {place}, {name}: {error}")
                        continue
                    yield _MATERIAL_SLOTS.get(name, Slot.OTHER), name, info

    def use(self, slot: Slot, name: str, info: TextureInfo, place: int) -> TextureUse:
        image = self.image_of(info.index, f"material {place}, {name}")
        transform = info.extensions.get(_TRANSFORM)
        if not isinstance(transform, dict):
            return TextureUse(slot, name, image, max(0, info.tex_coord))
        return self.attempt(
            f"material {place}, {name}",
            lambda: TextureUse(
                slot,
                name,
                image,
                max(0, int(transform.get("texCoord", info.tex_coord))),
                self._pair(transform.get("offset", (0, 0))),
                self._pair(transform.get("scale", (1, 1))),
                float(self._numbers([_number(transform.get("rotation", 0))], 1, "rotation")[0]),
            ),
            TextureUse(slot, name, image, max(0, info.tex_coord)),
        )

    def _pair(self, value: Any) -> tuple[float, float]:
        values = [_number(v) for v in value] if isinstance(value, list | tuple) else []
        x, y = self._numbers(values, 2, "texture transform")
        return float(x), float(y)

    def image_of(self, texture: int, who: str) -> int | None:
        if not 0 <= texture < len(self.root.textures):
            self.note(f"{who} names texture {texture} and there are {len(self.root.textures)}")
            return None
        row = self.root.textures[texture]
        source = row.source
        for name in _IMAGE_EXTENSIONS:
            extension = row.extensions.get(name)
            if isinstance(extension, dict) and isinstance(extension.get("source"), int):
                source = extension["source"]
        if source is None:
            self.note(f"texture {texture} names no image")
        elif not 0 <= source < len(self.root.images):
            self.note(f"texture {texture} names image {source} and there are {len(self.root.images)}")
            source = None
        return source

    def _content(self, raw: Any) -> str:
        """Return a material as text in which equal ones are equal: textures stand by what their image is."""

        def plain(value: Any) -> Any:
            if isinstance(value, dict):
                out = {key: plain(inner) for key, inner in value.items()}
                if isinstance(value.get("index"), int):
                    image = self.image_of(value["index"], "a material")
                    if image is not None:
                        out["index"] = f"image {image}"
                return out
            return [plain(inner) for inner in value] if isinstance(value, list) else value

        return msgspec.json.encode(plain(raw), order="sorted").decode()

    def images(self) -> Iterator[ImageSource]:
        for place, row in enumerate(self.root.images):
            if row.uri is not None and row.uri[:5].lower() != "data:":
                yield ImageSource(row.name, unquote(row.uri), None)
                continue

            def held(row: Any = row, place: int = place) -> bytes | None:
                if row.uri is not None:
                    return data_of(row.uri, self.document.place.file)
                if row.buffer_view is None:
                    raise self.document.fault(f"image {place} has neither a URI nor a buffer view")
                return bytes(self.document.view(row.buffer_view))

            yield ImageSource(row.name, "", self.attempt(f"image {place}", held, None))

    # Movement

    def animations(self) -> Iterator[Animation]:
        for place, row in enumerate(self.root.animations):
            seconds, keys, accessors = 0.0, 0, set[int]()
            for sampler in row.samplers:
                who = f"animation {place} ({row.name[:60]})"
                times = self.attempt(who, lambda s=sampler: self.floats(s.input, 1, "its times"), None)
                accessors.update((sampler.input, sampler.output))
                if times is not None:
                    keys += len(times)
                    seconds = max(seconds, float(times.max()))
            for channel in row.channels:
                if not 0 <= channel.sampler < len(row.samplers):
                    self.note(f"animation {place} names sampler {channel.sampler} and has {len(row.samplers)}")
            yield Animation(row.name or f"animation {place}", seconds, len(row.channels), keys, self._bytes(accessors))

    def roots(self) -> tuple[str, tuple[int, ...]]:
        scenes, nodes = self.root.scenes, self.root.nodes
        if not scenes:
            children = {child for row in nodes for child in row.children}
            return "", tuple(place for place in range(len(nodes)) if place not in children)
        place = self.root.scene if self.root.scene is not None else 0
        if not 0 <= place < len(scenes):
            self.note(f"scene {place} is named and there are {len(scenes)}")
            place = 0
        kept = [node for node in dict.fromkeys(scenes[place].nodes) if 0 <= node < len(nodes)]
        if len(kept) < len(scenes[place].nodes):
            self.note(f"scene {place} names nodes that are not there, or the same one twice")
        return scenes[place].name, tuple(kept)


def _number(value: Any) -> float:
    return float(value) if isinstance(value, int | float) else float("nan")


def _triangles(order: NDArray[np.int64], mode: int) -> NDArray[np.int64]:
    """Return corners as rows of triangles (glTF 2.0, clause 3.7.2.1); points and lines are none."""
    if mode == _TRIANGLES:
        return order[: len(order) // 3 * 3].reshape(-1, 3)
    if mode not in (_STRIP, _FAN) or len(order) < 3:
        return np.zeros((0, 3), np.int64)
    if mode == _FAN:
        return np.stack([order[1:-1], order[2:], np.full(len(order) - 2, order[0])], axis=1)
    strip = np.stack([order[:-2], order[1:-1], order[2:]], axis=1)
    strip[1::2] = strip[1::2][:, [1, 0, 2]]
    return strip


def images_of(document: Document) -> tuple[ImageSource, ...]:
    """Return the images of a document alone; one that cannot be read has no bytes."""
    return tuple(_Reader(document).images())


def model_of(document: Document) -> Model:
    """Return the model that a glTF document describes; see `Model.faults` for what could not be read."""
    reader, root = _Reader(document), document.root
    scene, roots = reader.roots()
    extensions = {*root.extensions_used, *root.extensions_required} - _KNOWN
    files: list[str] = []
    for index, row in enumerate(root.buffers):
        data = reader.attempt(f"buffer {index}", lambda index=index: document.buffer(index), None)
        if data is not None and row.uri and row.uri[:5].lower() != "data:":
            files.append(document.place.target_of(unquote(row.uri)))
    return Model(
        kind="gltf" if document.binary is None else "glb",
        scene=scene,
        roots=roots,
        nodes=reader.nodes(),
        meshes=tuple(reader.meshes()),
        materials=tuple(reader.materials()),
        images=tuple(reader.images()),
        animations=tuple(reader.animations()),
        skins=tuple(Skin(row.name, len(row.joints)) for row in root.skins),
        faults=reader.faults.sentences(),
        extensions=tuple(sorted(extensions)),
        files=tuple(dict.fromkeys(files)),
    )
