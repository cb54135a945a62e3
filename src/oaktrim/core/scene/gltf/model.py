"""The whole of a glTF document as a model."""

from __future__ import annotations

from urllib.parse import unquote

from oaktrim.core.files.gltf import Document
from oaktrim.core.scene.faults import Faults
from oaktrim.core.scene.gltf.materials import MaterialReader
from oaktrim.core.scene.gltf.meshes import MeshReader
from oaktrim.core.scene.gltf.movement import MovementReader
from oaktrim.core.scene.gltf.nodes import NodeReader
from oaktrim.core.scene.model import ImageSource, Model

_IMAGE_EXTENSIONS = ("KHR_texture_basisu", "EXT_texture_webp", "EXT_texture_avif", "MSFT_texture_dds")
_COMPRESSED = ("KHR_draco_mesh_compression", "EXT_meshopt_compression", "KHR_meshopt_compression")
_EMISSIVE_STRENGTH, _QUANTIZED = "KHR_materials_emissive_strength", "KHR_mesh_quantization"
_LIGHTS, _LEVELS, _UNLIT = "KHR_lights_punctual", "MSFT_lod", "KHR_materials_unlit"
_TRANSFORM, _INSTANCES = "KHR_texture_transform", "EXT_mesh_gpu_instancing"
_KNOWN = {
    _TRANSFORM, _INSTANCES, _LIGHTS, _LEVELS, _UNLIT, _EMISSIVE_STRENGTH, _QUANTIZED, *_COMPRESSED, *_IMAGE_EXTENSIONS,
}  # fmt: skip


def images_of(document: Document) -> tuple[ImageSource, ...]:
    """Return the images of a document alone; one that cannot be read has no bytes."""
    return tuple(MaterialReader(document, False, Faults()).images())


def model_of(document: Document, whole: bool = False) -> Model:
    """Return the model that a glTF document describes; see `Model.faults` for what could not be read.

    Parameters
    ----------
    whole : with all that drawing needs: normals, tangents, colours, skins, instances, lights, factors and movements
    """
    faults, root = Faults(), document.root
    nodes, materials = NodeReader(document, whole, faults), MaterialReader(document, whole, faults)
    meshes, movement = MeshReader(document, whole, faults), MovementReader(document, whole, faults)
    scene, roots = nodes.roots()
    extensions = {*root.extensions_used, *root.extensions_required} - _KNOWN
    files: list[str] = []
    for index, row in enumerate(root.buffers):
        data = nodes.attempt(f"buffer {index}", lambda index=index: document.buffer(index), None)
        if data is not None and row.uri and row.uri[:5].lower() != "data:":
            files.append(document.place.target_of(unquote(row.uri)))
    return Model(
        kind="gltf" if document.binary is None else "glb",
        scene=scene,
        roots=roots,
        nodes=nodes.nodes(),
        meshes=tuple(meshes.meshes()),
        materials=tuple(materials.materials()),
        images=tuple(materials.images()),
        animations=tuple(movement.animations()),
        skins=tuple(movement.skins()),
        faults=faults.sentences(),
        extensions=tuple(sorted(extensions)),
        files=tuple(dict.fromkeys(files)),
    )
