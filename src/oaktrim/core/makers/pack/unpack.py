"""Packed textures split into grey pictures again, one for each channel that a layout names."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path, PurePosixPath

from oaktrim.core.errors import FileError, OakTrimError, ShipError
from oaktrim.core.files.pictures import write_png
from oaktrim.core.makers.layouts import Layout
from oaktrim.core.makers.pack.pack import unpacked
from oaktrim.core.progress import Progress, Task
from oaktrim.core.survey.derived import Sources


def unpack_into(
    paths: Sequence[str], layout: Layout, sources: Sources, folder: Path, tree: Path | None = None
) -> Task[list[Path]]:
    """Write the channels of packed textures as PNG files, `wall_orm_roughness.png`, and return them.

    Parameters
    ----------
    tree : of sources, which is never written into

    Raises
    ------
    ShipError : the folder is inside the source tree, or two textures would be written to one name
    FileError : a texture cannot be read or lacks a channel, or a file cannot be written
    """
    if tree is not None and Path(os.path.realpath(folder)).is_relative_to(os.path.realpath(tree)):
        raise ShipError(f"{folder}: is inside the source tree {tree}; sources are never written")
    stems = [PurePosixPath(path).stem for path in paths]
    twice = next((stem for stem in stems if stems.count(stem) > 1), None)
    if twice is not None:
        raise ShipError(f"{folder}: two textures would be written as {twice}; unpack them into two folders")
    written = []
    for done, (path, stem) in enumerate(zip(paths, stems, strict=True)):
        yield Progress(done, len(paths), f"unpacking {path}")
        try:
            parts = unpacked(sources.picture(path), layout)
        except FileError:
            raise
        except OakTrimError as error:
            raise FileError(path, str(error)) from error
        folder.mkdir(parents=True, exist_ok=True)
        for slot, image in parts.items():
            target = folder / f"{stem}_{slot}.png"
            write_png(target, image)
            written.append(target)
    return written
