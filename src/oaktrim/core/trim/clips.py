"""Clips of a glTF document: those that are not wanted left out, the keys of the others reduced."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.scene.gltf.nodes import placements
from oaktrim.core.scene.model import Model, Skin
from oaktrim.core.trim.motion import Curve, Hierarchy, MotionBound, Reduced, reduce_motion
from oaktrim.core.trim.rework import Rework, Row

Floats = NDArray[np.float64]
_PATHS = {"translation": 3, "rotation": 4, "scale": 3}
_REST: dict[str, tuple[float, ...]] = {"translation": (0, 0, 0), "rotation": (0, 0, 0, 1), "scale": (1, 1, 1)}
_SHORT = 32767
_BOX = np.array([[i, j, k] for i in (0, 1) for j in (0, 1) for k in (0, 1)], np.bool_)


def curves_of(rework: Rework, animation: Row) -> list[Curve | None]:
    """Return the curves of a clip's channels; None of those that move no node's place, whatever that is.

    Raises
    ------
    FileError : times go back, or there are not as many values as times, or they are no numbers
    """
    found: list[Curve | None] = []
    samplers = animation.get("samplers", [])
    for channel in animation.get("channels", ()):
        target = channel.get("target", {})
        node, path = target.get("node"), target.get("path")
        if path not in _PATHS or not isinstance(node, int) or not 0 <= node < len(rework.rows("nodes")):
            found.append(None)
            continue
        if not 0 <= channel.get("sampler", -1) < len(samplers):
            raise rework.fault(f"a channel of the clip {animation.get('name', '')!r} names a sampler that is not there")
        sampler = samplers[channel["sampler"]]
        found.append(_curve(rework, sampler, node, path))
    return found


def _curve(rework: Rework, sampler: Row, node: int, path: str) -> Curve:
    times, values = rework.floats(sampler["input"])[:, 0], rework.floats(sampler["output"])
    interpolation, width = str(sampler.get("interpolation", "LINEAR")), _PATHS[path]
    if interpolation == "CUBICSPLINE":
        values = values.reshape(-1, 3 * width) if values.size == 3 * width * len(times) else values
        width *= 3
    if values.shape != (len(times), width):
        raise rework.fault(f"a {path} has {len(values)} values for {len(times)} times")
    if not np.isfinite(times).all() or not np.isfinite(values).all():
        raise rework.fault(f"a {path} has keys that are no numbers")
    if np.any(np.diff(times) < 0):
        raise rework.fault(f"the times of a {path} go back")
    if np.any(np.diff(times) == 0):
        # Of keys at one time the last counts from then on.
        kept = np.append(np.diff(times) > 0, True)
        times, values = times[kept], values[kept]
    return Curve(node, path, times, np.ascontiguousarray(values), interpolation)


def hierarchy_of(rework: Rework, model: Model) -> Hierarchy:
    """Return the nodes of a document with what hangs on them, boxes of it by their corners.

    Parameters
    ----------
    model : the same document, read whole
    """
    count = len(model.nodes)
    parents = [-1] * count
    for place, node in enumerate(model.nodes):
        for child in node.children:
            parents[child] = place
    rows = rework.rows("nodes")
    rest = [
        np.array([row.get(name, default) for row in rows], np.float64).reshape(count, len(default))
        for name, default in _REST.items()
    ]
    local = placements(*rest)
    for place, node in enumerate(model.nodes):
        if "matrix" in rows[place]:
            local[place] = node.matrix
    points: list[list[Floats]] = [[] for _ in range(count)]
    for place, node in enumerate(model.nodes):
        if node.mesh is None or not 0 <= node.mesh < len(model.meshes):
            continue
        skin = model.skins[node.skin] if node.skin is not None and 0 <= node.skin < len(model.skins) else None
        for primitive in model.meshes[node.mesh].primitives:
            if skin is None or primitive.joints is None or primitive.weights is None:
                points[place] += (
                    [] if not len(primitive.positions) else [_corners(primitive.positions.astype(np.float64))]
                )
            else:
                _hang_on_joints(points, skin, primitive.positions, primitive.joints, primitive.weights)
    probes = [_corners(np.concatenate(held)) if held else np.zeros((0, 3)) for held in points]
    return Hierarchy(parents, (rest[0], rest[1], rest[2]), local, probes)


def _hang_on_joints(points: list[list[Floats]], skin: Skin, positions: Any, joints: Any, weights: Any) -> None:
    if skin.inverse_bind is None:
        return
    for joint, node in enumerate(skin.nodes):
        mine = ((joints == joint) & (weights > 0)).any(axis=1)
        if mine.any() and 0 <= node < len(points):
            back = skin.inverse_bind[joint]
            points[node].append(_corners(positions[mine].astype(np.float64) @ back[:3, :3].T + back[:3, 3]))


def _corners(points: Floats) -> Floats:
    """Return the eight corners of the box around points (N, 3)."""
    found: Floats = np.where(_BOX, points.max(axis=0), points.min(axis=0))
    return found


def reduce_clips(rework: Rework, hierarchy: Hierarchy, bounds: Mapping[int, MotionBound]) -> dict[int, Reduced]:
    """Reduce the keys of clips, each within its bound, and return what was done to each."""
    found = {}
    for place, animation in enumerate(rework.rows("animations")):
        if place in bounds:
            curves = curves_of(rework, animation)
            moving = [curve for curve in curves if curve is not None]
            if moving:
                found[place] = reduce_motion(moving, hierarchy, bounds[place])
                _put(rework, animation, curves, found[place])
    return found


def _put(rework: Rework, animation: Row, curves: list[Curve | None], reduced: Reduced) -> None:
    """Put reduced curves into a clip: one sampler for each channel that is left."""
    made, source = iter(reduced.curves), animation["samplers"]
    rows = [
        (channel, before, next(made) if before is not None else None)
        for channel, before in zip(animation["channels"], curves, strict=True)
    ]
    # A clip has at least one channel (clause 3.11), and ends when it did.
    stays = [row for row in rows if row[1] is None or row[2] is not None] or rows[:1]
    end = max(float(curve.times[-1]) for curve in curves if curve is not None)
    ended = any(now is not None and now.times[-1] >= end for _, _, now in stays)
    samplers, channels = list[Row](), list[Row]()
    for channel, before, now in stays:
        sampler = source[channel["sampler"]]
        if before is not None:
            curve = now or before
            if not ended and curve is not before:
                curve, ended = curve.extended_to(end), True
            sampler = _sampler(rework, curve, reduced.short and curve is not before, sampler)
        samplers.append(sampler)
        channels.append({**channel, "sampler": len(samplers) - 1})
    animation["samplers"], animation["channels"] = samplers, channels


def _sampler(rework: Rework, curve: Curve, short: bool, source: Row) -> Row:
    values = curve.values
    if curve.interpolation == "CUBICSPLINE":
        values = values.reshape(len(values) * 3, -1)
    times = rework.add(curve.times.astype(np.float32), bounds=True)
    if curve.path == "rotation" and short and curve.interpolation != "CUBICSPLINE":
        output = rework.add(np.rint(np.clip(values, -1, 1) * _SHORT).astype(np.int16), True)
    else:
        output = rework.add(values.astype(np.float32))
    kept = {name: value for name, value in source.items() if name not in ("input", "output", "interpolation")}
    how = {} if curve.interpolation == "LINEAR" else {"interpolation": curve.interpolation}
    return {**kept, "input": times, "output": output, **how}
