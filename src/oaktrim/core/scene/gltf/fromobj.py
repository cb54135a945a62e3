"""An OBJ as a glTF document, for what is written again: glTF holds all that is read of an OBJ but maps that it has no slot for."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from oaktrim.core.files.gltf import Document, parse_gltf
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.model import AlphaMode, Material, Model, Primitive, TextureUse
from oaktrim.core.scene.obj import model_of_obj
from oaktrim.core.scene.slots import Slot

_TRANSFORM = "KHR_texture_transform"


def document_of_obj(data: bytes, place: ReferenceFolder) -> tuple[Document, tuple[str, ...]]:
    """Return an OBJ file and its libraries as a document, and the maps that it has no slot for, each in words.

    Raises
    ------
    FileError : the file cannot be understood
    """
    model = model_of_obj(data, place, whole=True)
    writer = GltfWriter()
    for image in model.images:
        writer.add("images", uri=quote(image.uri))
        writer.add("textures", source=len(writer.json["images"]) - 1)
    lost: list[str] = []
    extensions: set[str] = set()
    for material in model.materials:
        writer.add("materials", **_material(material, extensions, lost))
    for mesh in model.meshes:
        writer.add("meshes", name=mesh.name, primitives=[_draw(writer, row) for row in mesh.primitives])
    _place_nodes(writer, model)
    if extensions:
        writer.json["extensionsUsed"] = sorted(extensions)
    return parse_gltf(writer.glb(), place), tuple(lost)


def _place_nodes(writer: GltfWriter, model: Model) -> None:
    for node in model.nodes:
        writer.add("nodes", name=node.name or None, mesh=node.mesh)
    writer.add("scenes", nodes=list(range(len(model.nodes))))
    writer.json["scene"] = 0


def _draw(writer: GltfWriter, row: Primitive) -> dict[str, Any]:
    attributes = {"POSITION": writer.accessor(row.positions, bounds=True, indices=False)}
    if row.normals is not None:
        attributes["NORMAL"] = writer.accessor(row.normals, indices=False)
    if row.uvs:
        attributes["TEXCOORD_0"] = writer.accessor(row.uvs[0], indices=False)
    found: dict[str, Any] = {"attributes": attributes}
    found["indices"] = writer.accessor(row.triangles.astype("uint32").reshape(-1, 1), indices=True)
    if row.material is not None:
        found["material"] = row.material
    return found


def _material(material: Material, extensions: set[str], lost: list[str]) -> dict[str, Any]:
    surface = material.surface
    pbr: dict[str, Any] = {
        "baseColorFactor": list(surface.base_colour),
        "metallicFactor": surface.metallic,
        "roughnessFactor": surface.roughness,
    }
    row: dict[str, Any] = {"name": material.name, "pbrMetallicRoughness": pbr, "doubleSided": surface.two_sided}
    if surface.alpha is not AlphaMode.OPAQUE:
        row["alphaMode"] = surface.alpha.value
    if any(surface.emissive):
        row["emissiveFactor"] = list(surface.emissive)
    for use in material.uses:
        texture = _texture(use, extensions)
        if use.slot is Slot.BASE_COLOUR:
            pbr["baseColorTexture"] = texture
        elif use.slot is Slot.NORMAL:
            row["normalTexture"] = texture
        elif use.slot is Slot.EMISSIVE:
            row["emissiveTexture"] = texture
        else:
            lost.append(f"{material.name}: {use.name} has no slot in glTF and is left out")
    return row


def _texture(use: TextureUse, extensions: set[str]) -> dict[str, Any]:
    found: dict[str, Any] = {"index": use.image}
    if use.offset != (0.0, 0.0) or use.scale != (1.0, 1.0):
        extensions.add(_TRANSFORM)
        found["extensions"] = {_TRANSFORM: {"offset": list(use.offset), "scale": list(use.scale)}}
    return found
