"""Makers against their reach: packing beside merely decoding and saving, and large sets of glyphs."""

from __future__ import annotations

import io
import shutil
import time
import tracemalloc
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as PillowImage
from tests.core.makers.test_glyphs import many_ideographs
from tests.core.makers.test_surface import paint

from benchmarks.conftest import report, seconds, turns
from oaktrim.core.files.pictures import write_png
from oaktrim.core.makers.glyphs.fonts import open_font
from oaktrim.core.makers.glyphs.sheet import GlyphSheet, make_sheet
from oaktrim.core.makers.layouts import LAYOUTS
from oaktrim.core.makers.pack.pack import ChannelSource, Lane, Pack, pack_picture
from oaktrim.core.makers.surface.settings import Calm, Flatten, Match, Surface, Tile
from oaktrim.core.makers.surface.stack import MapOf, surface_of
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import from_light
from oaktrim.core.progress import finish, map_unordered
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.roles import Role
from oaktrim.demo.brush import noise

_SIDE, _SETS, _FILES = 2048, 6, ("ao", "rough", "metal")


@pytest.fixture(scope="module")
def maps(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Sets of three grey maps, like those of painters: noise at several scales."""
    root = tmp_path_factory.mktemp("maps")
    rng = np.random.default_rng(7)
    for place, name in enumerate(_FILES):
        plane = (noise(rng, _SIDE, _SIDE, 6 + 10 * place, 6) * 255).astype(np.uint8)
        PillowImage.fromarray(plane).save(root / f"0_{name}.png")
        for number in range(1, _SETS):
            shutil.copy(root / f"0_{name}.png", root / f"{number}_{name}.png")
    return root


def test_packing_beside_decoding_and_saving(benchmark: pytest.FixtureRequest, maps: Path, tmp_path: Path) -> None:
    layout, sources = LAYOUTS[0], Sources(maps, {}, 1 << 28)

    def pack(number: int) -> None:
        red, green, blue = (Lane((ChannelSource(f"{number}_{name}.png"),)) for name in _FILES)
        made = Pack("p", layout.id, (red, green, blue, Lane()))
        write_png(tmp_path / f"{number}.png", pack_picture(made, layout, sources))

    def merely(number: int) -> None:
        planes = [np.asarray(PillowImage.open(maps / f"{number}_{name}.png")) for name in _FILES]
        buffer = io.BytesIO()
        PillowImage.fromarray(np.stack(planes, axis=2)).save(buffer, "PNG")
        (tmp_path / f"{number}_plain.png").write_bytes(buffer.getvalue())

    ours, theirs = turns(
        lambda: list(map_unordered(pack, range(_SETS), 2)), lambda: list(map_unordered(merely, range(_SETS), 2)), 2
    )  # fmt: skip
    report(
        f"packing three maps of {_SIDE}², {_SETS} sets", "Pillow decoding and saving", f"{ours / theirs:.2f}x", "1.2x"
    )
    assert np.array_equal(*(np.asarray(PillowImage.open(tmp_path / name)) for name in ("0.png", "0_plain.png")))
    benchmark.pedantic(lambda: pack(0), rounds=1)


def test_seven_thousand_glyphs(benchmark: pytest.FixtureRequest, tmp_path: Path) -> None:
    path = tmp_path / "many.ttf"
    path.write_bytes(many_ideographs(7000))
    characters = "".join(chr(0x4E00 + number) for number in range(7000))
    for spread_pixels, words in ((0.0, "coverage"), (4.0, "signed distances")):
        started = time.perf_counter()
        sheet = finish(make_sheet(GlyphSheet("s", str(path), 32, characters, spread_pixels), open_font(path)))
        took = time.perf_counter() - started
        report(
            f"7,000 glyphs at 32 px, {words}", "-", f"{took:.1f} s, {sheet.occupancy * 100:.1f} % covered", "20 s, 90 %"
        )
    benchmark.pedantic(lambda: None, rounds=1)


def test_a_surface_with_all_steps(benchmark):
    """Three maps of 2048x2048 through every step: how long, and how much memory at once against their own bytes."""
    light = paint(3, "spots", _SIDE)
    base = from_light(light, Image.of(np.zeros((1, 1, 3), np.uint8)))
    rng = np.random.default_rng(1)
    normal, values = (Image.of(rng.integers(90, 160, (_SIDE, _SIDE, 3), dtype=np.uint8)) for _ in range(2))
    maps = [MapOf("n", normal, Role.NORMAL), MapOf("r", values, Role.SURFACE)]
    other = from_light(light[:512, :512], Image.of(np.zeros((1, 1, 3), np.uint8)))
    settings = Surface("s", "a", ("n", "r"), Flatten(), Calm(0.2), Match("o"), Tile())

    def make() -> None:
        finish(surface_of(MapOf("a", base, Role.BASE_COLOUR), maps, settings, other))

    make()
    took = seconds(make, 3)
    tracemalloc.start()
    make()
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    held = sum(image.pixels.nbytes for image in (base, normal, values))
    report("surface of three maps of 2048, all steps", "", f"{took:.1f} s", "4 s")
    report("  memory at once", "the maps' bytes", f"{peak / held:.1f}x", "6x")
    benchmark.pedantic(make, rounds=1)
