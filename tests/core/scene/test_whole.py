"""Models read whole, as drawing needs them: everything a file says, brought to the world, at rest and in movement."""

import random
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.progress import finish
from oaktrim.core.render.camera import framing
from oaktrim.core.render.drawable import drawable
from oaktrim.core.render.drawlist import NORMAL, TANGENT, draw_list
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.geometry import smooth_normals, tangents_of
from oaktrim.core.scene.model import AlphaMode, LightKind
from oaktrim.core.scene.pose import posed
from oaktrim.core.scene.read import parse_model
from oaktrim.core.scene.shapes import sphere
from tests.kit.models import SQUARE, add_mesh, scene, whole_model
from tests.kit.torn import torn


@pytest.fixture
def place(tmp_path):
    return ReferenceFolder(tmp_path, "boat.glb")


@pytest.fixture
def model(place):
    return parse_model(whole_model().glb(), place, whole=True)


def test_everything_a_renderer_needs_is_read(model):
    assert model.faults == ()
    square = model.meshes[0].primitives[0]
    np.testing.assert_array_equal(square.colours, [[1, 0, 0, 1]] * 4)
    np.testing.assert_array_equal(square.normals, [[0, 0, 1]] * 4)
    np.testing.assert_array_equal(square.weights, [[1, 0, 0, 0]] * 4)
    pebble = model.meshes[1].primitives[0]
    np.testing.assert_allclose(pebble.positions, SQUARE, atol=1e-6)
    glass = model.materials[1].surface
    assert glass.base_colour == pytest.approx((0.1, 0.2, 0.3, 0.4)) and (glass.metallic, glass.roughness) == (0.5, 0.25)
    assert glass.emissive == (2.0, 0.0, 0.0) and (glass.alpha, glass.cutoff) == (AlphaMode.MASK, 0.25)
    assert glass.two_sided and glass.unlit
    normal = model.materials[0].uses[1]
    assert (normal.offset, normal.scale, normal.rotation) == ((0.5, 0.25), (2, 2), 0.5)
    nodes = {node.name: node for node in model.nodes}
    assert nodes["pebbles"].instances[:, 0, 3].tolist() == [0, 2, 4]
    assert [model.nodes[n].name for n in nodes["pebbles"].levels] == ["pebbles far"]
    assert nodes["pebbles"].coverage == (0.5, 0.1)
    lamp = nodes["lamp"].light
    assert (lamp.kind, lamp.intensity, lamp.colour) == (LightKind.POINT, 20, (1, 0.5, 0))
    assert (nodes["eye"].camera.yfov, nodes["eye"].camera.aspect) == (0.8, 1.5)


def test_a_survey_reads_none_of_it(place):
    brief = parse_model(whole_model().glb(), place)
    assert all(p.normals is None and p.weights is None for mesh in brief.meshes for p in mesh.primitives)
    assert all(node.instances is None for node in brief.nodes)


def test_what_is_drawn_stands_in_the_world_and_stand_ins_are_left_out(model):
    draws = draw_list(model)
    # The boat's square bent by its joint, the sail's, and three pebbles; the far pebbles only stand in for them.
    assert len(draws.triangles) == 2 + 2 + 3 * 2
    assert draws.names == ("boat", "pebbles", "lamp", "eye")
    low, high = draws.box()
    np.testing.assert_allclose((low, high), [[0, 0, 0], [5, 3, 0]], atol=1e-5)
    # Bent by its joint, which stands one up and stretched by two; the node that it hangs on does not move it.
    bent = draws.positions[draws.triangles[:2].reshape(-1)]
    np.testing.assert_allclose([bent[:, 1].min(), bent[:, 1].max()], [1, 3], atol=1e-5)


def test_an_animation_moves_its_nodes_and_what_hangs_on_them(place):
    writer = whole_model()
    half = np.sqrt(0.5)
    turns = np.array([[0, 0, 0, 1], [0, 0, half, half]], np.float32)
    times = np.array([0, 1], np.float32)
    animation = writer.json["animations"][0]
    animation["samplers"] = [{"input": writer.accessor(times, bounds=True), "output": writer.accessor(turns)}]
    model = parse_model(writer.glb(), place, whole=True)
    sail = next(n for n, node in enumerate(model.nodes) if node.name == "sail")
    clip = model.animations[0]
    for seconds, angle in ((-1.0, 0), (0.0, 0), (0.5, 45), (1.0, 90), (7.0, 90)):
        turn = posed(model, clip, seconds)[sail][:3, :3] / (1, 2, 1)
        np.testing.assert_allclose(turn[:, 0], [np.cos(np.radians(angle)), np.sin(np.radians(angle)), 0], atol=1e-6)
    turned = draw_list(model, posed(model, clip, 1.0))
    points = turned.positions[turned.triangles[:2].reshape(-1)]
    np.testing.assert_allclose([points[:, 0].min(), points[:, 0].max()], [-2, 0], atol=1e-5)


def test_normals_and_tangents_that_are_missing_are_made_and_that_is_recorded(place):
    writer = GltfWriter()
    mesh = add_mesh(writer, points=SQUARE + np.float32([0, 0, 1]))
    scene(writer, writer.add("nodes", mesh=mesh))
    draws = draw_list(parse_model(writer.glb(), place, whole=True))
    assert (draws.flat, draws.derived_tangents) == (1, 1)
    np.testing.assert_allclose(draws.attributes[:, NORMAL : NORMAL + 3], [[0, 0, 1]] * 6, atol=1e-6)
    np.testing.assert_allclose(draws.attributes[:, TANGENT : TANGENT + 4], [[1, 0, 0, 1]] * 6, atol=1e-6)
    ball = sphere(64, 32)
    smooth = smooth_normals(ball.positions, ball.triangles)
    inner = (np.abs(ball.positions[:, 1]) < 0.99) & (np.abs(ball.uvs[0][:, 0] - 1) < 0.98)
    assert ((smooth * ball.normals).sum(axis=1)[inner] > 0.999).all()
    tangents = tangents_of(ball, ball.uvs[0])[inner]
    around = np.stack([ball.positions[:, 2], np.zeros(len(inner)), -ball.positions[:, 0]], axis=1)[inner]
    around /= np.linalg.norm(around, axis=1, keepdims=True)
    assert ((tangents[:, :3] * around).sum(axis=1) > 0.99).all() and (tangents[:, 3] == 1).all()


def test_a_matrix_that_mirrors_or_flattens_keeps_normals_square_to_the_surface(model):
    for scale in ((-1, 1, 1), (1, 1, 5), (2, 0.5, 1)):
        nodes = list(model.nodes)
        place = next(n for n, node in enumerate(nodes) if node.name == "pebbles far")
        nodes[place] = replace(nodes[place], matrix=np.diag([*scale, 1.0]))
        draws = draw_list(replace(model, nodes=tuple(nodes), roots=(place,)))
        corners = draws.positions[draws.triangles]
        faces = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        normals = draws.attributes[draws.triangles[:, 0], NORMAL : NORMAL + 3]
        assert ((faces * normals).sum(axis=1) > 0).all()


def test_a_mesh_compressed_in_a_way_that_is_not_read_is_named(place):
    writer = GltfWriter()
    mesh = add_mesh(writer)
    row = writer.json["meshes"][mesh]["primitives"][0]
    row["extensions"] = {"KHR_draco_mesh_compression": {"bufferView": 0, "attributes": {"POSITION": 0}}}
    for accessor in writer.json["accessors"]:
        accessor.pop("bufferView")
    writer.json["extensionsUsed"] = writer.json["extensionsRequired"] = ["KHR_draco_mesh_compression"]
    scene(writer, writer.add("nodes", mesh=mesh))
    model = parse_model(writer.glb(), place, whole=True)
    assert any("KHR_draco_mesh_compression" in fault for fault in model.faults)
    assert len(draw_list(model).triangles) == 0


def test_an_obj_is_lit_by_what_its_library_says(tmp_path):
    (tmp_path / "cup.mtl").write_text("newmtl clay\nKd 0.5 0.25 0.125\nNs 30\nPm 0.5\nnewmtl clear\nd 0.5\nKe 1 2 3\n")
    text = (
        "mtllib cup.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvn 0 0 1\nvn 0 1 0\nvn 1 0 0\n"
        "usemtl clay\nf 1//1 2//2 3//3\nusemtl clear\nf 1//1 2//1 3//1\n"
    )
    model = parse_model(text.encode(), ReferenceFolder(tmp_path, "cup.obj"), whole=True)
    clay, clear = (material.surface for material in model.materials)
    assert clay.base_colour == (0.5, 0.25, 0.125, 1) and clay.metallic == 0.5 and 0.3 < clay.roughness < 0.6
    assert clear.alpha is AlphaMode.BLEND and clear.base_colour[3] == 0.5 and clear.emissive == (1, 2, 3)
    draws = draw_list(model)
    np.testing.assert_array_equal(draws.attributes[:3, NORMAL : NORMAL + 3], [[0, 0, 1], [0, 1, 0], [1, 0, 0]])
    assert draws.flat == 0


_SOUND = whole_model().glb()


@given(st.data())
def test_damaged_models_are_drawn_or_refused(tmp_path_factory, drawn):
    """Five thousand damaged files, each read whole and drawn."""
    place = ReferenceFolder(tmp_path_factory.getbasetemp(), "boat.glb")
    rng = random.Random(drawn.draw(st.integers(0, 2**32)))
    pictures = 0
    for _ in range(50):
        name = "boat.obj" if rng.random() < 0.2 else "boat.glb"
        try:
            model = parse_model(torn(rng, _SOUND), ReferenceFolder(place.root, name), whole=True)
            draws = draw_list(model)
        except (FileError, Unsupported):
            continue
        scene_now = drawable(draws, model.materials, lambda *_: None)
        picture = finish(draw(scene_now, framing(*draws.box()), (16, 16), Settings(buffers=("ids", "normals")), 1))
        assert np.isfinite(picture.colour).all() and np.isfinite(picture.normals).all()
        pictures += 1
    assert pictures
