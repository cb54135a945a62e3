"""Unicode blocks by name, for choosing characters (Unicode Standard, Blocks.txt)."""

from __future__ import annotations

import unicodedata

from oaktrim.core.errors import Unsupported

BLOCKS: dict[str, tuple[int, int]] = {
    "basic-latin": (0x20, 0x7E),
    "latin-1-supplement": (0xA0, 0xFF),
    "latin-extended-a": (0x100, 0x17F),
    "latin-extended-b": (0x180, 0x24F),
    "ipa-extensions": (0x250, 0x2AF),
    "greek-and-coptic": (0x370, 0x3FF),
    "cyrillic": (0x400, 0x4FF),
    "cyrillic-supplement": (0x500, 0x52F),
    "armenian": (0x530, 0x58F),
    "hebrew": (0x590, 0x5FF),
    "arabic": (0x600, 0x6FF),
    "devanagari": (0x900, 0x97F),
    "bengali": (0x980, 0x9FF),
    "thai": (0xE00, 0xE7F),
    "georgian": (0x10A0, 0x10FF),
    "hangul-jamo": (0x1100, 0x11FF),
    "latin-extended-additional": (0x1E00, 0x1EFF),
    "greek-extended": (0x1F00, 0x1FFF),
    "general-punctuation": (0x2000, 0x206F),
    "superscripts-and-subscripts": (0x2070, 0x209F),
    "currency-symbols": (0x20A0, 0x20CF),
    "letterlike-symbols": (0x2100, 0x214F),
    "number-forms": (0x2150, 0x218F),
    "arrows": (0x2190, 0x21FF),
    "mathematical-operators": (0x2200, 0x22FF),
    "box-drawing": (0x2500, 0x257F),
    "block-elements": (0x2580, 0x259F),
    "geometric-shapes": (0x25A0, 0x25FF),
    "miscellaneous-symbols": (0x2600, 0x26FF),
    "dingbats": (0x2700, 0x27BF),
    "cjk-symbols-and-punctuation": (0x3000, 0x303F),
    "hiragana": (0x3040, 0x309F),
    "katakana": (0x30A0, 0x30FF),
    "hangul-compatibility-jamo": (0x3130, 0x318F),
    "cjk-unified-ideographs": (0x4E00, 0x9FFF),
    "hangul-syllables": (0xAC00, 0xD7AF),
    "private-use-area": (0xE000, 0xF8FF),
    "halfwidth-and-fullwidth-forms": (0xFF00, 0xFFEF),
}
# Control characters, surrogates and what has no character.
_NOT_DRAWN = ("Cc", "Cs", "Cn", "Cf", "Zl", "Zp")


def block_named(name: str) -> str:
    """Return the characters of a block, those left out that stand for nothing that is drawn.

    Raises
    ------
    Unsupported : there is none of that name
    """
    key = name.lower().replace(" ", "-").replace("_", "-")
    if key not in BLOCKS:
        raise Unsupported(f"there is no block {name!r}; known are {', '.join(BLOCKS)}")
    first, last = BLOCKS[key]
    return drawable("".join(map(chr, range(first, last + 1))))


def drawable(text: str) -> str:
    """Return the characters of a text that can be drawn, each once, in the order of their code points."""
    return "".join(sorted({c for c in text if unicodedata.category(c) not in _NOT_DRAWN}))
