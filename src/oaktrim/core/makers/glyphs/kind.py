"""Glyph sheets as a kind of maker."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path, PurePosixPath

import msgspec

from oaktrim.core.files.atomic import content_hash, read_bytes
from oaktrim.core.makers.glyphs.fonts import open_font
from oaktrim.core.makers.glyphs.sheet import GlyphSheet, make_sheet, metrics_json, shading
from oaktrim.core.makers.names import safe
from oaktrim.core.makers.registry import MakerContext, MakerKind
from oaktrim.core.progress import Task
from oaktrim.core.survey.derived import Derivation, Output, Sources
from oaktrim.core.survey.places import file_stamp
from oaktrim.core.survey.products import Products
from oaktrim.core.survey.roles import Role


@lru_cache(maxsize=32)
def _font_hash(file: Path, _stamp: tuple[int, int]) -> str:
    return content_hash(read_bytes(file))


@dataclass(frozen=True)
class GlyphDerivation(Derivation):
    """How a sheet of glyphs is made; nothing tells its size before."""

    sheet: GlyphSheet
    file: Path

    kind = "glyph sheet"
    keeps = True
    costly = True

    @property
    def name(self) -> str:
        return self.sheet.name

    @property
    def outputs(self) -> tuple[Output, ...]:
        return (Output(self.sheet.name, Role.GLYPHS, f"drawn from {self.file.name}"),)

    def settings_key(self) -> bytes:
        settings = msgspec.structs.replace(self.sheet, name="", font="")
        return msgspec.json.encode((settings, self.file.name))

    def content(self, hash_of: Callable[[str], str]) -> str:
        return content_hash(self.settings_key(), _font_hash(self.file, file_stamp(self.file)).encode())

    def make(self, sources: Sources) -> Task[Products]:
        made = yield from make_sheet(self.sheet, open_font(self.file))
        name = self.sheet.name
        files = {f"{name}.glyphs.json": metrics_json(made.metrics), f"{name}.glsl": shading(made.metrics)}
        return Products({name: made.image}, files=files)


class GlyphKind(MakerKind[GlyphSheet]):
    """Glyphs of a font in one texture."""

    settings = GlyphSheet
    label = "glyph sheets"
    name_pattern = "{font}_{size}_glyphs"
    name_fields = ("folder", "font", "size")

    def origin(self, maker: GlyphSheet) -> str:
        return maker.font

    def name_values(self, maker: GlyphSheet, context: MakerContext) -> dict[str, object]:
        font = PurePosixPath(maker.font)
        # A font from elsewhere has no folder below the root.
        folder = "" if font.is_absolute() or ".." in font.parts else str(font.parent)
        return {"folder": folder, "font": safe(font.stem), "size": maker.size}

    def derivation(self, maker: GlyphSheet, context: MakerContext) -> Derivation:
        return GlyphDerivation(maker, font_file(context.root, maker.font))


def font_file(root: Path, font: str) -> Path:
    """Return the file of a font, which may lie outside the root."""
    return Path(os.path.normpath(root / font))
