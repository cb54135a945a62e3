"""View frames: the directions they stand for, what they hold, and the shader that ships, on a driver, against our renderer."""

from functools import partial

import moderngl
import msgspec
import numpy as np
import pytest
from tests.core.makers.test_imposter import box, opened
from tests.kit import validator

from oaktrim.core.errors import Unsupported
from oaktrim.core.files.pictures import png_of
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.makers.build import BuildSpec, survey_tree
from oaktrim.core.makers.imposter.frames.glsl import programs, shader_file
from oaktrim.core.makers.imposter.frames.lookup import draw_frames, frame_levels, level_for, texels_of, towards
from oaktrim.core.makers.imposter.frames.mapping import axes, grid_of
from oaktrim.core.makers.imposter.made import imposter_glb, imposter_json, imposter_of
from oaktrim.core.makers.imposter.seenfrom import ring_of, seen_in
from oaktrim.core.makers.imposter.settings import Family, Imposter, SheetMap, Steps
from oaktrim.core.progress import finish
from oaktrim.core.proof.imposterlikeness import likeness, stand_in
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.read import parse_model
from oaktrim.core.sight.sightlines import Sightlines, Zone
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import ScanSettings

FAMILIES = (Family.RING, Family.SPHERE, Family.DOME)


def settings(family, **more):
    return Imposter("far", "box.glb", family=family, **more)


def ways(count, seed=1):
    rng = np.random.default_rng(seed)
    found = rng.normal(size=(count, 3))
    return found / np.linalg.norm(found, axis=1, keepdims=True)


@pytest.mark.parametrize("family", FAMILIES)
def test_a_frame_is_where_its_direction_is_and_three_surround_any_other(family):
    grid = grid_of(settings(family, frames=9, rows=3))
    for row in range(grid.rows):
        for column in range(grid.columns):
            way = grid.direction(column, row)
            cells, weights = grid.around(way)
            best = cells[int(weights.argmax())]
            assert np.linalg.norm(way) == pytest.approx(1) and weights.max() > 0.999
            np.testing.assert_allclose(grid.direction(*best), way, atol=1e-6)
            right, up = axes(way)
            assert abs(right @ way) < 1e-9 and abs(right @ up) < 1e-9 and np.cross(right, up) @ way == pytest.approx(1)
    for way in ways(400):
        if family is Family.DOME:
            way[1] = abs(way[1])
        cells, weights = grid.around(way)
        assert (weights >= -1e-9).all() and weights.sum() == pytest.approx(1)
        assert (cells >= 0).all() and (cells[:, 0] < grid.columns).all() and (cells[:, 1] < grid.rows).all()
        if family is not Family.RING:
            # Nine to a side are at most 34 degrees apart.
            near = grid.direction(*cells[int(weights.argmax())])
            assert near @ way > np.cos(np.radians(34))


def test_below_the_horizon_a_dome_is_seen_from_its_rim():
    grid = grid_of(settings(Family.DOME, frames=8))
    rim, below = np.array([0.6, 0.0, 0.8]), np.array([0.36, -0.8, 0.48])
    np.testing.assert_allclose(grid.place(below), grid.place(rim), atol=1e-9)


@pytest.fixture(scope="module")
def stone(tmp_path_factory):
    """A box of pictures, and what comes of it as each family."""
    root = tmp_path_factory.mktemp("frames")
    box(root, ((-0.5, 0.5), (0.0, 0.8), (-0.3, 0.3)))
    maps = (SheetMap.BASE, SheetMap.NORMAL)
    found = {
        family: finish(
            imposter_of(
                opened(root, "box.glb"),
                settings(family, frames=16 if family is Family.RING else 8, frame_size=64, outline=8, maps=maps),
            )
        )
        for family in FAMILIES
    }
    part = settings(
        Family.RING, frames=7, rows=3, rise=(-10, 40), sector=(200, 130), frame_size=64, outline=8, maps=maps
    )
    found["sector"] = finish(imposter_of(opened(root, "box.glb"), part))
    return root, found


def model_of(made, root):
    data = imposter_glb(made, lambda kind: {"data": png_of(made.sheet.maps[kind], root), "uri": kind.value}, "far")
    return data, parse_model(data, ReferenceFolder(root, "far.glb"), whole=True)


def test_a_frame_shows_the_thing_from_its_direction(stone):
    _, found = stone
    sheet = found[Family.DOME].sheet
    side = sheet.side
    for column, row in ((0, 0), (3, 4), (7, 2)):
        area = slice(row * side, (row + 1) * side), slice(column * side, (column + 1) * side)
        depth = sheet.maps[SheetMap.DEPTH].pixels[area][..., 0] / 255 * 2 - 1
        normal = sheet.maps[SheetMap.NORMAL].pixels[area] / 255 * 2 - 1
        alpha = sheet.maps[SheetMap.BASE].pixels[area][..., 3]
        assert alpha[0].max() == 0 and alpha[:, 0].max() == 0, "its border stays clear"
        way = sheet.grid.direction(column, row)
        right, up = axes(way)
        y, x = np.mgrid[0:side, 0:side] + 0.5
        solid = alpha == 255
        u, v = x[solid] / side * 2 - 1, 1 - y[solid] / side * 2
        points = sheet.centre + (np.outer(u, right) + np.outer(v, up) + np.outer(depth[solid], way)) * sheet.extent
        # Places that depth says lie on the box, to a step of the codes and a texel.
        low, high = np.array([-0.5, 0.0, -0.3]), np.array([0.5, 0.8, 0.3])
        away = np.maximum(np.maximum(low - points, points - high), 0).max(axis=1)
        assert np.percentile(away, 97) < 0.03
        assert np.percentile((normal[solid] ** 2).sum(axis=1), 5) > 0.9 and np.mean(normal[solid] @ way > -0.05) > 0.97


@pytest.mark.parametrize("family", FAMILIES)
def test_it_looks_like_the_thing_and_depth_pays(stone, family):
    root, found = stone
    made = found[family]
    data, model = model_of(made, root)
    if validator.is_there():
        (root / "far.glb").write_bytes(data)
        assert validator.errors(root / "far.glb") == []
    instead = stand_in(made, model)
    row = finish(likeness(made.subject, instead, (64,))).rows[0]
    texels = texels_of(made.sheet)
    flat = type(instead)(instead.scene, partial(draw_frames, texels, steps=Steps.NONE), instead.turned)
    plain = finish(likeness(made.subject, flat, (64,))).rows[0]
    assert row.overlap > 0.92 and row.overlap > plain.overlap and row.jnd < plain.jnd
    assert made.triangles == len(made.sheet.outline) - 2 <= 8 and 0 <= made.clear_share < 0.7
    written = imposter_json(made)
    assert b'"mapping"' in written and b'"depth_range"' in written and b'"cards"' not in written


class Shader:
    """The program that ships, on the driver, fed with the sheets that ship."""

    def __init__(self, made, steps, defines="") -> None:
        self.context = moderngl.create_context(standalone=True, backend="egl")
        vertex, fragment = programs(steps, "330", defines)
        self.program = self.context.program(vertex_shader=vertex, fragment_shader=fragment)
        sheet = self.sheet = made.sheet
        self.set("frames_base", 0)
        self.set("frames_depth", 1)
        for unit, kind in enumerate((SheetMap.BASE, SheetMap.DEPTH)):
            levels = frame_levels(sheet, kind)
            width, height = levels[0].size
            srgb = 0x8C43 if kind is SheetMap.BASE else None
            parts = levels[0].pixels.shape[2]
            texture = self.context.texture(
                (width, height), parts, levels[0].pixels.tobytes(), internal_format=srgb, alignment=1
            )
            texture.build_mipmaps(0, len(levels) - 1)
            for number, level in enumerate(levels):
                texture.write(level.pixels.tobytes(), level=number, alignment=1)
            texture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
            texture.repeat_x = texture.repeat_y = False
            texture.use(unit)
        grid = sheet.grid
        self.set("frames_centre", tuple(sheet.centre))
        self.set("frames_extent", sheet.extent)
        self.set("frames_grid", (grid.columns, grid.rows, sheet.side, sheet.side.bit_length() - 3))
        self.set("frames_rise", grid.rise)
        self.set("frames_turn", grid.turn)
        self.set("frames_kind", FAMILIES.index(grid.family))

    def set(self, name, value) -> None:
        if name in self.program:
            self.program[name].value = value

    def draw(self, camera, size):
        context, sheet = self.context, self.sheet
        right, up, back = (tuple(axis) for axis in camera.axes())
        parallel = camera.yfov <= 0
        self.set("to_clip", tuple(camera.to_clip(size[0] / size[1]).T.reshape(-1)))
        self.set("eye", tuple(np.add(sheet.centre, np.multiply(back, 100)) if parallel else camera.eye))
        self.set("eye_right", right)
        self.set("eye_up", up)
        self.set("eye_way", tuple(-np.array(back)) if parallel else (0.0, 0.0, 0.0))
        self.set("level", level_for(sheet, camera, size[1]))
        shape = sheet.outline.astype("f4")
        fan = np.concatenate([shape[[0, k, k + 1]] for k in range(1, len(shape) - 1)])
        vertices = context.vertex_array(self.program, [(context.buffer(fan.tobytes()), "2f", "corner")])
        target = context.simple_framebuffer(size, 4)
        target.use()
        target.clear()
        context.disable(moderngl.CULL_FACE)
        vertices.render()
        return np.frombuffer(target.read(components=4), np.uint8).reshape(size[1], size[0], 4)[::-1]


def cameras(sheet, count):
    """Cameras off the grid, by turns with perspective from near and from far, and with parallel rays."""
    for number, way in enumerate(ways(count, 7)):
        away = (4.0, 9.0, 3.0)[number % 3] * sheet.extent
        eye, target = tuple(sheet.centre + way * away), tuple(sheet.centre)
        yield Camera(
            eye, target, 0.0 if number % 3 == 1 else 2.2 * sheet.extent / away, 2.2 * sheet.extent, near=0.01 * away
        )


def is_near(sheet, camera, degrees=60):
    """Say whether an eye is at most so far away from where some frame is seen from."""
    way, grid = towards(sheet, camera), sheet.grid
    nearest = max(grid.direction(*cell) @ way for cell in grid.around(way)[0])
    return nearest > np.cos(np.radians(degrees)) * np.linalg.norm(way)


PAIRS = [
    (Family.DOME, Steps.TWO), (Family.SPHERE, Steps.ONE), (Family.RING, Steps.NONE), (Family.SPHERE, Steps.MARCH),
    ("sector", Steps.TWO),
]  # fmt: skip


@pytest.mark.slow
@pytest.mark.parametrize(("family", "steps"), PAIRS)
def test_the_shader_that_ships_draws_what_we_draw(stone, family, steps):
    _, found = stone
    made = found[family]
    shader, texels = Shader(made, steps), texels_of(made.sheet)
    apart, overlaps = [], []
    for side in (128, 64, 32):
        for camera in cameras(made.sheet, 64):
            if family == "sector" and not is_near(made.sheet, camera):
                continue
            ours = finish(draw_frames(texels, camera, (side, side), Settings(1), steps, lit=False))
            theirs = shader.draw(camera, (side, side))
            a, b = ours.colour[..., 3] > 0.5, theirs[..., 3] > 127
            either = int((a | b).sum())
            overlaps.append((int((a & b).sum()), either))
            if (a & b).any():
                # Without the tone curve, which is no part of the shader.
                light = np.clip(ours.colour[..., :3][a & b], 0, 1)
                codes = (
                    np.where(light <= 0.0031308, light * 12.92, 1.055 * np.maximum(light, 1e-9) ** (1 / 2.4) - 0.055)
                    * 255
                )
                apart.append(float(np.abs(codes - theirs[..., :3][a & b]).mean()))
    both, either = np.array(overlaps).sum(axis=0)
    assert both / either > 0.995 and float(np.mean(apart)) < 2


def test_the_nearest_frame_alone_and_the_other_language_compile(stone):
    _, found = stone
    made = found[Family.DOME]
    shader, texels = Shader(made, Steps.TWO, "#define NEAREST 1"), texels_of(made.sheet)
    camera = next(iter(cameras(made.sheet, 1)))
    ours = finish(draw_frames(texels, camera, (64, 64), Settings(1), nearest=True, lit=False)).colour[..., 3] > 0.5
    theirs = shader.draw(camera, (64, 64))[..., 3] > 127
    assert (ours & theirs).sum() / (ours | theirs).sum() > 0.98
    assert towards(made.sheet, camera) @ np.subtract(camera.eye, made.sheet.centre) > 0
    for steps in Steps:
        vertex, fragment = programs(steps, "300 es")
        shader.context.program(vertex_shader=vertex, fragment_shader=fragment)
        for version in ("330", "300 es"):
            text = shader_file(steps, version)
            head, _, rest = text.partition("\n")
            shader.context.program(
                vertex_shader=f"{head}\n#define VERTEX\n{rest}", fragment_shader=f"{head}\n#define FRAGMENT\n{rest}"
            )


def test_a_sector_holds_only_what_is_between_its_ends():
    grid = grid_of(settings(Family.RING, frames=5, rows=3, rise=(0.0, 40.0), sector=(30.0, 80.0)))
    assert grid.count == 15 and not grid.closed
    for turn, lift, column, row in ((30, 0, 0, 0), (70, 20, 2, 1), (110, 40, 4, 2), (140, 60, 4, 2), (-20, -30, 0, 0)):
        a, b = np.radians([turn, lift])
        way = np.array([np.sin(a) * np.cos(b), np.sin(b), np.cos(a) * np.cos(b)])
        assert grid.place(way) == pytest.approx((column, row), abs=1e-6)
    with pytest.raises(ValueError, match="rise"):
        settings(Family.RING, rise=(20.0, -5.0))


def test_a_ring_of_what_sightlines_see(stone, tmp_path):
    root, _ = stone
    zone = Zone("shore", nearest=0.5, low=(2.0, 0.3, 2.0), high=(4.0, 1.0, 4.0))
    inventory = finish(survey_tree(root, ScanSettings(), BuildSpec(), SurveyCache())).inventory
    wanted = settings(Family.DOME, frames=12)
    seen = finish(seen_in(inventory, wanted, Sightlines(zones=(zone,)), 1 << 24))
    start, width = seen.sector
    assert 18 < start < 30 and 62 < start + width < 72 and -10 < seen.rise[0] < seen.rise[1] < 20
    ring = ring_of(wanted, seen)
    assert grid_of(ring).count < 12 and ring.family is Family.RING and ring.rows <= 2
    made = finish(imposter_of(opened(root, "box.glb"), msgspec.structs.replace(ring, frame_size=64)))
    # From where it is seen, as like as with all frames.
    _, model = model_of(made, tmp_path)
    instead = stand_in(made, model)
    for way in ((3.0, 0.6, 3.0), (2.2, 0.9, 3.8)):
        camera = Camera(way, tuple(made.sheet.centre), 0.4)
        real = finish(draw(made.subject.scene(), camera, (64, 64), Settings(4))).colour[..., 3] > 0.5
        mine = finish(instead.drawn(camera, (64, 64), Settings(4))).colour[..., 3] > 0.5
        assert (real & mine).sum() / (real | mine).sum() > 0.93
    with pytest.raises(Unsupported, match="none of the models"):
        finish(seen_in(inventory, msgspec.structs.replace(wanted, source_model="no.glb"), Sightlines(), 1 << 24))
