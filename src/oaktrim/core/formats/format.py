"""What a texture format is: its block, the numbers it has in files, and the traits that others ask for; and the bytes it takes.

Names and block sizes follow the Khronos Data Format Specification 1.3 and the Vulkan format list; the numbers used in
files are those of `VkFormat` (for KTX 2.0) and of `DXGI_FORMAT` (for DDS with the DX10 header).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, IntEnum

from oaktrim.core.formats.samples import Samples


class Hardware(Enum):
    """Families of formats that hardware decodes; every GPU samples PLAIN, none samples THREE_BYTE.

    UNIVERSAL stands for a loader that makes blocks of another family, whichever it finds, of those in the file.
    """

    PLAIN = "plain"
    THREE_BYTE = "three-byte"
    BC = "bc"
    ETC2 = "etc2"
    ASTC = "astc"
    UNIVERSAL = "universal"


class Alpha(Enum):
    """How much of an alpha channel a format keeps."""

    NONE = "none"
    ONE_BIT = "one-bit"
    FULL = "full"


class Suits(Enum):
    """Uses that a block format is chosen for where a texture needs another one."""

    OPAQUE = "opaque colour"
    SOFT_ALPHA = "colour with soft alpha"
    NORMALS = "directions"
    PACKED = "several maps in one texture"


class Prominence(IntEnum):
    """How widely a format is offered: only by its name, side by side with others, in short lists, and where hardware lacks it."""

    BY_NAME = 0
    CANDIDATE = 1
    SHORT_LIST = 2
    TYPICAL = 3


@dataclass(frozen=True)
class FormatFamily:
    """What formats of one coding have in common.

    Parameters
    ----------
    name : also the group in which estimates of packed sizes are corrected
    hardware : the family of hardware that decodes it
    model : colour model of the Khronos Data Format Specification
    encode_cost : about how long a pixel takes to encode and to pack, against the quickest
    package_left : about what part of a package is left where 1 dB may go for the download: between what was measured on the
        pictures of a game and on those of the demonstration, with most of it for the first half of a dB
    sample_bias : what estimates from samples are multiplied by, for small, medium and large textures, before any is measured
    """

    name: str
    hardware: Hardware
    model: int
    encode_cost: int = 4
    package_left: float = 1.0
    # Drafts of small textures pack a little better than what ships.
    sample_bias: tuple[float, float, float] = (1.08, 1.05, 1.0)


@dataclass(frozen=True)
class TextureFormat:
    """One format.

    Parameters
    ----------
    name : as written on the command line
    khronos : the name in the Khronos lists, without the `VK_FORMAT_` before it, for linear values
    label : for people
    family : its coding
    block : width and height of a block in pixels; (1, 1) where pixels stand alone
    block_bytes : bytes of a block
    channels : letters of the channels kept
    vk, vk_srgb : VkFormat numbers for linear and sRGB values; None where there is none
    dxgi, dxgi_srgb : DXGI_FORMAT numbers, likewise
    samples : what its bits mean, in descriptors; word_bytes : bytes of the words that its bytes are swapped in
    good_for, weakness : in words
    floating : holds values beyond 0..1
    packed_bits : of R, G, B and A in a word of 16 bits, where they share one
    mixes_channels : blocks or bits mix the channels of a colour: directions and numbers do not survive that
    only_for_alpha : it spends bits on alpha that a format beside it does not
    """

    name: str
    khronos: str
    label: str
    family: FormatFamily
    block: tuple[int, int]
    block_bytes: int
    channels: str
    alpha: Alpha
    vk: int
    vk_srgb: int | None = None
    dxgi: int | None = None
    dxgi_srgb: int | None = None
    samples: Samples = ()
    word_bytes: int = 1
    good_for: str = ""
    weakness: str = ""
    floating: bool = False
    packed_bits: tuple[int, int, int, int] | None = None
    mixes_channels: bool = False
    only_for_alpha: bool = False
    suits: tuple[Suits, ...] = ()
    prominence: Prominence = Prominence.SHORT_LIST

    @property
    def hardware(self) -> Hardware:
        """The family of hardware that decodes it."""
        return self.family.hardware

    @property
    def bit_depth(self) -> int:
        """16 where a value has more than 8 bits, else 8."""
        wide = not self.compressed and self.block_bytes * 8 >= 16 * len(self.channels)
        return 16 if self.floating or wide else 8

    @property
    def compressed(self) -> bool:
        return self.block != (1, 1)

    @property
    def supercompressed(self) -> bool:
        """Whether the levels in a file are packed once more: what loaders unpack anyway is shipped small."""
        return self.hardware is Hardware.UNIVERSAL

    @property
    def bits_per_pixel(self) -> float:
        return self.block_bytes * 8 / (self.block[0] * self.block[1])

    @property
    def expands_to(self) -> str:
        """Name of the plain format that a driver without this one makes of it at load."""
        return "rgba16f" if self.floating else "rgba8"

    def level_bytes(self, width: int, height: int) -> int:
        """Return the bytes of one level; a block cut by the border counts whole."""
        return chain_bytes(width, height, 1, self.block, self.block_bytes)

    def mip_chain_bytes(self, width: int, height: int, levels: int, faces: int = 1, layers: int = 1) -> int:
        """Return the bytes of `levels` levels from this size down, over all cube faces and array layers."""
        return chain_bytes(width, height, levels, self.block, self.block_bytes) * faces * layers


def chain_bytes(width: int, height: int, levels: int, block: tuple[int, int], block_bytes: int) -> int:
    """Return the bytes of a chain of levels, the largest of so many pixels."""
    across, down = block
    return block_bytes * sum(
        ((max(1, width >> level) + across - 1) // across) * ((max(1, height >> level) + down - 1) // down)
        for level in range(levels)
    )
