"""Writes Heronmere Landing into the cache: pictures, some planted mistakes, and the job that puts them right."""

from __future__ import annotations

import io
import os
import shutil
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray
from PIL import Image as PillowImage

from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import EncodedTexture, encode_texture
from oaktrim.core.errors import FileError
from oaktrim.core.files import dds, ktx2
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.job.document import VERSION, Job, save_job
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.progress import Progress, Task, finish, map_unordered
from oaktrim.core.settings import cache_folder
from oaktrim.demo.brush import codes, noise, ramp
from oaktrim.demo.cuts import demo_cuts, demo_makers, demo_sightlines
from oaktrim.demo.faults import faulty, wide_profile
from oaktrim.demo.landing import write_models, write_sounds
from oaktrim.demo.motifs import MOTIFS, Motif
from oaktrim.demo.signface import sign_font

# Raised whenever a picture or the job changes; an older landing is then made anew beside it.
_EDITION = 14
NAME = "Heronmere Landing"
TARGETS = ("pocket", "visor", "lounge")
_JPEGS = ("landing_map", "mud_base", "planks_base")
_WIDE = ("boots_base",)
_TGAS = ("hat_base", "oar_base")


def demo_folder() -> Path:
    """Return where the demonstration is kept."""
    return cache_folder() / f"heronmere-landing-{_EDITION}"


def _write(path: Path, pixels: NDArray[np.generic]) -> None:
    """Write a picture in the kind of file that suits it."""
    path.parent.mkdir(parents=True, exist_ok=True)
    if pixels.dtype.kind == "f":
        ending, kind = ("exr", "half") if pixels.dtype == np.float16 else ("hdr", "float")
        out: Any = oiio.ImageOutput.create(f"picture.{ending}")
        spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], 3, kind)
        spec.attribute("compression", "zip")
        if not (out.open(f"{path}.{ending}", spec) and out.write_image(pixels) and out.close()):
            raise FileError(path, f"cannot be written: {out.geterror()}")
        return
    picture = PillowImage.fromarray(pixels)
    if path.name in _JPEGS:
        picture.save(f"{path}.jpg", quality=92)
    elif path.name in _TGAS:
        picture.save(f"{path}.tga")
    else:
        profile = wide_profile() if path.name in _WIDE else None
        picture.save(f"{path}.png", compress_level=3, icc_profile=profile)


def _planted(folder: Path) -> None:
    """Write the files that are wrong in themselves: a torn picture, and blocks that phones cannot read."""
    rng = np.random.default_rng(99)
    torn = io.BytesIO()
    PillowImage.fromarray(codes(ramp(noise(rng, 256, 256, 6, 4), "#40372b", "#8c7a60"))).save(torn, "PNG")
    write_atomic(folder / "posts" / "torn_base.png", torn.getvalue()[: len(torn.getvalue()) * 2 // 3])
    gauge = Image.of(codes(ramp(noise(rng, 1024, 1024, 12, 5), "#d8d2c2", "#6b6252")))
    options = EncodeOptions(Effort.STANDARD)
    encoded = finish(encode_texture(build_mip_chain(gauge), FORMATS["bc1"], options))
    write_atomic(folder / "posts" / "gauge_base.dds", dds.pack(encoded))
    _write_halo(folder)
    copy = folder / "boat" / "old" / "boat_base.png"
    PillowImage.fromarray(codes(ramp(noise(rng, 256, 256, 20, 4), "#274a52", "#7d9b92"))).save(copy)
    board = PillowImage.open(folder / "timetable" / "timetable_base.png")
    board.resize((512, 512), PillowImage.Resampling.LANCZOS).save(folder / "interface" / "timetable_small_base.png")
    (folder / "rack" / "bicycle_rack_rough.png").rename(folder / "rack" / "bicycle_rack_rough.jpg")
    notes = "The landing is made up. Nothing in it bears a real name or mark.\n"
    write_atomic(folder / "notes.txt", notes.encode())


def _write_halo(folder: Path) -> None:
    """Write the lantern's halo in ASTC, as an exporter for phones would: blocks of one colour, by void extents."""
    side, held = 240, FORMATS["astc-6x6"]
    glow = np.clip(255 - np.hypot(*(np.mgrid[0:40, 0:40] - 19.5)) * 13, 0, 255).astype(np.uint16) * 257
    # Void-extent blocks without an extent (Khronos Data Format Specification 1.3, section 23.22).
    head = np.full((40, 40, 1), 0xFFFFFFFFFFFFFDFC, np.uint64).view(np.uint16)
    tint = [glow, glow * np.uint16(3) // np.uint16(4), glow // np.uint16(3), np.full_like(glow, 65535)]
    blocks = np.concatenate([head, np.stack(tint, axis=-1).astype(np.uint16)], axis=-1)
    texture = EncodedTexture(held, side, side, Transfer.SRGB, (blocks.astype("<u2").tobytes(),))
    write_atomic(folder / "lantern" / "lantern_halo_e.ktx2", ktx2.pack(texture))


def make_demo(folder: Path | None = None) -> Task[Path]:
    """Make the demonstration where it is not yet, and return the path of its job.

    It is made under a passing name and put in place whole, so a run that is stopped leaves nothing half done.
    """
    place = folder or demo_folder()
    job_file = place / "heronmere.oak"
    if job_file.exists():
        return job_file
    place.parent.mkdir(parents=True, exist_ok=True)
    passing = Path(tempfile.mkdtemp(prefix="making-", dir=place.parent))
    try:
        art = passing / "art"

        def draw(row: tuple[str, int, Motif]) -> None:
            name, seed, motif = row
            rng = np.random.default_rng(seed)
            for stem, pixels in faulty(motif(rng), rng).items():
                _write(art / name / stem, pixels)

        yield Progress(0, len(MOTIFS), f"drawing {NAME}")
        for done, (position, _) in enumerate(map_unordered(draw, MOTIFS), 1):
            yield Progress(done, len(MOTIFS), f"drawing {NAME}: {MOTIFS[position][2].__name__}")
        _planted(art)
        yield Progress(len(MOTIFS), len(MOTIFS), f"building {NAME}")
        write_models(art)
        write_sounds(art)
        write_atomic(art / "timetable" / "heronmere_signs.ttf", sign_font())
        job = Job(VERSION, NAME, "art", TARGETS, cuts=demo_cuts(), makers=demo_makers(), sightlines=demo_sightlines())
        save_job(job, passing / job_file.name, art)
        # mkdtemp keeps the folder to its owner; the demonstration is for everybody who could read the cache.
        passing.chmod(0o755)
        try:
            os.rename(passing, place)
        except OSError:
            # Another run was first, or left a folder without a job.
            if not job_file.exists():
                shutil.rmtree(place)
                os.rename(passing, place)
    finally:
        shutil.rmtree(passing, ignore_errors=True)
    return job_file
