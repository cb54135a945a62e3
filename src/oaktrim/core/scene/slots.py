"""What a material uses an image as."""

from __future__ import annotations

from enum import Enum


class Slot(Enum):
    """What a material reads a texture as; the names are those of glTF 2.0 and its ratified extensions."""

    BASE_COLOUR = "baseColorTexture"
    METALLIC_ROUGHNESS = "metallicRoughnessTexture"
    NORMAL = "normalTexture"
    OCCLUSION = "occlusionTexture"
    EMISSIVE = "emissiveTexture"
    ROUGHNESS = "roughness"
    METALNESS = "metalness"
    SPECULAR = "specular"
    HEIGHT = "displacement"
    OPACITY = "opacity"
    OTHER = "other"
