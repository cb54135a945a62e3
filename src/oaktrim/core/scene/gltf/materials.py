"""Materials and images of a glTF document."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from urllib.parse import unquote

import msgspec

from oaktrim.core.files.gltf import MaterialRow, TextureInfo
from oaktrim.core.files.references import data_of
from oaktrim.core.scene.gltf.reading import Reading, list_of, number
from oaktrim.core.scene.model import AlphaMode, ImageSource, Material, Surface, TextureUse, Wrap
from oaktrim.core.scene.slots import Slot

_TRANSFORM = "KHR_texture_transform"
_UNLIT = "KHR_materials_unlit"
_EMISSIVE_STRENGTH = "KHR_materials_emissive_strength"
_IMAGE_EXTENSIONS = ("KHR_texture_basisu", "EXT_texture_webp", "EXT_texture_avif", "MSFT_texture_dds")
_WRAPS = {33071: Wrap.CLAMP, 33648: Wrap.MIRROR}
_MATERIAL_SLOTS = {
    "diffuseTexture": Slot.BASE_COLOUR,
    "clearcoatNormalTexture": Slot.NORMAL,
    "sheenColorTexture": Slot.BASE_COLOUR,
    "specularColorTexture": Slot.BASE_COLOUR,
    "transmissionTexture": Slot.OPACITY,
}


class MaterialReader(Reading):
    """Reads materials and images."""

    def materials(self) -> Iterator[Material]:
        raws = self.document.raw.get("materials", [])
        for place, row in enumerate(self.root.materials):
            uses = [self.use(slot, name, info, place) for slot, name, info in self._infos(row, place)]
            raw = {key: value for key, value in raws[place].items() if key not in ("name", "extras")}
            surface = self._surface(row, place) if self.whole else Surface()
            name, opaque = row.name or f"material {place}", row.alpha_mode == "OPAQUE"
            yield Material(name, tuple(uses), self._content(raw), opaque, surface)

    def _surface(self, row: MaterialRow, place: int) -> Surface:
        """Return the factors of a material; glTF's default where one is no number."""
        pbr, extensions = row.pbr_metallic_roughness, row.extensions

        def numbers(value: Any, otherwise: tuple[float, ...], what: str) -> tuple[float, ...]:
            who = f"material {place}"
            found = self.attempt(who, lambda: self.numbers(list_of(value), len(otherwise), what).tolist(), otherwise)
            return tuple(found)

        def one(value: Any, otherwise: float, what: str) -> float:
            return numbers((value,), (otherwise,), what)[0]

        red, green, blue, alpha = numbers(pbr.base_color_factor if pbr else (1, 1, 1, 1), (1, 1, 1, 1), "base colour")
        glow = numbers(row.emissive_factor, (0, 0, 0), "emission")
        strength = extensions.get(_EMISSIVE_STRENGTH)
        times = one(strength.get("emissiveStrength", 1), 1, "emissive strength") if isinstance(strength, dict) else 1.0
        return Surface(
            base_colour=(red, green, blue, alpha),
            metallic=one(pbr.metallic_factor if pbr else 1, 1, "metalness"),
            roughness=one(pbr.roughness_factor if pbr else 1, 1, "roughness"),
            emissive=(glow[0] * times, glow[1] * times, glow[2] * times),
            normal_scale=one(row.normal_texture.scale if row.normal_texture else 1, 1, "normal scale"),
            occlusion_strength=one(row.occlusion_texture.strength if row.occlusion_texture else 1, 1, "occlusion"),
            alpha=next((mode for mode in AlphaMode if mode.value == row.alpha_mode), AlphaMode.OPAQUE),
            cutoff=one(row.alpha_cutoff, 0.5, "alpha cut-off"),
            two_sided=row.double_sided is True,
            unlit=_UNLIT in extensions,
        )

    def _infos(self, row: MaterialRow, place: int) -> Iterator[tuple[Slot, str, TextureInfo]]:
        pbr = row.pbr_metallic_roughness
        named = (
            (Slot.BASE_COLOUR, pbr.base_color_texture if pbr else None),
            (Slot.METALLIC_ROUGHNESS, pbr.metallic_roughness_texture if pbr else None),
            (Slot.NORMAL, row.normal_texture),
            (Slot.OCCLUSION, row.occlusion_texture),
            (Slot.EMISSIVE, row.emissive_texture),
        )
        for slot, info in named:
            if info is not None:
                yield slot, slot.value, info
        for extension in row.extensions.values():
            for name, value in extension.items() if isinstance(extension, dict) else ():
                if name.endswith("Texture") and isinstance(value, dict):
                    try:
                        info = msgspec.convert(value, TextureInfo)
                    except msgspec.ValidationError as error:
                        self.note(f"material {place}, {name}: {error}")
                        continue
                    yield _MATERIAL_SLOTS.get(name, Slot.OTHER), name, info

    def use(self, slot: Slot, name: str, info: TextureInfo, place: int) -> TextureUse:
        image, wrap = self.image_of(info.index, f"material {place}, {name}"), self._wrap(info.index)
        transform = info.extensions.get(_TRANSFORM)
        if not isinstance(transform, dict):
            return TextureUse(slot, name, image, max(0, info.tex_coord), wrap=wrap)
        return self.attempt(
            f"material {place}, {name}",
            lambda: TextureUse(
                slot,
                name,
                image,
                max(0, int(transform.get("texCoord", info.tex_coord))),
                self._pair(transform.get("offset", (0, 0))),
                self._pair(transform.get("scale", (1, 1))),
                float(self.numbers([number(transform.get("rotation", 0))], 1, "rotation")[0]),
                wrap,
            ),
            TextureUse(slot, name, image, max(0, info.tex_coord), wrap=wrap),
        )

    def _wrap(self, texture: int) -> tuple[Wrap, Wrap]:
        """Return what a texture's sampler does beyond its border (clause 5.26)."""
        place = self.root.textures[texture].sampler if 0 <= texture < len(self.root.textures) else None
        if place is None or not 0 <= place < len(self.root.samplers):
            return Wrap.REPEAT, Wrap.REPEAT
        row = self.root.samplers[place]
        return _WRAPS.get(row.wrap_s, Wrap.REPEAT), _WRAPS.get(row.wrap_t, Wrap.REPEAT)

    def _pair(self, value: Any) -> tuple[float, float]:
        values = [number(v) for v in value] if isinstance(value, list | tuple) else []
        x, y = self.numbers(values, 2, "texture transform")
        return float(x), float(y)

    def image_of(self, texture: int, who: str) -> int | None:
        if not 0 <= texture < len(self.root.textures):
            self.note(f"{who} names texture {texture} and there are {len(self.root.textures)}")
            return None
        row = self.root.textures[texture]
        source = row.source
        for name in _IMAGE_EXTENSIONS:
            extension = row.extensions.get(name)
            if isinstance(extension, dict) and isinstance(extension.get("source"), int):
                source = extension["source"]
        if source is None:
            self.note(f"texture {texture} names no image")
        elif not 0 <= source < len(self.root.images):
            self.note(f"texture {texture} names image {source} and there are {len(self.root.images)}")
            source = None
        return source

    def _content(self, raw: Any) -> str:
        """Return a material as text in which equal ones are equal: textures stand by what their image is."""

        def plain(value: Any) -> Any:
            if isinstance(value, dict):
                out = {key: plain(inner) for key, inner in value.items()}
                if isinstance(value.get("index"), int):
                    image = self.image_of(value["index"], "a material")
                    if image is not None:
                        out["index"] = f"image {image}"
                return out
            return [plain(inner) for inner in value] if isinstance(value, list) else value

        return msgspec.json.encode(plain(raw), order="sorted").decode()

    def images(self) -> Iterator[ImageSource]:
        for place, row in enumerate(self.root.images):
            if row.uri is not None and row.uri[:5].lower() != "data:":
                yield ImageSource(row.name, unquote(row.uri), None)
                continue

            def held(row: Any = row, place: int = place) -> bytes | None:
                if row.uri is not None:
                    return data_of(row.uri, self.document.place.file)
                if row.buffer_view is None:
                    raise self.document.fault(f"image {place} has neither a URI nor a buffer view")
                return bytes(self.document.view(row.buffer_view))

            yield ImageSource(row.name, "", self.attempt(f"image {place}", held, None))
