"""`oak-trim encode`, `decode` and `measure`: single files, without a job."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from math import isinf
from pathlib import Path

import click
import msgspec

from oaktrim.cli.progress import run
from oaktrim.cli.tables import console, table
from oaktrim.core.codecs.effort import Dither, Effort, EncodeOptions, ErrorMetric
from oaktrim.core.codecs.texture import EncodedTexture, encode_texture, stack_textures
from oaktrim.core.codecs.transcode import LOADED, loaded_as
from oaktrim.core.errors import FileError, Unsupported, shown
from oaktrim.core.files import ktx2
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.files.pictures import pack_texture, parse_texture, read_picture, texture_image, write_png
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.formats.format import Hardware
from oaktrim.core.pixels.levels import MIP_FILTER, build_mip_chain
from oaktrim.core.pixels.metrics import compare
from oaktrim.core.plan.cuts import MAX_LOSS
from oaktrim.core.progress import Progress, Task
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, Role, role_guesser
from oaktrim.core.survey.uses import error_metric_of, resampled_as
from oaktrim.core.units import bytes_text, decibels_text


@dataclass(frozen=True)
class _Wanted:
    """How pictures become textures.

    Parameters
    ----------
    role : told by the name where it is None; counted : told by the role where it is None
    zstd : as in `ktx2.pack`
    """

    name: str
    options: EncodeOptions
    role: Role | None
    error_metric: ErrorMetric | None
    levels: bool
    zstd: int | None


def _encode_one(source: Path, wanted: _Wanted) -> Task[EncodedTexture]:
    role = wanted.role or role_guesser(DEFAULT_PATTERNS)(source.name).role
    image = read_picture(source)
    if not image.is_float:
        image = image.read_as(role.transfer)
    chain = build_mip_chain(image, None if wanted.levels else 1, resampled_as(role, image, MIP_FILTER))
    error_metric = wanted.error_metric or error_metric_of(role)
    return (
        yield from encode_texture(chain, format_named(wanted.name), replace(wanted.options, error_metric=error_metric))
    )


def _encode_file(sources: tuple[Path, ...], faces: int, target: Path, wanted: _Wanted) -> Task[int]:
    """Encode pictures into one file: a texture, or the layers and faces of an array or a cube."""
    parts = []
    for source in sources:
        parts.append((yield from _encode_one(source, wanted)))
    encoded = stack_textures(parts, faces)
    data = ktx2.pack(encoded, wanted.zstd) if wanted.zstd is not None else pack_texture(encoded, target.suffix[1:])
    write_atomic(target, data)
    return len(data)


def _encode_all(files: dict[Path, tuple[Path, ...]], faces: int, wanted: _Wanted) -> Task[list[tuple[str, int]]]:
    done = []
    for place, (target, sources) in enumerate(files.items()):
        task = _encode_file(sources, faces, target, wanted)
        while True:
            try:
                step = next(task)
            except StopIteration as end:
                done.append((shown(target), int(end.value)))
                break
            yield Progress(place * 100 + 100 * step.done // step.total, len(files) * 100, target.name)
    return done


@click.command()
@click.argument("images", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--format",
    "name",
    required=True,
    metavar="NAME",
    help="Such as bc7, astc-6x6, etc2-rgb, rgba8: see oak-trim formats.",
)
@click.option("--effort", type=click.Choice([e.value for e in Effort]), default="standard", show_default=True)
@click.option("--container", type=click.Choice(["ktx2", "dds"]), default="ktx2", show_default=True)
@click.option("--role", type=click.Choice([r.value for r in Role]), help="What it is used as; by its name if left out.")
@click.option(
    "--error-metric",
    type=click.Choice([c.value for c in ErrorMetric]),
    help="What an error counts on; by its role if left out.",
)
@click.option("--no-levels", is_flag=True, help="Only the full size, without mip levels.")
@click.option("--alpha-threshold", type=click.IntRange(0, 255), default=128, show_default=True, help="Of 1-bit alpha.")
@click.option(
    "--dither",
    type=click.Choice([d.value for d in Dither]),
    default="ordered",
    show_default=True,
    help="Of 16-bit formats.",
)
@click.option("--loss", type=click.FloatRange(0, MAX_LOSS), default=0.0, metavar="DB", help="Given up for packing.")
@click.option("--zstd", type=click.IntRange(1, 22), metavar="LEVEL", help="Supercompress a KTX2 file with Zstandard.")
@click.option(
    "--stack", type=click.Choice(["array", "cube"]), help="One file of all IMAGES: layers, or faces +X -X +Y -Y +Z -Z."
)
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
def encode(
    images: tuple[Path, ...],
    name: str,
    effort: str,
    container: str,
    role: str | None,
    error_metric: str | None,
    no_levels: bool,
    alpha_threshold: int,
    dither: str,
    stack: str | None,
    loss: float,
    zstd: int | None,
    out: Path,
) -> None:
    """Encode IMAGES in a texture format; wall.png becomes wall.ktx2, or wall.dds."""
    format_named(name)
    if zstd is not None and container == "dds":
        raise Unsupported("a DDS file cannot be supercompressed; leave --zstd out or write KTX2")
    options = EncodeOptions(Effort(effort), alpha_threshold, Dither(dither), loss)
    counts = ErrorMetric(error_metric) if error_metric else None
    wanted = _Wanted(name, options, Role(role) if role else None, counts, not no_levels, zstd)
    files: dict[Path, tuple[Path, ...]] = {}
    for sources in (images,) if stack else [(image,) for image in images]:
        target = out / f"{sources[0].stem}.{container}"
        if target in files:
            raise FileError(
                sources[0], f"would be written over {files[target][0]}, as {target}; encode them into two folders"
            )
        for image in sources:
            if target.exists() and image.exists() and target.samefile(image):
                raise FileError(image, "would be written over itself; sources are never written")
        files[target] = sources
    for path, size in run(_encode_all(files, 6 if stack == "cube" else 1, wanted)):
        click.echo(f"{path}: {bytes_text(size)}")


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--level", default=0, show_default=True, type=click.IntRange(min=0), help="The mip level.")
@click.option(
    "--slice", "place", default=0, show_default=True, type=click.IntRange(min=0), help="Of an array or a cube."
)
@click.option(
    "--seen-on",
    type=click.Choice([family.value for family in LOADED]),
    help="Of UASTC: as it is seen on this hardware.",
)
@click.option("--out", required=True, type=click.Path(path_type=Path, dir_okay=False), help="The PNG to write.")
def decode(file: Path, level: int, place: int, seen_on: str | None, out: Path) -> None:
    """Decode a level of a KTX2 or DDS FILE into a PNG; values past 1 are cut."""
    if out.exists() and file.exists() and out.samefile(file):
        raise FileError(file, "would be written over itself; sources are never written")
    texture = parse_texture(read_bytes(file), file)
    if seen_on and texture.format.hardware is not Hardware.UNIVERSAL:
        raise FileError(file, f"holds {texture.format.label}, of which loaders make nothing else; leave --seen-on out")
    image = texture_image(loaded_as(texture, Hardware(seen_on)) if seen_on else texture, file, level, place)
    write_png(out, image)
    click.echo(f"{shown(out)}: {image.width}x{image.height}, {''.join(image.channels)}, {image.bit_depth} bits")


@click.command()
@click.argument("a", type=click.Path(path_type=Path))
@click.argument("b", type=click.Path(path_type=Path))
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
def measure(a: Path, b: Path, form: str) -> None:
    """Measure how far picture B is from picture A: PSNR of each channel and of RGB, SSIM, and the largest error."""
    found = compare(read_picture(a), read_picture(b))
    if form == "json":
        # JSON knows no infinity: equal channels are null.
        psnr = {key: None if isinf(value) else value for key, value in {**found.psnr, "rgb": found.psnr_rgb}.items()}
        document = {**asdict(found), "psnr": psnr, "psnr_rgb": psnr["rgb"]}
        click.echo(msgspec.json.format(msgspec.json.encode(document), indent=1))
        return
    rows = [(f"PSNR {key}", decibels_text(value)) for key, value in {**found.psnr, "RGB": found.psnr_rgb}.items()]
    rows += [("SSIM", f"{found.ssim:.4f}"), ("largest error", f"{found.largest_error * 255:.1f} of 255")]
    console().print(table(["measure", ""], rows, right=(1,)))
