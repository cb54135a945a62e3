"""The renderer against the OpenGL driver: the same triangles and the same texels, by processor time, in turns."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from math import radians

import moderngl
import numpy as np
import pytest
from numpy.typing import NDArray

from benchmarks.conftest import report
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import BoundTexture, Drawable, chain_of, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.picture import Settings, draw, footprints
from oaktrim.core.scene.model import AlphaMode, Material, Mesh, Model, Node, Primitive, Surface, TextureUse
from oaktrim.core.scene.shapes import plane, sphere
from oaktrim.core.scene.slots import Slot

_SIZE = (960, 600)
_VERTEX = """#version 330
in vec3 place; in vec2 coord; uniform mat4 matrix; out vec2 uv;
void main() { gl_Position = matrix * vec4(place, 1.0); uv = coord; }
"""
_FRAGMENT = """#version 330
in vec2 uv; uniform sampler2D picture; uniform float cutoff; out vec4 colour;
void main() { colour = texture(picture, uv); if (colour.a < cutoff) discard; }
"""


@dataclass(frozen=True, eq=False)
class Yard:
    """A scene for both: by material, what the driver draws, and the whole for us."""

    scene: Drawable
    materials: tuple[Material, ...]
    chains: tuple[list[NDArray[np.uint16]], ...]


def _noise(side: int, seed: int, holes: bool) -> Image:
    random = np.random.default_rng(seed)
    small = random.integers(0, 256, (side // 8, side // 8, 4))
    pixels = np.repeat(np.repeat(small, 8, 0), 8, 1).astype(np.uint8)
    pixels[..., 3] = np.where(pixels[..., 3] > 120, 255, 0) if holes else 255
    return Image.of(pixels)


def yard(lit: bool = False) -> Yard:
    """81 balls of 2,450 triangles, a ground, and 300 cards with holes."""
    random = np.random.default_rng(5)
    ball, ground = sphere(50, 25), plane(40.0)
    up = random.uniform(-1, 1, (300, 2)) * 9
    corners = np.array([[-0.5, 0, 0], [0.5, 0, 0], [0.5, 1, 0], [-0.5, 1, 0]])
    cards = (corners[None] + np.stack([up[:, 0], np.zeros(300), up[:, 1]], 1)[:, None]).reshape(-1, 3)
    rows = np.array([[0, 1, 2], [0, 2, 3]])[None] + 4 * np.arange(300)[:, None, None]
    uvs = np.tile(np.array([[0, 1], [1, 1], [1, 0], [0, 0]]), (300, 1))
    card = Primitive(cards.astype(np.float32), (uvs.astype(np.float32),), rows.reshape(-1, 3), 9, 600)
    materials = tuple(
        Material(
            str(n), (TextureUse(Slot.BASE_COLOUR, "", 0),), "",
            surface=Surface(unlit=not lit, metallic=0.0, alpha=AlphaMode.MASK if n == 9 else AlphaMode.OPAQUE, two_sided=n == 9),
        )
        for n in range(10)
    )  # fmt: skip
    meshes = [
        Mesh("ball", (Primitive(ball.positions, ball.uvs, ball.triangles, n % 8, ball.count, ball.normals),), 0)
        for n in range(8)
    ]
    meshes += [
        Mesh("ground", (Primitive(ground.positions * 12, ground.uvs, ground.triangles, 8, 2, ground.normals),), 0),
        Mesh("cards", (card,), 0),
    ]
    nodes = []
    for n in range(81):
        matrix = np.diag([0.6, 0.6, 0.6, 1.0])
        matrix[:3, 3] = (n % 9 - 4) * 1.6, 0.6, (n // 9 - 4) * 1.6
        nodes.append(Node("ball", n % 8, (), matrix))
    nodes += [Node("ground", 8, ()), Node("cards", 9, ())]
    model = Model("made", "", tuple(range(len(nodes))), tuple(nodes), tuple(meshes), materials, ())
    chains = tuple(list(chain_of(_noise(1024, n, n == 9), Slot.NORMAL)) for n in range(10))
    return Yard(drawable(draw_list(model), materials, lambda n, *_: BoundTexture(chains[n])), materials, chains)


class Yardstick:
    """The driver with the same triangles in its own memory."""

    def __init__(self, yard: Yard, size: tuple[int, int] = _SIZE) -> None:
        self._context = context = moderngl.create_context(standalone=True, backend="egl")
        self._program = context.program(_VERTEX, _FRAGMENT)
        self._frame = context.framebuffer([context.texture(size, 4)], context.depth_texture(size))
        draws, self._parts = yard.scene.draws, []
        vertices = np.concatenate([draws.positions, draws.attributes[:, 7:9]], axis=1).astype(np.float32)
        buffer = context.buffer(vertices.tobytes())
        for number, chain in enumerate(yard.chains):
            rows = np.ascontiguousarray(draws.triangles[draws.materials == number])
            array = context.vertex_array(
                self._program, [(buffer, "3f4 2f4", "place", "coord")], context.buffer(rows.tobytes())
            )
            picture = context.texture(chain[0].shape[1::-1], 4, dtype="f1")
            picture.build_mipmaps(0, len(chain) - 1)
            for level, texels in enumerate(chain):
                picture.write(np.ascontiguousarray((texels >> 8).astype(np.uint8)).tobytes(), level=level, alignment=1)
            picture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
            self._parts.append((array, picture, 0.5 if number == 9 else 0.0))
        self._size = size

    def draw(self, camera: Camera) -> None:
        """Draw and wait until it is done."""
        self._frame.use()
        self._frame.clear(depth=1.0)
        self._context.enable(moderngl.DEPTH_TEST)
        matrix = camera.to_clip(self._size[0] / self._size[1])
        self._program["matrix"].write(np.ascontiguousarray(matrix.T, np.float32).tobytes())
        for array, picture, cutoff in self._parts:
            (self._context.disable if cutoff else self._context.enable)(moderngl.CULL_FACE)
            self._program["cutoff"].value = cutoff
            picture.use(0)
            array.render()
        self._context.finish()


def processor(work: Callable[[], object]) -> float:
    start = time.process_time()
    work()
    return time.process_time() - start


def in_turns(one: Callable[[], object], other: Callable[[], object], rounds: int = 7) -> tuple[float, float]:
    """Return the least processor times of two pieces of work, all threads counted."""
    one(), other()
    both = [(processor(one), processor(other)) for _ in range(rounds)]
    return min(a for a, _ in both), min(b for _, b in both)


def _draw(yard: Yard, camera: Camera, settings: Settings) -> None:
    finish(draw(yard.scene, camera, _SIZE, settings))


def _footprints(yard: Yard, camera: Camera) -> None:
    finish(footprints(yard.scene, camera, _SIZE))


def _nothing() -> None:
    return None


VIEWS = {
    "far": Camera((0.0, 9.0, 16.0), (0.0, 0.0, 0.0), far=100.0),
    "among": Camera((0.5, 1.2, 5.0), (0.0, 0.6, 0.0), far=100.0),
    "near": Camera((0.8, 0.9, 1.7), (0.0, 0.6, 0.0), far=100.0),
}


def test_a_scene_of_200_000_triangles() -> None:
    made, plain = yard(), Settings(anisotropy=1)
    lit, stick = yard(lit=True), Yardstick(made)
    assert len(made.scene.draws.triangles) > 195_000
    for name, camera in VIEWS.items():
        ours, theirs = in_turns(partial(_draw, made, camera, plain), partial(stick.draw, camera))
        report(
            f"drawing 200,000 triangles, {name}",
            "the driver",
            f"{ours / theirs:.2f} ({ours * 1e3:.0f} ms)",
            "at most 0.7",
        )
        shaded, _ = in_turns(partial(_draw, lit, camera, Settings()), _nothing)
        report(
            f"the same, metal-rough and anisotropic, {name}",
            "the driver unlit",
            f"{shaded / theirs:.2f}",
            "as measured",
        )
        levels, _ = in_turns(partial(_footprints, made, camera), _nothing)
        report(f"where textures are read, {name}", "drawing it", f"{levels / ours:.2f}", "0.6 of the shading")


def test_layers_over_the_whole_picture() -> None:
    def layers(depths: NDArray[np.float64]) -> Yard:
        square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * 20
        parts = [np.concatenate([square, np.full((4, 1), z)], axis=1) for z in depths]
        rows = np.array([[0, 1, 2], [0, 2, 3]])[None] + 4 * np.arange(len(depths))[:, None, None]
        uv = np.tile(np.array([[0, 9], [9, 9], [9, 0], [0, 0]]), (len(depths), 1)).astype(np.float32)
        wall = Primitive(np.concatenate(parts).astype(np.float32), (uv,), rows.reshape(-1, 3), 0, 2 * len(depths))
        material = Material("", (TextureUse(Slot.BASE_COLOUR, "", 0),), "", surface=Surface(unlit=True))
        chain = list(chain_of(_noise(1024, 1, False), Slot.NORMAL))
        model = Model("made", "", (0,), (Node("", 0, ()),), (Mesh("", (wall,), 0),), (material,), ())
        return Yard(drawable(draw_list(model), (material,), lambda *_: BoundTexture(chain)), (material,), (chain,))

    camera = Camera((0.0, 0.0, 12.0), (0.0, 0.0, 0.0), far=100.0)
    for name, depths, reach in (
        ("far to near", np.arange(10.0), "at most 0.25"),
        ("near to far", -np.arange(10.0), "at most 1"),
    ):
        made = layers(depths)
        stick = Yardstick(made)
        ours, theirs = in_turns(partial(_draw, made, camera, Settings(anisotropy=1)), partial(stick.draw, camera))
        report(f"ten layers, {name}", "the driver", f"{ours / theirs:.2f}", reach)


def test_threads_samples_and_the_first_picture() -> None:
    made = yard(lit=True).scene
    camera = VIEWS["among"]

    def wall(threads: int, samples: int = 1) -> float:
        times = []
        for _ in range(5):
            start = time.perf_counter()
            finish(draw(made, camera, _SIZE, Settings(samples), threads))
            times.append(time.perf_counter() - start)
        return min(times)

    one, two = wall(1), wall(2)
    report("drawing on two threads", "on one", f"{one / two:.2f} times as fast", "1.6")
    report("16 samples a pixel", "one sample", f"{wall(2, 16) / two:.1f}", "at most 10")
    quick = min(_timed(lambda: finish(draw(made, camera, (240, 150), Settings(anisotropy=1)))) for _ in range(5))
    report("the first picture of a scene in the viewer", "a second", f"{quick:.3f}", "1")


def _timed(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


@pytest.mark.parametrize("count", [16])
def test_more_samples_come_closer_to_the_truth(count: int) -> None:
    scene, camera = yard().scene, VIEWS["among"]
    size = (240, 150)
    truth = finish(draw(scene, camera, (size[0] * 6, size[1] * 6), Settings(16, anisotropy=1))).colour
    truth = truth.reshape(size[1], 6, size[0], 6, 4).mean(axis=(1, 3))
    found = finish(draw(scene, camera, size, Settings(count))).colour
    error = float(np.mean((np.clip(found, 0, 1) - np.clip(truth, 0, 1))[..., :3] ** 2))
    report(f"{count} samples against 576", "dB", f"{-10 * np.log10(error):.1f}", "48.3 in the trial")
    assert radians(40) == pytest.approx(camera.yfov)
