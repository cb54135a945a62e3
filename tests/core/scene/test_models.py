"""Models as the standard has them: what is read is what was written, and what is broken is named."""

from __future__ import annotations

import base64
import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.errors import FileError
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.read import parse_model
from oaktrim.core.scene.slots import Slot
from tests.kit.models import SQUARE, SQUARE_TRIANGLES, SQUARE_UV, add_mesh, material, rich_model, scene
from tests.kit.torn import torn


@pytest.fixture
def place(tmp_path):
    return ReferenceFolder(tmp_path, "models/boat.glb")


def test_a_model_is_read_as_it_was_written(place):
    model = parse_model(rich_model().glb(), place)
    assert model.faults == () and model.kind == "glb" and model.scene == "yard"
    primitive = model.meshes[0].primitives[0]
    np.testing.assert_array_equal(primitive.positions, SQUARE)
    np.testing.assert_array_equal(primitive.uvs[0], SQUARE_UV)
    np.testing.assert_array_equal(primitive.triangles.ravel(), SQUARE_TRIANGLES)
    assert model.meshes[0].data_bytes == SQUARE.nbytes + SQUARE_UV.nbytes + SQUARE_TRIANGLES.nbytes
    base, normal = model.materials[0].uses
    assert (base.slot, base.image, normal.slot) == (Slot.BASE_COLOUR, 0, Slot.NORMAL)
    assert (normal.offset, normal.scale, normal.rotation) == ((0.5, 0.25), (2.0, 2.0), 0.5)
    assert model.images[0].uri == "wood_base.png" and model.images[1].data == b"\x89PNG not really"
    clip = model.animations[0]
    assert (clip.name, clip.seconds, clip.channels, clip.keys, clip.data_bytes) == ("sway", 2.0, 1, 5, 5 * 4 + 5 * 16)
    assert model.nodes[0].matrix[1, 3] == 1 and model.nodes[0].matrix[1, 1] == 2
    assert model.skins[0].joints == 1 and model.extensions == ("ACME_paint",)
    assert model.below(model.roots[0]) == [1, 0]


def test_what_means_nothing_to_us_is_written_back_untouched(place):
    data = rich_model().glb()
    document = parse_gltf(data, place)
    assert document.pack() == data
    document.raw["materials"][0]["name"] = "varnish"
    again = parse_gltf(document.pack(), place)
    assert again.raw["materials"][0]["extensions"] == {"ACME_paint": {"gloss": [1, 2]}}
    assert again.binary == document.binary


def test_buffers_beside_the_file_in_data_uris_and_sparse_are_the_same(place):
    writer = rich_model()
    text, binary = writer.gltf("boat one.bin")
    (place.root / "models").mkdir()
    (place.root / "models" / "boat one.bin").write_bytes(binary)
    beside = text.replace(b'"boat one.bin"', b'"boat%20one.bin"')
    held = text.replace(b'"boat one.bin"', b'"data:application/octet-stream;base64,' + base64.b64encode(binary) + b'"')
    gltf = ReferenceFolder(place.root, "models/boat.gltf")
    models = [parse_model(data, gltf) for data in (beside, held)]
    assert [model.faults for model in models] == [(), ()] and models[0].files == ("models/boat one.bin",)
    for model in models:
        np.testing.assert_array_equal(model.meshes[0].primitives[0].positions, SQUARE)
    places, values = np.array([2], np.uint16), np.array([[9, 9, 9]], np.float32)
    writer.json["accessors"][0]["sparse"] = {
        "count": 1,
        "indices": {"bufferView": writer.view(places.tobytes()), "componentType": 5123},
        "values": {"bufferView": writer.view(values.tobytes())},
    }
    sparse = parse_model(writer.glb(), place)
    assert sparse.faults == ()
    assert sparse.meshes[0].primitives[0].positions.tolist() == [[0, 0, 0], [1, 0, 0], [9, 9, 9], [0, 1, 0]]


@pytest.mark.parametrize(("mode", "rows"), [(5, [[0, 1, 2], [2, 1, 3]]), (6, [[1, 2, 0], [2, 3, 0]]), (1, [])])
def test_strips_and_fans_are_written_out(place, mode, rows):
    writer = GltfWriter()
    add_mesh(writer, triangles=np.arange(4, dtype=np.uint8))
    writer.json["meshes"][0]["primitives"][0]["mode"] = mode
    assert parse_model(writer.glb(), place).meshes[0].primitives[0].triangles.tolist() == rows


def _set(path, value):
    def change(json):
        row = json
        for key in path[:-1]:
            row = row[key]
        row[path[-1]] = value

    return change


FAULTS = {
    "index past the end": (_set(("meshes", 0, "primitives", 0, "indices"), 99), "accessor 99"),
    "position past the end": (_set(("accessors", 0, "count"), 3), "4 elements for 3"),
    "billion entries": (_set(("accessors", 0, "count"), 4_000_000_000), "needs 48000000000 bytes"),
    "billion zeros": (
        lambda j: (j["accessors"][0].pop("bufferView"), j["accessors"][0].update(count=10**9)),
        "no buffer view",
    ),
    "negative offset": (_set(("bufferViews", 0, "byteOffset"), -4), "bufferView 0"),
    "view past the buffer": (_set(("bufferViews", 0, "byteLength"), 10**12), "bufferView 0"),
    "bad stride": (_set(("bufferViews", 1, "byteStride"), 8), "stride of 8"),
    "unknown component": (_set(("accessors", 0, "componentType"), 7), "component type 7"),
    "wrong width": (_set(("accessors", 1, "type"), "VEC3"), "accessor 1"),
    "no positions": (lambda j: j["meshes"][0]["primitives"][0]["attributes"].pop("POSITION"), "no positions"),
    "missing buffer": (_set(("buffers", 0, "uri"), "gone.bin"), "gone.bin', which is not there"),
    "climbing buffer": (_set(("buffers", 0, "uri"), "../../etc/passwd"), "outside the root"),
    "buffer from elsewhere": (_set(("buffers", 0, "uri"), "http://a.example/b.bin"), "not a path beside it"),
    "short buffer": (_set(("buffers", 0, "byteLength"), 10**10), "states 10000000000 bytes"),
    "cycle": (_set(("nodes", 0, "children"), [1]), "among its own children"),
    "own child": (_set(("nodes", 0, "children"), [0]), "its own"),
    "child past the end": (_set(("nodes", 0, "children"), [77]), "child 77"),
    "mesh past the end": (_set(("nodes", 0, "mesh"), 5), "mesh 5"),
    "material past the end": (_set(("meshes", 0, "primitives", 0, "material"), 5), "material 5"),
    "texture past the end": (_set(("materials", 0, "normalTexture", "index"), 8), "texture 8"),
    "image past the end": (_set(("textures", 0, "source"), 8), "image 8"),
    "scene past the end": (_set(("scene",), 3), "scene 3"),
    "short matrix": (_set(("nodes", 0, "matrix"), [1, 2]), "16 finite numbers"),
    "huge matrix": (_set(("nodes", 0, "translation"), [1e300, 0, 0]), "finite"),
    "sampler past the end": (_set(("animations", 0, "channels", 0, "sampler"), 4), "sampler 4"),
    "packed mesh": (
        _set(("meshes", 0, "primitives", 0, "extensions"), {"KHR_draco_mesh_compression": {}}),
        "KHR_draco_mesh_compression, which is not read",
    ),
    "transform of words": (
        _set(("materials", 0, "normalTexture", "extensions"), {"KHR_texture_transform": {"offset": ["a", "b"]}}),
        "texture transform",
    ),
}


@pytest.mark.parametrize("name", FAULTS)
def test_a_fault_is_named_and_the_rest_stands(place, name):
    change, words = FAULTS[name]
    data = rich_model().glb()
    document = parse_gltf(data, place)
    change(document.raw)
    model = parse_model(document.pack(), place)
    assert any(words in fault for fault in model.faults), model.faults
    assert len(model.materials) == 1 and len(model.nodes) == 2


def test_values_that_are_not_finite_are_a_fault(place):
    writer = GltfWriter()
    points = SQUARE.copy()
    points[2, 1] = np.inf
    add_mesh(writer, points=SQUARE)
    data = writer.glb().replace(SQUARE.tobytes(), points.tobytes())
    assert "POSITION holds values that are not finite" in parse_model(data, place).faults[0]


def test_wrong_types_name_the_field(place):
    with pytest.raises(FileError, match=r"models/boat.glb: .*\$\.accessors\[0\]\.count"):
        parse_model(b'{"asset": {"version": "2.0"}, "accessors": [{"componentType": 5126, "count": "x"}]}', place)


def test_obj_and_its_library(place):
    (place.root / "models").mkdir()
    library = "newmtl tarred rope\nKd 1 1 1\nmap_Kd -o 0.5 0 -s 2 2 -bm 1 pictures/rope base.png\nnorm rope_n.png\n"
    (place.root / "models" / "rope.mtl").write_text(library)
    text = (
        "mtllib rope.mtl\no rope\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\n"
        "usemtl tarred rope\nf 1/1 2/2 3/3 4/4\nf -4/-4 -3/-3 -2/-2\nusemtl missing\nf 1 2 3\n"
    )
    model = parse_model(text.encode(), ReferenceFolder(place.root, "models/rope.obj"))
    assert model.faults == ("material 'missing' is used and in no library",)
    quad, loose = model.meshes[0].primitives
    assert quad.triangles.tolist() == [[0, 1, 2], [0, 2, 3], [0, 1, 2]] and quad.uvs[0].shape == (4, 2)
    assert loose.uvs == () and loose.material is None
    base, normal = model.materials[0].uses
    assert model.images[base.image].uri == "pictures/rope base.png" and base.scale == (2, 2) and base.offset == (0.5, 0)
    assert normal.slot is Slot.NORMAL and model.files == ("models/rope.mtl",)
    with pytest.raises(FileError, match="past what stands before it"):
        parse_model(b"v 0 0 0\nf 1 2 3\n", ReferenceFolder(place.root, "a.obj"))


_SOUND = rich_model().glb()


@given(st.data())
def test_broken_models_raise_nothing_else(tmp_path_factory, drawn):
    """Ten thousand damaged files: bytes changed, cut and doubled, and values of the JSON swapped for others."""
    place = ReferenceFolder(tmp_path_factory.getbasetemp(), "boat.glb")
    rng = random.Random(drawn.draw(st.integers(0, 2**32)))
    for _ in range(100):
        data = torn(rng, _SOUND)
        name = "boat.obj" if rng.random() < 0.2 else "boat.glb"
        try:
            model = parse_model(data, ReferenceFolder(place.root, name))
        except FileError as error:
            assert "boat" in str(error)
        else:
            assert all(isinstance(fault, str) for fault in model.faults)


def test_equal_materials_have_equal_contents(place):
    writer = GltfWriter()
    image = writer.image("a.png")
    for name, texture in (("one", image), ("two", image), ("three", writer.image("b.png"))):
        material(writer, name, baseColorTexture=texture)
    scene(writer)
    one, two, three = (row.content for row in parse_model(writer.glb(), place).materials)
    assert one == two != three
