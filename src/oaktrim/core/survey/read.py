"""Reading one file of the tree into the rows that the survey keeps."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from urllib.parse import unquote

import msgspec
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.files import audio
from oaktrim.core.files.atomic import content_hash, read_bytes
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.pictures import SUFFIXES as PICTURES
from oaktrim.core.files.pictures import picture_with_facts
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.pixels.detail import baked_light, detail_share, normal_facts, seam_ratio
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.pixels.statistics import PixelFacts, pixel_facts, unit_codes
from oaktrim.core.pixels.traits import traits_of
from oaktrim.core.scene.model import GLTF_SLOTS, Material, Model
from oaktrim.core.scene.read import SUFFIXES as MODELS
from oaktrim.core.scene.read import parse_model
from oaktrim.core.scene.slots import Slot
from oaktrim.core.scene.uvs import leaves_tile, overlap_share, used_uvs
from oaktrim.core.sounds.traits import sound_traits
from oaktrim.core.survey.facts import (
    IMAGE_MARK,
    AudioFacts,
    ClipFacts,
    FileFacts,
    ImageRef,
    MaterialFacts,
    ModelFacts,
    ObjectFacts,
    SlotFacts,
    TextureFacts,
)
from oaktrim.core.survey.modelparts import Parts, parts_of
from oaktrim.core.survey.packed import PACKINGS, pack_bytes
from oaktrim.core.survey.places import file_of
from oaktrim.core.survey.sample import Sample, sample_of
from oaktrim.core.survey.walk import Seen

_LOOKED_AT = 1 << 18
_NOT_GLTF = "only glTF is written"
# No other slot of glTF 2.0 or MTL looks at alpha; what is not known might.
_MANY_CAMERAS = 64
_CORNERS = np.array([[i, j, k] for i in (0, 1) for j in (0, 1) for k in (0, 1)], np.bool_)
_ALPHA_SLOTS = (Slot.BASE_COLOUR, Slot.OPACITY, Slot.OTHER)


Samples = dict[str, Sample]
# A file, the root, the most pixels, and whether the process does nothing else.
Reader = Callable[[Seen, Path, int, bool], tuple[FileFacts, Samples]]


def reader_for(path: str) -> Reader | None:
    """Return what reads a file of this name, or None for those that the survey passes over."""
    return _READERS.get(path[path.rfind(".") :].lower())


def is_read(path: str) -> bool:
    """Say whether the survey reads a file of this name."""
    return reader_for(path) is not None


def reads_alone(path: str) -> bool:
    """Say whether all that is known of a file of this name comes of its own bytes: of pictures and sounds."""
    return is_read(path) and reader_for(path) is not read_model


def _bytes_of(seen: Seen) -> bytes:
    if not os.path.exists(seen.place):
        raise FileError(seen.file, "vanished during the survey")
    return read_bytes(seen.file)


def _texture(data: bytes, path: str, seen: Seen, max_pixels: int, alone: bool) -> tuple[TextureFacts, Sample]:
    """Return the facts of one picture and the sample of its pixels."""
    file = seen.file if path == seen.path else Path(f"{seen.place}{path[len(seen.path) :]}")
    content = content_hash(data)
    head, image = picture_with_facts(data, file, max_pixels, alone)
    sample = sample_of(image)
    looks = _looks(image, sample)
    if head.slices > 1:
        # Only the first picture was looked at: the others may differ.
        looks["pixels"] = content
    facts = TextureFacts(
        path, seen.file_bytes if path == seen.path else len(data), seen.file_time, content, head.kind, head.width,
        head.height, head.channels, head.bit_depth, head.floating, head.levels, head.format, head.profile,
        slices=head.slices, orientation=head.orientation, ignored=head.ignored, **looks,  # type: ignore[arg-type]
    )  # fmt: skip
    return facts, sample


def made_facts(path: str, kind: str, content: str, image: Image) -> tuple[TextureFacts, Sample]:
    """Return the facts of a picture that no file holds, and the sample of its pixels."""
    sample = sample_of(image)
    facts = TextureFacts(
        path, 0, 0, content, kind, image.width, image.height, len(image.channels), image.bit_depth, image.is_float,
        1, "", "", **_looks(image, sample),  # type: ignore[arg-type]
    )  # fmt: skip
    return facts, sample


def _looks(image: Image, sample: Sample) -> dict[str, object]:
    """Return the fields of a texture's facts that its pixels tell."""
    found, full = pixel_facts(image), unit_codes(image)
    normal = normal_facts(image, found)
    fixed = found.low[-1] == found.high[-1]
    return {
        "pixels": found.digest,
        "grey": found.grey,
        "opaque": image.has_alpha and found.low[-1] >= full,
        "constant": found.constant,
        "alpha_constant": image.has_alpha and fixed and found.low[-1] < full,
        "live": "".join(
            name for name, low, high in zip(image.channels, found.low, found.high, strict=True) if low != high
        ),
        "used": found.used,
        "used_share": found.used_share,
        "eight_bit": found.eight_bit,
        "detail": detail_share(image, found),
        "normal": normal.likely,
        "length_error": normal.length_error,
        "green": normal.green,
        "light": baked_light(image, found) if found.used_share > 0.99 or not image.has_alpha else 0.0,
        "seam": max(seam_ratio(image)),
        "means": _signature(image, found),
        "traits": traits_of(sample.pieces[0], sample.thumbnail).packed(),
    }


def _signature(image: Image, found: PixelFacts) -> bytes:
    """Return mean codes of 4x4 cells as four 8-bit channels."""
    cells = found.means.reshape(4, 2, 4, 2, -1).sum(axis=(1, 3)) * (255 / 4 / unit_codes(image)) + 0.5
    codes = np.fmin(np.fmax(cells, 0), 255).astype(np.uint8)
    return to_rgba(Image(codes, image.channels)).tobytes()


def read_texture(seen: Seen, root: Path, max_pixels: int, alone: bool = False) -> tuple[FileFacts, Samples]:
    """Read a picture file."""
    facts, sample = _texture(_bytes_of(seen), seen.path, seen, max_pixels, alone)
    return FileFacts(seen.path, *seen.stamp, textures=(facts,)), {facts.content: sample}


def read_audio(seen: Seen, root: Path, max_pixels: int, alone: bool = False) -> tuple[FileFacts, Samples]:
    """Read what a sound says of itself, and what its samples do."""
    data = _bytes_of(seen)
    head = audio.audio_head(data, seen.file)
    traits = sound_traits(data, seen.file)
    facts = AudioFacts(
        seen.path, *seen.stamp, head.kind, head.rate, head.channels, head.seconds, head.decoded_bytes,
        content_hash(data), _packed(data), traits.peak, traits.clipped, traits.side, traits.bandwidth, traits.step,
        traits.envelope,
    )  # fmt: skip
    return FileFacts(seen.path, *seen.stamp, audio=facts), {}


def _packed(data: bytes) -> dict[str, float]:
    """Return packed over plain bytes by method, of no more than a piece from the middle."""
    start = max(0, (len(data) - _LOOKED_AT) // 2)
    piece = data[start : start + _LOOKED_AT]
    return {name: min(1.0, pack_bytes(piece, how) / max(1, len(piece))) for name, how in PACKINGS.items()}


def read_model(seen: Seen, root: Path, max_pixels: int, alone: bool = False) -> tuple[FileFacts, Samples]:
    """Read a model: its facts, and the images that it holds as textures of their own."""
    data = _bytes_of(seen)
    place = ReferenceFolder(root, seen.path)
    model = parse_model(data, place)
    textures: list[TextureFacts] = []
    samples: Samples = {}
    images: list[ImageRef] = []
    errors: list[tuple[str, str]] = []
    for number, source in enumerate(model.images):
        path = f"{seen.path}{IMAGE_MARK}{number}"
        if source.data is None:
            images.append(ImageRef(source.uri, "", source.name))
            continue
        images.append(ImageRef("", path, source.name))
        try:
            facts, sample = _texture(source.data, path, seen, max_pixels, alone)
        except OakTrimError as error:
            errors.append((path, error.fault if isinstance(error, FileError) else str(error)))
            continue
        textures.append(facts)
        samples[facts.content] = sample
    files = []
    for path in model.files:
        status = (place.root / path).stat()
        files.append((path, status.st_size, status.st_mtime_ns))
    made = _model_facts(seen.path, seen.stamp, data, model, images, place, files)
    return FileFacts(seen.path, *seen.stamp, tuple(textures), None, made, tuple(errors)), samples


def made_model_facts(root: Path, path: str, data: bytes) -> ModelFacts:
    """Return the facts of a model that no file holds; its images are textures of the inventory, named from its folder.

    Raises
    ------
    OakTrimError : it is not a model
    """
    place = ReferenceFolder(root, path)
    model = parse_model(data, place)
    images = [ImageRef("", place.target_of(unquote(source.uri))) for source in model.images]
    return _model_facts(path, (len(data), 0), data, model, images, place, [])


def _model_facts(
    path: str,
    stamp: tuple[int, int],
    data: bytes,
    model: Model,
    images: Sequence[ImageRef],
    place: ReferenceFolder,
    files: Sequence[tuple[str, int, int]],
) -> ModelFacts:
    clips = tuple(ClipFacts(c.name, c.seconds, c.channels, c.keys, c.data_bytes) for c in model.animations)
    parts = parts_of(parse_gltf(data, place), clips) if model.kind in ("gltf", "glb") else Parts(clips, held=_NOT_GLTF)
    geometry = _geometry(data, model, place)
    return ModelFacts(
        path=path,
        file_bytes=stamp[0],
        file_time=stamp[1],
        kind=model.kind,
        scene=model.scene,
        objects=tuple(_objects(model)),
        materials=tuple(_materials(model, tuple(images), place)),
        images=tuple(images),
        clips=parts.clips,
        joints=sum(skin.joints for skin in model.skins),
        mesh_bytes=max(0, len(geometry) - sum(clip.data_bytes for clip in clips)),
        content=content_hash(geometry),
        packed=_packed(geometry),
        faults=model.faults,
        extensions=model.extensions,
        files=tuple(files),
        nodes=parts.nodes,
        scenes=parts.scenes,
        variants=parts.variants,
        vertices=parts.vertices,
        held=parts.held,
        whole=content_hash(data, *(place.read_file(name) for name, _, _ in files)),
    )


def other_bytes(root: Path, path: str) -> bytes:
    """Return what of a sound or a model ships beside the textures.

    Raises
    ------
    OakTrimError : it cannot be read; names the file
    """
    data = read_bytes(file_of(root, path))
    if reader_for(path) is not read_model:
        return data
    place = ReferenceFolder(root, path)
    return _geometry(data, parse_model(data, place), place)


def _geometry(data: bytes, model: Model, place: ReferenceFolder) -> bytes:
    """Return a model's bytes and those of its buffers, without the images that it holds: these count as textures."""
    for source in model.images:
        if source.data:
            data = data.replace(source.data, b"", 1)
    return data + b"".join(place.read_file(path) for path in model.files)


def _materials(model: Model, images: tuple[ImageRef, ...], place: ReferenceFolder) -> list[MaterialFacts]:
    by_material: dict[int, list[int]] = {}
    primitives = [primitive for mesh in model.meshes for primitive in mesh.primitives]
    for number, primitive in enumerate(primitives):
        if primitive.material is not None:
            by_material.setdefault(primitive.material, []).append(number)
    names = {f'"image {number}"': _identity(ref, place) for number, ref in enumerate(images)}
    found = []
    for number, material in enumerate(model.materials):
        mine = [primitives[i] for i in by_material.get(number, [])]
        slots = []
        for use in material.uses:
            sheets = [used_uvs(primitive, use) for primitive in mine]
            tiles = any(uv is not None and leaves_tile(uv) for uv in sheets)
            alpha = use.slot in _ALPHA_SLOTS and not material.opaque
            slots.append(SlotFacts(use.slot, use.name, -1 if use.image is None else use.image, tiles, alpha))
        content = material.content
        for token, name in names.items():
            content = content.replace(token, name)
        shares = [overlap_share(p.uvs[0], p.triangles) for p in mine if p.uvs and not leaves_tile(p.uvs[0])]
        digest = content_hash(content.encode("utf-8", "backslashreplace"))
        spread = max((float(np.ptp(p.uvs[0], axis=0).max()) for p in mine if p.uvs and len(p.uvs[0])), default=1.0)
        found.append(
            MaterialFacts(
                material.name, digest, tuple(slots), any(share > 0.02 for share in shares), _drawn(material),
                spread if mine else 0.0,
            )
        )  # fmt: skip
    return found


def _drawn(material: Material) -> str:
    """Return how a material is drawn, in words; empty where it reads maps that only it knows."""
    if any(use.slot not in GLTF_SLOTS or use.name != use.slot.value or use.image is None for use in material.uses):
        return ""
    try:
        row = msgspec.json.decode(material.content)
    except msgspec.DecodeError:
        return "opaque" if material.opaque else "blended"
    words = {"MASK": "cut out by alpha", "BLEND": "blended"}.get(str(row.get("alphaMode")), "opaque")
    words += ", both sides" if row.get("doubleSided") is True else ""
    extensions = row.get("extensions", {})
    names = sorted(extensions) if isinstance(extensions, dict) else []
    return ", ".join((words, *names))


def _identity(ref: ImageRef, place: ReferenceFolder) -> str:
    try:
        return ref.held or place.target_of(unquote(ref.uri))
    except FileError:
        return ref.uri


def _objects(model: Model) -> list[ObjectFacts]:
    """Return what stands below each root node; cameras and empty nodes are no objects."""
    world_matrices = model.world_matrices()
    cameras = [(world_matrices[n][:3, 3], yfov) for n in world_matrices if (yfov := model.nodes[n].yfov) is not None]
    eyes = np.array([eye for eye, _ in cameras], np.float64).reshape(-1, 3)
    slopes = np.tan(np.array([yfov for _, yfov in cameras], np.float64) / 2)
    near = KDTree(eyes) if len(eyes) > _MANY_CAMERAS else None
    boxes: dict[int, list[np.ndarray]] = {}
    found = []
    for root in model.roots:
        materials: dict[int, None] = {}
        triangles = draws = copies = 0
        corners = []
        for number in model.below(root):
            node = model.nodes[number]
            if node.mesh is None:
                continue
            copies += node.copies
            primitives = model.meshes[node.mesh].primitives
            for primitive in primitives:
                draws += node.copies
                triangles += node.copies * primitive.count
                if primitive.material is not None:
                    materials[primitive.material] = None
            if node.mesh not in boxes:
                boxes[node.mesh] = [_box(primitive.positions) for primitive in primitives if len(primitive.positions)]
            matrix = world_matrices[number]
            corners += [box @ matrix[:3, :3].T + matrix[:3, 3] for box in boxes[node.mesh]]
        if draws:
            name = model.nodes[root].name or f"object {root}"
            largest = _largest(np.concatenate(corners), eyes, slopes, near) if corners and cameras else -1.0
            found.append(ObjectFacts(name, tuple(materials), triangles, draws, copies, largest))
    return found


def _box(points: np.ndarray) -> NDArray[np.float64]:
    """Return the eight corners of the box around points (N, 3)."""
    low, high = points.min(axis=0).astype(np.float64), points.max(axis=0).astype(np.float64)
    corners: NDArray[np.float64] = np.where(_CORNERS, high, low)
    return corners


def _largest(corners: np.ndarray, eyes: np.ndarray, slopes: np.ndarray, near: KDTree | None) -> float:
    """Return the greatest height on screen of the sphere around a box, over all cameras, as a part of the picture's.

    Parameters
    ----------
    eyes : (C, 3); slopes : of half the vertical angle of view, (C,)
    near : where cameras are many, finds the nearest, which alone are looked through then
    """
    centre = (corners.min(axis=0) + corners.max(axis=0)) / 2
    if near is not None:
        nearest = near.query(centre, _MANY_CAMERAS)[1]
        eyes, slopes = eyes[nearest], slopes[nearest]
    radius = float(np.sqrt(np.square(corners - centre).sum(axis=1).max()))
    distance = np.sqrt(np.square(eyes - centre).sum(axis=1))
    heights = np.where(distance <= radius, 1.0, radius / np.maximum(distance * slopes, 1e-30))
    return min(1.0, float(heights.max()))


_READERS: dict[str, Reader] = {
    **dict.fromkeys(PICTURES, read_texture),
    **dict.fromkeys(audio.SUFFIXES, read_audio),
    **dict.fromkeys(MODELS, read_model),
}
