"""Damaged models among good textures: each is a failure of its own, and all else ships."""

import io
import json
import struct

import numpy as np
import pytest
from PIL import Image as PillowImage

from oaktrim.core.errors import ShipError
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.ship.run import ship
from oaktrim.core.targets.target import target_named
from tests.kit.models import add_mesh, material, rich_model, scene
from tests.kit.pictures import busy
from tests.kit.trees import put, surveyed


def holding_model() -> GltfWriter:
    """A model that holds two images, which are moved out of it when it ships."""
    writer = rich_model()
    places = [writer.image(f"held{k}", data=png_of(k)) for k in range(2)]
    paint = material(writer, baseColorTexture=places[0], normalTexture=places[1], name="held")
    scene(writer, writer.add("nodes", mesh=add_mesh(writer, paint)))
    return writer


def png_of(seed):
    buffer = io.BytesIO()
    PillowImage.fromarray(busy(16, 16, 3, seed=seed).pixels).save(buffer, "PNG")
    return buffer.getvalue()


def edited(data, edit):
    """Return a GLB with its JSON changed."""
    size = struct.unpack_from("<I", data, 12)[0]
    document, rest = json.loads(data[20 : 20 + size]), data[20 + size :]
    edit(document)
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    return (
        struct.pack("<III", 0x46546C67, 2, 20 + len(text) + len(rest))
        + struct.pack("<II", len(text), 0x4E4F534A)
        + text
        + rest
    )


def shipped(root, out):
    inventory = surveyed(root)
    return finish(ship(resolve(inventory, target_named("lounge")), out))


def test_an_absurd_view_of_an_accessor_stops_nothing(tmp_path):
    root = tmp_path / "art"
    put(root, "wall.png")
    data = edited(holding_model().glb(), lambda d: d["accessors"][0].update(bufferView=999_999))
    (root / "x.glb").write_bytes(data)
    done = shipped(root, tmp_path / "out")
    assert (tmp_path / "out" / "wall.dds").exists() and (tmp_path / "out" / "manifest.json").exists()
    assert all("x.glb" in failure.error for failure in done.manifest.failed)


@pytest.mark.parametrize("seed", range(3))
def test_mutated_models_are_surveyed_and_shipped(tmp_path, seed):
    """Values of the JSON replaced, removed and multiplied, and bytes flipped; a hundred models at a time."""
    root, rng = tmp_path / "art", np.random.default_rng(seed)
    put(root, "wall_base.png")
    whole = holding_model().glb()

    def mutate(document):
        for _ in range(int(rng.integers(1, 4))):
            parts = [part for part in walk(document) if isinstance(part, dict | list) and len(part)]
            part = parts[int(rng.integers(len(parts)))]
            keys = list(part) if isinstance(part, dict) else list(range(len(part)))
            key = keys[int(rng.integers(len(keys)))]
            values = [-1, 0, 1 << 31, 1e300, "x", None, [], {}, [[1]], True, {"source": [1]}, {"index": "a"}]
            choice = int(rng.integers(len(values) + 2))
            if choice < len(values):
                part[key] = values[choice]
            elif choice == len(values):
                del part[key]
            elif isinstance(part, list):
                part.extend(part[:3])

    for number in range(100):
        data = edited(whole, mutate)
        if number % 4 == 0:
            data = bytearray(data)
            data[int(rng.integers(len(data)))] ^= 1 << int(rng.integers(8))
        (root / f"m{number:03}.glb").write_bytes(data)
    inventory = surveyed(root)
    done = finish(ship(resolve(inventory, target_named("lounge")), tmp_path / "out"))
    assert {entry.source for entry in done.manifest.textures} == {texture.path for texture in inventory.textures}
    written = {entry.output for entry in done.manifest.beside}
    failed = {failure.source for failure in done.manifest.failed}
    assert {model.path for model in inventory.models} <= written | failed
    assert len(inventory.models) > 10 and len(written) > 5
    assert all(failure.source in failure.error for failure in done.manifest.failed)


def walk(part):
    yield part
    for value in part.values() if isinstance(part, dict) else part if isinstance(part, list) else ():
        yield from walk(value)


def test_a_link_inside_the_output_folder_is_not_followed_out_of_it(tmp_path):
    root, out, away = tmp_path / "art", tmp_path / "out", tmp_path / "away"
    put(root, "walls/wall.png")
    out.mkdir()
    away.mkdir()
    (out / "walls").symlink_to(away)
    with pytest.raises(ShipError, match="a link leads out of the output folder"):
        shipped(root, out)
    assert list(away.iterdir()) == []
