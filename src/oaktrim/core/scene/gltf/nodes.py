"""Nodes of a glTF document: where they stand, and the cameras, lights, instances and levels of detail at them."""

from __future__ import annotations

from dataclasses import replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.gltf import NodeRow
from oaktrim.core.scene.gltf.reading import Reading, list_of, number, positive
from oaktrim.core.scene.model import Lens, Light, LightKind, Node

T = TypeVar("T")
_INSTANCES = "EXT_mesh_gpu_instancing"
_LIGHTS, _LEVELS = "KHR_lights_punctual", "MSFT_lod"
_MOST_INSTANCES = 1 << 20


class NodeReader(Reading):
    """Reads nodes."""

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
            node = Node(row.name, mesh, tuple(children), matrices[place], row.skin, copies, self.camera(row, place))
            found.append(self._with_extensions(node, row, place) if self.whole and row.extensions else node)
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

    def camera(self, row: NodeRow, place: int) -> Lens | None:
        if row.camera is None:
            return None
        if not 0 <= row.camera < len(self.root.cameras):
            self.note(f"node {place} names camera {row.camera} and there are {len(self.root.cameras)}")
            return None
        camera = self.root.cameras[row.camera]
        if camera.perspective is not None and 0 < camera.perspective.yfov < 3.14:
            lens = camera.perspective
            far, aspect = positive(lens.zfar), positive(lens.aspect_ratio)
            return Lens(lens.yfov, near=positive(lens.znear) or 0.01, far=far, aspect=aspect)
        if camera.orthographic is not None:
            flat = camera.orthographic
            size = positive(flat.xmag) or 1.0, positive(flat.ymag) or 1.0
            return Lens(0.0, size, positive(flat.znear) or 0.0, positive(flat.zfar))
        return None

    def _with_extensions(self, node: Node, row: NodeRow, place: int) -> Node:
        """Return a node with its instances, its light and its levels of detail."""
        who = f"node {place}"
        light = self.attempt(who, lambda: self.light(row), None)
        instances = self.attempt(who, lambda: self.instances(row), None)
        extension = row.extensions.get(_LEVELS)
        ids = extension.get("ids") if isinstance(extension, dict) else None
        levels = (
            tuple(i for i in ids if isinstance(i, int) and 0 <= i < len(self.root.nodes))
            if isinstance(ids, list)
            else ()
        )
        shares = row.extras.get("MSFT_screencoverage") if isinstance(row.extras, dict) else None
        coverage = tuple(number(v) for v in shares) if isinstance(shares, list) else ()
        known = coverage if all(0 <= share < 1e6 for share in coverage) else ()
        return replace(node, light=light, instances=instances, levels=levels, coverage=known)

    def light(self, row: NodeRow) -> Light | None:
        """Return the light of KHR_lights_punctual that stands at a node."""
        reference = row.extensions.get(_LIGHTS)
        listed = self.root.extensions.get(_LIGHTS) if isinstance(self.root.extensions, dict) else None
        rows = listed.get("lights") if isinstance(listed, dict) else None
        if not isinstance(reference, dict) or not isinstance(rows, list):
            return None
        place = reference.get("light")
        if not isinstance(place, int) or not 0 <= place < len(rows) or not isinstance(rows[place], dict):
            raise self.document.fault(f"light {place!r} is named and there are {len(rows)}")
        found = rows[place]
        spot = found.get("spot") if isinstance(found.get("spot"), dict) else {}
        red, green, blue = self.numbers(list_of(found.get("color", (1, 1, 1))), 3, "light's colour").tolist()
        cone = number(spot.get("innerConeAngle", 0)), number(spot.get("outerConeAngle", np.pi / 4))
        self.numbers([*cone, number(found.get("intensity", 1))], 3, "light")
        kind = next((kind for kind in LightKind if kind.value == found.get("type")), None)
        if kind is None:
            raise self.document.fault(f"light {place} is of the type {str(found.get('type'))[:40]!r}")
        intensity, reach = number(found.get("intensity", 1)), positive(found.get("range"))
        return Light(kind, (red, green, blue), intensity, cone, reach)

    def copies(self, row: NodeRow) -> int:
        """Return how often EXT_mesh_gpu_instancing draws a node's mesh."""
        extension = row.extensions.get(_INSTANCES)
        if not isinstance(extension, dict):
            return 1
        attributes = extension.get("attributes")
        places = [v for v in attributes.values() if isinstance(v, int)] if isinstance(attributes, dict) else []
        return max([len(self.document.accessor(index)) for index in places], default=1)

    def instances(self, row: NodeRow) -> NDArray[np.float64] | None:
        """Return where EXT_mesh_gpu_instancing draws a node's mesh, (K, 4, 4)."""
        extension = row.extensions.get(_INSTANCES)
        attributes = extension.get("attributes") if isinstance(extension, dict) else None
        if not isinstance(attributes, dict):
            return None
        count = self.copies(row)
        if count > _MOST_INSTANCES:
            raise self.document.fault(f"{count:,} instances are more than the {_MOST_INSTANCES:,} that are drawn")

        def read(name: str, width: int, otherwise: tuple[float, ...]) -> NDArray[np.float64]:
            index = attributes.get(name)
            if not isinstance(index, int):
                return np.tile(np.array(otherwise, np.float64), (count, 1))
            values = self.floats(index, width, name).astype(np.float64)
            if len(values) != count:
                raise self.document.fault(f"{name} of the instances has {len(values)} rows, and others {count}")
            return values

        move, turn, scale = (
            read("TRANSLATION", 3, (0, 0, 0)),
            read("ROTATION", 4, (0, 0, 0, 1)),
            read("SCALE", 3, (1, 1, 1)),
        )
        return placements(move, turn, scale)

    def local_matrices(self, rows: list[NodeRow]) -> NDArray[np.float64]:
        """Return the matrix of each node to its parent, (N, 4, 4); the identity where it cannot be read."""
        stated = [place for place, row in enumerate(rows) if row.matrix is not None]
        move, turn, scale = (
            self._columns(rows, name, default)
            for name, default in (("translation", (0, 0, 0)), ("rotation", (0, 0, 0, 1)), ("scale", (1, 1, 1)))
        )
        out = placements(move, turn, scale)
        for place in stated:
            values = self.attempt(
                f"node {place}", lambda p=place: self.numbers(rows[p].matrix or [], 16, "matrix"), None
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


def placements(move: NDArray[np.float64], turn: NDArray[np.float64], scale: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return matrices (N, 4, 4) of translations (N, 3), quaternions (N, 4), x to w, and scales (N, 3)."""
    out = np.tile(np.eye(4), (len(move), 1, 1))
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
    return out
