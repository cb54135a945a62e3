"""Every finding, on something that has the fault and on something that nearly has it."""

import io

import msgspec
import numpy as np
import pytest
import soundfile
from PIL import Image as PillowImage
from PIL import ImageCms

from oaktrim.core.codecs.texture import encode_texture
from oaktrim.core.files import dds, ktx2
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.plan.cuts import Cap, Cut, SetFormat, SetLevels
from oaktrim.core.plan.verdict import change_of, findings_of
from oaktrim.core.progress import finish
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.findings.rules import LABELS, merge
from oaktrim.core.targets.target import Limits, target_named
from tests.kit.models import SQUARE, SQUARE_UV, add_mesh, material, scene
from tests.kit.pictures import busy, smooth
from tests.kit.trees import found, planned, put, write_model


def having(root, code, target="pocket", *cuts):
    """The paths of the findings of a code, in their order."""
    return [f.path for f in findings_of(planned(root, target, *cuts)) if f.code == code]


def only(root, target, code, *cuts):
    """The one finding of a code."""
    (finding,) = [f for f in findings_of(planned(root, target, *cuts)) if f.code == code]
    return finding


def test_nothing_is_wrong_with_a_sound_picture(tmp_path):
    put(tmp_path, "wall_base.png", size=(128, 64))
    for target in ("pocket", "visor", "lounge"):
        assert found(tmp_path, target) == {}


# Sizes


def test_not_power_of_two(tmp_path):
    put(tmp_path, "odd.png", size=(100, 64))
    put(tmp_path, "even.png", size=(128, 64))
    for target, words in (
        ("pocket", "loses its mip levels"), ("visor", "resamples it to 128x64"), ("lounge", "would rather"),
    ):  # fmt: skip
        assert having(tmp_path, "not-power-of-two", target) == ["odd.png"]
        assert words in only(tmp_path, target, "not-power-of-two").message
    # 128x64 with levels, less 100x64 with levels, in RGBA8.
    grown = FORMATS["rgba8"].mip_chain_bytes(128, 64, 8) - FORMATS["rgba8"].mip_chain_bytes(100, 64, 7)
    assert only(tmp_path, "visor", "not-power-of-two").bytes == grown
    # Its remedy mends it.
    fix = change_of(only(tmp_path, "pocket", "not-power-of-two").fix)
    assert fix == SetLevels(False) and not having(tmp_path, "not-power-of-two", "pocket", Cut(fix, ("odd.png",)))


def test_over_the_longest_side(tmp_path):
    put(tmp_path, "long.png", np.arange(4096 * 4, dtype=np.uint8).reshape(4, 4096))
    put(tmp_path, "fits.png", np.arange(2048 * 4, dtype=np.uint8).reshape(4, 2048))
    assert having(tmp_path, "over-longest-side") == ["long.png"]
    assert "arrives at 2048x2" in only(tmp_path, "pocket", "over-longest-side").message
    assert not having(tmp_path, "over-longest-side", "lounge")
    assert not having(tmp_path, "over-longest-side", "pocket", Cut(Cap(2048), ("long.png",)))


def test_sizes_that_are_no_multiple_of_the_block(tmp_path):
    put(tmp_path, "odd.png", size=(66, 64))
    put(tmp_path, "even.png", size=(68, 64))
    cut = Cut(SetFormat("bc1"), ("odd.png", "even.png"))
    assert not having(tmp_path, "not-block-multiple", "lounge")
    assert having(tmp_path, "not-block-multiple", "lounge", cut) == ["odd.png"]
    assert only(tmp_path, "lounge", "not-block-multiple", cut).bytes == 17 * 16 * 8 - 66 * 64 // 2
    # Six divides no power of two: that is not worth a word where the border is small.
    put(tmp_path, "large.png", size=(512, 512))
    put(tmp_path, "small.png", size=(32, 32))
    sixes = Cut(SetFormat("astc-6x6"), ("large.png", "small.png"), ("pocket",))
    assert having(tmp_path, "not-block-multiple", "pocket", sixes) == ["small.png"]


def test_the_heaviest_tenth(tmp_path):
    for number in range(9):
        put(tmp_path, f"small_{number}.png", size=(16, 16))
    put(tmp_path, "large.png", size=(256, 256))
    assert having(tmp_path, "heaviest-tenth") == ["large.png"]
    (tmp_path / "small_0.png").unlink()
    assert having(tmp_path, "heaviest-tenth") == []


def test_maps_that_are_large_for_their_role(tmp_path):
    put(tmp_path, "wall_base.png", size=(256, 256))
    put(tmp_path, "wall_n.png", size=(256, 256))  # half would do: twice as large is far too large
    put(tmp_path, "wall_rough.png", size=(64, 64), channels=1)
    put(tmp_path, "roof_base.png", size=(256, 256))
    put(tmp_path, "roof_n.png", size=(254, 254))
    assert having(tmp_path, "over-role-share") == ["wall_n.png"]
    assert only(tmp_path, "pocket", "over-role-share").fix.value == 128


def test_without_levels(tmp_path):
    put(tmp_path, "a.png", size=(256, 256))
    assert having(tmp_path, "no-levels", "pocket", Cut(SetLevels(False), ("a.png",))) == ["a.png"]
    assert having(tmp_path, "no-levels") == []
    put(tmp_path, "b.png", size=(128, 128))
    assert having(tmp_path, "no-levels", "pocket", Cut(SetLevels(False), ("b.png",))) == []


# Content


@pytest.mark.parametrize(("code", "fault", "near"), [
    ("opaque-alpha", (..., 3, 255), (0, 3, 254)),
    ("constant-alpha", (..., 3, 90), (0, 3, 91)),
    ("grey-as-colour", None, (0, 1, 7)),
    ("one-live-channel", (..., slice(1, 3), 9), (0, 1, 10)),
    ("constant-image", (..., slice(None), 80), (0, 1, 81)),
])  # fmt: skip
def test_faults_of_channels(tmp_path, code, fault, near):
    pixels = busy(64, 64, 4).pixels.copy()
    pixels[..., 3] = 200
    pixels[0, 0, 3] = 10
    if code == "grey-as-colour":
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    else:
        pixels[fault[0], fault[1]] = fault[2]
        if code in ("constant-image", "one-live-channel"):
            pixels = pixels[..., :3]
    put(tmp_path, "fault.png", pixels)
    nearly = pixels.copy()
    place, channel, value = near
    nearly[place, place, channel] = value
    put(tmp_path, "near.png", nearly)
    assert having(tmp_path, code) == ["fault.png"]
    memory = FORMATS["rgba8"].mip_chain_bytes(64, 64, 7)
    three_quarters = memory * 3 // 4
    stakes = {"grey-as-colour": three_quarters, "one-live-channel": three_quarters, "constant-image": memory - 64}
    assert only(tmp_path, "pocket", code).bytes == stakes.get(code, memory // 4)


def test_grey_with_an_alpha_that_is_used_is_left_alone(tmp_path):
    put(tmp_path, "a.png", np.repeat(busy(64, 64, 1).pixels, 4, axis=2))
    assert found(tmp_path, "pocket") == {}


def test_a_channel_of_a_data_texture_that_is_constant(tmp_path):
    pixels = busy(64, 64, 3).pixels.copy()
    put(tmp_path, "near_orm.png", pixels)
    pixels[..., 2] = 0
    put(tmp_path, "fault_orm.png", pixels)
    put(tmp_path, "fault_base.png", pixels)
    assert having(tmp_path, "constant-channel") == ["fault_orm.png"]


def test_alpha_that_no_material_looks_at(tmp_path):
    for name in ("solid_base.png", "leaf_base.png", "loose_base.png"):
        put(tmp_path, name, channels=4)
    writer = GltfWriter()
    material(writer, "solid", baseColorTexture=writer.image("solid_base.png"))
    leaf = material(writer, "leaf", baseColorTexture=writer.image("leaf_base.png"))
    writer.json["materials"][leaf]["alphaMode"] = "MASK"
    write_model(tmp_path, "a.glb", writer)
    assert having(tmp_path, "unused-alpha") == ["solid_base.png"]


def test_same_pixels_under_several_names(tmp_path):
    pixels = busy(64, 64, 3).pixels
    put(tmp_path, "a_base.png", pixels)
    put(tmp_path, "b_base.tga", pixels)
    put(tmp_path, "c_mask.png", pixels)  # read as data: another texture on a GPU
    nearly = pixels.copy()
    nearly[63, 63, 2] ^= 1
    put(tmp_path, "d_base.png", nearly)
    assert having(tmp_path, "duplicate-pixels") == ["b_base.tga"]
    finding = only(tmp_path, "pocket", "duplicate-pixels")
    assert "a_base.png" in finding.message
    assert finding.bytes == FORMATS["rgba8"].mip_chain_bytes(64, 64, 7)


def test_a_scaled_copy(tmp_path):
    large = PillowImage.fromarray(busy(256, 256, 3).pixels // 2 + smooth(256, 256, 3).pixels // 2)
    large.save(tmp_path / "a_base.png")
    large.resize((128, 128), PillowImage.Resampling.LANCZOS).save(tmp_path / "b_base.png")
    large.resize((128, 128)).rotate(90).save(tmp_path / "turned_base.png")
    large.crop((20, 20, 148, 148)).save(tmp_path / "part_base.png")
    assert having(tmp_path, "scaled-copy") == ["b_base.png"]


@pytest.mark.parametrize("kernel", ["BILINEAR", "BICUBIC", "LANCZOS"])
@pytest.mark.parametrize(("times", "words"), [(2, "above half its"), (4, "above a quarter of its")])
def test_a_picture_that_was_enlarged(tmp_path, kernel, times, words):
    sharp = PillowImage.fromarray(busy(256, 256, 3).pixels)
    sharp.save(tmp_path / "sharp.png")
    small = sharp.resize((256 // times, 256 // times), PillowImage.Resampling.BOX)
    small.resize((256, 256), PillowImage.Resampling[kernel]).save(tmp_path / "enlarged.png")
    assert having(tmp_path, "more-size-than-detail") == ["enlarged.png"]
    finding = only(tmp_path, "pocket", "more-size-than-detail")
    assert words in finding.message and change_of(finding.fix) == Cap(256 // times)
    assert not having(tmp_path, "more-size-than-detail", "pocket", Cut(change_of(finding.fix), ("enlarged.png",)))


def test_a_mostly_empty_overlay(tmp_path):
    pixels = np.zeros((128, 128, 4), np.uint8)
    pixels[40:70, 30:100] = busy(70, 30, 4).pixels | 1
    put(tmp_path, "sign_overlay.png", pixels)
    full = pixels.copy()
    full[0, 0, 3] = full[127, 127, 3] = 1
    put(tmp_path, "full_overlay.png", full)
    assert having(tmp_path, "mostly-empty") == ["sign_overlay.png"]
    assert "70x30 at 30, 40" in only(tmp_path, "pocket", "mostly-empty").message


def test_sixteen_bits_that_hold_eight(tmp_path):
    eight = busy(64, 64, 1).pixels[..., 0].astype(np.uint16)
    put(tmp_path, "fault.png", eight * 257)
    put(tmp_path, "shifted.png", eight << 8)
    nearly = eight * 257
    nearly[5, 5] ^= 1
    put(tmp_path, "near.png", nearly)
    assert having(tmp_path, "eight-in-sixteen", "lounge") == ["fault.png", "shifted.png"]


def bumps(up: bool, seed: int, length: float = 1.0) -> np.ndarray:
    """A normal map of smooth bumps."""
    height = np.sum([smooth(128, 128, 1, seed + i).pixels[..., 0].astype(np.float64) for i in range(3)], axis=0) / 12
    y, x = np.gradient(height)
    vectors = np.stack([-x, y if up else -y, np.ones_like(x)], axis=-1)
    vectors *= length / np.linalg.norm(vectors, axis=-1, keepdims=True)
    return np.clip((vectors * 0.5 + 0.5) * 255 + 0.5, 0, 255).astype(np.uint8)


def test_normal_maps_of_odd_length(tmp_path):
    put(tmp_path, "near_n.png", bumps(True, 1, 0.97))
    put(tmp_path, "fault_n.png", bumps(True, 1, 0.8))
    assert having(tmp_path, "normal-length") == ["fault_n.png"]


def test_a_green_axis_that_is_turned(tmp_path):
    for number in range(3):
        put(tmp_path, f"up_{number}_n.png", bumps(True, number))
    assert having(tmp_path, "green-turned") == []
    put(tmp_path, "turned_n.png", bumps(False, 9))
    assert having(tmp_path, "green-turned") == ["turned_n.png"]


def test_profiles_other_than_srgb(tmp_path):
    picture = PillowImage.fromarray(busy(64, 64, 3).pixels)
    srgb = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    lab = ImageCms.ImageCmsProfile(ImageCms.createProfile("XYZ")).tobytes()
    picture.save(tmp_path / "near.png", icc_profile=srgb)
    picture.save(tmp_path / "fault.png", icc_profile=lab)
    assert having(tmp_path, "colour-profile") == ["fault.png"]


def test_light_that_is_baked_in(tmp_path):
    flat = busy(128, 128, 3).pixels.astype(np.float64) * 0.3 + 120
    light = np.linspace(0.35, 1.0, 128)[None, :, None]
    put(tmp_path, "near_base.png", (flat * (0.9 + 0.1 * light)).astype(np.uint8))
    put(tmp_path, "lit_base.png", (flat * light).astype(np.uint8))
    painted = flat * light
    painted[..., 2] = flat[..., 2]  # the hue changes along with it: that is paint
    put(tmp_path, "painted_base.png", painted.astype(np.uint8))
    assert having(tmp_path, "baked-light") == ["lit_base.png"]


def test_a_seam_on_uvs_that_repeat(tmp_path):
    ramp = np.broadcast_to(np.linspace(20, 230, 64).astype(np.uint8)[None, :, None], (64, 64, 3))
    for name in ("repeats_base.png", "once_base.png"):
        put(tmp_path, name, np.ascontiguousarray(ramp) + np.uint8(name == "once_base.png"))
    put(tmp_path, "tiles_base.png", np.concatenate([ramp, ramp[:, ::-1]], axis=1))
    writer = GltfWriter()
    for name, uv in (("repeats", SQUARE_UV * 3), ("once", SQUARE_UV), ("tiles", SQUARE_UV * 3)):
        add_mesh(writer, material(writer, name, baseColorTexture=writer.image(f"{name}_base.png")), uv)
    write_model(tmp_path, "a.glb", writer)
    assert having(tmp_path, "tiling-seam") == ["repeats_base.png"]


# Formats


def test_formats_that_the_hardware_lacks(tmp_path):
    texture = finish(encode_texture(build_mip_chain(busy(64, 64)), FORMATS["bc1"]))
    (tmp_path / "a.dds").write_bytes(dds.pack(texture))
    plain = finish(encode_texture(build_mip_chain(busy(64, 64)), FORMATS["rgba8"]))
    (tmp_path / "b.ktx2").write_bytes(ktx2.pack(plain))
    assert not having(tmp_path, "format-not-on-hardware", "lounge")
    assert having(tmp_path, "format-not-on-hardware") == ["a.dds"]
    finding = only(tmp_path, "pocket", "format-not-on-hardware")
    assert finding.severity is Severity.ERROR
    assert "expanded to RGBA8" in finding.message and "8.0 times" in finding.message
    assert finding.bytes == FORMATS["rgba8"].mip_chain_bytes(64, 64, 7) - FORMATS["bc1"].mip_chain_bytes(64, 64, 7)


def test_formats_that_only_part_of_the_audience_has(tmp_path):
    put(tmp_path, "a_base.png")
    put(tmp_path, "b_base.png")
    cut = Cut(SetFormat("bc1"), ("a_base.png",))
    assert having(tmp_path, "format-not-everywhere", "lounge", cut) == []
    target = with_limits("lounge", audience={"bc": 0.75})
    assert having(tmp_path, "format-not-everywhere", target, cut) == ["a_base.png"]
    assert "25 % of the audience" in only(tmp_path, target, "format-not-everywhere", cut).message


def test_alpha_that_is_lost(tmp_path):
    put(tmp_path, "leaf_base.png", channels=4)
    put(tmp_path, "wall_base.png", channels=3)
    cut = Cut(SetFormat("bc1"), ("leaf_base.png", "wall_base.png"))
    assert having(tmp_path, "alpha-lost", "lounge", cut) == ["leaf_base.png"]
    assert only(tmp_path, "lounge", "alpha-lost", cut).fix.value == "bc3"


def test_data_in_formats_made_for_colour(tmp_path):
    names = ("a_n.png", "a_lut.png", "a_glyphs.png", "a_mask.png", "a_base.png")
    for name in names:
        put(tmp_path, name)
    assert having(tmp_path, "colour-compressed-data", "lounge", Cut(SetFormat("bc1"), names)) == [
        "a_n.png", "a_glyphs.png", "a_lut.png", "a_mask.png",
    ]  # fmt: skip
    sound = Cut(SetFormat("bc5"), ("a_n.png",)), Cut(SetFormat("bc4"), ("a_mask.png", "a_glyphs.png"))
    assert having(tmp_path, "colour-compressed-data", "lounge", *sound) == []


def test_files_that_are_small_and_not_small_in_memory(tmp_path):
    plain = np.zeros((1024, 1024, 3), np.uint8)
    plain[::64] = 90
    put(tmp_path, "small.png", plain)
    put(tmp_path, "large.png", size=(1024, 1024))
    assert having(tmp_path, "packed-file") == ["small.png"]


def test_sixteen_bit_colour_that_will_band(tmp_path):
    put(tmp_path, "sky_base.png", smooth(128, 128, 3).pixels)
    put(tmp_path, "moss_base.png", size=(128, 128))
    cut = Cut(SetFormat("rgb565"), ("sky_base.png", "moss_base.png"))
    assert having(tmp_path, "sixteen-bit-bands", "pocket", cut) == ["sky_base.png"]


# Structure


def with_limits(name, audience=None, **limits):
    """A shipped target with other limits."""
    target = target_named(name)
    fields = {line: getattr(target.limits, line) for line in Limits.__struct_fields__} | limits
    shares = {next(h for h in target.hardware if h.value == key): share for key, share in (audience or {}).items()}
    return msgspec.structs.replace(target, limits=Limits(**fields), audience=shares)


def yard(tmp_path, copies=1):
    """A model of two squares in two materials that are the same, a third that is not, and a camera."""
    put(tmp_path, "wood_base.png")
    writer = GltfWriter()
    wood = writer.image("wood_base.png")
    one, two = (material(writer, name, baseColorTexture=wood) for name in ("oak", "oak.001"))
    other = material(writer, "rough oak", baseColorTexture=wood)
    writer.json["materials"][other]["pbrMetallicRoughness"]["roughnessFactor"] = 0.3
    for number in (one, two, other):
        mesh = add_mesh(writer, number)
        writer.add("nodes", name=f"board {number}", mesh=mesh)
    for _ in range(copies - 1):
        writer.add("nodes", name="copy", mesh=0)
    scene(writer, *range(len(writer.json["nodes"])))
    return writer


def test_materials_that_are_the_same(tmp_path):
    write_model(tmp_path, "yard.glb", yard(tmp_path))
    assert having(tmp_path, "duplicate-material") == ["yard.glb"]
    message = only(tmp_path, "pocket", "duplicate-material").message
    assert "'oak.001' is the same as 'oak'" in message and "rough" not in message


@pytest.mark.parametrize(("what", "total"), [("materials", 3), ("triangles", 8), ("draws", 4)])
def test_counts_over_the_limit(tmp_path, what, total):
    write_model(tmp_path, "yard.glb", yard(tmp_path, copies=2))
    assert having(tmp_path, f"over-{what}", with_limits("pocket", **{what: total - 1})) == ["yard.glb"]
    assert having(tmp_path, f"over-{what}", with_limits("pocket", **{what: total})) == []


def test_textures_that_nothing_uses(tmp_path):
    put(tmp_path, "loose.png")
    assert having(tmp_path, "unused-texture") == []  # without models nobody can tell
    write_model(tmp_path, "yard.glb", yard(tmp_path))
    assert having(tmp_path, "unused-texture") == ["loose.png"]


def test_objects_that_are_only_seen_from_far(tmp_path):
    points = np.tile(SQUARE, (300, 1))
    triangles = (np.tile([0, 1, 2, 0, 2, 3], 300) + np.repeat(np.arange(300) * 4, 6)).astype(np.uint16)
    writer = GltfWriter()
    mesh = add_mesh(writer, uv=np.tile(SQUARE_UV, (300, 1)), points=points, triangles=triangles)
    writer.add("cameras", type="perspective", perspective={"yfov": 1.0, "znear": 0.1})
    writer.add("nodes", name="eye", camera=0)
    writer.add("nodes", name="near", mesh=mesh, translation=[0, 0, -15])
    writer.add("nodes", name="far", mesh=mesh, translation=[0, 0, -60])
    scene(writer, 0, 1, 2)
    write_model(tmp_path, "a.glb", writer)
    message = only(tmp_path, "pocket", "far-object").message
    # A square of side 1 in a sphere of radius 0.71, 60 away: 0.71 / (60 tan 0.5) of 1080 lines.
    assert message.startswith("far is at most 23 of 1,080 lines") and "near" not in message


def test_uvs_that_tile_or_overlap(tmp_path):
    writer = GltfWriter()
    folded = SQUARE_UV.copy()
    folded[3] = folded[1]  # the second triangle lies on the first
    sheets = {"flat": SQUARE_UV, "tiles": SQUARE_UV * 2, "moved": SQUARE_UV + 3, "folded": folded}
    for name, uv in sheets.items():
        wood = material(writer, name, baseColorTexture=writer.image("wood_base.png"))
        corners = [0, 1, 2, 0, 2, 3] + ([0, 1, 2] if name == "folded" else [])
        add_mesh(writer, wood, uv, triangles=np.array(corners, np.uint16))
    put(tmp_path, "wood_base.png")
    write_model(tmp_path, "a.glb", writer)
    assert "UVs of tiles go" in only(tmp_path, "pocket", "tiling-uvs").message
    assert "triangles of folded share" in only(tmp_path, "pocket", "overlapping-uvs").message


# Files


def test_unreadable_files_are_findings_too(tmp_path):
    (tmp_path / "a.png").write_bytes(b"nothing")
    (tmp_path / "a.wav").write_bytes(b"RIFF")
    (tmp_path / "a.gltf").write_bytes(b"{}")
    assert having(tmp_path, "unreadable") == ["a.gltf", "a.png", "a.wav"]


def test_models_that_are_broken_in_parts(tmp_path):
    writer = yard(tmp_path)
    write_model(tmp_path, "sound.glb", writer)
    writer.json["meshes"][0]["primitives"][0]["indices"] = 99
    write_model(tmp_path, "broken.glb", writer)
    assert having(tmp_path, "model-fault") == ["broken.glb"]


def test_names_that_say_another_kind(tmp_path):
    png = io.BytesIO()
    PillowImage.fromarray(busy(64, 64, 3).pixels).save(png, "PNG")
    for name in ("fault.jpg", "near.png", "NEAR.PNG"):
        (tmp_path / name).write_bytes(png.getvalue())
    assert having(tmp_path, "wrong-extension") == ["fault.jpg"]


def test_references_that_do_not_hold(tmp_path):
    put(tmp_path, "art/Wood_Base.png")
    put(tmp_path, "art/brass_base.png")
    for name, uri, code in (
        ("gone", "../art/gone.png", "broken-reference"),
        ("case", "../art/wood_base.png", "letter-case"),
        ("climbs", "../../secret.png", "outside-root"),
        ("sound", "../art/brass_base.png", ""),
    ):
        writer = GltfWriter()
        material(writer, baseColorTexture=writer.image(uri))
        write_model(tmp_path, f"models/{name}.glb", writer)
        for each in ("broken-reference", "letter-case", "outside-root"):
            assert (f"models/{name}.glb" in having(tmp_path, each)) == (each == code)
    plan = planned(tmp_path, "pocket")
    assert plan.inventory.ownership.users(0) == ["models/case.glb > no object > paint"]


def test_one_name_in_several_folders(tmp_path):
    put(tmp_path, "a/wall.png", busy(64, 64, 3, seed=1).pixels)
    put(tmp_path, "b/wall.png", busy(64, 64, 3, seed=2).pixels)
    put(tmp_path, "c/wall.png", busy(64, 64, 3, seed=1).pixels)
    assert having(tmp_path, "same-name") == ["b/wall.png"]


# What is carried


def test_long_sounds(tmp_path):
    for name, seconds in (("wave.wav", 21), ("gull.wav", 19)):
        soundfile.write(tmp_path / name, np.sin(np.arange(16_000 * seconds * 2) * 1.3).reshape(-1, 2) / 2, 16_000)
    assert having(tmp_path, "long-audio") == ["wave.wav"]
    finding = only(tmp_path, "pocket", "long-audio")
    assert finding.bytes == 16_000 * 21 * 4 and "could be streamed" in finding.message


def test_clips_with_more_keys_than_movement(tmp_path):
    for name, keys in (("heavy", 6000), ("near", 2800)):
        writer = yard(tmp_path)
        times = writer.accessor(np.linspace(0, 100, keys, dtype=np.float32), bounds=True)
        turns = writer.accessor(np.zeros((keys, 4), np.float32))
        writer.add(
            "animations",
            name="sway",
            samplers=[{"input": times, "output": turns}],
            channels=[{"sampler": 0, "target": {}}],
        )
        write_model(tmp_path, f"{name}.glb", writer)
    assert having(tmp_path, "heavy-animation") == ["heavy.glb#animations/0"]
    finding = only(tmp_path, "pocket", "heavy-animation")
    assert "60 keys a second" in finding.message and finding.bytes == 6000 * 20 * 3 // 4


def test_findings_of_several_targets_are_told_once(tmp_path):
    put(tmp_path, "odd.png", size=(100, 64))
    (one,) = merge([findings_of(planned(tmp_path, t)) for t in ("pocket", "visor", "lounge")])
    assert one.targets == ("pocket", "visor", "lounge")
    assert one.severity is Severity.WARNING
    assert one.message.count(";") == 2
    assert one.code in LABELS
