"""Light on a surface: metal and roughness under lights and a sky, and the tone curve that brings it to a screen.

glTF 2.0, appendix B: Lambert and GGX (B. Walter et al., "Microfacet models for refraction through rough surfaces", 2007) with
Smith's height-correlated visibility (E. Heitz, "Understanding the masking-shadowing function in microfacet-based BRDFs", 2014)
and Schlick's Fresnel term. The sky is two hemispheres; what a rough surface gives back of it is fitted after B. Karis, "Physically
based shading on mobile" (2014), and what bounces more than once is added after C. Fdez-Agüera, "A multiple-scattering microfacet
model for real-time image-based lighting" (2019), so that a white surface under a white sky is as bright as that.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.render.textures import FAST
from oaktrim.core.scene.model import Light, LightKind, Model

Triple = tuple[float, float, float]
# Columns of a row of lights.
KIND, PLACE, WAY, SHINE, INNER, OUTER, REACH, LIGHT_WIDTH = 0, 1, 4, 7, 10, 11, 12, 13
_ONE, _PI = np.float32(1), np.float32(np.pi)
_KINDS = {LightKind.DIRECTIONAL: 0, LightKind.POINT: 1, LightKind.SPOT: 2}
# Khronos PBR Neutral tone mapper (Khronos Group, 2024).
_START, _DESATURATION, _F90 = 0.8 - 0.04, 0.15, 0.04


@dataclass(frozen=True)
class Sun:
    """A light from far away: the direction to it, and its colour times what it gives a surface that faces it."""

    towards: Triple = (-0.45, 0.75, 0.6)
    colour: Triple = (2.4, 2.3, 2.15)


@dataclass(frozen=True)
class Lighting:
    """What falls on a scene.

    Parameters
    ----------
    suns : from far away; lights : (L, 13) float32 rows of lights of the scene, see `lights_of`
    sky, ground : light from above and from below, linear
    exposure : stops
    """

    suns: tuple[Sun, ...] = (Sun(),)
    lights: NDArray[np.float32] = field(default_factory=lambda: np.zeros((0, LIGHT_WIDTH), np.float32))
    sky: Triple = (0.52, 0.56, 0.62)
    ground: Triple = (0.20, 0.185, 0.17)
    exposure: float = 0.0

    def rows(self) -> NDArray[np.float32]:
        """Return all lights, (L, 13) float32."""
        found = np.zeros((len(self.suns), LIGHT_WIDTH), np.float32)
        for row, sun in zip(found, self.suns, strict=True):
            way = np.array(sun.towards, np.float64)
            row[WAY : WAY + 3] = way / (np.linalg.norm(way) or 1.0)
            row[SHINE : SHINE + 3] = sun.colour
        return np.concatenate([found, self.lights.astype(np.float32)])

    def hemispheres(self) -> NDArray[np.float32]:
        """Return the light from above and from below, (2, 3) float32."""
        return np.array([self.sky, self.ground], np.float32)


# A sky as bright everywhere: what a white surface gives back of it is 1.
FURNACE = Lighting(suns=(), sky=(1.0, 1.0, 1.0), ground=(1.0, 1.0, 1.0))


def lights_of(model: Model) -> NDArray[np.float32]:
    """Return the lights of a model's scene, (L, 13) float32."""
    found = []
    for place, matrix in model.world_matrices().items():
        light = model.nodes[place].light
        if light is not None:
            found.append(_row(light, matrix))
    return np.array(found, np.float32).reshape(-1, LIGHT_WIDTH)


def _row(light: Light, matrix: NDArray[np.float64]) -> list[float]:
    back = matrix[:3, 2] / (np.linalg.norm(matrix[:3, 2]) or 1.0)
    shine = [channel * light.intensity for channel in light.colour]
    # Cosines of the cone; lux and candela are taken as they are.
    inner, outer = np.cos(light.cone[0]), np.cos(light.cone[1])
    reach = light.reach or 0.0
    return [float(_KINDS[light.kind]), *matrix[:3, 3], *back, *shine, inner, max(-1.0, min(outer, inner - 1e-3)), reach]


@njit(**FAST)
def _fit(rough, nv):
    """Return scale and bias of F0 for light from everywhere (Karis 2014)."""
    a0, a1, a2, a3 = (
        rough * np.float32(-1),
        rough * np.float32(-0.0275),
        rough * np.float32(-0.572),
        rough * np.float32(0.022),
    )
    x, y = a0 + _ONE, a1 + np.float32(0.0425)
    z, w = a2 + np.float32(1.04), a3 + np.float32(-0.04)
    a004 = min(x * x, np.exp2(np.float32(-9.28) * nv)) * x + y
    return np.float32(-1.04) * a004 + z, np.float32(1.04) * a004 + w


@njit(**FAST)
def _sky_at(sky, c, up, blur):
    """Return the sky's light from a direction whose height is `up`, seen through a lobe of a width 0..1."""
    soft = np.float32(0.08) + blur
    part = min(max(up / (np.float32(2) * soft) + np.float32(0.5), np.float32(0)), _ONE)
    part = part * part * (np.float32(3) - np.float32(2) * part)
    return sky[1, c] + (sky[0, c] - sky[1, c]) * part


@njit(**FAST)
def shade(base, metal, rough, occlusion, nx, ny, nz, vx, vy, vz, px, py, pz, lights, sky, out):
    """Fill out (3,) with the light that a surface gives back to the eye.

    Parameters
    ----------
    base : (3,) float32, linear; metal, rough, occlusion : 0..1
    n, v : unit normal and direction to the eye; p : where the surface is
    """
    nv = min(max(nx * vx + ny * vy + nz * vz, np.float32(1e-4)), _ONE)
    alpha = max(rough * rough, np.float32(2e-3))
    a2 = alpha * alpha
    scale, bias = _fit(rough, nv)
    up = min(max(ny * np.float32(0.5) + np.float32(0.5), np.float32(0)), _ONE)
    mirrored = np.float32(2) * nv * ny - vy
    single = min(scale + bias, _ONE)
    missing = _ONE - single
    for c in range(3):
        f0 = np.float32(0.04) * (_ONE - metal) + base[c] * metal
        diffuse = base[c] * (_ONE - metal)
        direct = f0 * scale + bias
        mean = f0 + (_ONE - f0) * np.float32(1.0 / 21.0)
        several = direct * mean * missing / (_ONE - mean * missing)
        rest = _ONE - direct - several
        around = sky[1, c] + (sky[0, c] - sky[1, c]) * up
        out[c] = (direct * _sky_at(sky, c, mirrored, rough) + (several + diffuse * rest) * around) * occlusion
    for k in range(lights.shape[0]):
        lx, ly, lz, strength = lights[k, WAY], lights[k, WAY + 1], lights[k, WAY + 2], _ONE
        if lights[k, KIND] > np.float32(0.5):
            lx, ly, lz = lights[k, PLACE] - px, lights[k, PLACE + 1] - py, lights[k, PLACE + 2] - pz
            square = max(lx * lx + ly * ly + lz * lz, np.float32(1e-6))
            inverse = _ONE / np.sqrt(square)
            lx, ly, lz = lx * inverse, ly * inverse, lz * inverse
            strength = _ONE / square
            reach = lights[k, REACH]
            if reach > np.float32(0):
                part = square / (reach * reach)
                strength *= max(min(_ONE - part * part, _ONE), np.float32(0))
            if lights[k, KIND] > np.float32(1.5):
                along = lx * lights[k, WAY] + ly * lights[k, WAY + 1] + lz * lights[k, WAY + 2]
                cone = (along - lights[k, OUTER]) / (lights[k, INNER] - lights[k, OUTER])
                cone = min(max(cone, np.float32(0)), _ONE)
                strength *= cone * cone
        nl = nx * lx + ny * ly + nz * lz
        if nl <= np.float32(0) or strength <= np.float32(0):
            continue
        hx, hy, hz = lx + vx, ly + vy, lz + vz
        inverse = _ONE / np.sqrt(max(hx * hx + hy * hy + hz * hz, np.float32(1e-12)))
        hx, hy, hz = hx * inverse, hy * inverse, hz * inverse
        nh = min(max(nx * hx + ny * hy + nz * hz, np.float32(0)), _ONE)
        vh = min(max(vx * hx + vy * hy + vz * hz, np.float32(0)), _ONE)
        d = nh * nh * (a2 - _ONE) + _ONE
        lobe = a2 / (_PI * d * d)
        seen = np.float32(0.5) / (nl * np.sqrt(nv * nv * (_ONE - a2) + a2) + nv * np.sqrt(nl * nl * (_ONE - a2) + a2))
        away = _ONE - vh
        fifth = away * away
        fifth = fifth * fifth * away
        for c in range(3):
            f0 = np.float32(0.04) * (_ONE - metal) + base[c] * metal
            fresnel = f0 + (_ONE - f0) * fifth
            diffuse = base[c] * (_ONE - metal) * (_ONE - fresnel) / _PI
            out[c] += (diffuse + fresnel * lobe * seen) * nl * strength * lights[k, SHINE + c]


def toned(light: NDArray[np.float32], exposure: float = 0.0) -> NDArray[np.float32]:
    """Return light (..., 3), linear, as it is shown, 0..1 linear: the Khronos PBR Neutral tone mapper."""
    colour = np.maximum(light, 0) * np.float32(2**exposure)
    least = colour.min(axis=-1, keepdims=True)
    offset = np.where(least < 2 * _F90, least - least * least / (4 * _F90), _F90)
    colour = colour - offset
    peak = colour.max(axis=-1, keepdims=True)
    rest = 1 - _START
    squeezed = 1 - rest * rest / (peak + rest - _START)
    part = 1 - 1 / (_DESATURATION * (peak - squeezed) + 1)
    bright = colour * (squeezed / np.maximum(peak, 1e-9)) * (1 - part) + squeezed * part
    found: NDArray[np.float32] = np.where(peak < _START, colour, bright).astype(np.float32)
    return np.clip(found, 0, 1)
