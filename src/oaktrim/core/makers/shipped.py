"""The makers that come with the product. Adding one is a package of its own and a line here."""

from __future__ import annotations

from oaktrim.core.makers.atlas.kind import AtlasKind
from oaktrim.core.makers.glyphs.kind import GlyphKind
from oaktrim.core.makers.imposter.kind import ImposterKind
from oaktrim.core.makers.pack.kind import PackKind
from oaktrim.core.makers.patch.kind import PatchKind
from oaktrim.core.makers.registry import register
from oaktrim.core.makers.share.kind import ShareKind
from oaktrim.core.makers.surface.kind import SurfaceKind

for _kind in (PackKind(), PatchKind(), GlyphKind(), AtlasKind(), ImposterKind(), SurfaceKind(), ShareKind()):
    register(_kind)
