"""The cuts and sightlines of the shipped job: what a technical artist would do to bring Heronmere Landing under its budgets."""

from __future__ import annotations

from oaktrim.core.makers.glyphs.sheet import GlyphSheet
from oaktrim.core.makers.imposter.settings import Family, Imposter, SheetMap
from oaktrim.core.makers.pack.pack import ChannelSource, Lane, Pack
from oaktrim.core.makers.registry import Maker
from oaktrim.core.makers.surface.settings import Axes, Flatten, Surface, Tile
from oaktrim.core.plan.cuts import Cap, Cut, Drop, KeepCoverage, SetFormat, SetLevels
from oaktrim.core.plan.modelcuts import LeaveOut, OrderTriangles, QuantizeVertices, ReduceMotion
from oaktrim.core.plan.soundcuts import SetCodec, SetRate, TrimSilence
from oaktrim.core.sight.sightlines import Path, Portrait, Sightlines, Station, Step
from oaktrim.core.sounds.codecs import SoundCodec

_NORMALS = (
    "boat/boat_n.png",
    "kiosk/clapboard_n.png",
    "reeds/reed_n.png",
    "warden/oilskin_n.png",
)
_SURFACES = (
    "boat/boat_orm.png",
    "kiosk/clapboard_orm.png",
    "kiosk/roof_orm.png",
    "posts/post_base_surface_post_orm",
    "reeds/reed_orm.png",
    "shore/mud_orm.png",
    "warden/oilskin_orm.png",
)
_BASES = (
    "boat/boat_base.png",
    "kiosk/clapboard_base.png",
    "kiosk/roof_base.png",
    "shore/mud_base.jpg",
    "warden/skin_base.png",
)
_SMALL_BASES = (
    "jetty/planks_base_surface",
    "kiosk/kiosk_trim_base.png",
    "lantern/lantern_base.png",
    "posts/post_base_surface",
    "rack/bicycle_rack_base.png",
    "shore/water_base.png",
    "timetable/timetable_base.png",
    "warden/boots_base.png",
    "warden/hat_base.tga",
)
_SMALL_NORMALS = (
    "jetty/planks_base_surface_planks_n",
    "kiosk/roof_n.png",
    "lantern/lantern_n.png",
    "posts/post_base_surface_post_n",
    "rack/bicycle_rack_n.png",
    "shore/mud_n.png",
    "shore/water_n.png",
    "warden/badge_n.png",
    "warden/boots_n.png",
    "warden/skin_n.png",
)
_GREYS = (
    "kiosk/kiosk_occlusion.png",
    "kiosk/kiosk_trim_rough.png",
    "rack/bicycle_rack_rough.jpg",
    "warden/oilskin_ao.png",
    "boat/oar_ao.png",
    "boat/oar_gloss.png",
    "kiosk/kiosk_trim_ao.png",
    "lantern/lantern_ao.png",
    "lantern/lantern_gloss.png",
    "warden/hat_ao.png",
    "warden/hat_rough.png",
)
# Made by the job's makers.
_PACKED = ("warden/boots_orm",)
_FAR = ("reeds/reed_bank_far", "rack/bicycle_rack_far", "kiosk/kiosk_far", "posts/post_and_boat_far")
_FAR_BASES, _FAR_NORMALS = (tuple(f"{name}_{kind}" for name in _FAR) for kind in ("base", "normal"))
_FAR_SURFACES = tuple(f"{name}_orm" for name in _FAR[2:])
_FAR_DEPTHS = tuple(f"{name}_depth" for name in _FAR[2:])
_SINGLE = (
    *_GREYS,
    "kiosk/window_glass_m.png",
    "reeds/reed_sway_m.png",
    "shore/foam_mask.png",
    "timetable/timetable_glyphs.png",
)
_CONSTANT = ("lantern/lantern_metal.png", "rack/bicycle_rack_metal.png")
_OVERLAYS = ("boat/boat_name_overlay.png", "kiosk/kiosk_sign.png")
_ROPES = ("posts/rope_base.png", "posts/rope_mask.png", "posts/rope_n.png")
_FORGOTTEN = ("boat/old/boat_base_copy.png",)
_OILSKIN = ("warden/oilskin_base.png",)
_REEDS = ("reeds/reed_base.png",)
_ICONS = ("interface/anchor_icon.png", "interface/compass_icon.png", "interface/ticket_icon.png")
_CUT_OUT = ("reeds/reed_base.png", "reeds/reed_card_base.png", "warden/badge_base.png", *_OVERLAYS)
_SKIES = ("sky/dusk_env.exr", "sky/marsh_sky.hdr")
_OPAQUE_ALPHA = ("posts/tar_base.png",)

_PHONE, _HEADSET, _CONSOLE = ("pocket",), ("visor",), ("lounge",)
_SMALL = (*_PHONE, *_HEADSET)
_WAVES, _GULL = ("sounds/wave_loop.wav",), ("sounds/gull_cry.ogg",)
_MODELS, _WARDEN = ("landing.gltf", "warden/warden.glb"), "warden/warden.glb"


def demo_makers() -> tuple[Maker, ...]:
    """Return the makers; more are left to do.

    The boots' three maps in one, the letters of the timetable board, the floor of the jetty from a photograph of planks under a
    lamp, and the bark of the posts from another that goes round them; and for where they are far away a cloud of cards for the reed
    bank, two crossed cards for the bicycle rack, a dome of frames for the kiosk, and one for a post and the boat.
    """
    boots = [
        Lane((ChannelSource("warden/boots_ao.png"),)),
        Lane((ChannelSource("warden/boots_gloss.png", invert=True),)),
        Lane((ChannelSource("warden/boots_metal.png"),)),
        Lane(),
    ]
    red, green, blue, alpha = boots
    pack = Pack(
        _PACKED[0], "occlusion-roughness-metalness", (red, green, blue, alpha), ("warden/warden.glb#materials/boots",),
        "boots",
    )  # fmt: skip
    letters = " -./0123456789:ABCDEFGHIJKLMNOPQRSTUVWXYZ·"
    sheet = GlyphSheet("timetable/heronmere_signs_64_glyphs", "timetable/heronmere_signs.ttf", 64, letters, spread=6)
    reeds = Imposter(
        "reeds/reed_bank_far", "landing.gltf", ("reed bank",), family=Family.CLOUD, cards=16, size=512, outline=8
    )
    rack = Imposter("rack/bicycle_rack_far", "landing.gltf", ("bicycle rack",), axes="xz", size=256, outline=8)
    maps = (SheetMap.BASE, SheetMap.NORMAL, SheetMap.ORM)
    kiosk, clump = (
        Imposter(name, "landing.gltf", nodes, family=Family.DOME, frames=8, frame_size=64, outline=8, maps=maps)
        for name, nodes in (
            ("kiosk/kiosk_far", ("ferry kiosk",)), ("posts/post_and_boat_far", ("old mooring post", "rowing boat")),
        )
    )  # fmt: skip
    planks = Surface(
        "jetty/planks_base_surface", "jetty/planks_base.jpg", ("jetty/planks_n.png",), flatten=Flatten(), tile=Tile()
    )
    bark = Surface(
        "posts/post_base_surface", "posts/post_base.png", ("posts/post_n.png", "posts/post_orm.png"), flatten=Flatten(),
        tile=Tile(Axes.X),
    )  # fmt: skip
    return (pack, sheet, reeds, rack, kiosk, clump, planks, bark)


def demo_sightlines() -> Sightlines:
    """Return where a player stands: at the pier, along the rope, at the kiosk's door, in the boat; and how the warden is seen."""
    scene = "landing.gltf"
    stations = (
        Station("pier", (0.0, 1.7, 9.0), (0.0, 1.3, 0.0), scene=scene),
        Station("along the rope", (-2.4, 1.6, 6.2), (-1.2, 0.9, 3.0), scene=scene),
        Station("kiosk door", (0.0, 2.0, 2.6), (0.0, 2.85, 1.45), 0.42, scene=scene),
        Station("boat", (3.6, 1.3, 8.6), (1.5, 0.2, 6.5), scene=scene),
    )
    walk = Path("the jetty", tuple(Step(row.name, 4.0 * place) for place, row in enumerate(stations)))
    return Sightlines(stations, (walk,), portraits=(Portrait("warden", metres=1.8),))


def demo_cuts() -> tuple[Cut, ...]:
    """Return the cuts; those for all targets first."""
    return (
        Cut(Cap(4), _CONSTANT),
        Cut(Cap(64), _FORGOTTEN),
        Cut(SetFormat("r8"), _GREYS),
        Cut(KeepCoverage(128), _FAR_BASES),
        Cut(Cap(2048), (*_REEDS, "reeds/reed_n.png")),
        Cut(Cap(512), _ROPES),
        Cut(SetLevels(False), (*_ICONS, "interface/timetable_small_base.png")),
        Cut(Cap(1024), (*_BASES, *_OILSKIN), _SMALL),
        Cut(Cap(512), (*_NORMALS, *_SMALL_NORMALS), _SMALL),
        Cut(Cap(512), _SURFACES, _SMALL),
        Cut(Cap(1024), _OVERLAYS, _SMALL),
        # Cap and dropped level add up: the ladder says so.
        Cut(Drop(1), _REEDS, _SMALL),
        Cut(Cap(512), (*_BASES, *_SMALL_BASES), _HEADSET),
        Cut(SetFormat("astc-6x6"), (*_BASES, *_OILSKIN, *_SMALL_BASES, *_OPAQUE_ALPHA, *_CUT_OUT, *_FAR_BASES), _SMALL),
        # So small that the border of its blocks counts.
        Cut(SetFormat("astc-6x6"), _FORGOTTEN, _SMALL),
        Cut(
            SetFormat("astc-5x5"),
            (*_NORMALS, *_SMALL_NORMALS, *_SURFACES, *_PACKED, *_FAR_NORMALS, *_FAR_SURFACES),
            _SMALL,
        ),
        Cut(SetFormat("eac-r11"), (*_SINGLE, *_FAR_DEPTHS), _SMALL),
        # A habit from before there were blocks, which the survey finds: gradients in 16 bits.
        Cut(SetFormat("rgb565"), ("lantern/lantern_base.png",), _PHONE),
        Cut(SetFormat("bc1"), (*_SMALL_BASES, *_OPAQUE_ALPHA, *_SURFACES, *_FAR_SURFACES), _CONSOLE),
        Cut(Cap(512), ("jetty/planks_base_surface", "jetty/planks_base_surface_planks_n"), _CONSOLE),
        Cut(SetFormat("bc7"), (*_BASES, *_OILSKIN, *_CUT_OUT, *_PACKED, *_FAR_BASES), _CONSOLE),
        Cut(SetFormat("bc6h"), _SKIES, _CONSOLE),
        Cut(Cap(1024), ("kiosk/roof_orm.png",), _CONSOLE),
        # Two slips that the survey finds: a glass that goes solid, and a lookup table in blocks for colour.
        Cut(SetFormat("bc1"), ("lantern/lantern_glass_base.png", "sky/fog_lut.png"), _CONSOLE),
        Cut(SetFormat("bc5"), (*_NORMALS, *_SMALL_NORMALS, *_FAR_NORMALS), _CONSOLE),
        Cut(SetFormat("bc4"), (*_SINGLE, *_FAR_DEPTHS), _CONSOLE),
        Cut(SetCodec(SoundCodec.VORBIS, 0.4), _WAVES),
        Cut(SetCodec(SoundCodec.VORBIS, 0.2), _GULL, _SMALL),
        # Neither plays FLAC.
        Cut(SetCodec(SoundCodec.VORBIS, 0.4), ("sounds/bell.flac",), _SMALL),
        Cut(TrimSilence(-50), _GULL),
        Cut(SetRate(16_000), _WAVES, _PHONE),
        Cut(ReduceMotion(0.5, 0.5), (f"{_WARDEN}#animations/1",)),
        Cut(OrderTriangles(), _MODELS),
        Cut(QuantizeVertices(0.5), _MODELS, _SMALL),
        # Under a headset of one's own nobody sees the brim.
        Cut(LeaveOut(), (f"{_WARDEN}#nodes/rain hat",), _HEADSET),
    )
