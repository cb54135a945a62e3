"""What becomes of a model: all that decides what its trimmed file holds."""

from __future__ import annotations

import msgspec

from oaktrim.core.trim.motion import MotionBound

MAX_MILLIMETRES = 100.0


class ModelSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a model is trimmed; nothing at all by default.

    Parameters
    ----------
    unused : vertex attributes that no material needs, materials that nothing wears and what only these have go; indices narrow
    merged : materials that are the same become one, and draws of a mesh that then have one material are joined
    ordered : triangles stand in an order that suits the cache of vertices
    millimetres : how far a vertex may move where its numbers are stored in fewer bits; 0 leaves them
    motion : bounds of clips, by their places; clips : places of clips that are left out
    nodes : places of nodes that are left out with all below them; variants : names of material variants that are
    """

    unused: bool = False
    merged: bool = False
    ordered: bool = False
    millimetres: float = 0.0
    motion: tuple[tuple[int, MotionBound], ...] = ()
    clips: tuple[int, ...] = ()
    nodes: tuple[int, ...] = ()
    variants: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return self != ModelSettings()

    @property
    def key(self) -> str:
        """All of it as text."""
        return msgspec.json.encode(self).decode()
