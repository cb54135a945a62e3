"""One of everything that can be added, each in one place. `register_all` comes before anything else is imported."""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

TARGET = """version = 1
id = "attic"
name = "Attic"
about = "A target that a test adds"
hardware = ["plain", "attic"]
container = "ktx2"

[limits]
memory = "1 MiB"
half_memory = "100 KiB"
"""


def add_format() -> None:
    """A format of one byte a pixel, turned over."""
    import numpy as np

    from oaktrim.core.formats.catalogue import register
    from oaktrim.core.formats.format import Alpha, FormatFamily, Hardware, TextureFormat
    from oaktrim.core.formats.samples import integers

    family = FormatFamily("turned", Hardware.PLAIN, 1)
    register(
        TextureFormat(
            "turned8", "R8_UINT", "Turned 8", family, (1, 1), 1, "R", Alpha.NONE, 13, samples=integers("R", 8),
            good_for="tests", weakness="anything else",
        )
    )  # fmt: skip
    from oaktrim.core.codecs.texture import CODECS
    from oaktrim.core.pixels.image import to_rgba

    def encode(image, options):
        return (255 - to_rgba(image)[..., 0]).tobytes()

    def decode(data, width, height):
        return 255 - np.frombuffer(data, np.uint8).reshape(height, width, 1)

    CODECS["turned8"] = (encode, decode)


def add_line() -> None:
    """A line of the budget: half of the texture memory."""
    from oaktrim.core.targets.lines import Line, Unit, register

    register(Line("half-memory", "half the memory", Unit.BYTES, lambda assets: assets.memory // 2))


def add_target(folder: Path) -> None:
    """A document in a folder of targets."""
    from oaktrim.core.targets.target import FOLDERS

    (folder / "attic.toml").write_text(TARGET.replace(', "attic"]', "]"))
    FOLDERS.append(folder)


def add_finding() -> None:
    """A finding on everything that is square."""
    from oaktrim.core.survey.findings.finding import Severity
    from oaktrim.core.survey.findings.rules import register

    def square(context):
        for _row, texture in context.each(context.inventory.width == context.inventory.height):
            yield context.finding("square", Severity.NOTE, texture.path, "it is square", 0, "make it round")

    register(square, {"square": "Square"})


def add_maker() -> None:
    """A maker of two textures, a model in the place of another, and a file beside them."""
    import msgspec

    from oaktrim.core.fields import FilePath, NewPath
    from oaktrim.core.files.gltfwriter import GltfWriter
    from oaktrim.core.makers.registry import FirstCut, MakerContext, MakerKind, register
    from oaktrim.core.pixels.image import Image
    from oaktrim.core.progress import Progress
    from oaktrim.core.survey.derived import Derivation, Output
    from oaktrim.core.survey.products import Products
    from oaktrim.core.survey.roles import Role
    from tests.kit.models import add_mesh, material, scene

    class Twins(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="twins", tag_field="kind"):
        name: NewPath
        source: FilePath
        model: FilePath

        @property
        def inputs(self) -> tuple[str, ...]:
            return (self.source,)

    @dataclass(frozen=True)
    class TwinsDerivation(Derivation):
        twins: Twins
        kind = "twins"
        costly = True

        @property
        def name(self) -> str:
            return self.twins.name

        @property
        def outputs(self) -> tuple[Output, ...]:
            roles = (("base", Role.BASE_COLOUR), ("mask", Role.MASK))
            return tuple(Output(f"{self.name}_{end}", role, "a twin") for end, role in roles)

        @property
        def inputs(self) -> tuple[str, ...]:
            return self.twins.inputs

        @property
        def models(self) -> tuple[str, ...]:
            return (self.twins.model,)

        @property
        def replaces(self) -> Mapping[str, str]:
            return {self.twins.model: f"{self.name}.glb"}

        def settings_key(self) -> bytes:
            return b"twins"

        def make(self, sources):
            yield Progress(0, 2, "reading")
            picture = sources.picture(self.twins.source)
            mask = Image.of(picture.pixels[..., :1].copy())
            yield Progress(1, 2, "building")
            writer = GltfWriter()
            paint = material(writer, "twin", baseColorTexture=writer.image(f"{self.name}_base"))
            scene(writer, writer.add("nodes", name="twin", mesh=add_mesh(writer, paint)))
            textures = {f"{self.name}_base": picture, f"{self.name}_mask": mask}
            return Products(textures, {f"{self.name}.glb": writer.glb()}, {f"{self.name}.twins.txt": b"two of a kind"})

    class TwinsKind(MakerKind):
        settings = Twins
        label = "twins"
        name_pattern = "{source}_twins"
        name_fields = ("source",)

        def name_values(self, maker, context: MakerContext):
            return {"source": Path(maker.source).stem}

        def derivation(self, maker, context: MakerContext) -> Derivation:
            return TwinsDerivation(maker)

        def first_cuts(self, maker, plan, context: MakerContext) -> list[FirstCut]:
            return [FirstCut(f"{maker.name}_mask", 16, "turned8")]

    register(TwinsKind())


def register_all(folder: Path) -> None:
    """Register them, as a program that adds them would; targets in a folder."""
    add_format()
    add_line()
    add_target(folder)
    add_finding()
    add_maker()
