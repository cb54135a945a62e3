"""The models and sounds of Heronmere Landing: the landing itself, the warden, the bicycle rack, and some planted mistakes."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from numpy.typing import NDArray
from PIL import Image as PillowImage

from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.sounds.codecs import SoundCodec, SoundSettings
from oaktrim.core.sounds.encode import encode
from oaktrim.core.sounds.signal import Sound
from oaktrim.demo.brush import codes, noise, ramp
from oaktrim.demo.shapes import Shape, box, card, ground, hull, joined, ring, sheet, tube

_RATE = 22_050
# Of the warden's skeleton, a chain: joints, and metres from one to the next.
_JOINTS, _JOINT_LENGTH = 18, 0.12


@dataclass
class _Scene:
    """A glTF scene being filled: images and materials by name, each written once."""

    writer: GltfWriter = field(default_factory=GltfWriter)
    roots: list[int] = field(default_factory=list)
    _textures: dict[str, int] = field(default_factory=dict)

    def texture(self, path: str) -> int:
        if path not in self._textures:
            self._textures[path] = self.writer.image(path)
        return self._textures[path]

    def material(self, name: str, stem: str, maps: str = "base n orm", alpha: str | None = None, **more: Any) -> int:
        """Add a material that uses the maps of a stem: base, n, orm and e, and `occlusion` on its own."""
        row: dict[str, Any] = {"pbrMetallicRoughness": {"metallicFactor": 0 if "orm" not in maps else 1}}
        for kind in maps.split():
            ending = ".jpg" if f"{stem}_{kind}" in ("shore/mud_base", "jetty/planks_base") else ".png"
            info = {"index": self.texture(f"{stem}_{kind}{ending}")}
            if kind == "base":
                row["pbrMetallicRoughness"]["baseColorTexture"] = info
            elif kind == "n":
                row["normalTexture"] = info
            elif kind == "orm":
                row["pbrMetallicRoughness"]["metallicRoughnessTexture"] = info
                row["occlusionTexture"] = info
            elif kind == "e":
                row["emissiveTexture"] = info
            else:
                row["occlusionTexture"] = info
        return self.writer.add("materials", name=name, alphaMode=alpha, **{**row, **more})

    def mesh(self, name: str, *parts: tuple[Shape, int], bones: float = 0.0) -> int:
        """Add a mesh of shapes with their materials; with `bones`, each vertex hangs on the two joints that it is between."""
        primitives = []
        for shape, material in parts:
            attributes = {
                "POSITION": self.writer.accessor(shape.points, bounds=True, indices=False),
                "TEXCOORD_0": self.writer.accessor(shape.uv, indices=False),
            }
            if bones:
                joints, weights = _between_joints(shape.points[:, 1] / np.float32(bones))
                attributes["JOINTS_0"] = self.writer.accessor(joints, indices=False)
                attributes["WEIGHTS_0"] = self.writer.accessor(weights, indices=False)
            indices = shape.triangles.reshape(-1)
            small = indices.astype(np.uint16) if len(shape.points) < 1 << 16 else indices
            order = self.writer.accessor(small, indices=True)
            primitives.append({"attributes": attributes, "indices": order, "material": material})
        return self.writer.add("meshes", name=name, primitives=primitives)

    def stand(self, name: str, mesh: int, *places: tuple[float, float, float]) -> None:
        """Put a mesh into the scene, as one object of as many copies as there are places."""
        copies = [self.writer.add("nodes", mesh=mesh, translation=list(place)) for place in places]
        self.roots.append(self.writer.add("nodes", name=name, children=copies))

    def station(self, name: str, x: float, y: float, z: float) -> None:
        """Put a camera where a player can stand."""
        camera = self.writer.add("cameras", type="perspective", perspective={"yfov": 1.0, "znear": 0.1})
        self.roots.append(self.writer.add("nodes", name=name, camera=camera, translation=[x, y, z]))

    def finish(self, name: str) -> GltfWriter:
        self.writer.json["scenes"] = [{"name": name, "nodes": self.roots}]
        self.writer.json["scene"] = 0
        return self.writer


def _between_joints(height: NDArray[np.float32]) -> tuple[NDArray[np.uint8], NDArray[np.float32]]:
    """Return the joints (N, 4) and weights (N, 4) of vertices of a height, in joints of a chain."""
    place = np.clip(height, 0, _JOINTS - 1.001)
    first = np.floor(place)
    joints, weights = np.zeros((len(place), 4), np.uint8), np.zeros((len(place), 4), np.float32)
    joints[:, 0], joints[:, 1] = first, first + 1
    weights[:, 0], weights[:, 1] = 1 - (place - first), place - first
    joints[weights == 0] = 0
    return joints, weights


def _landing(rng: np.random.Generator) -> GltfWriter:
    scene = _Scene()
    boards = scene.material("clapboard", "kiosk/clapboard")
    roof = scene.material("tin roof", "kiosk/roof")
    trim = scene.material("kiosk trim", "kiosk/kiosk_trim", "base")
    sign = scene.writer.add(
        "materials",
        name="kiosk sign",
        alphaMode="BLEND",
        pbrMetallicRoughness={"baseColorTexture": {"index": scene.texture("kiosk/kiosk_sign.png")}},
    )
    kiosk = scene.mesh(
        "kiosk",
        (box(3, 2.4, 2.4).tiled(3, 1), boards),
        (
            joined(box(3.4 - i * 0.1, 0.02, 2.8).moved(0, 2.4 + i * 0.05) for i in range(12)),
            roof,
        ),
        (box(3.1, 0.12, 2.5).moved(0, 2.3), trim),
        (card(1.6, 0.5).moved(0, 2.6, 1.45), sign),
    )
    scene.stand("ferry kiosk", kiosk, (0, 0, 0))

    post = scene.material("post", "posts/post")
    tar = scene.material("tar", "posts/tar", "base")
    tar_again = scene.material("tar.001", "posts/tar", "base")
    rope = scene.material("tarred rope", "posts/rope", "base n")
    coil = joined(ring(0.26 - 0.01 * i, 0.045, 96, 10, 40).moved(0, 0.9 + 0.08 * i) for i in range(5))
    places = [(-4 + 1.6 * i, -0.4, 4.0) for i in range(6)]
    mesh = scene.mesh("post", (tube(0.16, 1.8, 24, 8).tiled(1, 2), post), (coil, rope), (tube(0.165, 0.3, 24, 1), tar))
    scene.stand("mooring posts", mesh, *places[:5])
    odd = scene.mesh(
        "post with old tar", (tube(0.16, 1.6, 24, 8).tiled(1, 2), post), (tube(0.165, 0.3, 24, 1), tar_again)
    )
    scene.stand("old mooring post", odd, places[5])

    reed = scene.material("reed leaf", "reeds/reed", "base n orm", alpha="MASK")
    reed_card = scene.material("reed card", "reeds/reed_card", "base", alpha="MASK")
    clump = scene.mesh(
        "reed clump", *[(card(1.2, 1.9, turn), reed) for turn in (0.1, 1.2, 2.2)], (card(0.8, 1.2, 0.6), reed_card)
    )
    bank = rng.uniform((-9, 0, 5), (9, 0, 8), (23, 3))
    scene.stand("reed bank", clump, *[(float(x), 0.0, float(z)) for x, _, z in bank])
    stand = joined(card(1.2, 1.9, place / 40).moved((place % 40) * 1.1, 0, place // 40) for place in range(320))
    far = scene.mesh("far reeds", (stand, reed_card))
    scene.stand("far shore reeds", far, (-20, 0, 900))

    planks = scene.material("jetty planks", "jetty/planks", "base n")
    right, ahead = np.linspace(-2.2, 2.2, 5)[None, :], np.linspace(2.2, 4.6, 4)[:, None]
    floor = sheet(np.stack(np.broadcast_arrays(right, 0.02, ahead), axis=-1).astype(np.float32))
    scene.stand("jetty", scene.mesh("jetty", (floor.tiled(3, 2), planks)), (0, 0, 0))

    mud = scene.material("mud", "shore/mud")
    water = scene.material("water", "shore/water", "base n")
    land = scene.mesh(
        "ground", (ground(40, 97).tiled(8, 8), mud), (ground(90, 33).tiled(12, 12).moved(0, -0.3, 40), water)
    )
    scene.stand("shore", land, (0, 0, 0))

    paint = scene.material("boat paint", "boat/boat")
    name = scene.writer.add(
        "materials",
        name="boat name",
        alphaMode="BLEND",
        pbrMetallicRoughness={"baseColorTexture": {"index": scene.texture("boat/boat_name_overlay.png")}},
    )
    oar = scene.writer.add(
        "materials",
        name="oar",
        pbrMetallicRoughness={"baseColorTexture": {"index": scene.texture("boat/oar_base.tga")}},
    )
    boat = scene.mesh(
        "boat",
        (hull(4.2, 1.5, 0.7, 97, 49), paint),
        (card(0.7, 0.2).moved(0.6, 0.35, 0.72), name),
        (tube(0.03, 2.2, 8, 4), oar),
    )
    scene.stand("rowing boat", boat, (1.5, -0.1, 6.5))

    lantern = scene.material("lantern", "lantern/lantern", "base n e")
    glass = scene.material("lantern glass", "lantern/lantern_glass", "base", alpha="BLEND")
    lamp = scene.mesh("lantern", (tube(0.14, 0.4, 40, 12), lantern), (tube(0.11, 0.28, 40, 4).moved(0, 0.06), glass))
    scene.stand("lantern", lamp, (1.7, 2.0, 1.3), (-1.7, 2.0, 1.3))

    times = scene.material("timetable", "timetable/timetable", "base")
    rack = scene.material("rack paint", "rack/bicycle_rack", "base n")
    scene.stand("timetable board", scene.mesh("board", (box(1.1, 0.8, 0.06), times)), (2.6, 1.0, 1.0))
    hoops = joined(ring(0.35, 0.025, 40, 12).upright().moved(0.6 * i) for i in range(5))
    scene.stand("bicycle rack", scene.mesh("hoops", (hoops, rack)), (-3.4, 0.2, 0.6))
    gauge = scene.writer.add(
        "materials",
        name="gauge",
        pbrMetallicRoughness={"baseColorTexture": {"index": scene.texture("posts/gauge_base.dds")}},
    )
    scene.stand("water gauge", scene.mesh("gauge", (box(0.2, 1.6, 0.05), gauge)), (4.4, -0.4, 4.2))
    for place, spot in enumerate(((0.0, 1.7, 9.0), (-5.0, 1.7, 3.0), (6.0, 1.7, 1.0))):
        scene.station(f"station {place + 1}", *spot)
    return scene.finish("Heronmere landing")


def _warden(rng: np.random.Generator) -> GltfWriter:
    """The warden, on a skeleton, with clips whose keys are far too many, a hat to take off, and a lining that the file holds.

    Nine materials, two of them the same, where one would do for what is opaque and one for the badges.
    """
    scene = _Scene()
    coat = scene.material("oilskin", "oilskin")
    cape = scene.material("oilskin.001", "oilskin")
    skin = scene.material("skin", "skin", "base n")
    boots = scene.material("boots", "boots", "base n")
    badge = scene.material("badge", "badge", "base n", alpha="MASK")
    faded = scene.material("sleeve badge", "badge", "base n", alpha="MASK")
    scene.writer.json["materials"][faded]["pbrMetallicRoughness"]["baseColorFactor"] = [0.75, 0.8, 0.85, 1]
    leather = {"baseColorFactor": [0.09, 0.045, 0.02, 1], "metallicFactor": 0, "roughnessFactor": 0.55}
    belt = scene.writer.add("materials", name="belt", pbrMetallicRoughness=leather)
    hat = scene.writer.add(
        "materials", name="hat", pbrMetallicRoughness={"baseColorTexture": {"index": scene.texture("hat_base.tga")}}
    )
    held = io.BytesIO()
    PillowImage.fromarray(codes(ramp(noise(rng, 256, 256, 30, 4), "#30383a", "#5c6a66"))).save(held, "PNG")
    lining_base = scene.writer.image("lining_base", data=held.getvalue())
    lining = scene.writer.add(
        "materials", name="lining", pbrMetallicRoughness={"baseColorTexture": {"index": lining_base}}
    )
    body = scene.mesh(
        "body",
        (tube(0.26, 1.0, 96, 60, 0.04).moved(0, 0.7).tiled(2, 2), coat),
        (tube(0.25, 0.98, 48, 30, 0.04).moved(0, 0.7), lining),
        (ring(0.06, 0.1, 64, 48).moved(0, 1.82), skin),
        (tube(0.09, 0.7, 40, 24).moved(-0.13) + tube(0.09, 0.7, 40, 24).moved(0.13), boots),
        (card(0.12, 0.14).moved(0, 1.45, 0.28), badge),
        (tube(0.31, 0.22, 64, 8).moved(0, 1.44).tiled(1, 0.25), cape),
        (tube(0.275, 0.05, 64, 2).moved(0, 1.16), belt),
        (card(0.1, 0.1).moved(0.1, 1.3, 0.28), faded),
        bones=_JOINT_LENGTH,
    )
    brim = scene.mesh("rain hat", (ring(0.13, 0.05, 48, 20).moved(0, 1.95), hat), bones=_JOINT_LENGTH)
    joints = [
        scene.writer.add("nodes", name=f"joint {number}", translation=[0, _JOINT_LENGTH if number else 0.0, 0])
        for number in range(_JOINTS)
    ]
    for joint in joints[:-1]:
        scene.writer.json["nodes"][joint]["children"] = [joint + 1]
    inverse = np.tile(np.eye(4, dtype=np.float32), (_JOINTS, 1, 1))
    # Columns after another, as glTF has matrices.
    inverse[:, 3, 1] = -_JOINT_LENGTH * np.arange(_JOINTS)
    binds = scene.writer.accessor(inverse.reshape(-1, 16))
    scene.writer.add("skins", name="warden", joints=joints, inverseBindMatrices=binds)
    worn = scene.writer.add("nodes", name="rain hat", mesh=brim, skin=0)
    avatar = scene.writer.add("nodes", name="warden avatar", mesh=body, skin=0, children=[worn])
    scene.roots += [avatar, joints[0]]
    times = np.linspace(0, 6, 721, dtype=np.float32)
    read = scene.writer.accessor(times, bounds=True)
    samplers = []
    for number in range(len(joints)):
        swing = 0.03 * np.sin(times * (2 + number % 3) + number)
        turns = np.stack([np.sin(swing / 2), 0 * swing, 0 * swing, np.cos(swing / 2)], axis=1).astype(np.float32)
        samplers.append({"input": read, "output": scene.writer.accessor(turns)})
    channels = [{"sampler": n, "target": {"node": node, "path": "rotation"}} for n, node in enumerate(joints)]
    scene.writer.add("animations", name="walk", samplers=samplers, channels=channels)
    _idle(scene.writer, joints)
    return scene.finish("warden")


def _idle(writer: GltfWriter, joints: list[int]) -> None:
    """Add a breath: turns of every joint sixty times a second, and places that never change."""
    times = np.arange(241, dtype=np.float32) / 60
    read, samplers, channels = writer.accessor(times, bounds=True), list[dict[str, int]](), list[dict[str, Any]]()
    for number, joint in enumerate(joints):
        breath = 0.01 * np.sin(times * np.pi / 2 + number / 5)
        turns = np.stack([np.sin(breath / 2), 0 * breath, 0 * breath, np.cos(breath / 2)], axis=1).astype(np.float32)
        still = np.tile(np.array(writer.json["nodes"][joint]["translation"], np.float32), (len(times), 1))
        for path, values in (("rotation", turns), ("translation", still)):
            channels.append({"sampler": len(samplers), "target": {"node": joint, "path": path}})
            samplers.append({"input": read, "output": writer.accessor(values)})
    writer.add("animations", name="idle", samplers=samplers, channels=channels)


def _oars() -> bytes:
    """The spare oars as OBJ: their library names the texture in another letter case."""
    shape = tube(0.03, 2.2, 12, 6)
    lines = ["# spare oars", "mtllib spare_oars.mtl", "o oar", "usemtl oar wood"]
    lines += [f"v {x:.4f} {y:.4f} {z:.4f}" for x, y, z in shape.points]
    lines += [f"vt {u:.4f} {v:.4f}" for u, v in shape.uv]
    lines += ["f " + " ".join(f"{corner + 1}/{corner + 1}" for corner in row) for row in shape.triangles]
    return "\n".join(lines).encode() + b"\n"


def _gull(rng: np.random.Generator) -> NDArray[np.float64]:
    """A gull's cry: falling tones with a rough edge."""
    parts = []
    for length, low in ((0.5, 900), (0.35, 1000), (0.3, 950), (0.6, 820)):
        t = np.arange(int(_RATE * length)) / _RATE
        pitch = low + 500 * np.exp(-4 * t / length)
        tone = np.sin(2 * np.pi * np.cumsum(pitch) / _RATE) * np.sin(np.pi * t / length) ** 0.7
        parts += [0.6 * tone * (1 + 0.3 * rng.standard_normal(len(t))), np.zeros(int(_RATE * 0.12))]
    return np.clip(np.concatenate(parts), -1, 1)


def _waves(rng: np.random.Generator, seconds: int) -> NDArray[np.float64]:
    """Small waves on mud, in stereo, that loop."""
    count = _RATE * seconds
    t = np.arange(count) / count * 2 * np.pi
    sides = []
    for side in range(2):
        spectrum = np.fft.rfft(rng.standard_normal(count))
        spectrum /= 1 + (np.arange(len(spectrum)) / seconds / 300) ** 1.5
        hiss = np.fft.irfft(spectrum, count)
        swell = 0.35 + 0.3 * np.sin(5 * t + side) + 0.2 * np.sin(8 * t + 2 * side)
        sides.append(hiss / np.abs(hiss).max() * swell)
    return np.stack(sides, axis=1)


def write_models(art: Path) -> None:
    """Write the models and their faults below the folder of the art."""
    text, binary = _landing(np.random.default_rng(41)).gltf("landing.bin")
    write_atomic(art / "landing.gltf", text)
    write_atomic(art / "landing.bin", binary)
    write_atomic(art / "warden" / "warden.glb", _warden(np.random.default_rng(42)).glb())
    write_atomic(art / "boat" / "spare_oars.obj", _oars())
    write_atomic(art / "boat" / "spare_oars.mtl", b"newmtl oar wood\nKd 1 1 1\nmap_Kd Oar_Base.tga\n")
    old = _Scene()
    for path in ("boat_base_copy.png", "boat_gone_n.png", "../../../elsewhere/varnish_base.png"):
        texture = old.texture(path)
        old.writer.add("materials", name=path, pbrMetallicRoughness={"baseColorTexture": {"index": texture}})
    old.stand("old boat", old.mesh("boat", (hull(4.2, 1.5, 0.7, 33, 17), 0)), (0, 0, 0))
    writer = old.finish("old boat")
    writer.json["meshes"][0]["primitives"].append({"attributes": {"POSITION": 99}})
    write_atomic(art / "boat" / "old" / "boat_old.glb", writer.glb())


def write_sounds(art: Path) -> None:
    """Write the gull's cry and the wave loop."""
    folder = art / "sounds"
    folder.mkdir(parents=True, exist_ok=True)
    cry = Sound(_gull(np.random.default_rng(43)).astype(np.float32)[:, None], _RATE)
    write_atomic(folder / "gull_cry.ogg", encode(cry, SoundSettings(_RATE, 1, SoundCodec.VORBIS, 0.6)))
    soundfile.write(folder / "wave_loop.wav", _waves(np.random.default_rng(44), 24), _RATE)
    soundfile.write(folder / "bell.flac", _gull(np.random.default_rng(45))[: _RATE // 2], _RATE)
