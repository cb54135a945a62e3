"""Cuts of models: motion, vertex data, materials, and parts that are left out."""

from __future__ import annotations

from typing import get_args

import msgspec

from oaktrim.core.trim.motion import MotionBound
from oaktrim.core.trim.settings import MAX_MILLIMETRES


class ReduceMotion(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="motion", tag_field="kind"):
    """A clip keeps the keys that leave all that it moves within so many millimetres and degrees of where it stood."""

    millimetres: float
    degrees: float = 1.0

    def __post_init__(self) -> None:
        MotionBound(self.millimetres, self.degrees)

    @property
    def bound(self) -> MotionBound:
        return MotionBound(self.millimetres, self.degrees)

    @property
    def label(self) -> str:
        return f"Keys within {self.millimetres:g} mm, {self.degrees:g}°"


class DropUnused(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="unused", tag_field="kind"):
    """Vertex attributes that no material needs go, with materials that nothing wears; indices narrow, meshes are shared."""

    on: bool = True

    @property
    def label(self) -> str:
        return "Unused data left out" if self.on else "Unused data kept"


class MergeMaterials(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="merge-materials", tag_field="kind"):
    """Materials that are the same become one, and draws of a mesh that then have one material are joined."""

    on: bool = True

    @property
    def label(self) -> str:
        return "Same materials merged" if self.on else "Materials as they are"


class OrderTriangles(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="order", tag_field="kind"):
    """Triangles stand in an order that suits the cache of vertices."""

    on: bool = True

    @property
    def label(self) -> str:
        return "Triangles in cache order" if self.on else "Triangles as they are"


class QuantizeVertices(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="quantize", tag_field="kind"):
    """Positions, normals and UVs are stored as integers, no vertex farther off than so many millimetres; 0 for never."""

    millimetres: float

    def __post_init__(self) -> None:
        if not 0 <= self.millimetres <= MAX_MILLIMETRES:
            raise ValueError(f"vertices may be off by 0 to {MAX_MILLIMETRES:g} mm, not {self.millimetres:g}")

    @property
    def label(self) -> str:
        return f"Vertices within {self.millimetres:g} mm" if self.millimetres else "Vertices as they are"


class LeaveOut(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="leave-out", tag_field="kind"):
    """A sound, a clip, or a part of a model - a node, a variant, a scene - does not ship."""

    on: bool = True

    @property
    def label(self) -> str:
        return "Left out" if self.on else "Kept"


ModelChange = ReduceMotion | DropUnused | MergeMaterials | OrderTriangles | QuantizeVertices
MODEL_KINDS: tuple[type[ModelChange], ...] = get_args(ModelChange)
