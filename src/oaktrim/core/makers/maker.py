"""The kinds of makers, and how each makes its texture: what an inventory and a run ask of it."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import msgspec

from oaktrim.core.files.atomic import content_hash, read_bytes
from oaktrim.core.makers.fonts import open_font
from oaktrim.core.makers.glyphs import GlyphSheet, Sheet, make_sheet, metrics_json, shading
from oaktrim.core.makers.layouts import Layout, layout_named
from oaktrim.core.makers.pack import Pack, pack_picture, pack_size
from oaktrim.core.makers.patch import Patch, cut_out, sidecar
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.core.scene.model import Slot
from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.making import DerivedTexture, Sources
from oaktrim.core.survey.places import file_stamp
from oaktrim.core.survey.roles import Role

Maker = Pack | Patch | GlyphSheet
MATERIAL_MARK = "#materials/"


@dataclass(frozen=True)
class PackMaking:
    """How a pack is made."""

    pack: Pack
    layout: Layout

    kind = Pack.kind

    @property
    def role(self) -> Role:
        return self.layout.role

    @property
    def reason(self) -> str:
        return f"packed as {self.layout.name}"

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.pack.inputs

    @property
    def keeps(self) -> bool:
        return self.pack.keeps

    @property
    def materials(self) -> tuple[str, ...]:
        return self.pack.materials if self.layout.reads else ()

    def picture(self, sources: Sources) -> Image:
        return pack_picture(self.pack, self.layout, sources)

    def content(self, hash_of: Callable[[str], str]) -> str:
        settings = msgspec.json.encode((self.pack.lanes, self.pack.size, self.pack.bits, self.layout.count))
        return content_hash(settings, *(hash_of(path).encode() for path in self.inputs))

    def beside(self, sources: Sources) -> dict[str, bytes]:
        return {}

    def takes(self, material: str, slot: Slot, source: str) -> bool:
        return material in self.materials and slot in self.layout.reads

    def sketch(self, facts: Sequence[TextureFacts]) -> tuple[int, int, int, int]:
        """Return width, height, channels and bits, which its sources' facts tell."""
        width, height = pack_size(self.pack, [(t.width, t.height) for t in facts])
        return width, height, self.layout.count, self.pack.bits


@dataclass(frozen=True)
class PatchMaking:
    """How a patch is made.

    Parameters
    ----------
    role, size : the overlay's
    alone : nothing else is cut out of the overlay
    """

    patch: Patch
    role: Role
    size: tuple[int, int]
    alone: bool = True

    kind = Patch.kind
    materials = ()

    @property
    def reason(self) -> str:
        return f"cut out of {self.patch.source}"

    @property
    def inputs(self) -> tuple[str, ...]:
        return self.patch.inputs

    @property
    def keeps(self) -> bool:
        return self.patch.keeps

    def picture(self, sources: Sources) -> Image:
        return cut_out(sources.picture(self.patch.source), self.patch.rect, self.patch.background)

    def content(self, hash_of: Callable[[str], str]) -> str:
        settings = msgspec.json.encode((self.patch.rect, self.patch.background))
        return content_hash(settings, hash_of(self.patch.source).encode())

    def beside(self, sources: Sources) -> dict[str, bytes]:
        return {".patch.json": sidecar(self.patch, self.size)}

    def takes(self, material: str, slot: Slot, source: str) -> bool:
        # One slot of a material cannot read several patches: there models go on reading the overlay, which stays for them.
        return source == self.patch.source and self.alone and not self.patch.keeps

    def sketch(self, facts: Sequence[TextureFacts]) -> tuple[int, int, int, int]:
        """Return width, height, channels and bits, which its overlay's facts tell."""
        return self.patch.rect.width, self.patch.rect.height, facts[0].channels, facts[0].bit_depth


@dataclass(frozen=True)
class GlyphMaking:
    """How a sheet of glyphs is made."""

    sheet: GlyphSheet
    file: Path

    kind = GlyphSheet.kind
    role = Role.GLYPHS
    inputs: tuple[str, ...] = ()
    keeps = True
    materials = ()

    @property
    def reason(self) -> str:
        return f"drawn from {self.file.name}"

    def made(self) -> Sheet:
        """Return the sheet with its metrics."""
        return _sheet(self.sheet, self.file, file_stamp(self.file))

    def picture(self, sources: Sources) -> Image:
        return self.made().image

    def content(self, hash_of: Callable[[str], str]) -> str:
        settings = msgspec.structs.replace(self.sheet, name="", font="")
        return content_hash(msgspec.json.encode(settings), _font_hash(self.file, file_stamp(self.file)).encode())

    def beside(self, sources: Sources) -> dict[str, bytes]:
        metrics = self.made().metrics
        return {".glyphs.json": metrics_json(metrics), ".glsl": shading(metrics)}

    def takes(self, material: str, slot: Slot, source: str) -> bool:
        return False


@lru_cache(maxsize=32)
def _font_hash(file: Path, _stamp: tuple[int, int]) -> str:
    return content_hash(read_bytes(file))


@lru_cache(maxsize=4)
def _sheet(sheet: GlyphSheet, file: Path, _stamp: tuple[int, int]) -> Sheet:
    return finish(make_sheet(sheet, open_font(file)))


def font_file(root: Path, font: str) -> Path:
    """Return the file of a font, which may lie outside the root."""
    return Path(os.path.normpath(root / font))


def making_of(
    maker: Maker, root: Path, layouts: Sequence[Layout], facts: TextureFacts | None, role: Role
) -> DerivedTexture:
    """Return how a maker makes its texture.

    Parameters
    ----------
    facts, role : of its first input

    Raises
    ------
    Unsupported : it names a layout that there is none of
    """
    if isinstance(maker, Pack):
        return PackMaking(maker, layout_named(maker.layout, layouts))
    if isinstance(maker, Patch):
        return PatchMaking(maker, role, (facts.width, facts.height) if facts else (1, 1))
    return GlyphMaking(maker, font_file(root, maker.font))
