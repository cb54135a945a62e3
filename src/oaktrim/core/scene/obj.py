"""Wavefront OBJ and its material library (MTL), as published by Wavefront in the Advanced Visualizer manual, appendix B."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.scene.faults import Faults
from oaktrim.core.scene.model import (
    AlphaMode,
    ImageSource,
    Material,
    Mesh,
    Model,
    Node,
    Points,
    Primitive,
    Surface,
    TextureUse,
)
from oaktrim.core.scene.slots import Slot

_SLOTS = {
    "map_kd": Slot.BASE_COLOUR,
    "map_ka": Slot.OTHER,
    "map_ks": Slot.SPECULAR,
    "map_ns": Slot.ROUGHNESS,
    "map_d": Slot.OPACITY,
    "map_ke": Slot.EMISSIVE,
    "map_bump": Slot.HEIGHT,
    "bump": Slot.HEIGHT,
    "disp": Slot.HEIGHT,
    "norm": Slot.NORMAL,
    "map_kn": Slot.NORMAL,
    "map_pr": Slot.ROUGHNESS,
    "map_pm": Slot.METALNESS,
    "refl": Slot.OTHER,
    "decal": Slot.OPACITY,
}
# How many values follow an option of a map; -o, -s and -t take one to three.
_OPTION_VALUES = {
    "-blendu": 1, "-blendv": 1, "-cc": 1, "-clamp": 1, "-imfchan": 1, "-mm": 2, "-texres": 1, "-type": 1, "-bm": 1,
    "-boost": 1,
}  # fmt: skip
_VECTORS = ("-o", "-s", "-t")
_MOST_CORNERS = 1 << 26


@dataclass
class _Lines:
    """What an OBJ file's lines say, in the order in which they come."""

    points: list[str] = field(default_factory=list)
    uvs: list[str] = field(default_factory=list)
    normals: list[str] = field(default_factory=list)
    faces: dict[tuple[str, str], list[list[str]]] = field(default_factory=dict)
    libraries: list[str] = field(default_factory=list)


def _read_lines(text: str, place: ReferenceFolder) -> _Lines:
    found, name, material = _Lines(), "", ""
    faces: list[list[str]] | None = None
    points_seen = uvs_seen = normals_seen = 0
    for number, line in enumerate(text.replace("\\\n", " ").splitlines(), 1):
        word, _, rest = line.strip().partition(" ")
        if word == "v":
            found.points.append(rest)
            points_seen += 1
        elif word == "vt":
            found.uvs.append(rest)
            uvs_seen += 1
        elif word == "vn":
            found.normals.append(rest)
            normals_seen += 1
        elif word == "f":
            if faces is None:
                faces = found.faces.setdefault((name, material), [])
            try:
                faces.append([_absolute(corner, (points_seen, uvs_seen, normals_seen)) for corner in rest.split()])
            except ValueError as error:
                raise FileError(place.file, f"line {number}: {line.strip()[:60]!r} is no face") from error
        elif word in ("o", "g"):
            name, faces = rest.strip(), None
        elif word == "usemtl":
            material, faces = rest.strip(), None
        elif word == "mtllib":
            found.libraries.append(rest.strip())
    return found


def _absolute(corner: str, seen: tuple[int, ...]) -> str:
    """Return a corner with its negative places, which count back from here, made plain."""
    if "-" not in corner:
        return corner
    parts = corner.split("/")
    for place, count in enumerate(seen):
        if place < len(parts) and parts[place].startswith("-"):
            parts[place] = str(count + 1 + int(parts[place]))
    return "/".join(parts)


def _numbers(rows: list[str], width: int, what: str, place: ReferenceFolder) -> Points:
    try:
        cut = [" ".join(row.split()[:width]) for row in rows]
        values = np.array(" ".join(cut).split(), np.float64)
        array = values.reshape(len(rows), width).astype(np.float32) if rows else np.zeros((0, width), np.float32)
    except ValueError as error:
        raise FileError(place.file, f"holds a {what} that is not {width} numbers") from error
    if not np.isfinite(array).all():
        raise FileError(place.file, f"holds a {what} that is not finite")
    return array


@dataclass(frozen=True)
class _Columns:
    """What faces point to: positions, UVs, and normals where these are wanted."""

    points: Points
    uvs: Points
    normals: Points


def _corner(text: str, columns: _Columns, place: ReferenceFolder) -> tuple[int, int, int]:
    """Return the places that a corner of a face names, -1 where it names none."""
    parts = (*text.split("/"), "", "")[:3]
    try:
        point, uv, normal = int(parts[0]) - 1, *(int(part) - 1 if part else -1 for part in parts[1:])
    except ValueError as error:
        raise FileError(place.file, f"holds the face corner {text[:40]!r}") from error
    if not 0 <= point < len(columns.points) or not -1 <= uv < len(columns.uvs):
        raise FileError(place.file, f"holds the face corner {text[:40]!r}, past what stands before it")
    return point, uv, normal if 0 <= normal < len(columns.normals) else -1


def _primitive(faces: list[list[str]], columns: _Columns, material: int | None, place: ReferenceFolder) -> Primitive:
    """Return polygons as triangles fanned from their first corner, over corners that share all that they name."""
    order: dict[tuple[int, int, int], int] = {}
    triangles = []
    for face in faces:
        corners = [order.setdefault(_corner(text, columns, place), len(order)) for text in face]
        triangles += [(corners[0], corners[i], corners[i + 1]) for i in range(1, len(corners) - 1)]
        if len(triangles) > _MOST_CORNERS:
            raise FileError(place.file, "holds more triangles than can be read")
    keys = np.array(list(order), np.int64).reshape(-1, 3)
    has_uvs, has_normals = (len(keys) > 0 and bool((keys[:, column] >= 0).all()) for column in (1, 2))
    flat: NDArray[np.int64] = np.array(triangles, np.int64).reshape(-1, 3)
    uvs = (columns.uvs[keys[:, 1]],) if has_uvs else ()
    normals = columns.normals[keys[:, 2]] if has_normals else None
    return Primitive(columns.points[keys[:, 0]], uvs, flat, material, len(flat), normals)


def _split_map(rest: str) -> tuple[str, dict[str, tuple[float, ...]]]:
    """Return the file name of a map statement, which may hold spaces, and the vectors among its options."""
    words, at = rest.split(), 0
    vectors: dict[str, tuple[float, ...]] = {}
    while at < len(words) and words[at].lower() in (*_OPTION_VALUES, *_VECTORS):
        option = words[at].lower()
        at += 1
        if option in _VECTORS:
            values: list[float] = []
            while at < len(words) and len(values) < 3 and _is_number(words[at]):
                values.append(float(words[at]))
                at += 1
            vectors[option] = tuple(values)
        else:
            at += _OPTION_VALUES[option]
    return " ".join(words[at:]), vectors


def _is_number(word: str) -> bool:
    try:
        return abs(float(word)) < 1e30
    except ValueError:
        return False


@dataclass
class _Library:
    """Materials and images of all libraries of an OBJ file."""

    images: dict[str, int] = field(default_factory=dict)
    uses: dict[str, list[TextureUse]] = field(default_factory=dict)
    lines: dict[str, list[str]] = field(default_factory=dict)

    def read(self, text: str) -> None:
        name = ""
        for line in text.splitlines():
            word, _, rest = line.strip().partition(" ")
            word = word.lower()
            if word == "newmtl":
                name = rest.strip()
                self.uses[name], self.lines[name] = [], []
            elif name and word in _SLOTS:
                self._map(name, word, rest)
            elif name and word and not word.startswith("#"):
                self.lines[name].append(f"{word} {' '.join(rest.split())}")

    def _map(self, material: str, word: str, rest: str) -> None:
        file, vectors = _split_map(rest)
        if not file:
            return
        image = self.images.setdefault(file, len(self.images))
        move, scale = (vectors.get(option, ()) for option in ("-o", "-s"))
        self.uses[material].append(
            TextureUse(
                _SLOTS[word],
                word,
                image,
                offset=(move[0], move[1]) if len(move) > 1 else (0.0, 0.0),
                scale=(scale[0], scale[1]) if len(scale) > 1 else (1.0, 1.0),
            )
        )
        self.lines[material].append(f"{word} {' '.join(rest.split())}")

    def materials(self) -> tuple[Material, ...]:
        return tuple(
            Material(name or "material", tuple(uses), "\n".join(sorted(self.lines[name])), surface=self._surface(name))
            for name, uses in self.uses.items()
        )

    def _surface(self, material: str) -> Surface:
        """Return the factors of a material, as far as MTL has what corresponds: Kd, Ke, d or Tr, Pr or Ns, Pm."""
        said: dict[str, list[float]] = {}
        for line in self.lines[material]:
            word, _, rest = line.partition(" ")
            said[word] = [float(value) for value in rest.split() if _is_number(value)]
        mapped = {use.slot for use in self.uses[material]}

        def colour(word: str, otherwise: float) -> tuple[float, float, float]:
            values = said.get(word, [])
            red, green, blue = values if len(values) == 3 else [otherwise] * 3
            return red, green, blue

        def number(word: str, otherwise: float) -> float:
            return (said.get(word) or [otherwise])[0]

        # A map stands for the whole of its colour: writers leave Kd at anything beside it.
        base = (1.0, 1.0, 1.0) if Slot.BASE_COLOUR in mapped else colour("kd", 0.8)
        alpha = number("d", 1 - number("tr", 0))
        clear = alpha < 1 or Slot.OPACITY in mapped
        # Blinn's exponent as roughness: Burley, "Physically based shading at Disney" (2012), section 5.
        rough = (2 / (max(0.0, number("ns", 30)) + 2)) ** 0.25
        return Surface(
            base_colour=(*base, alpha),
            metallic=number("pm", 1.0 if Slot.METALNESS in mapped else 0.0),
            roughness=number("pr", 1.0 if Slot.ROUGHNESS in mapped else rough),
            emissive=(1.0, 1.0, 1.0) if Slot.EMISSIVE in mapped else colour("ke", 0),
            alpha=AlphaMode.BLEND if clear else AlphaMode.OPAQUE,
            two_sided=True,
        )


def model_of_obj(data: bytes, place: ReferenceFolder, whole: bool = False) -> Model:
    """Return the model in an OBJ file and its libraries; a library that cannot be read is a fault of the model.

    Parameters
    ----------
    whole : with normals, which a survey does not need

    Raises
    ------
    FileError : the file itself cannot be understood
    """
    lines = _read_lines(data.decode("utf-8", "backslashreplace"), place)
    library, faults, files = _Library(), Faults(), list[str]()
    for name in lines.libraries:
        try:
            path = place.target_of(name)
            library.read(place.read_file(path).decode("utf-8", "backslashreplace"))
            files.append(path)
        except FileError as error:
            faults.note(f"material library: {error.fault}")
    materials = list(library.uses)
    normals = _numbers(lines.normals, 3, "normal", place) if whole else np.zeros((0, 3), np.float32)
    columns = _Columns(_numbers(lines.points, 3, "position", place), _numbers(lines.uvs, 2, "UV", place), normals)
    meshes: dict[str, list[Primitive]] = {}
    for (name, material), faces in lines.faces.items():
        if material and material not in library.uses:
            fault = f"material {material[:60]!r} is used and in no library"
            faults.note(fault)
        index = materials.index(material) if material in library.uses else None
        meshes.setdefault(name, []).append(_primitive(faces, columns, index, place))
    total = max(1, sum(primitive.count for primitives in meshes.values() for primitive in primitives))
    made = []
    for name, primitives in meshes.items():
        share = sum(primitive.count for primitive in primitives) / total
        made.append(Mesh(name, tuple(primitives), round(len(data) * share)))
    return Model(
        kind="obj",
        scene="",
        roots=tuple(range(len(made))),
        nodes=tuple(Node(mesh.name, number, ()) for number, mesh in enumerate(made)),
        meshes=tuple(made),
        materials=library.materials(),
        images=tuple(ImageSource("", file, None) for file in library.images),
        faults=faults.sentences(),
        files=tuple(files),
    )
