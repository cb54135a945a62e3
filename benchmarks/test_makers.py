"""Makers against their reach: packing beside merely decoding and saving, and large sets of glyphs."""

from __future__ import annotations

import io
import shutil
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as PillowImage
from tests.core.makers.test_glyphs import many_ideographs

from benchmarks.conftest import report, turns
from oaktrim.core.files.pictures import write_png
from oaktrim.core.makers.glyphs.fonts import open_font
from oaktrim.core.makers.glyphs.sheet import GlyphSheet, make_sheet
from oaktrim.core.makers.layouts import LAYOUTS
from oaktrim.core.makers.pack.pack import ChannelSource, Lane, Pack, pack_picture
from oaktrim.core.progress import finish, map_unordered
from oaktrim.core.survey.derived import Sources
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
