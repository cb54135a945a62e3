"""After set-up no kernel is compiled in front of a user: real work on unseen sizes and types meets only what is known."""

import subprocess
import sys
from pathlib import Path

import numpy as np
from numba.core import event

import oaktrim.core
from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import EncodedTexture, decode_level, encode_level
from oaktrim.core.files.pictures import read_picture, write_png
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.kernels import kernel_sources
from oaktrim.core.makers.imposter.frames.lookup import draw_frames
from oaktrim.core.makers.imposter.frames.made import FramesMade
from oaktrim.core.makers.imposter.made import imposter_of
from oaktrim.core.makers.imposter.settings import Family, Imposter, SheetMap, Steps
from oaktrim.core.makers.imposter.subject import subject_of
from oaktrim.core.makers.surface.cut import best_cut
from oaktrim.core.makers.surface.settings import Tile
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.pixels.resample import Filter, Resampling, resample
from oaktrim.core.plan.cuts import Cap, Cut, SetFormat
from oaktrim.core.progress import finish
from oaktrim.core.render.camera import framing
from oaktrim.core.render.overdraw import overdraw
from oaktrim.core.render.picture import Settings, draw_refining
from oaktrim.core.ship.run import ship
from oaktrim.core.sight.demand import demand_of
from oaktrim.core.sight.sightlines import Sightlines
from oaktrim.core.survey.drawables import TextureCache, load, ready
from oaktrim.core.targets.target import target_named
from oaktrim.core.warm import warm
from tests.kit.atlases import coat, likeness, make
from tests.kit.pictures import busy
from tests.kit.sights import wall
from tests.kit.trees import planned, put, surveyed


def test_the_next_process_compiles_nothing_either():
    finish(warm())
    code = (
        "from numba.core import event; from oaktrim.core.warm import warm; from oaktrim.core.progress import finish\n"
        "with event.install_recorder('numba:compile') as r: finish(warm())\n"
        "print(len(r.buffer))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "0"


def test_nothing_is_compiled_after_set_up(tmp_path):
    steps = []
    finish(warm(), steps.append)
    assert len(steps) == steps[0].total
    with event.install_recorder("numba:compile") as recorder:
        for dtype in (np.uint8, np.uint16, np.float16, np.float32):
            for channels in (1, 2, 3, 4):
                picture = busy(45, 31, channels, dtype=dtype)
                build_mip_chain(resample(picture, 20, 50, Resampling(Filter.BOX, normals=channels > 2)))
                for name in ORDER:
                    for effort in Effort:
                        data = encode_level(picture, FORMATS[name], EncodeOptions(effort))
                    decode_level(EncodedTexture(FORMATS[name], 45, 31, picture.transfer, (data,)))
                if dtype in (np.uint8, np.uint16):
                    write_png(tmp_path / f"art/{channels}{np.dtype(dtype).name}.png", picture)
                    read_picture(tmp_path / f"art/{channels}{np.dtype(dtype).name}.png")
        paths = tuple(str(put(tmp_path / "art", f"x{n}.png", channels=n).name) for n in (1, 3, 4))
        plan = planned(tmp_path / "art", "lounge", Cut(Cap(16), paths), Cut(SetFormat("bc3"), paths))
        finish(ship(plan, tmp_path / "out"))
        (tmp_path / "scene").mkdir()
        wall(tmp_path / "scene", camera=5.0, half=1.0)
        inventory = surveyed(tmp_path / "scene")
        sources = inventory.sources(1 << 24)
        loaded = finish(load(inventory, 0, sources))
        made_scene, _ = finish(ready(inventory, loaded, sources, TextureCache()))
        for samples in (1, 16):
            camera = framing(*made_scene.draws.box())
            finish(draw_refining(made_scene, camera, (70, 40), Settings(samples, buffers=("ids",))))
        coat(tmp_path / "scene")
        made = make(tmp_path / "scene", "coat.glb", size=64)
        assert likeness(tmp_path / "scene", made, "coat.glb", count=1, side=32).outline == 0
        subject = subject_of(loaded.model, lambda _: busy(16, 16, 3))
        for family in Family:
            far = Imposter(
                "far",
                "wall.glb",
                family=family,
                size=64,
                maps=tuple(SheetMap),
                outline=6,
                sides=2,
                frames=3,
                frame_size=16,
            )
            far_made = finish(imposter_of(subject, far))
            assert far_made.triangles
            if isinstance(far_made, FramesMade):
                for steps in Steps:
                    finish(draw_frames(far_made.texels(), framing(*made_scene.draws.box()), (70, 40), steps=steps))
        best_cut(np.zeros((40, 48, 3), np.float32), Tile(), True, (), ())
        assert overdraw(made_scene, framing(*made_scene.draws.box()), (70, 40)).any()
        finish(demand_of(inventory, target_named("lounge"), Sightlines(), lambda _: np.ones(1, bool)))
    assert [e.data["dispatcher"].py_func.__name__ for _, e in recorder.buffer if e.is_start] == []


def test_kernels_are_made_anew_for_what_they_stand_on_and_for_nothing_else():
    package = Path(oaktrim.core.__file__).parent
    held = {str(path.relative_to(package)) for path in kernel_sources(package)}
    holders = {str(p.relative_to(package)) for p in package.rglob("*.py") if "\n@njit" in p.read_text()}
    assert holders < held
    assert {"codecs/etc/tables.py", "pixels/image.py"} < held
    assert not any(name.startswith(("plan/", "ship/", "job/")) for name in held)
