"""A sphere and a plane under a lamp, their roughness, metalness and occlusion driven by pictures.

Shading as glTF 2.0, appendix B: Lambert and GGX (Walter et al., "Microfacet models for refraction through rough surfaces",
2007) with Smith's visibility and Schlick's Fresnel term; one lamp, and a sky above that occlusion dims.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.transfer import linear_to_srgb, srgb_to_linear

Plane = NDArray[np.float32]
_LAMP, _SKY, _GROUND = 2.6, 0.45, 0.16


class Body(Enum):
    """What is shaded."""

    SPHERE = "sphere"
    PLANE = "plane"


def _places(body: Body, side: int) -> tuple[Plane, Plane, NDArray[np.bool_]]:
    """Return normals (side, side, 3), UVs (side, side, 2) and where there is a body at all."""
    axis = ((np.arange(side) + 0.5) / side * 2 - 1).astype(np.float32)
    x, y = np.meshgrid(axis, -axis)
    if body is Body.SPHERE:
        x, y = x * np.float32(1.04), y * np.float32(1.04)
        z = np.sqrt(np.maximum(0, 1 - x * x - y * y))
        inside = x * x + y * y <= 1
        normal = np.stack([x, y, z], axis=-1)
        # Twice around, so that a map keeps its proportion at the front.
        u = np.arctan2(x, np.maximum(z, 1e-6)) / np.pi + 0.5
        v = np.arccos(np.clip(y, -1, 1)) / np.pi
        return normal, np.stack([u, v], axis=-1).astype(np.float32), inside
    # A table seen from above at 45 degrees.
    depth = 1.6 / np.maximum(0.2, 1.35 - y * 0.55)
    u, v = x * depth * 0.62 + 0.5, (1.35 - depth) * 1.2
    inside = (v >= 0) & (v <= 1) & (u >= 0) & (u <= 1)
    normal = np.broadcast_to(np.array([0, 0.7071, 0.7071], np.float32), (side, side, 3))
    return normal.copy(), np.stack([u, v], axis=-1).astype(np.float32), inside


def _read(picture: Plane, uv: Plane) -> Plane:
    """Return a picture (H, W) or (H, W, C) at UVs, bilinear, repeated."""
    height, width = picture.shape[:2]
    x, y = uv[..., 0] * width - 0.5, uv[..., 1] * height - 0.5
    left, top = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    fx, fy = (x - left).astype(np.float32), (y - top).astype(np.float32)
    if picture.ndim == 3:
        fx, fy = fx[..., None], fy[..., None]
    x0, x1, y0, y1 = left % width, (left + 1) % width, top % height, (top + 1) % height
    upper = picture[y0, x0] * (1 - fx) + picture[y0, x1] * fx
    lower = picture[y1, x0] * (1 - fx) + picture[y1, x1] * fx
    read: Plane = upper * (1 - fy) + lower * fy
    return read


def lit_picture(
    body: Body,
    maps: Mapping[str, Plane],
    side: int = 220,
    lamp: tuple[float, float] = (-0.5, 0.6),
    base: Plane | None = None,
) -> NDArray[np.uint8]:
    """Return a body under a lamp as sRGB codes (side, side, 4), clear around it.

    Parameters
    ----------
    maps : occlusion, roughness and metalness, (H, W) 0..1; one that is not there is 1, a half, and 0
    lamp : where the lamp stands, -1..1 to the right and up
    base : base colour (H, W, 3) as sRGB codes 0..1; a light oak grey without one
    """
    normal, uv, inside = _places(body, side)
    ones = np.ones((side, side), np.float32)
    occlusion = _read(maps["occlusion"], uv) if "occlusion" in maps else ones
    rough = _read(maps["roughness"], uv) if "roughness" in maps else ones * np.float32(0.5)
    metal = (_read(maps["metalness"], uv) if "metalness" in maps else ones * 0)[..., None]
    colour = np.array([0.62, 0.57, 0.5], np.float32) if base is None else _read(base, uv)
    albedo = srgb_to_linear(np.broadcast_to(colour, (side, side, 3))).astype(np.float32)
    towards = np.array([lamp[0], lamp[1], np.sqrt(max(0.1, 1 - lamp[0] ** 2 - lamp[1] ** 2))], np.float32)
    towards /= np.linalg.norm(towards)
    view = np.array([0, 0, 1], np.float32)
    half = (towards + view) / np.linalg.norm(towards + view)
    nl, nv, nh = (np.clip(normal @ way, 1e-4, 1) for way in (towards, view, half))
    vh = float(view @ half)
    alpha = np.maximum(np.square(rough), 2e-3)
    a2 = np.square(alpha)
    spread = a2 / (np.pi * np.square(np.square(nh) * (a2 - 1) + 1))
    visible = 0.5 / (nl * np.sqrt(nv * nv * (1 - a2) + a2) + nv * np.sqrt(nl * nl * (1 - a2) + a2))
    f0 = 0.04 * (1 - metal) + albedo * metal
    fresnel = f0 + (1 - f0) * (1 - vh) ** 5
    diffuse = albedo * (1 - metal) / np.pi
    lit = (normal @ towards > 0).astype(np.float32) * nl
    light = (diffuse * (1 - fresnel) + fresnel * (spread * visible)[..., None]) * (lit * _LAMP)[..., None]
    up = (normal[..., 1] * 0.5 + 0.5)[..., None]
    sky = _GROUND + (_SKY - _GROUND) * up
    # What a rough surface mirrors of the sky is dim, what a smooth one does is bright.
    mirrored = f0 * (sky + 0.5 * (1 - rough[..., None]) ** 2)
    light = light + (albedo * (1 - metal) * sky + mirrored) * occlusion[..., None]
    out = np.zeros((side, side, 4), np.uint8)
    shown = light / (1 + np.maximum(light - 0.8, 0))
    out[..., :3] = linear_to_srgb(np.clip(shown, 0, 1)) * 255 + 0.5
    out[..., 3] = inside * 255
    return out
