"""Surfaces: planted light is found and taken out, planted borders are healed, and what is kept stays."""

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from tests.kit.atlases import UV, Coat
from tests.kit.models import SQUARE, SQUARE_TRIANGLES

from oaktrim.core.errors import Unsupported
from oaktrim.core.files.pictures import write_png
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.job.begin import with_begun
from oaktrim.core.job.document import new_job
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.makers.surface.cut import best_cut, joined, overlap_of
from oaktrim.core.makers.surface.kind import followers_of
from oaktrim.core.makers.surface.light import luminance, shading_of
from oaktrim.core.makers.surface.measures import (
    GOOD_DETAIL,
    GOOD_REPETITION,
    GOOD_SEAM,
    GOOD_SHADING,
    measures_of,
    repetition_of,
)
from oaktrim.core.makers.surface.settings import Axes, Calm, Flatten, Match, Stroke, Surface, Tile
from oaktrim.core.makers.surface.stack import MapOf, light_of, surface_of
from oaktrim.core.makers.surface.tone import tone_of
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.detail import seam_ratio
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import from_light
from oaktrim.core.plan.cuts import Cut, SetFormat
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import target_named

SIDE = 256
LIKE = {
    np.uint8: Image.of(np.zeros((1, 1, 3), np.uint8)), np.uint16: Image.of(np.zeros((1, 1, 3), np.uint16)),
}  # fmt: skip


def field(side, seed, lowest):
    """Periodic noise with no waves longer than the side over `lowest`, of deviation 1."""
    rng = np.random.default_rng(seed)
    spectrum = np.fft.fft2(rng.normal(size=(side, side)))
    waves = np.hypot(np.fft.fftfreq(side)[:, None], np.fft.fftfreq(side)[None])
    spectrum *= (waves > lowest / side) / np.maximum(waves, 1 / side)
    found = np.real(np.fft.ifft2(spectrum))
    return found / found.std()


def paint(seed, kind, side=SIDE):
    """Light of a made-up surface that repeats: grain, planks, bricks, or spots."""
    y, x = np.mgrid[0:side, 0:side] / side
    grain, tint = field(side, seed, 8), field(side, seed + 1, 12)
    stops = 0.5 * grain
    if kind == "planks":
        stops = stops + 0.7 * np.sign(np.sin(2 * np.pi * 8 * x)) * 0.5 + 0.3 * np.sin(2 * np.pi * 24 * x)
    elif kind == "bricks":
        mortar = (np.abs(np.sin(np.pi * 8 * y)) < 0.15) | (
            np.abs(np.sin(np.pi * (8 * x + (np.floor(8 * y) % 2) / 2))) < 0.1
        )
        stops = np.where(mortar, stops - 1.4, stops)
    elif kind == "spots":
        stops = stops - 1.2 * (field(side, seed + 2, 10) > 1.2)
    light = np.exp2(stops - 2.2)
    found = np.stack([light * (1 + 0.08 * tint), light * 0.8, light * (0.55 - 0.04 * tint)], axis=-1)
    return np.clip(found, 0.003, 0.97).astype(np.float32)


KINDS = ("grain", "planks", "bricks", "spots")
Y, X = np.mgrid[-1 : 1 : SIDE * 1j, -1 : 1 : SIDE * 1j]
LIGHTS = {
    "from the right": 0.9 * X, "from below": 0.8 * Y, "a bowl": 0.8 * (X * X + Y * Y), "a saddle": 0.9 * X * Y,
    "a lamp": 1.4 * np.exp(-((X - 0.3) ** 2 + (Y + 0.2) ** 2) / 0.4), "both": 0.5 * X - 0.6 * Y + 0.4 * X * X,
}  # fmt: skip


def picture(light, dtype=np.uint8):
    return from_light(np.ascontiguousarray(light.astype(np.float32)), LIKE[dtype])


def made_of(image, followers=(), other=None, role=Role.BASE_COLOUR, **steps):
    source = MapOf("a", image, role)
    return finish(surface_of(source, followers, Surface("s", "a", tuple(f.path for f in followers), **steps), other))


def stops_of(image):
    return np.log2(np.maximum(luminance(light_of(image)), 1e-4))


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("lamp", LIGHTS)
def test_planted_light_is_taken_out(kind, lamp):
    clean = paint(3, kind)
    shade = LIGHTS[lamp] - LIGHTS[lamp].max()
    lit = picture(clean * np.exp2(shade)[..., None], np.uint16)
    made = made_of(lit, flatten=Flatten())
    truth = stops_of(picture(clean, np.uint16))

    def energy(stops):
        apart = gaussian_filter(stops - stops.mean(), SIDE / 24, mode="nearest")
        return float((apart**2).mean())

    before, after = energy(stops_of(lit) - truth), energy(stops_of(made.images["a"]) - truth)
    assert after < 0.2 * before, (kind, lamp, after / before)


@pytest.mark.parametrize("kind", KINDS)
def test_where_there_is_no_light_to_remove_nothing_is_lost(kind):
    clean = picture(paint(5, kind), np.uint16)
    made = made_of(clean, flatten=Flatten())
    lost = 20 * np.log10(stops_of(clean).std() / stops_of(made.images["a"]).std())
    assert abs(lost) < 1 and np.abs(stops_of(made.images["a"]) - stops_of(clean)).mean() < 0.1


def test_paint_is_no_light_and_a_camera_may_bend_it():
    """Rust that lies at one side is darker and of another hue: it stays. Light in codes, bent as a camera does, goes."""
    clean = paint(7, "grain")
    rust = np.clip(
        gaussian_filter((np.random.default_rng(3).random((SIDE, SIDE)) < 0.6 * (X + 1) / 2) * 1.0, 5) * 3 - 0.6, 0, 1
    )
    painted = clean * (1 - 0.8 * rust[..., None] * np.array([0.3, 0.9, 1.0]))
    image = picture(painted, np.uint16)
    kept = made_of(image, flatten=Flatten()).images["a"]
    # Its right half is darker before, and after by as much.
    sides = [
        [stops_of(row)[:, half].mean() for half in (slice(0, SIDE // 2), slice(SIDE // 2, SIDE))]
        for row in (image, kept)
    ]
    before, after = (left - right for left, right in sides)
    assert before > 0.4 and after > 0.7 * before
    codes = picture(clean).pixels * np.linspace(0.35, 1.0, SIDE)[None, :, None]
    made = made_of(Image.of(codes.round().astype(np.uint8)), flatten=Flatten())
    assert made.shading.side == "the right" and made.shading.stops > 1.5
    assert measures_of(made.images["a"]).cast < 0.25


def test_a_cast_has_a_side_and_goes_on_its_own():
    lit = picture(paint(2, "grain") * np.exp2(0.7 * X - 0.7)[..., None])
    shading = shading_of(light_of(lit))
    assert shading.side == "the right" and shading.stops == pytest.approx(1.4, abs=0.2)
    only = made_of(lit, flatten=Flatten(strength=0.0, cast=1.0))
    assert shading_of(light_of(only.images["a"])).stops < 0.2
    above = picture(paint(2, "grain") * np.exp2(-0.7 * Y - 0.7)[..., None])
    assert shading_of(light_of(above)).side == "above"


def test_hue_stays_clipped_and_clear_texels_are_left_alone():
    light = paint(4, "grain") * np.exp2(0.9 * X - 0.9)[..., None]
    codes = picture(light).pixels.copy()
    codes[10:20, 10:20] = (255, 40, 40)
    alpha = np.full((SIDE, SIDE, 1), 255, np.uint8)
    alpha[200:, 200:] = 0
    image = Image.of(np.concatenate([codes, alpha], axis=2))
    made = made_of(image, flatten=Flatten(), calm=Calm(0.05))
    out = made.images["a"].pixels
    assert made.clipped == pytest.approx(100 / SIDE**2, rel=0.2)
    assert (out[200:, 200:] == image.pixels[200:, 200:]).all() and (out[..., 3] == alpha[..., 0]).all()
    flat = made_of(image, flatten=Flatten()).images["a"].pixels
    assert (flat[10:20, 10:20] == image.pixels[10:20, 10:20]).all()
    before, after = (light_of(Image.of(p[..., :3])) for p in (image.pixels, flat))
    ratio = np.abs(after[..., 0] / after[..., 1] / (before[..., 0] / before[..., 1]) - 1)
    assert np.percentile(ratio, 90) < 0.06


@pytest.mark.parametrize("place", range(20))
def test_crops_of_what_repeats_are_healed(place):
    """Borders shifted off the period show a seam; after the cut it is within the spread of the picture's own neighbours."""
    kind = KINDS[place % 4]
    whole = paint(place, kind, 320)
    image = picture(whole[: 250 + place, : 256 - place])
    axes = (Axes.BOTH, Axes.X, Axes.Y)[place % 3]
    made = made_of(image, tile=Tile(axes))
    out = made.images["a"]
    assert out.size == image.size
    across, down = seam_ratio(out)
    codes = out.pixels.astype(float)
    steps = np.abs(np.diff(codes, axis=1)).mean(axis=(0, 2)), np.abs(np.diff(codes, axis=0)).mean(axis=(1, 2))
    borders = np.abs(codes[:, -1] - codes[:, 0]).mean(), np.abs(codes[-1] - codes[0]).mean()
    for wanted, border, mine in zip((axes.across, axes.down), borders, steps, strict=True):
        if wanted:
            assert border <= mine.max() * 1.05 + 1, (kind, axes)
    if kind in ("grain", "spots"):
        assert max(across if axes.across else 0, down if axes.down else 0) < GOOD_SEAM
    # The cut itself is no seam either: no line of steps stands out that did not in the source.
    own = image.pixels.astype(float)
    before = np.abs(np.diff(own, axis=1)).mean(axis=(0, 2)), np.abs(np.diff(own, axis=0)).mean(axis=(1, 2))
    for cut, mine, was in zip((made.across, made.down), steps, before, strict=True):
        if cut is not None:
            assert mine.max() < was.max() * 1.1 + 1


def test_the_path_is_the_least_and_closes_upon_itself():
    light = paint(1, "spots")
    how = Tile(overlap=0.2)
    cut = best_cut(light, how, True, (), ())
    count = overlap_of(SIDE, 0.2)
    columns = np.floor(cut.path * count).astype(int)
    assert np.abs(np.diff(columns)).max() <= 1 and abs(columns[0] - columns[-1]) <= 1
    apart = np.abs(light[:, :count] - light[:, SIDE - count :]).sum(axis=-1)
    straight = apart.mean(axis=0).min()
    assert apart[np.arange(SIDE), columns].mean() < 0.7 * straight
    # Far from the cut each side is itself.
    out = joined(light, cut, 8)
    assert out.shape == (SIDE, SIDE - count, 3)
    np.testing.assert_array_equal(out[:, count:], light[:, count : SIDE - count])
    np.testing.assert_allclose(out[:, 0], light[:, SIDE - count], atol=2e-2)


def test_what_is_kept_is_not_cut_and_a_path_by_hand_is_followed():
    light = paint(6, "grain")
    found = best_cut(light, Tile(overlap=0.3), False, (), ())
    count = overlap_of(SIDE, 0.3)
    at = float(found.path[SIDE // 2]) * count / SIDE
    kept = best_cut(light, Tile(overlap=0.3), False, (Stroke(at, 0.5, 0.08),), ())
    rows = slice(SIDE // 2 - 4, SIDE // 2 + 4)
    assert np.abs(kept.path[rows] * count / SIDE - at).min() > 0.06
    hand = best_cut(light, Tile(), False, (), (0.2, 0.8))
    assert hand.path[0] == pytest.approx(0.2) and hand.path[-1] == pytest.approx(0.8)


def test_other_maps_follow_the_same_cut_and_vectors_stay_unit():
    light = paint(8, "planks", 300)[:SIDE, :SIDE]
    rng = np.random.default_rng(1)
    vectors = np.concatenate(
        [rng.normal(0, 0.3, (SIDE // 2, SIDE // 2, 2)), np.ones((SIDE // 2, SIDE // 2, 1))], axis=2
    )
    vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
    normal = Image.of(np.rint((vectors + 1) / 2 * 255).astype(np.uint8))
    mark = np.zeros((SIDE, SIDE, 1), np.uint8)
    mark[:, SIDE // 2 :] = 255
    maps = [MapOf("n", normal, Role.NORMAL), MapOf("m", Image.of(mark), Role.MASK)]
    made = made_of(picture(light), maps, tile=Tile(Axes.X, blend=0))
    out = made.images["n"].pixels / 255 * 2 - 1
    assert made.images["n"].size == normal.size and np.abs(np.linalg.norm(out, axis=2) - 1).mean() < 0.02
    # A mask that tells left from right turns over where the cut is.
    count = overlap_of(SIDE, made.across.share)
    turned = made.images["m"].pixels[..., 0] > 127
    wanted = (
        np.interp(np.linspace(0, 1, SIDE), np.linspace(0, 1, SIDE), made.across.path) * count * SIDE / (SIDE - count)
    )
    first = turned[:, : int(count * 1.3)].argmin(axis=1)
    assert np.abs(first - wanted).mean() < 2.5


@pytest.mark.parametrize("dtype", [np.uint16, np.float32])
def test_deep_pictures_keep_their_depth_and_everything_is_the_same_again(dtype):
    light = paint(9, "grain", 96)
    image = picture(light, np.uint16) if dtype is np.uint16 else Image(light * 4, ("R", "G", "B"), Transfer.LINEAR)
    steps = {"flatten": Flatten(), "calm": Calm(0.2), "tile": Tile()}
    first, again = (made_of(image, **steps).images["a"] for _ in range(2))
    assert first.pixels.dtype == dtype and first.size == image.size and first.transfer is image.transfer
    np.testing.assert_array_equal(first.pixels, again.pixels)
    if dtype is np.uint16:
        assert (first.pixels % 257 != 0).mean() > 0.9
    else:
        assert first.pixels.max() > 1.5


def test_contrast_is_calmed_and_matched():
    image = picture(paint(11, "bricks"))
    calm = made_of(image, calm=Calm(0.2)).images["a"]
    assert tone_of(light_of(calm)).spread == pytest.approx(0.2, abs=0.01)
    assert (made_of(image, calm=Calm(0.9)).images["a"].pixels == image.pixels).all()
    other = picture(paint(12, "grain") * np.array([0.4, 0.7, 1.4], np.float32))
    near = made_of(image, match=Match("o"), other=other).images["a"]
    mine, wanted, before = (tone_of(light_of(row)) for row in (near, other, image))
    apart = np.abs(np.subtract(mine.mean, wanted.mean)).max()
    assert apart < 0.03 < np.abs(np.subtract(before.mean, wanted.mean)).max()


def test_measures_tell_what_repeats_by_construction_from_what_does_not():
    for seed, kind in enumerate(("grain", "spots")):
        whole = paint(seed + 20, kind)
        good = measures_of(picture(whole))
        assert good.shading < GOOD_SHADING and good.seam < GOOD_SEAM and good.repetition.peak < GOOD_REPETITION
        off = measures_of(picture(paint(seed + 20, kind, 400)[:SIDE, :SIDE] * np.exp2(X - 1)[..., None]))
        assert off.seam > GOOD_SEAM and off.shading > GOOD_SHADING
        blurred = gaussian_filter(whole, (1.2, 1.2, 0))
        assert measures_of(picture(blurred)).kept(good) < GOOD_DETAIL <= measures_of(picture(whole)).kept(good)
    # One thing that stands twice: at this shift, and there.
    twice = paint(30, "grain") * 0.2 + 0.2
    for x in (40, 140):
        twice[60:90, x : x + 30] = 0.9
    found = repetition_of(twice.astype(np.float32))
    assert found.peak > 0.45
    assert min(found.shift[0], 1 - found.shift[0]) == pytest.approx(100 / SIDE, abs=0.03)
    assert abs(found.at[1] - 75 / SIDE) < 0.08


def test_the_strongest_straight_edge_has_a_place():
    clean = np.repeat(paint(4, "spots")[..., :1], 3, axis=-1)
    lit = clean * np.linspace(0.3, 1.7, 256, dtype=np.float32)[None, :, None]
    edge = measures_of(picture(np.clip(lit, 0, 1)), axes=Axes.X).edge
    assert edge.upright and edge.at == 0 and edge.words == "left and right meet" and edge.strength > 10
    row = clean.copy()
    row[64:] *= 0.5
    edge = measures_of(picture(np.clip(row, 0, 1))).edge
    assert not edge.upright and edge.at in (0.25, 0.0)
    # Round a pole only what runs along it counts.
    assert measures_of(picture(np.clip(row, 0, 1)), axes=Axes.X).edge.strength < edge.strength / 3
    healed = finish(surface_of(MapOf("a", picture(np.clip(lit, 0, 1)), Role.BASE_COLOUR), (), Surface(
        "s", "a", (), Flatten(), None, None, Tile(Axes.X))))  # fmt: skip
    assert measures_of(healed.images["a"], axes=Axes.X).edge.strength < 8


def test_what_is_too_small_is_said():
    with pytest.raises(Unsupported, match="too small"):
        made_of(picture(paint(1, "grain")[:8, :8]), tile=Tile())
    with pytest.raises(ValueError, match="named twice"):
        Surface("s", "a", ("a",))


@pytest.fixture
def wall(tmp_path):
    """A model that wears a colour, a normal map and surface values; another texture is to be matched."""
    root = tmp_path / "art"
    root.mkdir()
    made = Coat()
    light = paint(3, "bricks", 300)[:128, :128]
    write_png(root / "wall_base.png", picture(light))
    write_png(root / "wall_n.png", Image.of(np.tile(np.array([128, 128, 255], np.uint8), (128, 128, 1))))
    write_png(root / "other_base.png", picture(paint(4, "grain", 64)))
    base, normal = (made.writer.image(f"wall_{kind}.png") for kind in ("base", "n"))
    coat = made.paint("wall", baseColorTexture=base, normalTexture=normal)
    made.add(coat, SQUARE * 2.0, UV, SQUARE_TRIANGLES)
    made.save(root / "wall.glb")
    return root


def test_in_a_job_what_is_made_takes_the_places_of_its_sources(wall, tmp_path):
    job = new_job(wall)
    found = finish(survey_tree(wall, job.scan_settings, job.build_spec, SurveyCache(tmp_path / "c"))).inventory
    assert followers_of(found, "wall_base.png") == ("wall_n.png",)
    maker = job.named(Surface("s", "wall_base.png", ("wall_n.png",), tile=Tile(), match=Match("other_base.png")))
    assert maker.name == "wall_base_surface"
    job = job.with_cut(Cut(SetFormat("bc7"), ("wall_base.png",), ("lounge",)))
    plans = [resolve(found, target_named("lounge"), job.cuts)]
    job = with_begun(job, maker, plans)
    tree = finish(survey_tree(wall, job.scan_settings, job.build_spec, SurveyCache(tmp_path / "c")))
    inventory = tree.inventory
    paths = {t.path for t in inventory.textures}
    assert paths == {"wall_base_surface", "wall_base_surface_wall_n", "other_base.png"}
    plan = resolve(inventory, target_named("lounge"), job.cuts)
    row = inventory.row_of["wall_base_surface"]
    assert ORDER[plan.formats[row]] == "bc7" and inventory.roles[row].role is Role.BASE_COLOUR
    assert inventory.ownership.users(row)
    facts = inventory.textures[row]
    assert facts.size == (128, 128) and facts.seam < GOOD_SEAM
    source = found.textures[found.row_of["wall_base.png"]]
    assert source.seam > facts.seam
