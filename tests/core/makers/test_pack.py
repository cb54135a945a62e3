"""Packs: codes that come back exactly, whatever the sources; proposals that find the data; batches; formats that bleed."""

import json

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image as PillowImage
from tests.kit.models import add_mesh, material, scene
from tests.kit.pictures import busy, noise, rms
from tests.kit.trees import put, surveyed, write_model

from oaktrim.core.errors import DocumentError, OakTrimError, Unsupported
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.layouts import LAYOUTS, Layout, LayoutSlot, keep_layout, layout_named, user_layouts
from oaktrim.core.makers.pack.onshape import Shape, lit_picture
from oaktrim.core.makers.pack.pack import (
    Channel,
    ChannelSource,
    Combine,
    Lane,
    Pack,
    apart,
    channel_of,
    lane_picture,
    pack_picture,
    share_outside,
    unpacked,
)
from oaktrim.core.makers.pack.proof import damages, lane_losses
from oaktrim.core.makers.pack.propose import by_materials, by_names, default_patterns, lane_warnings, proposal
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.roles import Role

ORM = LAYOUTS[0]


class Given:
    """Sources that are at hand."""

    def __init__(self, **pictures):
        self.pictures = pictures

    def picture(self, path):
        return self.pictures[path]


def lanes(*given):
    filled = [*given, *[Lane()] * (4 - len(given))]
    return tuple(lane if isinstance(lane, Lane) else Lane((lane,)) for lane in filled)


def grey(values, dtype=np.uint8):
    return Image.of(np.asarray(values, dtype))


def test_each_lane_holds_the_codes_of_its_channel():
    colour, alone = noise(24, 16, 4, seed=1), noise(24, 16, 1, seed=2)
    made = Pack(
        "p",
        ORM.id,
        lanes(
            ChannelSource("alone"), ChannelSource("colour", Channel.GREEN, True), ChannelSource("colour", Channel.ALPHA)
        ),
    )
    out = pack_picture(made, ORM, Given(colour=colour, alone=alone))
    assert out.transfer is Transfer.LINEAR and out.channels == ("R", "G", "B")
    np.testing.assert_array_equal(out.pixels[..., 0], alone.pixels[..., 0])
    np.testing.assert_array_equal(out.pixels[..., 1], 255 - colour.pixels[..., 1])
    np.testing.assert_array_equal(out.pixels[..., 2], colour.pixels[..., 3])
    parts = unpacked(out, ORM)
    assert list(parts) == ["occlusion", "roughness", "metalness"]
    np.testing.assert_array_equal(parts["roughness"].pixels[..., 0], 255 - colour.pixels[..., 1])


@settings(max_examples=40, deadline=None)
@given(
    st.sampled_from(list(Channel)), st.booleans(), st.booleans(),
    st.tuples(st.floats(0, 0.4), st.floats(0.5, 1)), st.tuples(st.floats(0, 1), st.floats(0, 1)),
)  # fmt: skip
def test_a_feed_is_what_its_words_say(channel, invert, decode, span, out_span):
    image = noise(8, 6, 3, seed=4)
    feed = ChannelSource("a", channel, invert, decode, span, out_span)
    got = lane_picture(Lane((feed,)), Given(a=image), 16).pixels[..., 0] / 65535
    value = image.pixels / 255.0
    if decode and channel is not Channel.ALPHA:
        value = np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)  # IEC 61966-2-1
    r, g, b = np.moveaxis(value, 2, 0)
    plane = {
        Channel.RED: r, Channel.GREEN: g, Channel.BLUE: b, Channel.ALPHA: np.ones_like(r),
        Channel.LUMINANCE: 0.2126 * r + 0.7152 * g + 0.0722 * b,
        Channel.LARGEST: value.max(axis=2), Channel.SMALLEST: value.min(axis=2),
    }[channel]  # fmt: skip
    plane = np.clip((plane - span[0]) / (span[1] - span[0]), 0, 1)
    plane = out_span[0] + plane * (out_span[1] - out_span[0])
    np.testing.assert_allclose(got, 1 - plane if invert else plane, atol=2e-5)


@pytest.mark.parametrize(
    ("how", "wanted"),
    [(Combine.MULTIPLY, 100 * 200 / 255), (Combine.ADD, 255), (Combine.LARGEST, 200), (Combine.SMALLEST, 100)],
)
def test_several_sources_in_one_lane(how, wanted):
    lane = Lane((ChannelSource("a"), ChannelSource("b")), how)
    out = lane_picture(lane, Given(a=grey(np.full((4, 4), 100)), b=grey(np.full((4, 4), 200))))
    assert abs(int(out.pixels[0, 0, 0]) - wanted) <= 0.5


def test_depths_fills_and_sizes():
    deep = grey(np.arange(64, dtype=np.uint16).reshape(8, 8) * 1000, np.uint16)
    sixteen = pack_picture(Pack("p", ORM.id, lanes(ChannelSource("deep")), bits=16), ORM, Given(deep=deep))
    np.testing.assert_array_equal(sixteen.pixels[..., 0], deep.pixels[..., 0])
    eight = pack_picture(Pack("p", ORM.id, lanes(ChannelSource("deep"), Lane(fill=0.25))), ORM, Given(deep=deep))
    assert np.abs(eight.pixels[..., 0] - deep.pixels[..., 0] / 257).max() <= 0.51
    assert np.unique(eight.pixels[..., 1]).tolist() == [64]
    small, large = busy(16, 8, 1), busy(32, 16, 1)
    both = pack_picture(
        Pack("p", ORM.id, lanes(ChannelSource("small"), ChannelSource("large"))), ORM, Given(small=small, large=large)
    )
    assert both.size == (32, 16)
    np.testing.assert_array_equal(both.pixels[..., 1], large.pixels[..., 0])
    assert rms(both.pixels[::2, ::2, 0], small.pixels[..., 0]) < 12
    chosen = pack_picture(Pack("p", ORM.id, lanes(ChannelSource("large")), size=8), ORM, Given(large=large))
    assert chosen.size == (8, 4)
    four = layout_named("masks-four")
    assert pack_picture(Pack("p", four.id, lanes(ChannelSource("small"))), four, Given(small=small)).channels[-1] == "A"


def test_slots_say_how_they_are_written_and_what_they_expect():
    glow = LayoutSlot("glow", fill=0.0, low=0.1, high=0.6, transfer=Transfer.SRGB)
    layout = Layout("glows", "Glows", "glows", (glow, LayoutSlot("plain"), LayoutSlot(), LayoutSlot()))
    ramp = grey(np.arange(256).reshape(16, 16))
    both = Pack("p", "glows", lanes(ChannelSource("a"), ChannelSource("a")))
    out = pack_picture(both, layout, Given(a=ramp))
    np.testing.assert_array_equal(out.pixels[..., 1], ramp.pixels[..., 0])
    value = np.arange(256) / 255
    codes = np.where(value <= 0.0031308, value * 12.92, 1.055 * value ** (1 / 2.4) - 0.055)  # IEC 61966-2-1
    np.testing.assert_array_equal(out.pixels[..., 0].ravel(), np.floor(codes * 255 + 0.5))
    # What is stored as sRGB and brought to linear values comes out of an sRGB slot as it was.
    back = pack_picture(Pack("p", "glows", lanes(ChannelSource("a", decode=True))), layout, Given(a=ramp))
    np.testing.assert_array_equal(back.pixels[..., 0], ramp.pixels[..., 0])
    assert share_outside(out, 0, glow) == pytest.approx(np.mean((value < 0.098) | (value > 0.602)), abs=0.01)
    assert share_outside(out, 1, layout.slots[1]) == 0
    with pytest.raises(ValueError, match="from low to high"):
        LayoutSlot("x", low=0.5, high=0.5)


def test_a_pack_proves_itself_and_says_what_bleeds():
    left, right = busy(128, 128, 1, seed=1), noise(128, 128, 1, seed=2)
    made = Pack("p", ORM.id, lanes(ChannelSource("left"), ChannelSource("right", invert=True), Lane(fill=0.0)))
    sources = Given(left=left, right=right)
    out = pack_picture(made, ORM, sources)
    losses = finish(lane_losses(made, ORM, out, sources))
    assert {place: found.largest for place, found in losses.items()} == {0: 0, 1: 0}
    plain, blocks, etc = finish(damages(out, [FORMATS[name] for name in ("rgba8", "bc1", "etc2-rgb")]))
    assert plain.exact and plain.bled == 0
    for row in (blocks, etc):
        # A calm channel beside a busy one loses far more than alone: the blocks of colour are spent on the other.
        assert row.rms[0] > 3 * row.alone[0] and row.bled > 2
    assert apart(left, left).largest == 0


def test_the_channel_that_carries_the_data_is_proposed(tmp_path):
    root = tmp_path / "art"
    plane = busy(32, 32, 1).pixels[..., 0]
    none, full = np.zeros_like(plane), np.full_like(plane, 255)
    put(root, "a_ao.png", np.stack([plane, plane, plane], axis=2))
    put(root, "a_gloss.png", np.stack([none, plane, none], axis=2))
    put(root, "a_metal.png", full)
    put(root, "b_rough.png", np.stack([none, none, none, plane], axis=2))
    put(root, "c_orm.png", np.stack([plane, 255 - plane, plane // 2], axis=2))
    found = surveyed(root)
    facts = {t.path: t for t in found.textures}
    roles = {t.path: g.role for t, g in zip(found.textures, found.roles, strict=True)}

    def proposed(slot, path):
        return proposal(ORM.slots[ORM.place(slot)], facts[path], roles[path])

    assert proposed("occlusion", "a_ao.png").feed == ChannelSource("a_ao.png")
    gloss = proposed("roughness", "a_gloss.png")
    assert gloss.feed == ChannelSource("a_gloss.png", Channel.GREEN, invert=True)
    assert "opposite of roughness" in gloss.reason
    assert "Constant 255" in proposed("metalness", "a_metal.png").reason
    assert proposed("roughness", "b_rough.png").feed.channel is Channel.ALPHA
    assert [proposed(s, "c_orm.png").feed.channel.value for s in ("occlusion", "roughness", "metalness")] == list("RGB")
    assert proposal(ORM.slots[0], facts["c_orm.png"], Role.UNKNOWN).feed.channel is Channel.LUMINANCE
    twice = Pack(
        "p",
        ORM.id,
        lanes(ChannelSource("a_ao.png"), ChannelSource("a_ao.png", Channel.BLUE), ChannelSource("a_metal.png")),
    )
    said = lane_warnings(twice, ORM, facts)
    assert "same as red, occlusion" in said[1][0]
    assert "constant" in said[2][0]
    assert "is not there" in lane_warnings(Pack("p", ORM.id, lanes(ChannelSource("gone.png"))), ORM, facts)[0][0]


def test_batches_by_name_and_by_material(tmp_path):
    root = tmp_path / "art"
    for name in ("wall_ao", "wall_rough", "wall_metal", "door_ao", "door_gloss", "roof_ao"):
        put(root, f"set/{name}.png", busy(16, 16, 1, seed=sum(name.encode())).pixels)
    put(root, "set/wall_base.png")
    put(root, "other/wall_rough.png")
    writer = GltfWriter()
    base, ao = writer.image("set/wall_base.png"), writer.image("set/wall_ao.png")
    paint = material(writer, "brick", baseColorTexture=base, occlusionTexture=ao)
    scene(writer, writer.add("nodes", mesh=add_mesh(writer, paint)))
    write_model(root, "house.glb", writer)
    found = surveyed(root)
    rows = by_names(found, ORM, default_patterns(ORM))
    assert [(row.pack.subject, len(row.pack.inputs)) for row in rows] == [("door", 2), ("wall", 3)]
    assert rows[0].problems == ("No metalness found: filled with 0.",), "those with problems stand on top"
    assert rows[0].pack.lanes[1].feeds[0].invert
    assert rows[1].pack.materials == ("house.glb#materials/brick",)
    (brick,) = by_materials(found, ORM, default_patterns(ORM))
    assert brick.pack.subject == "brick" and not brick.problems
    assert brick.pack.inputs == ("set/wall_ao.png", "set/wall_rough.png", "set/wall_metal.png")
    own = by_names(found, ORM, {"occlusion": "{name}_ao", "roughness": "{name}_ro*"})
    assert [row.pack.subject for row in own] == ["wall"]
    with pytest.raises(ValueError, match=r"needs \{name\} once"):
        by_names(found, ORM, {"occlusion": "ao_*"})


def test_layouts_of_the_user_are_kept_and_refused_in_words(tmp_path):
    file = tmp_path / "layouts.json"
    assert user_layouts(file) == ()
    own = Layout("cloth", "Cloth", "cloth", (LayoutSlot("fuzz"), LayoutSlot(), LayoutSlot(), LayoutSlot("wear")))
    keep_layout(own, file)
    keep_layout(msgspec.structs.replace(own, about="Ours"), file)
    assert [(row.id, row.about) for row in user_layouts(file)] == [("cloth", "Ours")]
    assert layout_named("cloth", user_layouts(file)).place("wear") == 3
    with pytest.raises(Unsupported, match="has no slot 'metalness'; it has fuzz, wear"):
        own.place("metalness")
    document = json.loads(file.read_bytes())
    document["layouts"][0]["slots"][0]["fill"] = 3
    file.write_text(json.dumps(document))
    with pytest.raises(DocumentError, match=r"layouts\.json.*fill.*0 to 1"):
        user_layouts(file)


def test_what_cannot_be_is_said():
    with pytest.raises(ValueError, match="no width"):
        ChannelSource("a", input=(0.5, 0.5))
    with pytest.raises(ValueError, match="8 or 16 bits"):
        Pack("p", ORM.id, lanes(), bits=12)
    with pytest.raises(OakTrimError, match="has no A, which metalness-gloss reads as gloss"):
        unpacked(busy(8, 8, 3), layout_named("metalness-gloss"))
    with pytest.raises(ValueError, match="several channels"):
        channel_of(busy(8, 8, 3), Channel.LARGEST)


def test_files_are_read_once_and_by_their_errors(tmp_path):
    PillowImage.fromarray(np.zeros((4, 4), np.uint8)).save(tmp_path / "a.png")
    (tmp_path / "b.png").write_bytes(b"\x89PNG\r\n\x1a\nnot")
    sources = Sources(tmp_path, {}, 1 << 20)
    assert pack_picture(
        Pack("p", ORM.id, lanes(ChannelSource("a.png"), ChannelSource("a.png"))), ORM, sources
    ).size == (4, 4)
    with pytest.raises(OakTrimError, match=r"b\.png"):
        pack_picture(Pack("p", ORM.id, lanes(ChannelSource("b.png"))), ORM, sources)


def test_a_pack_is_lit_as_its_roughness_metalness_and_occlusion_say():
    def lit(**maps):
        planes = {name: np.full((8, 8), value, np.float32) for name, value in maps.items()}
        return lit_picture(Shape.SPHERE, planes, 128).astype(int)

    plain = lit(occlusion=1.0, roughness=0.9, metalness=0.0)
    assert plain[64, 64, 3] == 255 and plain[0, 0, 3] == 0
    smooth = lit(occlusion=1.0, roughness=0.15, metalness=0.0)
    assert smooth[..., :3].max() > plain[..., :3].max() + 20, "a smooth surface has a highlight"
    rows, columns = np.nonzero(smooth[..., 0] >= smooth[..., 0].max() - 10)
    assert rows.mean() < 64 and columns.mean() < 64, "towards the lamp, which stands up on the left"
    dim = lit(occlusion=0.0, roughness=0.9, metalness=0.0)
    assert dim[..., :3].sum() < plain[..., :3].sum() and (dim[..., :3] <= plain[..., :3]).all()
    metal = lit(occlusion=1.0, roughness=0.9, metalness=1.0)
    assert metal[64, 64, :3].sum() < plain[64, 64, :3].sum(), "metal has no diffuse light"
    table = lit_picture(Shape.PLANE, {}, 64)
    assert 0.3 < (table[..., 3] > 0).mean() < 0.95
    half = np.zeros((64, 64), np.float32)
    half[:32] = 1
    upper = lit_picture(Shape.SPHERE, {"occlusion": half, "roughness": np.full((64, 64), 0.9, np.float32)}, 128)
    assert upper[40, 64, 0] > 1.2 * upper[88, 64, 0], "V runs from the top"
