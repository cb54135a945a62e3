"""The things at Heronmere Landing, each as the pictures that dress it, by file name without its ending."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from oaktrim.demo.brush import (
    Draw,
    Plane,
    blend,
    boards,
    codes,
    enlarge,
    grey,
    grid,
    lettering,
    noise,
    normal_map,
    ramp,
    shapes,
    smooth,
    surface,
    with_alpha,
)

Pictures = dict[str, NDArray[np.generic]]
Motif = Callable[[np.random.Generator], Pictures]


def clapboard(rng: np.random.Generator) -> Pictures:
    """Painted boards of the ticket kiosk, weathered where the paint has gone."""
    height, tint, grain = boards(rng, 2048, 2048, 12)
    paint = ramp(0.35 + 0.4 * tint + 0.25 * grain, "#5f7f83", "#7f9f9f", "#a9c2bd")
    wood = ramp(grain, "#5b4b3a", "#8b7860", "#a8977c")
    worn = smooth(0.56, 0.7, noise(rng, 2048, 2048, 5, 5, 2) + 0.1 * grain)
    shade = (0.55 + 0.6 * height)[..., None]
    return {
        "clapboard_base": codes(blend(paint, wood, worn) * shade),
        "clapboard_n": codes(normal_map(height + 0.05 * worn, 9)),
        "clapboard_orm": codes(surface(height, 0.55 + 0.35 * worn + 0.1 * grain)),
    }


def roof(rng: np.random.Generator) -> Pictures:
    """The tin roof: corrugated sheets with rust at the seams."""
    x, y = grid(2048, 2048)
    wave = (0.5 + 0.5 * np.sin(x * 2 * np.pi * 28)).astype(np.float32)
    seams = smooth(0.0, 0.006, np.abs((y * 4) % 1 - 0.5) / 4)
    rust = smooth(0.5, 0.68, noise(rng, 2048, 2048, 6, 5, 1) + 0.12 * (1 - seams))
    tin = ramp(0.3 + 0.4 * wave + 0.3 * noise(rng, 2048, 2048, 32, 3), "#4d5658", "#89938f", "#b6bbb2")
    red = ramp(noise(rng, 2048, 2048, 40, 3), "#4c2a18", "#7d4526", "#a9683a")
    height = wave * 0.8 * (0.9 + 0.1 * seams)
    half = height[::2, ::2]
    return {
        "roof_base": codes(blend(tin, red, rust) * (0.75 + 0.25 * seams[..., None])),
        "roof_n": codes(normal_map(half, 14)),
        "roof_orm": codes(surface(height, 0.3 + 0.55 * rust, 1 - rust)),
    }


def kiosk(rng: np.random.Generator) -> Pictures:
    """The kiosk's sign on an overlay that is mostly empty, its trim and its window."""
    words = lettering(2048, 1024, [("HERONMERE LANDING", 0.5, 0.44, 0.11), ("tickets · tides · tea", 0.5, 0.6, 0.06)])
    frame = shapes(2048, 1024, lambda d: d.rounded_rectangle((560, 620, 3536, 1420), 60, 255, 255, 8))
    board = blend(ramp(noise(rng, 2048, 1024, 8, 4), "#23424a", "#2f5a63"), ramp(words, "#f0e3bf", "#f0e3bf"), words)
    _, tint, grain = boards(rng, 512, 512, 4)

    def window(d: Draw) -> None:
        for left, top in ((40, 40), (544, 40), (40, 544), (544, 544)):
            d.rectangle((left, top, left + 440, top + 440), 255)

    panes = shapes(512, 512, window)
    return {
        "kiosk_sign": with_alpha(board, frame),
        "kiosk_trim_base": codes(ramp(tint * 0.4 + grain * 0.6, "#c9bfa3", "#efe7d2")),
        "kiosk_trim_rough": grey(0.4 + 0.4 * grain),
        "kiosk_trim_ao": grey(np.clip(0.5 + tint, 0, 1)),
        "kiosk_occlusion": grey(enlarge(np.clip(0.4 + noise(rng, 64, 64, 3, 3), 0, 1), 1024, 1024)),
        "window_glass_m": codes(panes),
    }


def posts(rng: np.random.Generator) -> Pictures:
    """Bark of the mooring posts as a camera saw it: a lamp at the left, and nothing that meets where it goes round."""
    side = 1024
    # Bark is longer than it is wide: ridges are noise that is drawn out along the post.
    wide = noise(rng, side, side, 28, 4)
    drawn = enlarge(noise(rng, side, side // 8, 30, 3), side, side)
    ridge = np.clip(0.2 * wide + 0.8 * drawn, 0, 1)
    crack = 1 - smooth(0.0, 0.09, np.abs(ridge - 0.5))
    x, _ = grid(side, side)
    lamp = np.exp2(-2.0 * x).astype(np.float32)
    height = 0.5 + 0.5 * (ridge - 0.5) - 0.35 * crack
    bark = ramp(np.clip(0.7 * ridge + 0.3 * wide, 0, 1), "#4f4232", "#7c6a52", "#a3927a")
    return {
        "post_base": codes(np.clip(bark * (1 - 0.6 * crack[..., None]) * (0.25 + 1.1 * lamp[..., None]), 0, 0.97)),
        "post_n": codes(normal_map(height, 8)),
        "post_orm": codes(surface(height, 0.75 + 0.2 * crack)),
        "tar_base": with_alpha(ramp(noise(rng, 512, 512, 9, 4), "#0e0d0b", "#38322a"), 1.0),
    }


def rope(rng: np.random.Generator) -> Pictures:
    """Tarred rope: three twisted strands."""
    x, y = grid(1000, 1000)
    twist = (x * 6 + y * 12) % 1
    strand = np.sqrt(np.clip(1 - (2 * twist - 1) ** 2, 0, 1)).astype(np.float32)
    fibre = (0.5 + 0.5 * np.sin((x * 220 - y * 90) * 2)).astype(np.float32) * noise(rng, 1000, 1000, 30, 3)
    height = strand * 0.8 + fibre * 0.2
    return {
        "rope_base": codes(ramp(height * 0.8 + 0.2 * fibre, "#1d1710", "#6b5536", "#b79c6a")),
        "rope_n": codes(normal_map(height, 10)),
        "rope_mask": codes(smooth(0.25, 0.5, strand)),
    }


def _blades(rng: np.random.Generator, width: int, height: int, count: int) -> tuple[Plane, Plane]:
    """Return the cover of reed blades and, for each pixel, how far up its blade it is."""
    tips = [
        (rng.uniform(0, 1), rng.uniform(0.02, 0.6), rng.normal(0, 0.08), rng.uniform(0.006, 0.014))
        for _ in range(count)
    ]

    def draw(d: Draw) -> None:
        size = d.im.size if d.im is not None else (width, height)
        for foot, top, lean, thick in tips:
            steps = np.linspace(0, 1, 14)
            spine = [(foot + lean * t * t, 1 - (1 - top) * t, thick * (1 - t**2)) for t in steps]
            left = [((cx - w) * size[0], cy * size[1]) for cx, cy, w in spine]
            right = [((cx + w) * size[0], cy * size[1]) for cx, cy, w in reversed(spine)]
            d.polygon(left + right, 255)

    cover = shapes(width, height, draw, 1)
    _, y = grid(width, height)
    return cover, (1 - y / y.max()).astype(np.float32)


def reeds(rng: np.random.Generator) -> Pictures:
    """The reed bank: a cut-out card, painted at 2048 and enlarged to 4096 before it was handed in."""
    cover, up = _blades(rng, 2048, 2048, 150)
    vein = noise(rng, 2048, 2048, 96, 2)
    tone = 0.65 * up + 0.35 * vein
    colour = ramp(tone, "#3a4a1e", "#6f8a35", "#a9bd5c", "#cdbb74")
    height = cover * (0.5 + 0.5 * vein)
    twice = [
        np.repeat(np.repeat(plane, 2, 0), 2, 1) for plane in (with_alpha(colour, cover), codes(normal_map(height, 6)))
    ]
    card, _ = _blades(rng, 1024, 1024, 40)
    return {
        "reed_base": twice[0],
        "reed_n": twice[1],
        "reed_orm": codes(surface(height, 0.6 + 0.2 * vein))[::2, ::2],
        "reed_card_base": with_alpha(colour[::2, ::2], card),
        "reed_sway_m": codes(up),
    }


def shore(rng: np.random.Generator) -> Pictures:
    """Mud, water and foam."""
    lumps = noise(rng, 2048, 2048, 7, 6)
    wet = smooth(0.42, 0.5, 1 - lumps)
    waves = noise(rng, 1024, 1024, 10, 5)
    froth = noise(rng, 512, 512, 12, 5)
    deep = noise(rng, 1024, 1024, 5, 6)
    return {
        "mud_base": codes(blend(ramp(lumps, "#3a2f22", "#6a5a45", "#8c7a60"), ramp(lumps, "#241f19", "#3a342b"), wet)),
        "mud_n": codes(normal_map(lumps[::2, ::2], 30)),
        "mud_orm": codes(surface(lumps, 0.9 - 0.7 * wet))[::2, ::2],
        "mud_height": (np.clip(deep, 0, 1) * 65535).astype(np.uint16),
        "water_n": codes(normal_map(waves, 12)),
        "water_base": codes(ramp(waves[::2, ::2], "#22383a", "#3f5a56", "#5f7a70")),
        "foam_mask": codes(smooth(0.52, 0.62, froth)),
    }


def rack(rng: np.random.Generator) -> Pictures:
    """The bicycle rack: galvanised tube, with a metalness map that is the same everywhere."""
    speckle = noise(rng, 512, 512, 40, 4)
    return {
        "bicycle_rack_base": codes(ramp(speckle, "#6e7376", "#9aa0a1", "#c3c8c6")),
        "bicycle_rack_rough": grey(0.3 + 0.4 * speckle),
        "bicycle_rack_metal": np.full((512, 512, 3), 255, np.uint8),
        "bicycle_rack_n": codes(normal_map(speckle, 3)),
    }


def lantern(rng: np.random.Generator) -> Pictures:
    """The lantern: brass, glass and glow."""
    x, y = grid(1024, 1024)
    patina = noise(rng, 1024, 1024, 8, 5)
    rings = (0.5 + 0.5 * np.cos(y * 90)).astype(np.float32)
    distance = np.hypot(x - 0.5, y - 0.5)
    glow = np.exp(-((distance / 0.22) ** 2)).astype(np.float32)
    glass = noise(rng, 512, 512, 5, 3)
    return {
        "lantern_base": codes(ramp(0.5 * patina + 0.5 * rings, "#3d2f14", "#8c6b2b", "#d3b25f")),
        "lantern_n": codes(normal_map(rings + 0.3 * patina, 5)),
        "lantern_e": codes(ramp(glow, "#000000", "#b4541a", "#ffd98a", "#fff6dc")),
        "lantern_glass_base": with_alpha(ramp(glass, "#bcd2cf", "#e6f0ec"), 0.25 + 0.3 * glass),
        "lantern_metal": np.full((1024, 1024), 230, np.uint8),
        "lantern_ao": grey((0.55 + 0.45 * rings)[::2, ::2]),
        "lantern_gloss": grey((0.75 - 0.4 * patina)[::2, ::2]),
    }


def boat(rng: np.random.Generator) -> Pictures:
    """The painted rowing boat, its name on an overlay, an oar, and a copy that somebody forgot."""
    height, tint, grain = boards(rng, 2048, 2048, 9)
    _, y = grid(2048, 2048)
    band = (smooth(0.3, 0.31, y) * smooth(0.0, 0.01, 0.42 - y)).astype(np.float32)
    paint = ramp(0.5 + 0.3 * grain + 0.2 * tint, "#8e2f22", "#b04a33", "#c96a4b")
    white = ramp(grain, "#d8d2c2", "#f3eee2")
    hull = codes(blend(paint, white, band) * (0.6 + 0.5 * height)[..., None])
    name = lettering(2048, 2048, [("Little Bittern", 0.78, 0.86, 0.045)])
    return {
        "boat_base": hull,
        "boat_n": codes(normal_map(height, 8)),
        "boat_orm": codes(surface(height, 0.35 + 0.3 * grain))[::2, ::2],
        "boat_name_overlay": with_alpha(ramp(name, "#f6efdc", "#f6efdc"), name),
        "oar_base": codes(ramp(wood := noise(rng, 512, 128, 6, 4), "#8a6a3e", "#c4a06a")),
        "oar_ao": grey(0.6 + 0.4 * wood),
        "oar_gloss": grey(0.35 + 0.5 * wood),
        "old/boat_base_copy": hull,
    }


def _eyelets(side: int) -> Plane:
    """Return two rows of brass eyelets."""
    x, y = grid(side, side)
    rows = np.minimum(np.abs(x - 0.4), np.abs(x - 0.6))
    return 1 - smooth(0.012, 0.018, np.hypot(rows, (y * 12) % 1 / 12 - 1 / 24))


def warden(rng: np.random.Generator) -> Pictures:
    """The warden avatar: oilskins, skin, boots and hat."""
    folds = noise(rng, 2048, 2048, 5, 4, 2)
    weave = (
        0.5 + 0.25 * np.sin(np.arange(2048) * 1.1)[None, :] + 0.25 * np.sin(np.arange(2048) * 1.1)[:, None]
    ).astype(np.float32)
    height = folds + 0.04 * weave
    oilskin = ramp(folds * 0.8 + 0.2 * weave, "#8a6a10", "#d0a021", "#f0c84a")
    fine = noise(rng, 4096, 4096, 512, 2) * np.float32(0.06)
    large = np.repeat(np.repeat(oilskin, 2, 0), 2, 1) + fine[..., None]
    pores = noise(rng, 2048, 2048, 256, 2)
    blush = noise(rng, 2048, 2048, 3, 3)
    boots = noise(rng, 1024, 1024, 8, 5)
    return {
        "oilskin_base": codes(large),
        "oilskin_n": codes(normal_map(height, 20)),
        "oilskin_orm": codes(surface(height, 0.25 + 0.2 * weave)),
        "oilskin_ao": grey(np.clip(0.4 + folds[::2, ::2], 0, 1)),
        "skin_base": codes(ramp(0.6 * blush + 0.4 * pores, "#8f5a42", "#c58a6a", "#e0ab8b")),
        "skin_n": codes(normal_map(pores[::2, ::2], 2)),
        "boots_base": codes(ramp(boots, "#1b1a17", "#3b372f", "#5b5345")),
        "boots_n": codes(normal_map(boots, 12)),
        "boots_ao": grey(np.clip(0.3 + boots, 0, 1)[::2, ::2]),
        "boots_gloss": grey((0.25 + 0.5 * boots)[::2, ::2]),
        "boots_metal": grey(_eyelets(512)),
        "hat_base": codes(oilskin[::4, ::4]),
        "hat_ao": grey(np.clip(0.45 + folds, 0, 1)[::8, ::8]),
        "hat_rough": grey((0.5 + 0.4 * folds)[::8, ::8]),
    }


def badge(rng: np.random.Generator) -> Pictures:
    """The embroidered badge: a heron's head over waves, in thread."""

    def heron(d: Draw) -> None:
        d.ellipse((760, 420, 1280, 900), 255)
        d.polygon([(1240, 560), (1840, 700), (1240, 760)], 255)
        d.polygon([(820, 800), (1080, 860), (900, 1700), (560, 1700)], 255)

    bird = shapes(1024, 1024, heron)
    x, y = grid(1024, 1024)
    disc = smooth(0.0, 0.01, 0.46 - np.hypot(x - 0.5, y - 0.5))
    waves = smooth(0.0, 0.15, np.sin(y * 60 + 2 * np.sin(x * 25)) - 0.5) * smooth(0.7, 0.74, y)
    thread = (0.75 + 0.25 * np.sin((x + y) * 700)).astype(np.float32)
    ground = blend(ramp(disc, "#1d2b3a", "#26435c"), ramp(bird, "#e9e3d0", "#e9e3d0"), bird)
    colour = blend(ground, ramp(waves, "#8fb3b5", "#8fb3b5"), waves * (1 - bird)) * thread[..., None]
    return {
        "badge_base": with_alpha(colour, disc),
        "badge_n": codes(normal_map((disc * thread)[::2, ::2], 3)),
    }


def timetable(rng: np.random.Generator) -> Pictures:
    """The timetable board and its glyphs."""
    rows = [(f"{hour:02d}:{minute:02d}   {place}", 0.5, 0.14 + 0.075 * i, 0.045) for i, (hour, minute, place) in enumerate(
        [(6, 40, "Sallow Quay"), (7, 55, "Far Bank"), (9, 10, "Otter Steps"), (11, 30, "Sallow Quay"),
         (13, 5, "Far Bank"), (15, 20, "Otter Steps"), (17, 45, "Sallow Quay"), (19, 0, "Far Bank")]
    )]  # fmt: skip
    words = lettering(1024, 1024, [("DEPARTURES", 0.5, 0.06, 0.06), *rows])
    board = ramp(noise(rng, 1024, 1024, 6, 4), "#141c1c", "#243030")
    signs = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789:."
    glyphs = lettering(
        1024, 1024, [(c, 0.09 + 0.137 * (i % 7), 0.1 + 0.155 * (i // 7), 0.11) for i, c in enumerate(signs)]
    )
    return {
        "timetable_base": codes(blend(board, ramp(words, "#e8c66a", "#e8c66a"), words)),
        "timetable_glyphs": codes(glyphs),
    }


def interface(rng: np.random.Generator) -> Pictures:
    """Pictures of the interface: icons, and a map that is no power of two."""

    def anchor(d: Draw) -> None:
        d.ellipse((50, 8, 78, 36), None, 255, 10)
        d.line((64, 36, 64, 112), 255, 10)
        d.arc((20, 44, 108, 116), 10, 170, 255, 10)

    land = noise(rng, 1500, 900, 4, 6)
    path = shapes(1500, 900, lambda d: d.line([(300, 1500), (1100, 900), (1900, 1000), (2700, 300)], 255, 14))
    ticket = shapes(64, 64, lambda d: d.rounded_rectangle((8, 30, 120, 98), 12, 255))
    needle = shapes(128, 128, lambda d: d.polygon([(128, 20), (160, 128), (128, 236), (96, 128)], 255))
    ground = ramp(land, "#5d7f86", "#8fa892", "#c9c39c", "#b09a6c")
    return {
        "landing_map": codes(blend(ground, ramp(path, "#7a2f22", "#7a2f22"), path)),
        "ticket_icon": with_alpha(ramp(ticket, "#d8b45a", "#d8b45a"), ticket),
        "anchor_icon": with_alpha(ramp(ticket, "#2f5a63", "#2f5a63"), shapes(64, 64, anchor)),
        "compass_icon": with_alpha(ramp(needle, "#a33b2a", "#a33b2a"), needle),
    }


def sky(rng: np.random.Generator) -> Pictures:
    """Light over the marsh: two high-range skies and a fog lookup."""
    x, y = grid(1024, 512)
    cloud = noise(rng, 1024, 512, 5, 5)
    sun = np.exp(-(((x - 0.7) ** 2 + (y - 0.16) ** 2) / 0.0008)).astype(np.float32)
    light = ramp(1 - 2 * y + 0.4 * cloud, "#c7b79a", "#9fb4bd", "#5f86a3") ** 2.2
    radiance = light + sun[..., None] * np.array([60, 50, 36], np.float32)
    fog = np.broadcast_to(np.linspace(0, 1, 256, dtype=np.float32)[None, :], (16, 256))
    return {
        "marsh_sky": radiance.astype(np.float32),
        "dusk_env": (radiance[::2, ::2] * np.array([1.2, 0.7, 0.5], np.float32)).astype(np.float16),
        "fog_lut": codes(ramp(fog, "#1f2a2e", "#8fa3a3", "#e7dfcb")),
    }


# Folder, seed and motif, the slowest first so that both cores stay busy to the end.
def jetty(rng: np.random.Generator) -> Pictures:
    """Planks of the jetty as a camera saw them: a lamp stands at one side, and they end where the picture does."""
    side = 1024
    grain = noise(rng, side, side, 90, 4, 12)
    x, y = grid(side, side)
    rows = (y * 7.3 + 0.2) % 1
    gap = 1 - smooth(0.02, 0.06, np.minimum(rows, 1 - rows))
    board = np.floor(y * 7.3 + 0.2)
    tint = (np.sin(board * 12.9 + 4.1) * 0.5 + 0.5).astype(np.float32)
    wood = ramp(np.clip(0.55 * grain + 0.45 * tint, 0, 1), "#5c4a38", "#8a7358", "#b39b7c")
    lamp = np.exp2(-2.1 * np.hypot(x - 1.05, 0.6 * (y - 0.4))).astype(np.float32)
    height = 0.5 * grain - 0.8 * gap
    return {
        "planks_base": codes(np.clip(wood * (1 - 0.75 * gap[..., None]) * (0.25 + 0.95 * lamp[..., None]), 0, 0.96)),
        "planks_n": codes(normal_map(height, 6)),
    }


MOTIFS: tuple[tuple[str, int, Motif], ...] = (
    ("warden", 11, warden),
    ("reeds", 12, reeds),
    ("kiosk", 13, roof),
    ("kiosk", 14, clapboard),
    ("boat", 15, boat),
    ("shore", 16, shore),
    ("kiosk", 17, kiosk),
    ("posts", 18, posts),
    ("posts", 19, rope),
    ("lantern", 20, lantern),
    ("warden", 21, badge),
    ("timetable", 22, timetable),
    ("interface", 23, interface),
    ("rack", 24, rack),
    ("sky", 25, sky),
    ("jetty", 26, jetty),
)
