"""How large textures need to be: held to planes whose answer is known, and to what makes a texture ask for less or for more."""

import msgspec
import numpy as np
import pytest

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.progress import finish
from oaktrim.core.sight.demand import demand_of, stage_of, with_cameras
from oaktrim.core.sight.sightlines import Nearest, Path, Portrait, Sightlines, Station, Step, Zone
from oaktrim.core.sight.views import directions, on_path, zone_places
from oaktrim.core.survey.drawables import TextureCache, load
from oaktrim.core.targets.target import Filtering, target_named
from tests.kit.models import SQUARE, SQUARE_UV, add_mesh, material
from tests.kit.sights import wall
from tests.kit.trees import put, surveyed

SCREEN = (640, 360)
TRILINEAR = msgspec.structs.replace(target_named("lounge"), filtering=Filtering.TRILINEAR, screen=SCREEN)
ANISOTROPIC = msgspec.structs.replace(TRILINEAR, filtering=Filtering.ANISOTROPIC)
YFOV = 0.9


def at(distance, name="front", **how):
    return Station(name, (0.0, 0.0, distance), (0.0, 0.0, 0.0), YFOV, **how)


def asked(root, *stations, target=TRILINEAR, selected=None, **lines):
    inventory = surveyed(root)
    sightlines = Sightlines(stations=stations, **lines)
    estimates = []
    chosen = selected or (lambda where: np.array([where in t.path for t in inventory.textures]))
    task = demand_of(inventory, target, sightlines, chosen)
    found = finish(task, lambda step: estimates.append(step.found) if step.found is not None else None)
    return inventory, found, estimates[0]


def wanted(root, *stations, path="wall_base.png", **how):
    inventory, found, _ = asked(root, *stations, **how)
    row = inventory.row_of[path]
    texture = inventory.textures[row]
    return found.wanted(row, (texture.width, texture.height))[0]


@pytest.mark.parametrize("target", [TRILINEAR, ANISOTROPIC], ids=["trilinear", "anisotropic"])
def test_a_plane_square_to_the_camera_wants_the_pixels_that_it_takes(tmp_path, target):
    wall(tmp_path)
    for distance in np.geomspace(2, 60, 10):
        pixel = 2 * distance * np.tan(YFOV / 2) / SCREEN[1]
        assert wanted(tmp_path, at(distance), target=target) == pytest.approx(8 / pixel, rel=0.02)


@pytest.mark.parametrize("lean", [20.0, 45.0, 65.0])
@pytest.mark.parametrize("target", [TRILINEAR, ANISOTROPIC], ids=["trilinear", "anisotropic"])
def test_an_inclined_plane_wants_what_its_own_footprint_says(tmp_path, lean, target):
    wall(tmp_path, lean=lean, half=1.0)
    station = at(5.0)
    y, x = np.mgrid[0 : SCREEN[1], 0 : SCREEN[0]] + 0.5
    tall = np.tan(YFOV / 2)
    angle = np.radians(lean)
    along = np.array([[1, 0, 0], [0, np.cos(angle), -np.sin(angle)]])
    normal = np.array([0, np.sin(angle), np.cos(angle)])

    def texels(x, y):
        way = np.stack(
            [(x / SCREEN[0] * 2 - 1) * tall * SCREEN[0] / SCREEN[1], (1 - y / SCREEN[1] * 2) * tall, -np.ones_like(x)],
            -1,
        )
        point = np.array([0, 0, 5.0]) + way * (-(5.0 * normal[2]) / (way @ normal))[..., None]
        return point @ along.T * 128

    here, step = texels(x, y), 1e-3
    inside = (np.abs(here) < 128).all(axis=-1)
    dx, dy = ((texels(x + step * a, y + step * b) - here) / step for a, b in ((1, 0), (0, 1)))
    area = np.abs(dx[..., 0] * dy[..., 1] - dx[..., 1] * dy[..., 0])
    longest = np.maximum((dx**2).sum(-1), (dy**2).sum(-1))
    level = 0.5 * np.log2(area if target is ANISOTROPIC else longest)[inside]
    expected = 256 / 2 ** np.percentile(level, 5)
    assert wanted(tmp_path, station, target=target) == pytest.approx(expected, rel=0.05)


def test_the_transform_of_a_texture_and_repeats_count(tmp_path):
    def twice(writer, nodes):
        slot = writer.json["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]
        slot["extensions"] = {"KHR_texture_transform": {"scale": [2, 2], "rotation": 0.7}}
        writer.json["extensionsUsed"] = ["KHR_texture_transform"]

    for folder in ("plain", "repeated", "transformed"):
        (tmp_path / folder).mkdir()
    wall(tmp_path / "plain")
    wall(tmp_path / "repeated", repeats=4.0)
    wall(tmp_path / "transformed", edit=twice)
    plain = wanted(tmp_path / "plain", at(20.0), target=ANISOTROPIC)
    assert wanted(tmp_path / "repeated", at(20.0), target=ANISOTROPIC) == pytest.approx(plain / 4, rel=0.02)
    assert wanted(tmp_path / "transformed", at(20.0), target=ANISOTROPIC) == pytest.approx(plain / 2, rel=0.02)


def test_the_most_demanding_use_counts_and_is_named(tmp_path):
    wall(tmp_path)
    inventory, found, _ = asked(tmp_path, at(20.0, "far"), at(4.0, "near"), at(9.0, "middle"))
    row = inventory.row_of["wall_base.png"]
    assert found.views[found.view[row]] == "near" and found.object[row] == "wall"
    assert found.distance[row] == pytest.approx(4.0, rel=0.01)
    assert found.wanted(row, (256, 256))[0] == pytest.approx(wanted(tmp_path, at(4.0)), rel=1e-6)


def test_one_grazing_pixel_does_not_decide_but_all_of_them_at_the_hundredth_percentile(tmp_path):
    def close_by(writer, nodes):
        tip = SQUARE * 0.004 + np.float32([0, 0, 9.9])
        nodes.append(writer.add("nodes", name="tip", mesh=add_mesh(writer, 0, SQUARE_UV * 0.02, tip)))

    wall(tmp_path, edit=close_by)
    usual = wanted(tmp_path, at(10.0))
    strict = wanted(tmp_path, at(10.0), percentile=100.0)
    assert usual == pytest.approx(8 / (20 * np.tan(YFOV / 2) / SCREEN[1]), rel=0.02)
    assert strict > usual * 2


def test_what_is_never_seen_is_listed_apart_and_what_is_hidden_asks_for_nothing(tmp_path):
    put(tmp_path, "behind_base.png", size=(64, 64))
    put(tmp_path, "unused_base.png", size=(64, 64))

    def behind(writer: GltfWriter, nodes):
        paint = material(writer, "behind", baseColorTexture=writer.image("behind_base.png"))
        mesh = add_mesh(writer, paint, points=SQUARE - np.float32([0.5, 0.5, 3]))
        nodes.append(writer.add("nodes", name="behind", mesh=mesh))

    wall(tmp_path, edit=behind)
    inventory, found, estimate = asked(tmp_path, at(6.0))
    hidden, unused = inventory.row_of["behind_base.png"], inventory.row_of["unused_base.png"]
    assert found.unseen[hidden] and not found.unseen[unused] and not found.looked[unused]
    assert found.pixels[hidden] == 0 and found.scale(hidden) == 0.0 and found.scale(unused) is None
    assert estimate.estimated[hidden], "the closed form hides nothing"


def test_what_lets_light_through_is_asked_for_and_hides_nothing(tmp_path):
    put(tmp_path, "glass_base.png", np.full((64, 64, 4), (200, 220, 240, 90), np.uint8))

    def glazed(writer, nodes):
        paint = material(writer, "glass", baseColorTexture=writer.image("glass_base.png"))
        writer.json["materials"][paint]["alphaMode"] = "BLEND"
        mesh = add_mesh(writer, paint, points=(SQUARE - 0.5) * 20 + np.float32([0, 0, 12]))
        nodes.append(writer.add("nodes", name="glass", mesh=mesh))

    wall(tmp_path, edit=glazed)
    inventory, found, _ = asked(tmp_path, at(20.0))
    for path in ("glass_base.png", "wall_base.png"):
        assert found.seen[inventory.row_of[path]]
    pixel = 2 * 20 * np.tan(YFOV / 2) / SCREEN[1]
    assert found.wanted(inventory.row_of["wall_base.png"], (256, 256))[0] == pytest.approx(8 / pixel, rel=0.02)


@pytest.mark.parametrize("metres", [3.0, 9.0])
def test_a_nearest_rule_asks_for_what_is_seen_from_there(tmp_path, metres):
    wall(tmp_path, half=0.5)
    found = wanted(tmp_path, nearest=(Nearest(metres, "wall"),), target=ANISOTROPIC)
    # Square to it from so far is the most that there is to see; 16 directions come near to that.
    most = 1.0 / (2 * metres * np.tan(0.5) / SCREEN[1])
    assert most * 0.75 < found <= most * 1.02


def test_portraits_see_a_model_whole_from_so_far_or_so_high(tmp_path):
    wall(tmp_path, half=1.0)
    far = wanted(tmp_path, portraits=(Portrait(metres=8.0),))
    assert far == pytest.approx(2 / (16 * np.tan(0.5) / SCREEN[1]), rel=0.1)
    high = wanted(tmp_path, portraits=(Portrait(height=0.25),))
    assert high == pytest.approx(SCREEN[1] * 0.25, rel=0.1)


def test_zones_are_looked_from_until_the_answer_is_stable_and_nothing_is_nearer_than_said(tmp_path):
    wall(tmp_path, half=3.0)
    zone = Zone("yard", nearest=2.0, low=(-2.0, -0.5, 0.5), high=(2.0, 0.5, 6.0))
    found = wanted(tmp_path, zones=(zone,), target=ANISOTROPIC)
    nearest = 6.0 / (2 * 2.0 * np.tan(0.5) / SCREEN[1])
    assert nearest * 0.5 < found < nearest * 1.3
    loaded = finish(load(surveyed(tmp_path), 0, surveyed(tmp_path).sources(1 << 24)))
    places = zone_places(zone, loaded, 64)
    assert ((places >= zone.low) & (places <= zone.high)).all()
    assert len(zone_places(replace_zone(zone, ground="meadow"), loaded, 8)) == 0


def replace_zone(zone, **fields):
    return msgspec.structs.replace(zone, **fields)


def test_cameras_in_a_model_stand_in_for_stations(tmp_path):
    wall(tmp_path, camera=10.0)
    inventory, found, _ = asked(tmp_path)
    assert found.views == ("eye",)
    stage = finish(stage_of(inventory, 0, inventory.sources(1 << 24), TextureCache()))
    (station,) = with_cameras(Sightlines(), inventory, stage.loaded).stations
    assert station.eye == (0.0, 0.0, 10.0) and station.yfov == pytest.approx(0.8)


def test_the_closed_form_is_near_what_is_drawn_and_marked_as_estimated(tmp_path):
    wall(tmp_path, half=20.0, lean=60.0)
    inventory, found, estimate = asked(tmp_path, at(12.0), percentile=50.0)
    row = inventory.row_of["wall_base.png"]
    assert estimate.estimated[row] and not found.estimated[row]
    assert abs(estimate.levels[row] - found.levels[row]) < 0.4


def test_fit_is_whole_levels_of_what_ships(tmp_path):
    wall(tmp_path, half=4.0)
    inventory, found, _ = asked(tmp_path, at(20.0))
    row = inventory.row_of["wall_base.png"]
    needed = found.wanted(row, (256, 256))[0]
    assert 64 < needed < 256
    for ships, fit in ((512, 1), (256, 0), (128, -1), (64, -2)):
        exact = int(np.floor(np.log2(ships / needed)))
        assert found.fit(np.array([ships]), np.array([256]))[row] == exact
        assert abs(exact - fit) <= 1
    assert found.side(row, 256) in (128, 256) and found.side(row, 256) >= needed


def test_directions_are_even_and_paths_go_between_their_stations():
    ways = directions(16)
    np.testing.assert_allclose(np.linalg.norm(ways, axis=1), 1)
    assert np.abs(ways.mean(axis=0)).max() < 0.05
    lines = Sightlines(stations=(at(10.0, "a"), at(2.0, "b"))).with_station(at(10.0, "a"))
    lines = msgspec.structs.replace(lines, paths=(Path("walk", (Step("a", 0), Step("b", 4))),))
    assert on_path(lines, "walk", 2.0).eye == pytest.approx((0, 0, 6))
    with pytest.raises(ValueError, match="goes through 'c'"):
        msgspec.json.decode(
            b'{"paths": [{"name": "w", "steps": [{"station": "c", "time": 0}, {"station": "d", "time": 1}]}]}',
            type=Sightlines,
        )


def test_a_broken_model_or_texture_is_a_clear_error_or_no_matter(tmp_path):
    wall(tmp_path)
    inventory = surveyed(tmp_path)
    (tmp_path / "wall_base.png").write_bytes(b"torn")
    found = finish(demand_of(inventory, TRILINEAR, Sightlines(stations=(at(9.0),)), lambda _: np.ones(1, bool)))
    assert found.seen.all(), "only what cuts holes is read"
