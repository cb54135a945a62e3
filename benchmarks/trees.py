"""Trees of thousands of files, made for the benchmarks."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec
import numpy as np
import soundfile
from PIL import Image as PillowImage

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.progress import finish
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan

_SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)


def mixed_tree(root: Path, count: int) -> Path:
    """Write `count` files: pictures of 64 to 512 pixels in PNG, JPEG and TGA, a model and a sound for every fifty."""
    rng = np.random.default_rng(7)
    for place in range(count):
        folder = root / f"{place // 50:03d}"
        folder.mkdir(parents=True, exist_ok=True)
        stem = f"{place:05d}"
        if place % 50 == 49:
            _model(folder, stem, place)
        elif place % 50 == 48:
            soundfile.write(folder / f"{stem}.ogg", rng.standard_normal(8000) * 0.1, 8000)
        else:
            _picture(rng, folder, stem, place)
    return root


def _picture(rng: np.random.Generator, folder: Path, stem: str, place: int) -> None:
    side = (64, 128, 256, 512)[place % 4]
    coarse = rng.integers(0, 256, (side // 8, side // 8, 3), dtype=np.uint8)
    picture = PillowImage.fromarray(coarse).resize((side, side), PillowImage.Resampling.BICUBIC)
    pixels = np.asarray(picture).astype(np.int16) + rng.integers(-12, 13, (side, side, 3))
    role = ("base", "n", "orm")[place % 3]
    out = PillowImage.fromarray(np.clip(pixels, 0, 255).astype(np.uint8))
    ending = ("png", "png", "png", "png", "png", "png", "jpg", "tga")[place // 4 % 8]
    out.save(folder / f"{stem}_{role}.{ending}", **({"compress_level": 3} if ending == "png" else {}))


def _model(folder: Path, stem: str, place: int) -> None:
    writer = GltfWriter()
    names = sorted(path.name for path in folder.glob("*_base.*"))[:8]
    nodes = []
    for name in names:
        points = writer.accessor(_SQUARE, bounds=True, indices=False)
        uv = writer.accessor(_SQUARE[:, :2].copy(), indices=False)
        order = writer.accessor(np.array([0, 1, 2, 0, 2, 3], np.uint16), indices=True)
        material = writer.add(
            "materials", name=name, pbrMetallicRoughness={"baseColorTexture": {"index": writer.image(name)}}
        )
        primitive = {"attributes": {"POSITION": points, "TEXCOORD_0": uv}, "indices": order, "material": material}
        nodes.append(writer.add("nodes", name=f"object {name}", mesh=writer.add("meshes", primitives=[primitive])))
    writer.json["scenes"] = [{"name": stem, "nodes": nodes}]
    (folder / f"{stem}.glb").write_bytes(writer.glb())


def surveyed_copies(small: Path, root: Path, cache: SurveyCache, times: int) -> Path:
    """Return a tree of links to a surveyed one, `times` over, that the cache knows as well as the one it is made of."""
    finish(scan(small, cache=cache))
    known = cache.facts(small)
    for number in range(times):
        rows = []
        for path, facts in known.items():
            copy = root / f"{number:03d}" / path
            copy.parent.mkdir(parents=True, exist_ok=True)
            os.link(small / path, copy)
            name = f"{number:03d}/{path}"
            textures = tuple(msgspec.structs.replace(t, path=name) for t in facts.textures)
            audio = None if facts.audio is None else msgspec.structs.replace(facts.audio, path=name)
            model = None if facts.model is None else msgspec.structs.replace(facts.model, path=name)
            rows.append(msgspec.structs.replace(facts, path=name, textures=textures, audio=audio, model=model))
        cache.keep(root, rows, {})
    return root
