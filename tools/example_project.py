"""Draws the art of `examples/lantern`: a paper lantern with its maps, an icon and a hum. Run it from the root of the project."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile
from PIL import Image

from oaktrim.core.files.gltfwriter import GltfWriter

ART = Path("examples/lantern/art")
SIDE, SECTORS, RINGS = 512, 24, 12


def _save(name: str, channels: list[np.ndarray]) -> None:
    path = ART / name
    path.parent.mkdir(parents=True, exist_ok=True)
    pixels = np.clip(np.stack(channels, axis=-1) * 255 + 0.5, 0, 255).astype(np.uint8)
    Image.fromarray(pixels).save(path, optimize=True)


def draw_maps() -> None:
    """Draw base colour, normals and surface values: ribs round the paper, and a band of paint."""
    v, u = np.mgrid[0:SIDE, 0:SIDE] / SIDE
    ribs = 0.5 + 0.5 * np.cos(2 * np.pi * 16 * v)
    paint = (np.abs(v - 0.5 - 0.05 * np.sin(6 * np.pi * u)) < 0.09).astype(float)
    shade = 0.75 + 0.25 * ribs
    paper = np.stack([0.93 * shade, 0.80 * shade, 0.58 * shade], axis=-1)
    colour = paper * (1 - paint[..., None]) + np.array([0.62, 0.16, 0.12]) * paint[..., None]
    _save("lantern_base.png", [colour[..., i] for i in range(3)])
    slope = 0.35 * np.sin(2 * np.pi * 16 * v)
    length = np.sqrt(slope**2 + 1)
    _save("lantern_n.png", [np.full_like(v, 0.5), 0.5 + 0.5 * slope / length, 0.5 + 0.5 / length])
    _save("lantern_orm.png", [0.6 + 0.4 * ribs, 0.85 - 0.4 * paint, np.zeros_like(v)])
    y, x = np.mgrid[0:96, 0:96] / 95 * 2 - 1
    disc = np.clip((0.9 - np.hypot(x, y * 1.2)) * 30, 0, 1)
    _save("ui/lantern_icon.png", [0.9 * np.ones_like(x), 0.6 + 0.3 * y, 0.3 * np.ones_like(x), disc])


def write_model() -> None:
    """Write the lantern: a body of rings whose radius swells."""
    t, angle = np.linspace(0, 1, RINGS + 1), np.linspace(0, 2 * np.pi, SECTORS + 1)
    radius = 0.12 + 0.16 * np.sin(np.pi * t) ** 0.6
    points = np.stack(
        [
            radius[:, None] * np.cos(angle),
            np.repeat(0.55 * t[:, None], SECTORS + 1, axis=1),
            radius[:, None] * np.sin(angle),
        ],
        axis=-1,
    )
    uv = np.stack(np.broadcast_arrays(angle / (2 * np.pi), 1 - t[:, None]), axis=-1)
    row = np.arange(RINGS)[:, None] * (SECTORS + 1) + np.arange(SECTORS)
    a, b, c, d = row, row + 1, row + SECTORS + 1, row + SECTORS + 2
    triangles = np.stack([a, c, b, b, c, d], axis=-1).reshape(-1).astype(np.uint16)
    writer = GltfWriter()
    texture = {name: {"index": writer.image(f"lantern_{name}.png")} for name in ("base", "n", "orm")}
    material = writer.add(
        "materials", name="paper", normalTexture=texture["n"], occlusionTexture=texture["orm"],
        pbrMetallicRoughness={"baseColorTexture": texture["base"], "metallicRoughnessTexture": texture["orm"]},
    )  # fmt: skip
    flat = points.reshape(-1, 3)
    out = flat * [1, 0, 1]
    normals = (out / np.linalg.norm(out, axis=1, keepdims=True)).astype(np.float32)
    attributes = {
        "POSITION": writer.accessor(flat.astype(np.float32), bounds=True, indices=False),
        "NORMAL": writer.accessor(normals, indices=False),
        "TEXCOORD_0": writer.accessor(uv.reshape(-1, 2).astype(np.float32), indices=False),
    }
    primitive = {"attributes": attributes, "indices": writer.accessor(triangles, indices=True), "material": material}
    mesh = writer.add("meshes", name="lantern", primitives=[primitive])
    writer.json["scenes"] = [{"name": "lantern", "nodes": [writer.add("nodes", name="lantern", mesh=mesh)]}]
    writer.json["scene"] = 0
    (ART / "lantern.glb").write_bytes(writer.glb())


def write_hum() -> None:
    """Write a second of a flame's hum, stereo with the same in both channels."""
    rate = 44_100
    time = np.arange(rate) / rate
    hum = 0.2 * np.sin(2 * np.pi * 110 * time) * (1 + 0.3 * np.sin(2 * np.pi * 3 * time))
    soundfile.write(ART / "hum.wav", np.repeat(hum[:, None], 2, axis=1), rate, subtype="PCM_16")


if __name__ == "__main__":
    draw_maps()
    write_model()
    write_hum()
