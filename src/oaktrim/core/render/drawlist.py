"""What is drawn: all triangles of a scene in its world, with everything that their vertices hold, in plain arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.scene.geometry import ready, unit
from oaktrim.core.scene.model import Model, Node, Primitive
from oaktrim.core.scene.pose import bent

Floats = NDArray[np.float32]
Matrix = NDArray[np.float64]
MOST_TRIANGLES = 1 << 25
# Columns of `DrawList.attributes`.
NORMAL, TANGENT, UV, COLOUR, WIDTH = 0, 3, 7, 11, 15


@dataclass(frozen=True, eq=False)
class DrawList:
    """Triangles of a world.

    Parameters
    ----------
    positions : (N, 3) float32
    attributes : (N, 15) float32: normal, tangent with the bitangent's sign, two sets of UVs, colour
    triangles : (M, 3) int32 rows of vertices, wound counter-clockwise as seen from their front
    materials, objects : (M,) int32: place among the materials drawn (-1 for none), and among the names
    names : of the objects, what stands below a root of the scene
    derived_tangents : of how many primitives tangents were made of UVs; flat : of how many normals of triangles
    """

    positions: Floats
    attributes: Floats
    triangles: NDArray[np.int32]
    materials: NDArray[np.int32]
    objects: NDArray[np.int32]
    names: tuple[str, ...]
    derived_tangents: int = 0
    flat: int = 0

    def box(self, only: NDArray[np.bool_] | None = None) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the corners of the box around all vertices, or around those of some triangles."""
        points = self.positions if only is None else self.positions[self.triangles[only].reshape(-1)]
        points = points[np.isfinite(points).all(axis=1)]
        if not len(points):
            return np.zeros(3), np.zeros(3)
        return points.min(axis=0).astype(np.float64), points.max(axis=0).astype(np.float64)

    def without(self, hidden: NDArray[np.bool_]) -> DrawList:
        """Return it without some triangles."""
        return DrawList(
            self.positions, self.attributes, self.triangles[~hidden], self.materials[~hidden], self.objects[~hidden],
            self.names, self.derived_tangents, self.flat,
        )  # fmt: skip


def draw_list(
    model: Model,
    matrices: Mapping[int, Matrix] | None = None,
    roots: Sequence[int] | None = None,
    first_material: int = 0,
) -> DrawList:
    """Return all triangles of a model that was read whole.

    Parameters
    ----------
    matrices : to the world, of nodes, from `pose.posed`; at rest without
    roots : nodes whose branches are drawn; those of the scene without
    first_material : added to the places of materials, where several models are drawn together

    Raises
    ------
    Unsupported : there are more triangles than can be drawn; says how many
    """
    places = dict(model.world_matrices() if matrices is None else matrices)
    roots = model.roots if roots is None else roots
    instead = _stand_ins(model)
    branches = [[n for n in model.below(root) if n in places and n not in instead] for root in roots]
    _check(model, branches)
    parts: list[tuple[Floats, Floats, NDArray[np.int32], int, int]] = []
    derived = flat = 0
    for number, branch in enumerate(branches):
        for place in branch:
            node = model.nodes[place]
            if node.mesh is None:
                continue
            for primitive in model.meshes[node.mesh].primitives:
                if not len(primitive.triangles):
                    continue
                use = ready(primitive)
                derived, flat = derived + use.derived, flat + use.flat
                material = -1 if primitive.material is None else primitive.material + first_material
                with np.errstate(over="ignore", invalid="ignore"):
                    for made, matrix in _placed(model, node, use.primitive, dict(places), places[place]):
                        parts.append((*_columns(made, matrix), material, number))
    names = tuple(model.nodes[root].name or f"object {root}" for root in roots)
    return _joined(parts, names, derived, flat)


def _stand_ins(model: Model) -> set[int]:
    """Return the nodes that only stand in for others farther away."""
    return {place for node in model.nodes for level in node.levels for place in model.below(level)}


def _check(model: Model, branches: Sequence[Sequence[int]]) -> None:
    count = sum(
        model.nodes[n].copies * sum(len(p.triangles) for p in model.meshes[mesh].primitives)
        for branch in branches
        for n in branch
        if (mesh := model.nodes[n].mesh) is not None
    )
    if count > MOST_TRIANGLES:
        raise Unsupported(f"{count:,} triangles are more than the {MOST_TRIANGLES:,} that can be drawn")


def _placed(
    model: Model, node: Node, primitive: Primitive, matrices: dict[int, Matrix], matrix: Matrix
) -> list[tuple[Primitive, Matrix]]:
    """Return a primitive with the matrix of each of its copies to the world."""
    if node.skin is not None and 0 <= node.skin < len(model.skins) and primitive.joints is not None:
        return [(bent(primitive, model.skins[node.skin], matrices), np.eye(4))]
    if node.instances is not None:
        return [(primitive, matrix @ instance) for instance in node.instances]
    return [(primitive, matrix)]


def _columns(primitive: Primitive, matrix: Matrix) -> tuple[Floats, Floats, NDArray[np.int32]]:
    """Return a primitive's vertices and triangles in the world."""
    count = len(primitive.positions)
    points = primitive.positions.astype(np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
    mirrored = np.linalg.det(matrix[:3, :3]) < 0
    attributes = np.zeros((count, WIDTH), np.float32)
    # Of a matrix without an inverse, as of flattened things, the cofactors still turn normals.
    turn = _cofactors(matrix[:3, :3])
    if primitive.normals is not None:
        attributes[:, NORMAL : NORMAL + 3] = unit(primitive.normals.astype(np.float64) @ turn.T)
    if primitive.tangents is not None:
        attributes[:, TANGENT : TANGENT + 3] = unit(primitive.tangents[:, :3].astype(np.float64) @ matrix[:3, :3].T)
        attributes[:, TANGENT + 3] = primitive.tangents[:, 3] * (-1 if mirrored else 1)
    for number, uv in enumerate(primitive.uvs[:2]):
        attributes[:, UV + 2 * number : UV + 2 * number + 2] = uv
    attributes[:, COLOUR : COLOUR + 4] = 1 if primitive.colours is None else primitive.colours
    triangles = primitive.triangles.astype(np.int32)
    return points.astype(np.float32), attributes, triangles[:, ::-1].copy() if mirrored else triangles


def _cofactors(m: Matrix) -> Matrix:
    """Return the matrix that normals go by, up to a length: that of the cofactors."""
    return np.stack([np.cross(m[1], m[2]), np.cross(m[2], m[0]), np.cross(m[0], m[1])]) * (
        -1 if np.linalg.det(m) < 0 else 1
    )


def _joined(
    parts: Sequence[tuple[Floats, Floats, NDArray[np.int32], int, int]], names: tuple[str, ...], derived: int, flat: int
) -> DrawList:
    if not parts:
        none = np.zeros(0, np.int32)
        return DrawList(
            np.zeros((0, 3), np.float32), np.zeros((0, WIDTH), np.float32), none.reshape(0, 3), none, none, names
        )
    starts = np.cumsum([0] + [len(part[0]) for part in parts])
    triangles = [part[2] + np.int32(start) for part, start in zip(parts, starts, strict=False)]
    counts = [len(part[2]) for part in parts]
    return DrawList(
        np.concatenate([part[0] for part in parts]),
        np.concatenate([part[1] for part in parts]),
        np.concatenate(triangles),
        np.repeat(np.array([part[3] for part in parts], np.int32), counts),
        np.repeat(np.array([part[4] for part in parts], np.int32), counts),
        names,
        derived,
        flat,
    )


def joined(lists: Sequence[DrawList]) -> DrawList:
    """Return several as one; objects are counted on."""
    if len(lists) == 1:
        return lists[0]
    vertices = np.cumsum([0] + [len(row.positions) for row in lists])
    objects = np.cumsum([0] + [len(row.names) for row in lists])
    return DrawList(
        np.concatenate([row.positions for row in lists]),
        np.concatenate([row.attributes for row in lists]),
        np.concatenate([row.triangles + np.int32(v) for row, v in zip(lists, vertices, strict=False)]),
        np.concatenate([row.materials for row in lists]),
        np.concatenate([row.objects + np.int32(o) for row, o in zip(lists, objects, strict=False)]),
        tuple(name for row in lists for name in row.names),
        sum(row.derived_tangents for row in lists),
        sum(row.flat for row in lists),
    )
