"""Trimmed models: alive and valid, where they were, and without what nothing needs."""

import numpy as np
import pytest

from oaktrim.core.errors import FileError
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.model import AlphaMode
from oaktrim.core.scene.pose import bent, posed
from oaktrim.core.scene.read import parse_model
from oaktrim.core.trim.cachekernel import cache_misses
from oaktrim.core.trim.model import trim
from oaktrim.core.trim.motion import MotionBound
from oaktrim.core.trim.settings import ModelSettings
from tests.kit import validator
from tests.kit.models import SQUARE, SQUARE_TRIANGLES, SQUARE_UV, add_mesh, material, rich_model, scene, whole_model
from tests.kit.trees import put

ALL = ModelSettings(True, True, True, 0.5, ((0, MotionBound(1.0, 1.0)),))


def shifted(aside):
    return (SQUARE + np.array([aside, 0, 0])).astype(np.float32)


def grid(side=20, size=1.0):
    y, x = np.mgrid[0 : side + 1, 0 : side + 1]
    points = np.stack([x * size / side, y * size / side, np.sin(x) * 0.05], axis=-1).reshape(-1, 3).astype(np.float32)
    first = (y[:-1, :-1] * (side + 1) + x[:-1, :-1]).ravel()
    quads = np.stack([first, first + 1, first + side + 2, first, first + side + 2, first + side + 1], axis=1)
    uv = (points[:, :2] / size).astype(np.float32)
    return points, uv, quads.reshape(-1, 3)


def snake(seed=0):
    """A skinned tube on six joints, with a clip whose keys are many, indices in 32 bits and a second set of UVs."""
    rng = np.random.default_rng(seed)
    writer = GltfWriter()
    points, uv, triangles = grid()
    points = points * (0.2, 1.2, 1)
    triangles = triangles[rng.permutation(len(triangles))]
    joint = np.clip(points[:, 1] / 0.2, 0, 5)
    joints = np.zeros((len(points), 4), np.uint16)
    weights = np.zeros((len(points), 4), np.float32)
    joints[:, 0], joints[:, 1] = np.floor(joint), np.minimum(np.floor(joint) + 1, 5)
    weights[:, 1] = joint - np.floor(joint)
    weights[:, 0] = 1 - weights[:, 1]
    paint = material(writer, baseColorTexture=writer.image("wood_base.png"))
    attributes = {
        "POSITION": writer.accessor(points.astype(np.float32), bounds=True, indices=False),
        "NORMAL": writer.accessor(np.tile(np.array([0, 0, 1], np.float32), (len(points), 1)), indices=False),
        "TANGENT": writer.accessor(np.tile(np.array([1, 0, 0, 1], np.float32), (len(points), 1)), indices=False),
        "TEXCOORD_0": writer.accessor(uv, indices=False), "TEXCOORD_1": writer.accessor(uv[::-1].copy(), indices=False),
        "COLOR_0": writer.accessor(np.ones((len(points), 4), np.float32), indices=False),
        "JOINTS_0": writer.accessor(joints, indices=False), "WEIGHTS_0": writer.accessor(weights, indices=False),
    }  # fmt: skip
    indices = writer.accessor(triangles.ravel().astype(np.uint32), indices=True)
    mesh = writer.add("meshes", primitives=[{"attributes": attributes, "indices": indices, "material": paint}])
    bones = []
    for n in range(6):
        bones.append(writer.add("nodes", name=f"bone {n}", translation=[0, 0.2 if n else 0, 0]))
        if n:
            writer.json["nodes"][bones[n - 1]]["children"] = [bones[n]]
    back = np.tile(np.eye(4, dtype=np.float32), (6, 1, 1))
    back[:, 3, 1] = -0.2 * np.arange(6)
    skin = writer.add("skins", joints=bones, inverseBindMatrices=writer.accessor(back.reshape(6, 16)))
    body = writer.add("nodes", name="snake", mesh=mesh, skin=skin)
    times = np.arange(181, dtype=np.float32) / 60
    shared, samplers, channels = writer.accessor(times, bounds=True), [], []
    for bone in bones:
        angle = 0.3 * np.sin(times * rng.uniform(1, 5) + rng.uniform(0, 6))
        turns = np.stack([np.zeros_like(times), np.zeros_like(times), np.sin(angle / 2), np.cos(angle / 2)], axis=1)
        samplers.append({"input": shared, "output": writer.accessor(turns.astype(np.float32))})
        channels.append({"sampler": len(samplers) - 1, "target": {"node": bone, "path": "rotation"}})
    writer.add("animations", name="wind", samplers=samplers, channels=channels)
    scene(writer, body, bones[0])
    return writer


def trimmed(root, writer, settings):
    place = ReferenceFolder(root, "model.glb")
    return trim(parse_gltf(writer.glb(), place), settings, "model.bin")


def read(root, data):
    return parse_model(data, ReferenceFolder(root, "model.glb"), whole=True)


def world_points(model, clip=None, seconds=0.0):
    """Return the corners of all triangles in the world, at rest or at a time of a clip, (T, 3, 3)."""
    matrices = posed(model, clip, seconds)
    found = []
    for place, node in enumerate(model.nodes):
        if node.mesh is None or place not in matrices:
            continue
        for primitive in model.meshes[node.mesh].primitives:
            if node.skin is not None:
                moved = bent(primitive, model.skins[node.skin], matrices).positions
            else:
                moved = primitive.positions @ matrices[place][:3, :3].T + matrices[place][:3, 3]
            found.append(moved[primitive.triangles])
    return np.concatenate(found)


def as_set(triangles):
    """Return triangles in an order that does not depend on where each begins or stands."""
    rows = []
    for corners in np.round(triangles, 3):
        turns = [np.roll(corners, -k, axis=0).ravel().tolist() for k in range(3)]
        rows.append(min(turns))
    return np.array(sorted(rows))


def judged(tmp_path, file):
    """Write a trimmed file and have the validator of the format's working group judge it."""
    path = tmp_path / "model.glb"
    path.write_bytes(file.data)
    if validator.is_there():
        for image in read(tmp_path, file.data).images:
            if image.data is None:
                put(tmp_path, image.uri, size=(4, 4))
        assert validator.errors(path) == []
    return read(tmp_path, file.data)


@pytest.mark.parametrize(
    "how",
    [
        ModelSettings(unused=True), ModelSettings(ordered=True), ModelSettings(millimetres=0.5),
        ModelSettings(motion=ALL.motion), ALL,
    ],
    ids=["unused", "ordered", "quantized", "motion", "all"],
)  # fmt: skip
def test_skinned_vertices_are_where_they_were_through_time(tmp_path, how):
    writer = snake()
    source, made = read(tmp_path, writer.glb()), trimmed(tmp_path, writer, how)
    after = judged(tmp_path, made.file)
    # A clip may be off by a millimetre, a vertex by half of one.
    bound = (1e-3 if how.motion else 0) + (0.5e-3 if how.millimetres else 0) + 1e-5
    for seconds in np.linspace(0, 3.2, 23):
        before = world_points(source, source.animations[0], seconds)
        now = world_points(after, after.animations[0], seconds)
        assert before.shape == now.shape
        if how.ordered:
            assert (
                np.abs(np.sort(before.reshape(-1, 3), axis=0) - np.sort(now.reshape(-1, 3), axis=0)).max() < 2 * bound
            )
        else:
            assert np.sqrt(np.square(before - now).sum(axis=-1)).max() <= bound
    assert after.animations[0].seconds == pytest.approx(source.animations[0].seconds)


def test_what_is_saved_and_said(tmp_path):
    writer = snake()
    made = trimmed(tmp_path, writer, ALL)
    assert set(made.vertices.dropped) == {"TANGENT", "TEXCOORD_1", "COLOR_0"}
    raw = parse_gltf(made.file.data, ReferenceFolder(tmp_path, "model.glb")).raw
    attributes = raw["meshes"][0]["primitives"][0]["attributes"]
    assert set(attributes) == {"POSITION", "NORMAL", "TEXCOORD_0", "JOINTS_0", "WEIGHTS_0"}
    kinds = {name: raw["accessors"][place]["componentType"] for name, place in attributes.items()}
    assert kinds == {"POSITION": 5122, "NORMAL": 5120, "TEXCOORD_0": 5123, "JOINTS_0": 5121, "WEIGHTS_0": 5123}
    assert raw["accessors"][raw["meshes"][0]["primitives"][0]["indices"]]["componentType"] == 5123
    assert raw["extensionsRequired"] == ["KHR_mesh_quantization"]
    assert 0 < made.vertices.millimetres <= 0.5 and made.vertices.misses[1] < made.vertices.misses[0] / 2
    assert len(made.file.data) < len(writer.glb()) / 2.5
    assert made.clips[0].after < made.clips[0].before / 2.5
    assert trimmed(tmp_path, snake(), ALL).file == made.file


def test_the_order_of_triangles_is_measured_by_itself():
    _, _, triangles = grid(40)
    shuffled = triangles[np.random.default_rng(1).permutation(len(triangles))].ravel()
    cache, misses = [], 0
    for vertex in shuffled.tolist():
        if vertex not in cache:
            misses += 1
            cache = [*cache, vertex][-16:]
    assert cache_misses(shuffled, 41 * 41, 16) == misses


def test_ordered_triangles_are_the_same_triangles(tmp_path):
    writer = GltfWriter()
    points, uv, triangles = grid()
    order = np.random.default_rng(3).permutation(len(triangles))
    paint = material(writer)
    mesh = add_mesh(writer, paint, uv, points, triangles[order].ravel().astype(np.uint16))
    scene(writer, writer.add("nodes", mesh=mesh))
    made = trimmed(tmp_path, writer, ModelSettings(ordered=True))
    after = judged(tmp_path, made.file)
    assert np.array_equal(as_set(world_points(read(tmp_path, writer.glb()))), as_set(world_points(after)))
    assert made.vertices.misses[1] / made.vertices.triangles < 0.8


def test_what_materials_read_stays(tmp_path):
    writer = GltfWriter()
    picture = writer.image("wood_base.png")
    paint = material(writer, baseColorTexture=picture, normalTexture=picture)
    writer.json["materials"][paint]["normalTexture"]["texCoord"] = 1
    unlit = writer.add("materials", name="sign", extensions={"KHR_materials_unlit": {}})
    writer.json["extensionsUsed"] = ["KHR_materials_unlit"]
    meshes = []
    for worn in (paint, unlit):
        mesh = add_mesh(writer, worn)
        row = writer.json["meshes"][mesh]["primitives"][0]["attributes"]
        row |= {
            "NORMAL": writer.accessor(np.tile(np.array([0, 0, 1], np.float32), (4, 1)), indices=False),
            "TANGENT": writer.accessor(np.tile(np.array([1, 0, 0, 1], np.float32), (4, 1)), indices=False),
            "TEXCOORD_1": writer.accessor(SQUARE_UV, indices=False),
            "COLOR_0": writer.accessor(np.array([[1, 0.5, 1, 1]] * 4, np.float32), indices=False),
            "_WIND": writer.accessor(np.zeros((4, 1), np.float32), indices=False),
        }
        meshes.append(mesh)
    scene(writer, *(writer.add("nodes", mesh=mesh) for mesh in meshes))
    made = trimmed(tmp_path, writer, ModelSettings(unused=True))
    judged(tmp_path, made.file)
    raw = parse_gltf(made.file.data, ReferenceFolder(tmp_path, "model.glb")).raw
    kept = [set(mesh["primitives"][0]["attributes"]) for mesh in raw["meshes"]]
    assert kept[0] == {"POSITION", "NORMAL", "TANGENT", "TEXCOORD_0", "TEXCOORD_1", "COLOR_0", "_WIND"}
    assert kept[1] == {"POSITION", "COLOR_0", "_WIND"}


def test_meshes_that_are_the_same_are_one(tmp_path):
    writer = GltfWriter()
    paint = material(writer)
    nodes = [writer.add("nodes", name=str(n), mesh=add_mesh(writer, paint, name=f"crate {n}")) for n in range(4)]
    scene(writer, *nodes)
    made = trimmed(tmp_path, writer, ModelSettings(unused=True))
    after = judged(tmp_path, made.file)
    assert made.vertices.shared == 3 and len(after.meshes) == 1
    assert [node.mesh for node in after.nodes] == [0] * 4 and [node.name for node in after.nodes] == list("0123")


def test_materials_that_are_the_same_are_one_and_their_draws_are_joined(tmp_path):
    writer = GltfWriter()
    picture = writer.image("wood_base.png")
    paints = [material(writer, name, baseColorTexture=picture) for name in ("oak", "oak.001", "oak.002")]
    glass = writer.add("materials", name="glass", alphaMode="BLEND")
    rows = []
    for n, worn in enumerate([*paints, glass]):
        attributes = {
            "POSITION": writer.accessor(shifted(n), bounds=True, indices=False),
            "TEXCOORD_0": writer.accessor(SQUARE_UV, indices=False),
        }
        rows.append(
            {"attributes": attributes, "indices": writer.accessor(SQUARE_TRIANGLES, indices=True), "material": worn}
        )
    del rows[1]["indices"]
    rows[1]["attributes"] = {
        name: writer.accessor(values[SQUARE_TRIANGLES], bounds=name == "POSITION", indices=False)
        for name, values in (("POSITION", shifted(1)), ("TEXCOORD_0", SQUARE_UV))
    }
    scene(writer, writer.add("nodes", mesh=writer.add("meshes", primitives=rows)))
    made = trimmed(tmp_path, writer, ModelSettings(merged=True))
    after = judged(tmp_path, made.file)
    assert (made.materials, made.draws) == (2, 2)
    assert [row.name for row in after.materials] == ["oak", "glass"] and len(after.meshes[0].primitives) == 2
    assert after.materials[1].surface.alpha is AlphaMode.BLEND
    assert np.array_equal(as_set(world_points(read(tmp_path, writer.glb()))), as_set(world_points(after)))


def test_a_part_that_is_left_out_takes_with_it_what_only_it_had(tmp_path):
    writer = snake()
    coat = material(writer, "coat", baseColorTexture=writer.image("coat_base.png"))
    button = writer.add("nodes", name="button", mesh=add_mesh(writer, coat), translation=[0, 1, 0])
    worn = writer.add("nodes", name="coat", mesh=add_mesh(writer, coat), children=[button])
    times, values = np.array([0, 1], np.float32), np.array([[0, 0, 0], [0, 1, 0]], np.float32)
    writer.add(
        "animations", name="flap", channels=[{"sampler": 0, "target": {"node": button, "path": "translation"}}],
        samplers=[{"input": writer.accessor(times, bounds=True), "output": writer.accessor(values)}],
    )  # fmt: skip
    writer.json["scenes"][0]["nodes"].append(worn)
    place = next(n for n, row in enumerate(writer.json["nodes"]) if row.get("name") == "coat")
    after = judged(tmp_path, trimmed(tmp_path, writer, ModelSettings(nodes=(place,))).file)
    assert {node.name for node in after.nodes} == {"snake", *(f"bone {n}" for n in range(6))}
    assert [row.name for row in after.materials] == ["paint"] and [i.uri for i in after.images] == ["wood_base.png"]
    assert [clip.name for clip in after.animations] == ["wind"]
    source = read(tmp_path, snake().glb())
    moment = world_points(source, source.animations[0], 1.3)
    assert np.allclose(world_points(after, after.animations[0], 1.3), moment, atol=1e-5)


def test_a_variant_that_is_left_out(tmp_path):
    writer = GltfWriter()
    paints = [material(writer, name, baseColorTexture=writer.image(f"{name}.png")) for name in ("day", "night", "dusk")]
    mesh = add_mesh(writer, paints[0])
    writer.json["meshes"][mesh]["primitives"][0]["extensions"] = {
        "KHR_materials_variants": {
            "mappings": [{"material": paints[1], "variants": [0]}, {"material": paints[2], "variants": [1]}]
        }
    }
    writer.json["extensions"] = {"KHR_materials_variants": {"variants": [{"name": "night"}, {"name": "dusk"}]}}
    writer.json["extensionsUsed"] = ["KHR_materials_variants"]
    scene(writer, writer.add("nodes", mesh=mesh))
    made = trimmed(tmp_path, writer, ModelSettings(variants=("night",)))
    after = judged(tmp_path, made.file)
    assert [row.name for row in after.materials] == ["day", "dusk"]
    raw = parse_gltf(made.file.data, ReferenceFolder(tmp_path, "model.glb")).raw
    assert raw["extensions"]["KHR_materials_variants"]["variants"] == [{"name": "dusk"}]
    mapped = raw["meshes"][0]["primitives"][0]["extensions"]["KHR_materials_variants"]["mappings"]
    assert mapped == [{"material": 1, "variants": [0]}]
    none = trimmed(tmp_path, writer, ModelSettings(variants=("night", "dusk"))).file
    assert b"KHR_materials_variants" not in none.data
    judged(tmp_path, none)


def test_clips_that_are_left_out(tmp_path):
    after = judged(tmp_path, trimmed(tmp_path, snake(), ModelSettings(clips=(0,))).file)
    assert after.animations == ()


def test_all_that_is_read_stands_where_it_stood(tmp_path):
    """Instances, levels of detail, lights, cameras, and positions that were whole steps already."""
    writer = whole_model()
    before = read(tmp_path, writer.glb())
    made = trimmed(tmp_path, writer, ModelSettings(True, True, True, 0.5))
    after = read(tmp_path, made.file.data)
    assert not after.faults and made.vertices.left
    assert np.allclose(as_set(world_points(before)), as_set(world_points(after)), atol=2e-3)
    for kind in ("camera", "light"):
        held = [[getattr(node, kind) for node in model.nodes if getattr(node, kind)] for model in (before, after)]
        assert held[0] == held[1] and held[0]
    near = next(node for node in after.nodes if node.name == "pebbles")
    assert len(near.instances) == 3 and [after.nodes[n].name for n in near.levels] == ["pebbles far"]


def test_shapes_that_say_only_what_differs_keep_saying_that(tmp_path):
    writer = GltfWriter()
    points, uv, triangles = grid()
    mesh = add_mesh(writer, material(writer), uv, points, triangles.ravel().astype(np.uint16))
    moved = writer.add(
        "accessors", componentType=5126, count=len(points), type="VEC3", min=[0, 0, 0], max=[0, 0, 0.5],
        sparse={
            "count": 2, "indices": {"bufferView": writer.view(np.array([3, 9], np.uint16).tobytes()), "componentType": 5123},
            "values": {"bufferView": writer.view(np.array([[0, 0, 0.5], [0, 0, 0.25]], np.float32).tobytes())},
        },
    )  # fmt: skip
    writer.json["meshes"][mesh]["primitives"][0]["targets"] = [{"POSITION": moved}]
    scene(writer, writer.add("nodes", mesh=mesh))
    made = trimmed(tmp_path, writer, ALL)
    judged(tmp_path, made.file)
    document = parse_gltf(made.file.data, ReferenceFolder(tmp_path, "model.glb"))
    place = document.raw["meshes"][0]["primitives"][0]["targets"][0]["POSITION"]
    shape = document.stored(place)
    assert "sparse" in document.raw["accessors"][place]
    assert np.array_equal(np.flatnonzero(shape.any(axis=1)), [3, 9]) and shape[3, 2] == 0.5


def test_images_that_it_holds_go_along(tmp_path):
    writer = rich_model()
    made = trimmed(tmp_path, writer, ModelSettings(unused=True))
    after = read(tmp_path, made.file.data)
    assert [image.data for image in after.images] == [image.data for image in read(tmp_path, writer.glb()).images]
    assert b"not really" in made.file.data and b"not really" not in made.file.geometry
    assert b"ACME_paint" in made.file.data


@pytest.mark.parametrize("kind", ["unknown", "compressed", "pointer", "misshapen", "damaged"])
def test_what_cannot_be_written_again_is_said(tmp_path, kind):
    writer = snake()
    primitive = writer.json["meshes"][0]["primitives"][0]
    if kind == "unknown":
        writer.json["nodes"][0]["extensions"] = {"ACME_cloth": {"accessor": 3}}
    elif kind == "compressed":
        primitive["extensions"] = {"KHR_draco_mesh_compression": {"bufferView": 0, "attributes": {}}}
    elif kind == "pointer":
        writer.json["extensionsUsed"] = ["KHR_animation_pointer"]
    elif kind == "misshapen":
        writer.json["materials"][0]["extensions"] = {"KHR_materials_clearcoat": {}, "KHR_materials_unlit": []}
        writer.json["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]["extensions"] = {
            "KHR_texture_transform": "x"
        }
    else:
        primitive["attributes"]["POSITION"] = 99
    with pytest.raises(FileError, match="ships as it is"):
        trimmed(tmp_path, writer, ALL)


@pytest.mark.parametrize("fault", ["nan", "backwards", "short"])
def test_broken_keys_are_said(tmp_path, fault):
    writer = snake()
    times, values = np.array([0, 1, 2], np.float32), np.tile(np.array([0, 0, 0, 1], np.float32), (3, 1))
    if fault == "nan":
        values[1] = np.nan
    elif fault == "backwards":
        times = times[::-1].copy()
    else:
        values = values[:2]
    writer.json["animations"][0]["samplers"][0] = {
        "input": writer.accessor(times, bounds=True),
        "output": writer.accessor(values),
    }
    with pytest.raises(FileError, match=r"model\.glb"):
        trimmed(tmp_path, writer, ALL)


def test_rings_of_nodes_are_said(tmp_path):
    writer = snake()
    writer.json["nodes"][5]["children"] = [0]
    with pytest.raises(FileError, match="ships as it is"):
        trimmed(tmp_path, writer, ALL)


def test_a_document_without_nodes_stays_one(tmp_path):
    made = trimmed(tmp_path, GltfWriter(), ModelSettings(True, True, True, 0.5))
    after = read(tmp_path, made.file.data)
    assert not after.faults and not after.nodes
