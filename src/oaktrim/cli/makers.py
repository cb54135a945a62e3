"""`oak-trim pack`, `unpack`, `patch` and `glyphs`: makers on single files and folders, without a job."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import click
import msgspec

from oaktrim.cli.progress import run
from oaktrim.cli.tables import console, table
from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.codecs.texture import encode_texture
from oaktrim.core.errors import FileError, Unsupported, shown
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.files.atomic import read_bytes, write_atomic
from oaktrim.core.files.pictures import SUFFIXES, pack_texture, read_picture, write_png
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.blocks import block_named, drawable
from oaktrim.core.makers.glyphs.fonts import open_font
from oaktrim.core.makers.glyphs.sheet import GlyphSheet, make_sheet, metrics_json, shading
from oaktrim.core.makers.layouts import LAYOUTS, OUTPUT_NAMES, Layout, layout_named, user_layouts
from oaktrim.core.makers.pack.pack import Channel, ChannelSource, Lane, Pack, filled, has_channel, pack_picture
from oaktrim.core.makers.pack.propose import by_names, default_patterns
from oaktrim.core.makers.pack.unpack import unpack_into
from oaktrim.core.makers.patch.patch import (
    TOLERANCE,
    Patch,
    Snap,
    around,
    background_of,
    cut_out,
    islands,
    prove_patch,
    sidecar,
    snapped,
    tells_alpha,
    used_mask,
    within,
)
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import MIP_FILTER, build_mip_chain
from oaktrim.core.pixels.resample import Resampling
from oaktrim.core.progress import Progress, Task, finish, map_unordered
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.read import made_facts
from oaktrim.core.survey.scan import scan
from oaktrim.core.units import bytes_text

_CHANNELS = {
    **{channel.value.lower(): channel for channel in Channel},
    "red": Channel.RED,
    "green": Channel.GREEN,
    "blue": Channel.BLUE,
    "alpha": Channel.ALPHA,
}
_CONTAINERS = (".ktx2", ".dds")


def _layouts() -> tuple[Layout, ...]:
    return user_layouts()


def _lane(text: str) -> Lane:
    """Return what `FILE[:CHANNEL[:invert]]` or `flat:VALUE` stands for; a channel left out is proposed."""
    if text.startswith("flat:"):
        try:
            return Lane(fill=float(text[5:]))
        except ValueError as error:
            raise click.BadParameter(f"flat:{text[5:]} is not a value of 0 to 1") from error
    parts = text.split(":")
    invert = len(parts) > 1 and parts[-1] == "invert"
    if invert:
        parts.pop()
    channel = _CHANNELS.get(parts[-1].lower()) if len(parts) > 1 else None
    if channel is not None:
        parts.pop()
    path = Path(":".join(parts))
    if not path.exists():
        hint = f"; a channel is one of {', '.join(c.value for c in Channel)}" if len(parts) > 1 else ""
        raise FileError(path, f"there is no such file{hint}")
    if channel is None:
        channel = _proposed(path)
    elif not has_channel(image := read_picture(path), channel):
        raise FileError(path, f"has no channel {channel.value}; it has {', '.join(image.channels)}")
    return Lane((ChannelSource(str(path.absolute()), channel, invert),))


def _proposed(path: Path) -> Channel:
    """Return the channel of a file that holds data."""
    facts, _ = made_facts(path.name, "picture", "", read_picture(path))
    colours = [letter for letter in facts.live if letter in "RGB"]
    if facts.channels == 4 and not colours and "A" in facts.live:
        return Channel.ALPHA
    if facts.grey or facts.channels < 3 or not colours:
        return Channel.RED
    return Channel(colours[0]) if len(colours) == 1 else Channel.LUMINANCE


def _write(image: Image, out: Path, inputs: Iterable[Path], alpha_covers: bool = True) -> None:
    """Write a picture as PNG, or as a container with levels, by its ending; `alpha_covers` as in `Resampling`."""
    for source in inputs:
        if out.exists() and source.exists() and out.samefile(source):
            raise FileError(source, "would be written over; sources are never written")
    out.parent.mkdir(parents=True, exist_ok=True)
    suffix = out.suffix.lower()
    if suffix == ".png":
        write_png(out, image)
    elif suffix in _CONTAINERS:
        deep = image.bit_depth > 8
        held = FORMATS["rgba16f" if deep else "rgba8"]
        levels = build_mip_chain(image, how=Resampling(MIP_FILTER, alpha_covers=alpha_covers))
        encoded = finish(encode_texture(levels, held, EncodeOptions()))
        write_atomic(out, pack_texture(encoded, suffix[1:]))
    else:
        raise FileError(out, "is written as .png, .ktx2 or .dds")


def _pack_lanes(layout: Layout, slots: Sequence[str]) -> tuple[Lane, Lane, Lane, Lane]:
    lanes = [filled(slot) for slot in layout.slots]
    for row in slots:
        name, mark, value = row.partition("=")
        if not mark or not value:
            raise click.BadParameter(f"{row!r} is not NAME=FILE[:CHANNEL[:invert]] or NAME=flat:VALUE")
        lanes[layout.place(name)] = _lane(value)
    red, green, blue, alpha = lanes
    return red, green, blue, alpha


@click.command()
@click.argument("folder", required=False, type=click.Path(path_type=Path, exists=True, file_okay=False))
@click.option("--layout", "layout_id", required=True, metavar="ID", help="Such as occlusion-roughness-metalness.")
@click.option(
    "--slot", "slots", multiple=True, metavar="NAME=SOURCE",
    help="FILE[:CHANNEL[:invert]], or flat:0 to flat:1. CHANNEL is R, G, B, A, luminance, largest or smallest.",
)  # fmt: skip
@click.option(
    "--batch", "batch", metavar="PATTERN", multiple=True,
    help="Over FOLDER: NAME={name}_ending for a slot; 'auto' for the usual endings.",
)  # fmt: skip
@click.option("--size", type=click.IntRange(1, 1 << 14), default=None, help="Longest side; that of the largest source.")
@click.option("--bits", type=click.Choice(["8", "16"]), default="8", show_default=True, help="A channel.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The file, or with --batch the folder.")
def pack(
    folder: Path | None,
    layout_id: str,
    slots: tuple[str, ...],
    batch: tuple[str, ...],
    size: int | None,
    bits: str,
    out: Path,
) -> None:
    """Pack up to four single-channel maps into one texture.

    With --batch, every set of maps in FOLDER whose names differ only in their endings becomes one pack. Exit status: 0;
    1 when a set of the batch lacks a map; 2 when something cannot be read.
    """
    layout = layout_named(layout_id, _layouts())
    if batch:
        if folder is None:
            raise click.UsageError("--batch needs the FOLDER to look in")
        run(_batch(folder, layout, batch, size or 0, int(bits), out))
        return
    if not slots:
        raise click.UsageError(f"give --slot for at least one of {', '.join(s.name for s in layout.slots if s.name)}")
    made = Pack("pack", layout.id, _pack_lanes(layout, slots), size=size or 0, bits=int(bits))
    image = pack_picture(made, layout, Sources(Path("/"), {}, MAX_PIXELS))
    _write(image, out, (Path(path) for path in made.inputs), alpha_covers=False)
    click.echo(f"{shown(out)}: {image.width}x{image.height}, {''.join(image.channels)}, {image.bit_depth} bits")
    for place, slot in enumerate(layout.slots):
        if slot.name:
            click.echo(f"  {OUTPUT_NAMES[place]}: {slot.name}, {_said(made.lanes[place])}")


def _said(lane: Lane) -> str:
    if not lane.feeds:
        return f"flat {lane.fill:g}"
    feed = lane.feeds[0]
    return f"{shown(Path(feed.source).name)} {feed.channel.value}" + (", inverted" if feed.invert else "")


def _patterns(layout: Layout, rows: Sequence[str]) -> dict[str, str]:
    if list(rows) == ["auto"]:
        return default_patterns(layout)
    found: dict[str, str] = {}
    for row in rows:
        name, mark, pattern = row.partition("=")
        if not mark:
            raise click.BadParameter(f"{row!r} is not NAME=PATTERN, such as roughness={{name}}_rough, and not auto")
        slot = layout.slots[layout.place(name)].name
        found[slot] = f"{found.get(slot, '')} {pattern}".strip()
    return found


def _batch(folder: Path, layout: Layout, patterns: Sequence[str], size: int, bits: int, out: Path) -> Task[None]:
    inventory: Inventory = yield from scan(folder)
    try:
        rows = by_names(inventory, layout, _patterns(layout, patterns))
    except ValueError as error:
        raise Unsupported(str(error)) from error
    if not rows:
        raise Unsupported(f"no two maps in {folder} share a name by those patterns")
    targets: dict[Path, Pack] = {}
    for row in rows:
        parent = Path(row.pack.inputs[0]).parent
        target = out / parent / f"{row.pack.subject}_{layout.short}.png"
        if target in targets:
            raise FileError(target, "two sets would be written to it")
        targets[target] = msgspec.structs.replace(row.pack, size=size, bits=bits)
    sources = inventory.sources(MAX_PIXELS)

    def make(item: tuple[Path, Pack]) -> Image:
        image = pack_picture(item[1], layout, sources)
        _write(image, item[0], (inventory.root / path for path in item[1].inputs))
        return image

    for done, _ in enumerate(map_unordered(make, targets.items(), ahead=1), 1):
        yield Progress(done, len(targets), f"packing into {out}")
    problems = 0
    for target, row in zip(targets, rows, strict=True):
        click.echo(f"{shown(target)}: {', '.join(_said(lane) for lane in row.pack.lanes[: layout.count])}")
        problems += bool(row.problems)
        for problem in row.problems:
            click.echo(f"  ▲ {problem}", err=True)
    click.echo(f"{len(targets)} packs of {sum(len(p.inputs) for p in targets.values())} maps")
    if problems:
        raise SystemExit(1)


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--layout", "layout_id", required=True, metavar="ID", help="What its channels are read as.")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
def unpack(file: Path, layout_id: str, out: Path) -> None:
    """Split a packed FILE into grey PNG files, one for each channel that a layout names."""
    layout = layout_named(layout_id, _layouts())
    sources = Sources(file.absolute().parent, {}, MAX_PIXELS)
    for target in run(unpack_into([str(file.absolute())], layout, sources, out)):
        image = read_picture(target)
        click.echo(f"{shown(target)}: {image.width}x{image.height}, {image.bit_depth} bits")


@click.command()
@click.option("--as", "form", type=click.Choice(["table", "json"]), default="table", show_default=True)
def layouts(form: str) -> None:
    """List the layouts of packs: what each channel is read as."""
    rows = (*LAYOUTS, *_layouts())
    if form == "json":
        click.echo(msgspec.json.format(msgspec.json.encode(rows), indent=1))
        return
    cells = [(row.id, *(slot.name or "–" for slot in row.slots), row.about) for row in rows]
    console().print(table(["layout", *OUTPUT_NAMES, ""], cells))


def _pictures(paths: Sequence[Path]) -> list[Path]:
    found: list[Path] = []
    for path in paths:
        inside = sorted(p for p in path.rglob("*") if p.suffix.lower() in SUFFIXES) if path.is_dir() else [path]
        found += inside
    return found


@click.command()
@click.argument("images", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--snap", type=click.Choice([s.value for s in Snap]), default="pow2", show_default=True)
@click.option("--gutter", type=click.IntRange(0, 256), default=2, show_default=True, help="Empty pixels around.")
@click.option("--tolerance", type=click.IntRange(0, 254), default=TOLERANCE, show_default=True, help="Steps of 255.")
@click.option("--background", metavar="RRGGBB", help="The empty colour; found by alpha or from the border if left out.")
@click.option(
    "--split", "gap", type=click.IntRange(1, 4096), metavar="PIXELS", help="A patch for each island so far apart."
)
@click.option("--shared", is_flag=True, help="One rectangle for all: overlays that lie over the same base.")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
def patch(
    images: tuple[Path, ...],
    snap: str,
    gutter: int,
    tolerance: int,
    background: str | None,
    gap: int | None,
    shared: bool,
    out: Path,
) -> None:
    """Cut overlays that are mostly empty down to what is used, with their place in a JSON file beside each."""
    files = _pictures(images)
    if not files:
        raise Unsupported("there is no picture among those")
    looked: list[tuple[Path, Image, Any, tuple[float, ...]]] = []
    for file in files:
        image = read_picture(file)
        colour = _colour(background, image) if background else () if tells_alpha(image) else background_of(image)
        mask = used_mask(image, colour, tolerance)
        if not mask.any():
            raise FileError(file, "is empty everywhere: there is nothing to cut out")
        looked.append((file, image, mask, colour))
    common = None
    if shared:
        if len({image.size for _, image, _, _ in looked}) > 1:
            raise Unsupported("overlays that share a base have one size; these differ")
        common = around([rect for _, _, mask, _ in looked for rect in islands(mask, 1)])
    written: set[Path] = set()
    for file, image, mask, colour in looked:
        found = islands(mask, gap or 1)
        parts = [common] if common else found if gap else [around(found)]
        for number, used in enumerate(parts):
            rect = snapped(used, image.size, Snap(snap), gutter)
            stem = file.stem + (f"_{number}" if len(parts) > 1 else "")
            target = out / f"{stem}_patch.png"
            if target in written:
                raise FileError(
                    file, f"would be written over {target}, which another picture gave; cut them into two folders"
                )
            written.add(target)
            cut = cut_out(image, rect, colour)
            proof = prove_patch(image, cut, rect, within(mask, used), colour)
            if not proof.exact:
                raise FileError(file, f"does not come back from its patch: {proof.lost} used pixels lie outside")
            _write(cut, target, (file,))
            write_atomic(
                target.with_suffix(".json"), sidecar(Patch(stem, file.name, rect, colour, tolerance), image.size)
            )
            share = rect.width * rect.height / (image.width * image.height)
            click.echo(
                f"{shown(target)}: {rect.width}x{rect.height} at {rect.x}, {rect.y} of {image.width}x{image.height}; "
                f"{bytes_text(rect.width * rect.height * 4)} of {bytes_text(image.width * image.height * 4)} as RGBA8, "
                f"{share * 100:.1f} %"
            )


def _colour(text: str, image: Image) -> tuple[float, ...]:
    digits = text.removeprefix("#")
    try:
        codes = bytes.fromhex(digits)
    except ValueError:
        codes = b""
    if len(codes) not in (3, 4):
        raise click.BadParameter(f"{text!r} is not a colour such as 00FF00")
    full = 1.0 if image.is_float else float((1 << image.bit_depth) - 1)
    values = [code / 255 * full for code in codes]
    if len(image.channels) < 3:
        return (values[0], *([full] if image.has_alpha else []))
    return (*values[:3], *([values[3] if len(values) > 3 else full] if image.has_alpha else []))


@click.command()
@click.argument("font", type=click.Path(path_type=Path))
@click.option("--size", type=click.IntRange(4, 512), default=48, show_default=True, help="Pixels an em.")
@click.option("--text", type=click.Path(path_type=Path, dir_okay=False), help="A UTF-8 file; its characters are taken.")
@click.option("--characters", default="", help="Characters typed here.")
@click.option("--block", "blocks", multiple=True, metavar="NAME", help="A Unicode block, such as basic-latin.")
@click.option("--spread", type=click.FloatRange(0, 64), default=0.0, help="Signed distances so many pixels each way.")
@click.option("--side", type=click.IntRange(8, 1 << 14), help="Of the pages; the smallest that hold all if left out.")
@click.option("--pow2", "powers", is_flag=True, help="Sides that are powers of two.")
@click.option("--gutter", type=click.IntRange(0, 16), default=1, show_default=True, help="Empty pixels between glyphs.")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="The folder to write into."
)
def glyphs(
    font: Path,
    size: int,
    text: Path | None,
    characters: str,
    blocks: tuple[str, ...],
    spread: float,
    side: int | None,
    powers: bool,
    gutter: int,
    out: Path,
) -> None:
    """Draw the glyphs of a FONT into four pages, one a channel, of one texture, with metrics and GLSL beside it.

    Exit status: 0; 1 when the font lacks characters or some find no room; 2 when something cannot be read.
    """
    wanted = characters + "".join(block_named(name) for name in blocks)
    if text is not None:
        try:
            wanted += read_bytes(text).decode("utf-8")
        except UnicodeDecodeError as error:
            raise FileError(text, "is not UTF-8 text", error.start) from error
    wanted = drawable(wanted)
    if not wanted:
        raise click.UsageError("say which characters: --text, --characters or --block")
    opened = open_font(font)
    try:
        settings = GlyphSheet(font.stem, str(font), size, wanted, spread, side or 0, powers, gutter)
    except ValueError as error:
        raise click.UsageError(str(error)) from error
    sheet = run(make_sheet(settings, opened))
    stem = f"{font.stem}_{size}_glyphs"
    _write(sheet.image, out / f"{stem}.png", (font,))
    write_atomic(out / f"{stem}.json", metrics_json(sheet.metrics))
    write_atomic(out / f"{stem}.glsl", shading(sheet.metrics))
    click.echo(
        f"{shown(out / f'{stem}.png')}: {len(sheet.metrics.glyphs)} glyphs on four pages of "
        f"{sheet.image.width}x{sheet.image.height}, {sheet.occupancy * 100:.1f} % covered"
    )
    for words, left in (("not in the font", sheet.missing), ("no room for", sheet.left_out)):
        if left:
            click.echo(f"oak-trim: {words}: {len(left)}: {left[:80]}{' …' if len(left) > 80 else ''}", err=True)
    if sheet.missing or sheet.left_out:
        raise SystemExit(1)
