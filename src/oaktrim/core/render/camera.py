"""Cameras: where they stand, what they look at, and the matrices that bring a point to the picture.

Right-handed, looking along -Z, clip space as OpenGL has it: x, y and z between -w and w (OpenGL 4.6 core, clause 13.7).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import asin, atan2, cos, radians, sin, tan

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.scene.model import Lens

Matrix = NDArray[np.float64]
Triple = tuple[float, float, float]
_STEEPEST = radians(89.0)
# The part of the picture that a framed box may fill.
_ROOM = 0.94


@dataclass(frozen=True)
class Camera:
    """A camera.

    Parameters
    ----------
    eye, target : where it stands, and a point that it looks at
    yfov : vertical angle of view in radians; 0 for an orthographic camera
    height : what an orthographic camera sees from bottom to top
    near, far : distances; far is None where nothing is too far
    shift : moves the middle of the picture, in halves of it to the right and up, as off-centre cameras have it
    """

    eye: Triple
    target: Triple
    yfov: float = radians(40.0)
    height: float = 2.0
    near: float = 0.01
    far: float | None = None
    up: Triple = (0.0, 1.0, 0.0)
    shift: tuple[float, float] = (0.0, 0.0)

    @property
    def distance(self) -> float:
        """From the eye to the target."""
        return float(np.linalg.norm(np.subtract(self.target, self.eye)))

    def axes(self) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """Return the directions to the right, up and backwards."""
        back = np.subtract(self.eye, self.target).astype(np.float64)
        length = float(np.linalg.norm(back))
        back = back / length if length > 0 else np.array([0.0, 0.0, 1.0])
        up = np.array(self.up, np.float64)
        right = np.cross(up, back)
        if np.linalg.norm(right) < 1e-9:
            # It looks straight up or down.
            right = np.cross((0.0, 0.0, -1.0) if abs(back[2]) < 0.9 else (1.0, 0.0, 0.0), back)
        right /= np.linalg.norm(right)
        return right, np.cross(back, right), back

    def view(self) -> Matrix:
        """Return the matrix from the world to the camera."""
        turn = np.stack(self.axes())
        out = np.eye(4)
        out[:3, :3] = turn
        out[:3, 3] = -turn @ np.array(self.eye, np.float64)
        return out

    def projection(self, aspect: float) -> Matrix:
        """Return the matrix from the camera to clip space; `aspect` is width over height."""
        out = np.zeros((4, 4))
        n, f = self.near, self.far
        if self.yfov > 0:
            scale = 1 / tan(self.yfov / 2)
            out[0, 0], out[1, 1] = scale / aspect, scale
            out[0, 2], out[1, 2] = self.shift
            out[2, 2], out[2, 3] = (-1.0, -2 * n) if f is None else (-(f + n) / (f - n), -2 * f * n / (f - n))
            out[3, 2] = -1.0
        else:
            far = self.far if self.far is not None else self.near + 4 * max(self.distance, self.height)
            out[0, 0], out[1, 1] = 2 / (self.height * aspect), 2 / self.height
            out[0, 3], out[1, 3] = -self.shift[0], -self.shift[1]
            out[2, 2], out[2, 3] = -2 / (far - n), -(far + n) / (far - n)
            out[3, 3] = 1.0
        return out

    def to_clip(self, aspect: float) -> Matrix:
        """Return the matrix from the world to clip space."""
        return self.projection(aspect) @ self.view()

    def orbited(self, across: float, down: float) -> Camera:
        """Return the camera turned about its target, radians to the right and down; never over the top."""
        away = np.subtract(self.eye, self.target)
        length = float(np.linalg.norm(away)) or 1.0
        yaw = atan2(away[0], away[2]) - across
        pitch = min(_STEEPEST, max(-_STEEPEST, asin(max(-1.0, min(1.0, away[1] / length))) + down))
        flat = cos(pitch) * length
        eye = np.add(self.target, (sin(yaw) * flat, sin(pitch) * length, cos(yaw) * flat))
        return replace(self, eye=_triple(eye))

    def dollied(self, factor: float) -> Camera:
        """Return the camera at a multiple of its distance."""
        eye = np.add(self.target, np.multiply(np.subtract(self.eye, self.target), factor))
        return replace(self, eye=_triple(eye), height=self.height * factor)

    def panned(self, right: float, up: float) -> Camera:
        """Return the camera moved along its picture, in heights of what it sees at its target."""
        tall = self.height if self.yfov <= 0 else 2 * self.distance * tan(self.yfov / 2)
        across, above, _ = self.axes()
        step = (across * right + above * up) * tall
        return replace(self, eye=_triple(np.add(self.eye, step)), target=_triple(np.add(self.target, step)))

    def flown(self, right: float, up: float, ahead: float) -> Camera:
        """Return the camera moved by lengths of the world along its own axes."""
        across, above, back = self.axes()
        step = across * right + above * up - back * ahead
        return replace(self, eye=_triple(np.add(self.eye, step)), target=_triple(np.add(self.target, step)))

    def turned(self, across: float, down: float) -> Camera:
        """Return the camera turned about its eye, radians to the right and down."""
        mirrored = replace(self, eye=self.target, target=self.eye).orbited(across, -down)
        return replace(self, target=mirrored.eye)


def _triple(values: NDArray[np.float64]) -> Triple:
    x, y, z = (float(v) for v in values)
    return x, y, z


def framing(
    low: NDArray[np.floating], high: NDArray[np.floating], towards: Triple = (0.35, 0.3, 1.0), yfov: float = radians(35.0),
    aspect: float = 1.0,
) -> Camera:  # fmt: skip
    """Return a perspective camera that sees a whole box.

    Parameters
    ----------
    low, high : corners of the box, (3,)
    towards : the direction from the box to the camera
    """
    least, most = low.astype(np.float64), high.astype(np.float64)
    centre = (least + most) / 2
    radius = float(np.linalg.norm(most - least)) / 2 or 1.0
    way = np.array(towards, np.float64)
    way /= np.linalg.norm(way)
    right, up, back = Camera(_triple(centre + way), _triple(centre)).axes()
    corners = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)]) * (most - least) + least - centre
    tall = tan(yfov / 2) * _ROOM
    needed = np.maximum(np.abs(corners @ up) / tall, np.abs(corners @ right) / (tall * aspect)) + corners @ back
    distance = max(float(needed.max()), radius * 0.05) if radius else 1.0
    return Camera(_triple(centre + way * distance), _triple(centre), yfov, near=max(1e-6, radius * 1e-3))


def facing(corners: NDArray[np.floating]) -> Triple:
    """Return the direction that most of some triangles (M, 3, 3) face; from the front and a little above where none stands out.

    What faces down, as a hull does, is looked at from there, too: nobody sees it from below.
    """
    points = corners.astype(np.float64)
    normals = np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0])
    normals = normals[np.isfinite(normals).all(axis=1)]
    way = normals.sum(axis=0)
    length = float(np.linalg.norm(way))
    if length <= 0.2 * float(np.linalg.norm(normals, axis=1).sum()) or way[1] < -0.5 * length:
        return (0.35, 0.3, 1.0)
    return _triple(way / length)


def of_lens(lens: Lens, matrix: Matrix, distance: float = 1.0) -> Camera:
    """Return the camera of a file's lens at a node; it looks at a point so far ahead."""
    eye = matrix[:3, 3]
    ahead = -matrix[:3, 2] / (np.linalg.norm(matrix[:3, 2]) or 1.0)
    up = matrix[:3, 1] / (np.linalg.norm(matrix[:3, 1]) or 1.0)
    near = max(lens.near, 1e-6)
    return Camera(
        _triple(eye), _triple(eye + ahead * distance), lens.yfov, 2 * lens.size[1], near, lens.far, _triple(up)
    )
